package partners

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/address"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/oidc"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/keyring"
	"innergate/store"
)

// ProposalRow reads a proposal.
func (g *Room) ProposalRow(ctx context.Context, id string) (*store.Proposal, error) {
	var row store.Proposal
	if err := g.Store.Read(ctx).Where("id = ?", id).Take(&row).Error; err != nil {
		return nil, ground.Missing(err, "proposal", id)
	}
	return &row, nil
}

// LeftSecret opens the secret that the other side left with a proposal.
func (g *Room) LeftSecret(row *store.Proposal) (string, error) {
	plain, err := g.Store.Sealer.Open(store.PlaceProposal, row.ID, row.Secret)
	return string(plain), err
}

// TheirSecret is the secret that counts now at a provider, or nothing.
func (g *Room) TheirSecret(ctx context.Context, provider string) (string, error) {
	row, err := store.One[store.Secret](g.Store.Read(ctx), "owner_id = ? AND state = ?", provider, keyring.KeyActive)
	if err != nil {
		return "", err
	}
	if row.ID == "" {
		return "", nil
	}
	return g.OpenSecret(row)
}

// DropMovedSecrets forgets the secrets that a provider gave us, where from now on they would go to another host than the
// one that they were given for.
func DropMovedSecrets(tx *gorm.DB, now time.Time, who ground.Actor, slug string, p *config.Provider) error {
	if slug == "" {
		return nil
	}
	row, err := store.One[store.Provider](tx, "slug = ?", slug)
	if err != nil || row.ID == "" {
		return err
	}
	held, err := ground.DecodeBody[config.Provider](row.Body)
	if err != nil {
		return err
	}
	return dropMoved(tx, now, who, row.ID, row.Name, goesTo(&held), goesTo(p))
}

// dropMoved forgets secrets that were given for some places and would go to others.
func dropMoved(tx *gorm.DB, now time.Time, who ground.Actor, owner, name string, from, to []string) error {
	if len(from) == 0 || len(to) > 0 && !slices.ContainsFunc(to, func(one string) bool { return !slices.Contains(from, one) }) {
		return nil
	}
	gone := tx.Exec("DELETE FROM secrets WHERE owner_id = ?", owner)
	if gone.Error != nil || gone.RowsAffected == 0 {
		return gone.Error
	}
	return ground.Journal(tx, now, who, "dropped", "secret", owner, name, "", "it was given for "+strings.Join(from, ", "))
}

// goesTo are the places to which a provider's secret goes. An LDAP directory's certificates are part of them: whoever they are
// believed of gets the password.
func goesTo(p *config.Provider) []string {
	switch {
	case p.OIDC != nil:
		return []string{address.Origin(p.OIDC.TokenEndpoint)}
	case p.LDAP != nil:
		var out []string
		for _, s := range p.LDAP.Servers {
			out = append(out, s+" "+fmt.Sprint(p.LDAP.Plain))
		}
		for _, c := range p.LDAP.Certificates {
			out = append(out, c.PEM)
		}
		return out
	}
	return nil
}

// OpenSecret opens a secret.
func (g *Room) OpenSecret(row store.Secret) (string, error) {
	plain, err := g.Store.Sealer.Open(store.PlaceSecret, row.ID, row.Sealed)
	return string(plain), err
}

// KeepSecret stores a secret that a provider gave us: as the one that counts, if there is none yet, else as the next
// one. It is never shown again.
func (g *Room) KeepSecret(ctx context.Context, who ground.Actor, slug string, n api.TheirSecret) (*api.Secret, error) {
	p, err := g.Provider(ctx, slug)
	if err != nil {
		return nil, err
	}
	value := strings.TrimSpace(n.Value)
	ours := ""
	switch {
	case p.OIDC != nil:
		ours = p.OIDC.ClientID
	case p.LDAP != nil:
		ours = p.LDAP.BindDN
	}
	switch {
	case p.OIDC == nil && p.LDAP == nil && p.Kerberos == nil:
		return nil, ground.BadRequest("no-secrets", p.Name+" takes no secret of ours.", "")
	case p.Kerberos != nil && g.keytabLooksWrong(p, value) != nil:
		return nil, g.keytabLooksWrong(p, value)
	case p.LDAP != nil && p.LDAP.BindBy == config.BindByCertificate:
		if _, err := CertificateWithKey(value); err != nil {
			return nil, ground.BadRequest("certificate-unfit", words.Capitalise(err.Error())+".",
				"Paste the certificate and its private key in PEM, one behind the other.")
		}
	case p.Kerberos == nil && SecretLooksWrong(value, ours) != nil:
		return nil, SecretLooksWrong(value, ours)
	case n.Expires != nil && !n.Expires.After(g.Now()):
		return nil, ground.BadRequest(
			"secret-over", "The end that was entered is past.",
			"Enter the day on which the provider lets it end, or none.",
		)
	}
	hint := ""
	if len(value) >= 20 && p.OIDC != nil { // of a password or keytab nothing is shown
		hint = value[:3]
	}
	return g.keepTheirs(ctx, who, store.Secret{OwnerKind: "provider", OwnerID: p.ID, Hint: hint, ExpiresAt: n.Expires}, p.ID, p.Name, value)
}

// keepTheirs stores a secret that somebody gave us. Guarded is the object whose openness decides who may.
func (g *Room) keepTheirs(ctx context.Context, who ground.Actor, row store.Secret, guarded, name, value string) (*api.Secret, error) {
	row.ID, row.State, row.By, row.CreatedAt = store.NewID(), keyring.KeyActive, who.Name, g.Now().UTC()
	row.Sealed = g.Store.Sealer.Seal(store.PlaceSecret, row.ID, []byte(value))
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := ownersForSecret(tx, who, guarded); err != nil {
			return err
		}
		var held []store.Secret
		if err := tx.Where("owner_id = ?", row.OwnerID).Find(&held).Error; err != nil {
			return err
		}
		for _, h := range held {
			if h.State == keyring.KeyActive {
				row.State = keyring.KeyNext
			}
		}
		// Another next one takes the place of the one that was not used yet.
		if err := tx.Where("owner_id = ? AND state = ?", row.OwnerID, keyring.KeyNext).Delete(&store.Secret{}).Error; err != nil {
			return err
		}
		return g.WriteSecret(tx, who, &row, name, "entered")
	})
	if err != nil {
		return nil, err
	}
	v := secretView(row)
	return &v, nil
}

// CertificateWithKey reads a certificate and its private key, in PEM, one behind the other.
func CertificateWithKey(text string) (*tls.Certificate, error) {
	if text == "" || len(text) > 64<<10 {
		return nil, errors.New("no certificate with its key is entered here")
	}
	own, err := tls.X509KeyPair([]byte(text), []byte(text))
	if err != nil {
		return nil, fmt.Errorf("this is no certificate with its private key: %s", strings.TrimPrefix(err.Error(), "tls: "))
	}
	return &own, nil
}

// SecretLooksWrong says what was entered in place of a provider's client secret, as far as that shows.
func SecretLooksWrong(value, clientID string) error {
	switch {
	case value == "" || len(value) > 2000:
		return ground.BadRequest("secret-empty", "A secret has 1 to 2000 characters.", "Paste the secret's value as the provider shows it.")
	case value == clientID:
		return ground.BadRequest(
			"secret-is-id", "This is the client ID, not the secret.",
			"Paste the secret's value; the client ID stands in a field of its own.",
		)
	case strings.HasPrefix(value, "http://"), strings.HasPrefix(value, "https://"):
		return ground.BadRequest(
			"secret-is-address", "This is an address, not a secret.",
			"Paste the secret's value as the provider shows it.",
		)
	case strings.Contains(value, "-----BEGIN"):
		return ground.BadRequest(
			"secret-is-pem", "This is a certificate or key, not a client secret.",
			"Keys of ours stand in the keyring; a provider gives a secret as a line of text.",
		)
	}
	return nil
}

// SwitchSecret puts the next secret into the place of the one that counted, in one step.
func (g *Room) SwitchSecret(ctx context.Context, who ground.Actor, slug string) error {
	owner, err := g.secretOwner(ctx, "provider", slug)
	if err != nil {
		return err
	}
	return g.switchTheirs(ctx, who, owner, owner, slug)
}

// switchTheirs is SwitchSecret for whoever holds the secret. Guarded is the object whose openness decides who may.
func (g *Room) switchTheirs(ctx context.Context, who ground.Actor, owner, guarded, name string) error {
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := ownersForSecret(tx, who, guarded); err != nil {
			return err
		}
		next, err := store.One[store.Secret](tx, "owner_id = ? AND state = ?", owner, keyring.KeyNext)
		if err != nil {
			return err
		}
		if next.ID == "" {
			return ground.Problem(
				http.StatusConflict, "no-next-secret", "There is no next secret",
				"No next secret was entered here.", "Enter the secret that the other side gave, and try it.",
			)
		}
		if err := tx.Where("owner_id = ? AND state = ?", owner, keyring.KeyActive).Delete(&store.Secret{}).Error; err != nil {
			return err
		}
		if err := tx.Model(&store.Secret{}).Where("id = ?", next.ID).Update("state", keyring.KeyActive).Error; err != nil {
			return err
		}
		if err := ground.Journal(tx, g.Now(), who, "switched to", "client secret", owner, name, "", next.Hint+"…"); err != nil {
			return err
		}
		return store.Changed(tx)
	})
}

// TrySecret asks the provider's token endpoint with a code that can't be any good: a client that is taken is told that
// the code is bad, one that is not is told that it is not (RFC 6749, section 5.2).
func (g *Room) TrySecret(ctx context.Context, who ground.Actor, slug, id string) (*api.TriedSecret, error) {
	p, err := g.Provider(ctx, slug)
	if err != nil {
		return nil, err
	}
	owner, err := g.secretOwner(ctx, "provider", slug)
	if err != nil {
		return nil, err
	}
	if p.Kerberos != nil {
		return nil, ground.Conflict("rehearse", "A keytab is tried by a ticket.", "Rehearse the sign-in from a machine that has one.")
	}
	if p.LDAP != nil {
		return nil, ground.Conflict("try-directory", p.Name+" is a directory; it is tried as a whole.", "Use “Try it” on its page.")
	}
	if p.OIDC.TokenEndpoint == "" || p.OIDC.ClientID == "" {
		return nil, ground.Problem(
			http.StatusUnprocessableEntity, "incomplete", "It can't be tried yet",
			"The token endpoint or our client ID is missing.", "Enter them first.",
		)
	}
	var row store.Secret
	if err := g.Store.Read(ctx).Where("id = ? AND owner_id = ?", id, owner).Take(&row).Error; err != nil {
		return nil, ground.Missing(err, "client secret", id)
	}
	secret, err := g.OpenSecret(row)
	if err != nil {
		return nil, err
	}
	rec := trace.NewRecorder(g.Now(), g.Now)
	out := &api.TriedSecret{Result: "unclear"}
	client, err := g.ClientAt(ctx, p, secret)
	if err != nil {
		return nil, err
	}
	request, err := client.Redeem(
		"a-code-that-nobody-gave-out", g.CallbackLocation(p.Slug), oidc.NewVerifier(), AudienceOf(p.OIDC), g.Now(),
	)
	if err != nil {
		return nil, err
	}
	answer, err := g.BackChannel(ctx, rec, p, "Token request", "Token response", p.OIDC.TokenEndpoint, request)
	if err == nil {
		_, err = oidc.ReadTokens(
			*answer,
			oidc.TokenRules{Partner: p.Name, Client: client, Methods: p.OIDC.AuthMethods, PlainOAuth: true},
			rec,
		)
	}
	var f *explain.Failure
	switch {
	case errors.As(err, &f) && f.Code == explain.OIDCCodeRefused:
		out.Result, out.Text = "taken", p.Name+" takes the secret: it refused only the code, which was made up for this."
	case errors.As(err, &f) && strings.HasPrefix(string(f.Code), "oidc.client-"):
		e := f.Explain()
		out.Result, out.Text, out.Remedy, out.Code = "refused", e.Cause, e.Remedy, string(e.Code)
	case errors.As(err, &f):
		e := f.Explain()
		out.Text, out.Remedy, out.Code = "The answer does not tell: "+e.Cause, e.Remedy, string(e.Code)
	case err != nil:
		return nil, err
	default:
		out.Text = p.Name + " gave a token for a made-up code, so its answer tells nothing about the secret, and little good about " +
			"the provider."
	}
	now := g.Now().UTC()
	return out, g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Model(&store.Secret{}).Where("id = ?", id).Updates(map[string]any{"tried_at": now,
			"tried": out.Result}).Error; err != nil {
			return err
		}
		return ground.Journal(tx, now, who, "tried", "client secret", owner, p.Name, "", out.Result)
	})
}
