package partners

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/checkup"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/jose"
	"innergate/core/keys"
	"innergate/core/oidc"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/fetch"
	"innergate/gate/ground"
	"innergate/gate/keyring"
	"innergate/store"
)

const (
	// SecretsAtOnce is how many secrets of one client count at the same time.
	SecretsAtOnce = 2
	secretMark    = "igs_" // begins every client secret of ours, so that one that leaks is recognised
	hintLength    = 7
)

// heldSecret is a client secret of ours, as its hash.
type heldSecret struct {
	id   string
	hash []byte
	ends *time.Time
}

// Issuer is our issuer identifier.
func (g *Room) Issuer() string { return g.PublicURL }

// ApplicationByClient finds the OpenID Connect application with a client ID.
func (g *Room) ApplicationByClient(ctx context.Context, id string) (*Application, error) {
	if id == config.ConsoleClient {
		return g.ConsoleApplication(ctx)
	}
	return g.FindApplication(ctx, "client:"+id, "kind = 'oidc' AND entity_id = ?", id)
}

// KnownOrigin says whether pages of an origin are registered to call our endpoints by script.
func (g *Room) KnownOrigin(ctx context.Context, origin string) bool {
	c, err := g.Cache(ctx)
	if err != nil || len(origin) > 300 {
		return false
	}
	known := c.Origins.Load()
	if known == nil {
		// All are read at once, so that an origin that somebody makes up costs no query.
		var list []string
		if err := g.Store.Read(ctx).Raw("SELECT DISTINCT o.value FROM applications a, json_each(a.body, '$.oidc.origins') o WHERE " +
			"a.kind = 'oidc'").Scan(&list).Error; err != nil {
			return false
		}
		set := make(map[string]bool, len(list))
		for _, o := range list {
			set[o] = true
		}
		known = &set
		c.Origins.Store(known)
	}
	return (*known)[origin]
}

// Client finds out which client asks, and has it prove that. The assertion, if it used one, must still be used up in
// the transaction that follows.
func (g *Room) Client(
	ctx context.Context,
	authorization string,
	form oidc.Parameters,
	rec *trace.Recorder,
) (*Application, *oidc.Used, error) {
	proof, err := oidc.ReadProof(authorization, form)
	if err != nil {
		return nil, nil, err
	}
	app, err := g.ApplicationByClient(ctx, proof.ClientID)
	if ground.IsNotFound(err) {
		return nil, nil, explain.New(explain.OIDCClientUnknown, explain.Fact("client ID", words.Clip(proof.ClientID, 200)))
	}
	if err != nil {
		return nil, nil, err
	}
	known := oidc.Known{
		Partner:   app.Name,
		Method:    app.OIDC.Authentication,
		Audiences: []string{g.Issuer()},
		Now:       g.Now(),
		Skew:      Skew(app.OIDC.ClockSkewSeconds),
	}
	if app.OIDC.TokenEndpointAudience {
		known.Audiences = append(known.Audiences, g.PublicURL+"/oidc/token")
	}
	for _, s := range app.secrets {
		if s.ends == nil || g.Now().Before(*s.ends) {
			known.Secrets = append(known.Secrets, s.hash)
		}
	}
	if proof.Method == oidc.AuthPrivateKey {
		if known.Keys, err = g.ClientKeys(ctx, app, false); err != nil {
			return app, nil, explain.OfPartner(err, app.Name)
		}
	}
	used, err := proof.Check(known, rec)
	var f *explain.Failure
	if errors.As(err, &f) && (f.Code == explain.JWTKeyUnknown || f.Code == explain.JWTKeyUnfit) && app.OIDC.KeysURL != "" {
		if known.Keys, err = g.ClientKeys(ctx, app, true); err != nil {
			return app, nil, explain.OfPartner(err, app.Name)
		}
		used, err = proof.Check(known, rec)
	}
	if err != nil {
		return app, nil, err
	}
	g.noteSecret(app, proof)
	return app, used, nil
}

// ClientKeys are the keys that a client signs with.
func (g *Room) ClientKeys(ctx context.Context, app *Application, again bool) (jose.KeySet, error) {
	if app.OIDC.KeysURL != "" {
		set, _, err := g.KeySet(ctx, app.OIDC.KeysURL, again)
		return set, err
	}
	if app.OIDC.Keys == "" {
		return jose.KeySet{}, nil
	}
	set, err := jose.ReadKeySet([]byte(app.OIDC.Keys))
	if err != nil {
		return jose.KeySet{}, err
	}
	return *set, nil
}

// noteSecret remembers which secret was used, so that an old one can be seen to be out of use. It is written down from
// time to time.
func (g *Room) noteSecret(app *Application, proof *oidc.Proof) {
	for _, s := range app.secrets {
		if proof.Fits(s.hash) {
			g.usedSecrets.Store(s.id, g.Now().UTC())
		}
	}
}

// WriteUsedSecrets writes down when secrets were last used.
func (g *Room) WriteUsedSecrets(ctx context.Context) error {
	last := map[string]time.Time{}
	g.usedSecrets.Range(func(id, at any) bool {
		last[id.(string)] = at.(time.Time)
		g.usedSecrets.Delete(id)
		return true
	})
	if len(last) == 0 {
		return nil
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		for id, at := range last {
			if err := tx.Exec("UPDATE secrets SET last_used = ? WHERE id = ?", at, id).Error; err != nil {
				return err
			}
		}
		return nil
	})
}

// UseUpAssertion notes that a client's assertion was used, by one conditional write.
func UseUpAssertion(tx *gorm.DB, app *Application, used *oidc.Used) error {
	if used == nil {
		return nil
	}
	fresh, err := ground.UseOnce(tx, "client/"+app.ID, used.ID, used.Until)
	if err == nil && !fresh {
		return explain.New(explain.OIDCProofAssertion, explain.Fact("assertion", "it was used before")).Of(app.Name)
	}
	return err
}

func secretView(s store.Secret) api.Secret {
	return api.Secret{
		ID:       s.ID,
		State:    s.State,
		Hint:     s.Hint,
		By:       s.By,
		Created:  s.CreatedAt,
		Expires:  s.ExpiresAt,
		LastUsed: s.LastUsed,
		TriedAt:  s.TriedAt,
		Tried:    s.Tried,
	}
}

func (g *Room) secretRows(ctx context.Context, owner string) ([]store.Secret, error) {
	var rows []store.Secret
	return rows, store.Clear(g.Store.Read(ctx).Where("owner_id = ?", owner).Order("id").Find(&rows).Error)
}

// SecretViews lists a partner's secrets as people see them, without their values.
func (g *Room) SecretViews(ctx context.Context, owner string) ([]api.Secret, error) {
	rows, err := g.secretRows(ctx, owner)
	out := []api.Secret{}
	for _, r := range rows {
		out = append(out, secretView(r))
	}
	return out, err
}

// AllSecrets are those of everybody, by owner, as far as findings are about them: those that end, and that there are
// some.
func (g *Room) AllSecrets(ctx context.Context) (map[string][]checkup.Secret, error) {
	var rows []store.Secret
	if err := g.Store.Read(ctx).Omit("sealed", "hash").Limit(20000).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := map[string][]checkup.Secret{}
	for _, r := range rows {
		out[r.OwnerID] = append(
			out[r.OwnerID],
			checkup.Secret{Next: r.State == keyring.KeyNext, Ends: r.ExpiresAt, Hint: r.Hint, Refused: r.Tried == "refused"},
		)
	}
	return out, nil
}

// Secrets lists the client secrets of an application or provider, without the secrets.
func (g *Room) Secrets(ctx context.Context, kind, slug string) (*api.List[api.Secret], error) {
	id, err := g.secretOwner(ctx, kind, slug)
	if err != nil {
		return nil, err
	}
	views, err := g.viewsOf(ctx, kind, slug, id)
	return &api.List[api.Secret]{Items: views}, err
}

func (g *Room) secretOwner(ctx context.Context, kind, slug string) (string, error) {
	if kind == "application" {
		a, err := g.Application(ctx, slug)
		if err == nil && a.OIDC == nil {
			err = ground.BadRequest("no-secrets", a.Name+" speaks SAML and has no client secret.", "")
		}
		if err != nil {
			return "", err
		}
		return a.ID, nil
	}
	p, err := g.Provider(ctx, slug)
	if err == nil && p.OIDC == nil && p.LDAP == nil && p.Kerberos == nil {
		err = ground.BadRequest("no-secrets", p.Name+" speaks SAML and has no client secret.", "")
	}
	if err != nil {
		return "", err
	}
	return p.ID, nil
}

func checkDays(days int) error {
	if days < 0 || days > 3650 {
		return ground.BadRequest("days", "A secret is good for 1 to 3650 days, or for as long as it is not taken back (0).", "")
	}
	return nil
}

// NewSecret makes a client secret for an application. It is in the answer and nowhere else; two are valid at once, so
// that the application can change over.
func (g *Room) NewSecret(ctx context.Context, who ground.Actor, slug string, n api.NewSecret) (*api.Secret, error) {
	app, err := g.Application(ctx, slug)
	if err != nil {
		return nil, err
	}
	if app.OIDC == nil || !app.OIDC.HasSecret() {
		return nil, ground.BadRequest(
			"no-secrets", app.Name+" does not authenticate with a secret.",
			"Choose client_secret_basic or client_secret_post as its client authentication first.",
		)
	}
	if err := checkDays(n.Days); err != nil {
		return nil, err
	}
	now := g.Now().UTC()
	secret := secretMark + keys.NewSecret()
	row := store.Secret{
		ID:        store.NewID(),
		OwnerKind: "application",
		OwnerID:   app.ID,
		State:     keyring.KeyActive,
		Hash:      keys.HashSecret(secret),
		Hint:      secret[:hintLength],
		By:        who.Name,
		CreatedAt: now,
	}
	if n.Days > 0 {
		end := now.AddDate(0, 0, n.Days)
		row.ExpiresAt = &end
	}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := ownersForSecret(tx, who, app.ID); err != nil {
			return err
		}
		var valid int64
		if err := tx.Model(&store.Secret{}).Where("owner_id = ? AND (expires_at IS NULL OR expires_at > ?)", app.ID,
			now).Count(&valid).Error; err != nil {
			return err
		}
		if valid >= SecretsAtOnce {
			return ground.Problem(
				http.StatusConflict, "secrets-two", "Two secrets are valid already",
				app.Name+" has two valid secrets, the most that can be at once.",
				"Take back the one that is no longer used; the list shows when each was used last.",
			)
		}
		return g.WriteSecret(tx, who, &row, app.Name, "made")
	})
	if err != nil {
		return nil, err
	}
	v := secretView(row)
	v.Secret = secret
	return &v, nil
}

// WriteSecret writes a secret in a transaction.
func (g *Room) WriteSecret(tx *gorm.DB, who ground.Actor, row *store.Secret, name, action string) error {
	if err := tx.Create(row).Error; err != nil {
		return err
	}
	if err := ground.Journal(tx, g.Now(), who, action, "client secret", row.OwnerID, name, "", row.Hint+"…"); err != nil {
		return err
	}
	return store.Changed(tx)
}

// DeleteSecret takes a secret back at once.
func (g *Room) DeleteSecret(ctx context.Context, who ground.Actor, kind, slug, id string) error {
	owner, err := g.secretOwner(ctx, kind, slug)
	if err != nil {
		return err
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := ownersForSecret(tx, who, owner); err != nil {
			return err
		}
		var row store.Secret
		if err := tx.Where("id = ? AND owner_id = ?", id, owner).Take(&row).Error; err != nil {
			return ground.Missing(err, "client secret", id)
		}
		if err := tx.Delete(&row).Error; err != nil {
			return err
		}
		if err := ground.Journal(tx, g.Now(), who, "took back", "client secret", owner, slug, row.Hint+"…", ""); err != nil {
			return err
		}
		return store.Changed(tx)
	})
}

// CheckSector fetches a sector identifier when it or the redirect URIs change: every redirect URI must stand in its
// list, or one application could ask for another's subjects (OpenID Connect Core 1.0, section 8.1).
func (g *Room) CheckSector(ctx context.Context, slug string, a *config.Application) error {
	if a.OIDC == nil || a.OIDC.SectorIdentifier == "" {
		return nil
	}
	if slug != "" {
		if held, err := g.Application(ctx, slug); err == nil && held.OIDC != nil && held.OIDC.SectorIdentifier == a.OIDC.SectorIdentifier &&
			slices.Equal(held.OIDC.RedirectURIs, a.OIDC.RedirectURIs) {
			return nil
		}
	}
	bad := func(why string) error {
		return ground.Invalid(config.Problems{{Field: "oidc.sectorIdentifierUri", Message: why}})
	}
	if !strings.HasPrefix(a.OIDC.SectorIdentifier, "https://") {
		return bad("it must be an https address, since it says who may share subjects")
	}
	got, err := g.Fetch.Do(ctx, fetch.Want{URL: a.OIDC.SectorIdentifier, MaxBytes: oidc.MaxDocument, Timeout: BackTimeout, Direct: true})
	if err != nil {
		return bad("its list can't be fetched: " + err.Error())
	}
	var list []string
	if err := json.Unmarshal(got.Body, &list); err != nil {
		return bad("what lies there is not a JSON list of redirect URIs")
	}
	for _, u := range a.OIDC.RedirectURIs {
		if !slices.Contains(list, u) {
			return bad("its list does not hold the redirect URI " + u)
		}
	}
	return nil
}
