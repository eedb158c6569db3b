package gate

import (
	"context"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/core/claims"
	"innergate/core/explain"
	"innergate/core/oidc"
	"innergate/core/trace"
	"innergate/store"
)

// grantBody is what a grant's tokens say. It is kept sealed.
type grantBody struct {
	Scopes         []string   `json:"scopes"`
	RedirectURI    string     `json:"redirectUri,omitempty"`
	Challenge      string     `json:"challenge,omitempty"`
	Nonce          string     `json:"nonce,omitempty"`
	AuthTime       time.Time  `json:"authTime,omitzero"`
	ACR            string     `json:"acr,omitempty"`
	AMR            []string   `json:"amr,omitempty"`
	Profile        claims.Bag `json:"profile,omitempty"`
	Shown          string     `json:"shown,omitempty"`
	IDTokenClaims  []string   `json:"idTokenClaims,omitempty"`
	UserInfoClaims []string   `json:"userinfoClaims,omitempty"`
	// ProviderHint is the provider's ID token, for signing out there.
	ProviderHint string `json:"providerHint,omitempty"`
}

func (g *Gate) sealGrant(id string, body grantBody) ([]byte, error) {
	plain, err := json.Marshal(body)
	if err != nil {
		return nil, err
	}
	return g.Store.Sealer.Seal("grant/"+id, plain), nil
}

// heldGrant is a grant with everything that decides whether it still counts.
type heldGrant struct {
	store.Grant
	body     grantBody
	app      *application
	provider *provider
	active   bool // the person, if the gate knows them
	profile  string
}

// grantRow is a grant as it is read, with the person and, where it was asked for by one of them, the token.
type grantRow struct {
	store.Grant
	PersonActive  *bool
	PersonProfile *string
	TokenKind     string
	TokenScope    string
	TokenCreated  time.Time
	TokenEnds     time.Time
	TokenUsed     *time.Time
}

const grantColumns = "g.*, p.active AS person_active, p.profile AS person_profile"

func (g *Gate) hold(ctx context.Context, row grantRow) (*heldGrant, error) {
	h := &heldGrant{Grant: row.Grant, active: true}
	sealed, err := g.Store.Sealer.Open("grant/"+row.ID, row.Sealed)
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(sealed, &h.body); err != nil {
		return nil, err
	}
	if row.PersonID != "" {
		h.active = row.PersonActive != nil && *row.PersonActive
		if row.PersonProfile != nil {
			h.profile = *row.PersonProfile
		}
	}
	if h.app, err = g.applicationByID(ctx, row.ApplicationID); err != nil && !isNotFound(err) {
		return nil, err
	}
	if h.provider, err = g.providerByID(ctx, row.ProviderID); err != nil && !isNotFound(err) {
		return nil, err
	}
	return h, nil
}

func (g *Gate) grantByCode(ctx context.Context, hash []byte) (*heldGrant, error) {
	return g.findGrant(ctx, "SELECT "+grantColumns+" FROM grants g LEFT JOIN people p ON p.id = g.person_id WHERE g.code_hash = ?", hash)
}

func (g *Gate) grantByID(ctx context.Context, id string) (*heldGrant, error) {
	return g.findGrant(ctx, "SELECT "+grantColumns+" FROM grants g LEFT JOIN people p ON p.id = g.person_id WHERE g.id = ?", id)
}

func (g *Gate) findGrant(ctx context.Context, query string, arg any) (*heldGrant, error) {
	var row grantRow
	if err := g.Store.Read(ctx).Raw(query, arg).Scan(&row).Error; err != nil {
		return nil, store.Clear(err)
	}
	if row.ID == "" {
		return nil, nil
	}
	return g.hold(ctx, row)
}

// over says why a grant no longer counts, or nothing. What was true at the sign-in is asked again: the person, the application, the provider, and that the one still
// serves the other.
func (g *Gate) over(h *heldGrant) string {
	now := g.Now()
	switch {
	case h.EndedAt != nil:
		return "it was ended: " + h.EndedBy
	case !now.Before(h.ExpiresAt):
		return "its time is over"
	case !h.active:
		return "the person is not active"
	case h.app == nil || h.app.OIDC == nil:
		return "the application is gone"
	case h.provider == nil:
		return "the provider is gone"
	case !slices.Contains(h.app.Providers, h.provider.Slug):
		return "the provider no longer serves the application"
	case h.app.Reach.Serves("application", h.app.Name, h.Rehearsal) != nil:
		return "the application is not open"
	case h.provider.Reach.Serves("provider", h.provider.Name, h.Rehearsal) != nil:
		return "the provider is not open"
	}
	return ""
}

// endGrant ends a grant and with it every token that came of it.
func endGrant(tx *gorm.DB, id, why string, now time.Time) error {
	return tx.Exec("UPDATE grants SET ended_at = ?, ended_by = ? WHERE id = ? AND ended_at IS NULL", now, why, id).Error
}

// claimsOf are the claims of a grant's person for one place: UserInfo, or the ID token.
func (g *Gate) claimsOf(h *heldGrant, scopes, named []string, rec *trace.Recorder) (map[string]any, error) {
	profile := h.body.Profile
	if h.profile != "" {
		fresh, err := decodeBody[claims.Bag](h.profile)
		if err != nil {
			return nil, err
		}
		profile = fresh
	}
	out, err := h.app.mapping.Apply(profile, "out", rec)
	if err != nil {
		return nil, ofPartner(err, h.app.Name)
	}
	given, allowed := oidc.ClaimsOf(scopes), oidc.ClaimsOf(h.app.OIDC.Scopes)
	values := claims.Bag{}
	for _, o := range out {
		name := o.Rule.Set
		byName := slices.Contains(named, name) && slices.Contains(allowed, name)
		if len(o.Values) > 0 && (!oidc.InScopes(name) || slices.Contains(given, name) || byName) {
			values[name] = o.Values
		}
	}
	object, left := oidc.Object(values)
	for _, name := range left {
		rec.Decide(trace.Decision{About: "claim", Result: name + " left out", By: "it is the protocol's own, or its value has the wrong form"})
	}
	return object, nil
}

// addToTrace appends what happened on the back channel to the trace of the sign-in.
func (g *Gate) traceAddition(id string, rec *trace.Recorder) (*store.TraceAddition, error) {
	entries, err := json.Marshal(clipped(rec.Entries(), 64<<10))
	if err != nil {
		return nil, err
	}
	a := &store.TraceAddition{ID: store.NewID(), TraceID: id, At: g.Now().UTC()}
	a.Entries = g.Store.Sealer.Seal("trace/"+a.ID, packer().EncodeAll(entries, nil))
	return a, nil
}

// EndGrants ends the grants of a provider's session, or of its subject where no session is named, and tells the applications.
func (g *Gate) endProviderGrants(ctx context.Context, p *provider, subject, session, why string) (int, error) {
	now := g.Now().UTC()
	var ended []store.Grant
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		query := tx.Where("provider_id = ? AND ended_at IS NULL AND expires_at > ? AND NOT offline", p.id, now)
		if subject != "" {
			query = query.Where("provider_subject = ?", subject)
		}
		if session != "" {
			query = query.Where("provider_session = ?", session)
		}
		if err := query.Limit(1000).Find(&ended).Error; err != nil {
			return err
		}
		for _, e := range ended {
			if err := endGrant(tx, e.ID, why, now); err != nil {
				return err
			}
		}
		return nil
	})
	if err == nil {
		g.tellApplications(ended)
	}
	return len(ended), err
}

func scopesText(scopes []string) string { return strings.Join(scopes, " ") }

// grantOver is the failure for a grant that no longer counts.
func grantOver(h *heldGrant, why string) error {
	f := explain.New("oidc.grant-over", explain.Fact("reason", why))
	if h.app != nil {
		f.Of(h.app.Name)
	}
	return f
}
