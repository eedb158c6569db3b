package gate

import (
	"context"
	"errors"
	"net/http"
	"strings"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/explain"
	"innergate/core/oidc"
	"innergate/core/trace"
	"innergate/store"
)

// theirSecret is the secret that counts now at a provider, or nothing.
func (g *Gate) theirSecret(ctx context.Context, provider string) (string, error) {
	var row store.Secret
	if err := g.Store.Read(ctx).Where("owner_id = ? AND state = ?", provider, KeyActive).Limit(1).Find(&row).Error; err != nil {
		return "", store.Clear(err)
	}
	if row.ID == "" {
		return "", nil
	}
	return g.openSecret(row)
}

func (g *Gate) openSecret(row store.Secret) (string, error) {
	plain, err := g.Store.Sealer.Open("secret/"+row.ID, row.Sealed)
	return string(plain), err
}

// KeepSecret stores a secret that a provider gave us: as the one that counts, if there is none yet, else as the next one. It is never shown again.
func (g *Gate) KeepSecret(ctx context.Context, who Actor, slug string, n api.TheirSecret) (*api.Secret, error) {
	p, err := g.provider(ctx, slug)
	if err != nil {
		return nil, err
	}
	value := strings.TrimSpace(n.Value)
	switch {
	case p.OIDC == nil:
		return nil, badRequest("no-secrets", p.Name+" speaks SAML and has no client secret.", "")
	case secretLooksWrong(value, p.OIDC.ClientID) != nil:
		return nil, secretLooksWrong(value, p.OIDC.ClientID)
	case n.Expires != nil && !n.Expires.After(g.Now()):
		return nil, badRequest("secret-over", "The end that was entered is past.", "Enter the day on which the provider lets it end, or none.")
	}
	now := g.Now().UTC()
	hint := ""
	if len(value) >= 20 {
		hint = value[:3]
	}
	row := store.Secret{ID: store.NewID(), OwnerKind: "provider", OwnerID: p.id, State: KeyActive, Hint: hint, By: who.Name, CreatedAt: now, ExpiresAt: n.Expires}
	row.Sealed = g.Store.Sealer.Seal("secret/"+row.ID, []byte(value))
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		var held []store.Secret
		if err := tx.Where("owner_id = ?", p.id).Find(&held).Error; err != nil {
			return err
		}
		for _, h := range held {
			if h.State == KeyActive {
				row.State = KeyNext
			}
		}
		// Another next one takes the place of the one that was not used yet.
		if err := tx.Where("owner_id = ? AND state = ?", p.id, KeyNext).Delete(&store.Secret{}).Error; err != nil {
			return err
		}
		return g.writeSecret(tx, who, &row, p.Name, "entered")
	})
	if err != nil {
		return nil, err
	}
	v := secretView(row)
	return &v, nil
}

// secretLooksWrong says what was entered in place of a provider's client secret, as far as that shows.
func secretLooksWrong(value, clientID string) error {
	switch {
	case value == "" || len(value) > 2000:
		return badRequest("secret-empty", "A secret has 1 to 2000 characters.", "Paste the secret's value as the provider shows it.")
	case value == clientID:
		return badRequest("secret-is-id", "This is the client ID, not the secret.", "Paste the secret's value; the client ID stands in a field of its own.")
	case strings.HasPrefix(value, "http://"), strings.HasPrefix(value, "https://"):
		return badRequest("secret-is-address", "This is an address, not a secret.", "Paste the secret's value as the provider shows it.")
	case strings.Contains(value, "-----BEGIN"):
		return badRequest("secret-is-pem", "This is a certificate or key, not a client secret.", "Keys of ours stand in the keyring; a provider gives a secret as a line of text.")
	}
	return nil
}

// SwitchSecret puts the next secret into the place of the one that counted, in one step.
func (g *Gate) SwitchSecret(ctx context.Context, who Actor, slug string) error {
	owner, err := g.secretOwner(ctx, "provider", slug)
	if err != nil {
		return err
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		var next store.Secret
		if err := tx.Where("owner_id = ? AND state = ?", owner, KeyNext).Limit(1).Find(&next).Error; err != nil {
			return err
		}
		if next.ID == "" {
			return problem(http.StatusConflict, "no-next-secret", "There is no next secret", "No next secret was entered for this provider.", "Enter the secret that the provider gave, and try it.")
		}
		if err := tx.Where("owner_id = ? AND state = ?", owner, KeyActive).Delete(&store.Secret{}).Error; err != nil {
			return err
		}
		if err := tx.Model(&store.Secret{}).Where("id = ?", next.ID).Update("state", KeyActive).Error; err != nil {
			return err
		}
		if err := journal(tx, g.Now(), who, "switched to", "client secret", owner, slug, "", next.Hint+"…"); err != nil {
			return err
		}
		return store.Changed(tx)
	})
}

// TrySecret asks the provider's token endpoint with a code that can't be any good: a client that is taken is told that the code is bad, one that is not is told
// that it is not (RFC 6749, section 5.2).
func (g *Gate) TrySecret(ctx context.Context, who Actor, slug, id string) (*api.TriedSecret, error) {
	p, err := g.provider(ctx, slug)
	if err != nil {
		return nil, err
	}
	owner, err := g.secretOwner(ctx, "provider", slug)
	if err != nil {
		return nil, err
	}
	if p.OIDC.TokenEndpoint == "" || p.OIDC.ClientID == "" {
		return nil, problem(http.StatusUnprocessableEntity, "incomplete", "It can't be tried yet", "The token endpoint or our client ID is missing.", "Enter them first.")
	}
	var row store.Secret
	if err := g.Store.Read(ctx).Where("id = ? AND owner_id = ?", id, owner).Take(&row).Error; err != nil {
		return nil, missing(err, "client secret", id)
	}
	secret, err := g.openSecret(row)
	if err != nil {
		return nil, err
	}
	rec := trace.NewRecorder(g.Now(), g.Now)
	out := &api.TriedSecret{Result: "unclear"}
	client, err := g.clientAt(ctx, p, secret)
	if err != nil {
		return nil, err
	}
	request, err := client.Redeem("a-code-that-nobody-gave-out", g.CallbackLocation(p.Slug), oidc.NewVerifier(), audienceOf(p.OIDC), g.Now())
	if err != nil {
		return nil, err
	}
	answer, err := g.backChannel(ctx, rec, p, "Token request", "Token response", p.OIDC.TokenEndpoint, request)
	if err == nil {
		_, err = oidc.ReadTokens(*answer, oidc.TokenRules{Partner: p.Name, Client: client, Methods: p.OIDC.AuthMethods, PlainOAuth: true}, rec)
	}
	var f *explain.Failure
	switch {
	case errors.As(err, &f) && f.Code == "oidc.code-refused":
		out.Result, out.Text = "taken", p.Name+" takes the secret: it refused only the code, which was made up for this."
	case errors.As(err, &f) && strings.HasPrefix(f.Code, "oidc.client-"):
		e := f.Explain()
		out.Result, out.Text, out.Remedy, out.Code = "refused", e.Cause, e.Remedy, e.Code
	case errors.As(err, &f):
		e := f.Explain()
		out.Text, out.Remedy, out.Code = "The answer does not tell: "+e.Cause, e.Remedy, e.Code
	case err != nil:
		return nil, err
	default:
		out.Text = p.Name + " gave a token for a made-up code, so its answer tells nothing about the secret, and little good about the provider."
	}
	now := g.Now().UTC()
	return out, g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Model(&store.Secret{}).Where("id = ?", id).Updates(map[string]any{"tried_at": now, "tried": out.Result}).Error; err != nil {
			return err
		}
		return journal(tx, now, who, "tried", "client secret", owner, p.Name, "", out.Result)
	})
}
