package gate

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
	"innergate/store"
)

const (
	secretsAtOnce = 2
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
func (g *Gate) Issuer() string { return g.PublicURL }

// applicationByClient finds the OpenID Connect application with a client ID.
func (g *Gate) applicationByClient(ctx context.Context, id string) (*application, error) {
	if id == config.ConsoleClient {
		return g.consoleApplication(ctx)
	}
	return g.findApplication(ctx, "client:"+id, "kind = 'oidc' AND entity_id = ?", id)
}

// KnownOrigin says whether pages of an origin are registered to call our endpoints by script.
func (g *Gate) KnownOrigin(ctx context.Context, origin string) bool {
	c, err := g.cache(ctx)
	if err != nil || len(origin) > 300 {
		return false
	}
	known := c.origins.Load()
	if known == nil {
		// All are read at once, so that an origin that somebody makes up costs no query.
		var list []string
		if err := g.Store.Read(ctx).Raw("SELECT DISTINCT o.value FROM applications a, json_each(a.body, '$.oidc.origins') o WHERE a.kind = 'oidc'").Scan(&list).Error; err != nil {
			return false
		}
		set := make(map[string]bool, len(list))
		for _, o := range list {
			set[o] = true
		}
		known = &set
		c.origins.Store(known)
	}
	return (*known)[origin]
}

// client finds out which client asks, and has it prove that. The assertion, if it used one, must still be used up in the transaction that follows.
func (g *Gate) client(ctx context.Context, authorization string, form oidc.Parameters, rec *trace.Recorder) (*application, *oidc.Used, error) {
	proof, err := oidc.ReadProof(authorization, form)
	if err != nil {
		return nil, nil, err
	}
	app, err := g.applicationByClient(ctx, proof.ClientID)
	if isNotFound(err) {
		return nil, nil, explain.New("oidc.client-unknown", explain.Fact("client ID", clipText(proof.ClientID, 200)))
	}
	if err != nil {
		return nil, nil, err
	}
	known := oidc.Known{Partner: app.Name, Method: app.OIDC.Authentication, Audiences: []string{g.Issuer()}, Now: g.Now(), Skew: skew(app.OIDC.ClockSkewSeconds)}
	for _, s := range app.secrets {
		if s.ends == nil || g.Now().Before(*s.ends) {
			known.Secrets = append(known.Secrets, s.hash)
		}
	}
	if proof.Method == oidc.AuthPrivateKey {
		if known.Keys, err = g.clientKeys(ctx, app, false); err != nil {
			return app, nil, ofPartner(err, app.Name)
		}
	}
	used, err := proof.Check(known, rec)
	var f *explain.Failure
	if errors.As(err, &f) && f.Code == "jwt.key-unknown" && app.OIDC.KeysURL != "" {
		if known.Keys, err = g.clientKeys(ctx, app, true); err != nil {
			return app, nil, ofPartner(err, app.Name)
		}
		used, err = proof.Check(known, rec)
	}
	if err != nil {
		return app, nil, err
	}
	g.noteSecret(app, proof)
	return app, used, nil
}

// clientKeys are the keys that a client signs with.
func (g *Gate) clientKeys(ctx context.Context, app *application, again bool) (jose.KeySet, error) {
	if app.OIDC.KeysURL != "" {
		set, _, err := g.keySet(ctx, app.OIDC.KeysURL, again)
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

// noteSecret remembers which secret was used, so that an old one can be seen to be out of use. It is written down from time to time.
func (g *Gate) noteSecret(app *application, proof *oidc.Proof) {
	for _, s := range app.secrets {
		if proof.Fits(s.hash) {
			g.usedSecrets.Store(s.id, g.Now().UTC())
		}
	}
}

// writeUsedSecrets writes down when secrets were last used.
func (g *Gate) writeUsedSecrets(ctx context.Context) error {
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

// useUpAssertion notes that a client's assertion was used, by one conditional write.
func useUpAssertion(tx *gorm.DB, app *application, used *oidc.Used) error {
	if used == nil {
		return nil
	}
	made := tx.Exec("INSERT INTO used_ids (issuer, value, expires_at) VALUES (?, ?, ?) ON CONFLICT DO NOTHING", "client/"+app.id, used.ID, used.Until.UTC())
	if made.Error == nil && made.RowsAffected == 0 {
		return explain.New("oidc.proof-assertion", explain.Fact("assertion", "it was used before")).Of(app.Name)
	}
	return made.Error
}

func secretView(s store.Secret) api.Secret {
	return api.Secret{ID: s.ID, State: s.State, Hint: s.Hint, By: s.By, Created: s.CreatedAt, Expires: s.ExpiresAt, LastUsed: s.LastUsed, TriedAt: s.TriedAt, Tried: s.Tried}
}

func (g *Gate) secretRows(ctx context.Context, owner string) ([]store.Secret, error) {
	var rows []store.Secret
	return rows, store.Clear(g.Store.Read(ctx).Where("owner_id = ?", owner).Order("id").Find(&rows).Error)
}

func (g *Gate) secretViews(ctx context.Context, owner string) ([]api.Secret, error) {
	rows, err := g.secretRows(ctx, owner)
	out := []api.Secret{}
	for _, r := range rows {
		out = append(out, secretView(r))
	}
	return out, err
}

// allSecrets are those of everybody, by owner, as far as findings are about them: those that end, and that there are some.
func (g *Gate) allSecrets(ctx context.Context) (map[string][]checkup.Secret, error) {
	var rows []store.Secret
	if err := g.Store.Read(ctx).Omit("sealed", "hash").Limit(20000).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := map[string][]checkup.Secret{}
	for _, r := range rows {
		out[r.OwnerID] = append(out[r.OwnerID], checkup.Secret{Next: r.State == KeyNext, Ends: r.ExpiresAt, Hint: r.Hint, Refused: r.Tried == "refused"})
	}
	return out, nil
}

// Secrets lists the client secrets of an application or provider, without the secrets.
func (g *Gate) Secrets(ctx context.Context, kind, slug string) (*api.List[api.Secret], error) {
	id, err := g.secretOwner(ctx, kind, slug)
	if err != nil {
		return nil, err
	}
	views, err := g.secretViews(ctx, id)
	return &api.List[api.Secret]{Items: views}, err
}

func (g *Gate) secretOwner(ctx context.Context, kind, slug string) (string, error) {
	if kind == "application" {
		a, err := g.application(ctx, slug)
		if err == nil && a.OIDC == nil {
			err = badRequest("no-secrets", a.Name+" speaks SAML and has no client secret.", "")
		}
		if err != nil {
			return "", err
		}
		return a.id, nil
	}
	p, err := g.provider(ctx, slug)
	if err == nil && p.OIDC == nil {
		err = badRequest("no-secrets", p.Name+" speaks SAML and has no client secret.", "")
	}
	if err != nil {
		return "", err
	}
	return p.id, nil
}

func checkDays(days int) error {
	if days < 0 || days > 3650 {
		return badRequest("days", "A secret is good for 1 to 3650 days, or for as long as it is not taken back (0).", "")
	}
	return nil
}

// NewSecret makes a client secret for an application. It is in the answer and nowhere else; two are valid at once, so that the application can change over.
func (g *Gate) NewSecret(ctx context.Context, who Actor, slug string, n api.NewSecret) (*api.Secret, error) {
	app, err := g.application(ctx, slug)
	if err != nil {
		return nil, err
	}
	if app.OIDC == nil || !app.OIDC.HasSecret() {
		return nil, badRequest("no-secrets", app.Name+" does not authenticate with a secret.", "Choose client_secret_basic or client_secret_post as its client authentication first.")
	}
	if err := checkDays(n.Days); err != nil {
		return nil, err
	}
	now := g.Now().UTC()
	secret := secretMark + keys.NewSecret()
	row := store.Secret{ID: store.NewID(), OwnerKind: "application", OwnerID: app.id, State: KeyActive, Hash: keys.HashSecret(secret), Hint: secret[:hintLength], By: who.Name, CreatedAt: now}
	if n.Days > 0 {
		end := now.AddDate(0, 0, n.Days)
		row.ExpiresAt = &end
	}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		var valid int64
		if err := tx.Model(&store.Secret{}).Where("owner_id = ? AND (expires_at IS NULL OR expires_at > ?)", app.id, now).Count(&valid).Error; err != nil {
			return err
		}
		if valid >= secretsAtOnce {
			return problem(http.StatusConflict, "secrets-two", "Two secrets are valid already", app.Name+" has two valid secrets, the most that can be at once.", "Take back the one that is no longer used; the list shows when each was used last.")
		}
		return g.writeSecret(tx, who, &row, app.Name, "made")
	})
	if err != nil {
		return nil, err
	}
	v := secretView(row)
	v.Secret = secret
	return &v, nil
}

func (g *Gate) writeSecret(tx *gorm.DB, who Actor, row *store.Secret, name, action string) error {
	if err := tx.Create(row).Error; err != nil {
		return err
	}
	if err := journal(tx, g.Now(), who, action, "client secret", row.OwnerID, name, "", row.Hint+"…"); err != nil {
		return err
	}
	return store.Changed(tx)
}

// DeleteSecret takes a secret back at once.
func (g *Gate) DeleteSecret(ctx context.Context, who Actor, kind, slug, id string) error {
	owner, err := g.secretOwner(ctx, kind, slug)
	if err != nil {
		return err
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		var row store.Secret
		if err := tx.Where("id = ? AND owner_id = ?", id, owner).Take(&row).Error; err != nil {
			return missing(err, "client secret", id)
		}
		if err := tx.Delete(&row).Error; err != nil {
			return err
		}
		if err := journal(tx, g.Now(), who, "took back", "client secret", owner, slug, row.Hint+"…", ""); err != nil {
			return err
		}
		return store.Changed(tx)
	})
}

// checkSector fetches a sector identifier when it or the redirect URIs change: every redirect URI must stand in its list, or one application could ask for another's
// subjects (OpenID Connect Core 1.0, section 8.1).
func (g *Gate) checkSector(ctx context.Context, slug string, a *config.Application) error {
	if a.OIDC == nil || a.OIDC.SectorIdentifier == "" {
		return nil
	}
	if slug != "" {
		if held, err := g.application(ctx, slug); err == nil && held.OIDC != nil && held.OIDC.SectorIdentifier == a.OIDC.SectorIdentifier && slices.Equal(held.OIDC.RedirectURIs, a.OIDC.RedirectURIs) {
			return nil
		}
	}
	bad := func(why string) error {
		return invalid(config.Problems{{Field: "oidc.sectorIdentifierUri", Message: why}})
	}
	if !strings.HasPrefix(a.OIDC.SectorIdentifier, "https://") {
		return bad("it must be an https address, since it says who may share subjects")
	}
	got, err := g.Fetch.Do(ctx, Want{URL: a.OIDC.SectorIdentifier, MaxBytes: oidc.MaxDocument, Timeout: backTimeout, Direct: true})
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
