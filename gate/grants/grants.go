package grants

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"slices"
	"strconv"
	"strings"
	"time"

	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/oidc"
	"innergate/core/people"
	"innergate/core/redact"
	"innergate/core/trace"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/store"
)

// GrantBody is what a grant's tokens say. It is kept sealed.
type GrantBody struct {
	Subject         string     `json:"subject"`
	TraceID         string     `json:"traceId"`
	ProviderSession string     `json:"providerSession,omitempty"`
	Scopes          []string   `json:"scopes"`
	RedirectURI     string     `json:"redirectUri,omitempty"`
	Challenge       string     `json:"challenge,omitempty"`
	Nonce           string     `json:"nonce,omitempty"`
	AuthTime        time.Time  `json:"authTime,omitzero"`
	ACR             string     `json:"acr,omitempty"`
	AMR             []string   `json:"amr,omitempty"`
	Profile         claims.Bag `json:"profile,omitempty"`
	// Came is what the provider said, where somebody comes in to the gate itself; Session is what of the profile is for
	// this sign-in only.
	Came           claims.Bag `json:"came,omitempty"`
	Session        claims.Bag `json:"session,omitempty"`
	Shown          string     `json:"shown,omitempty"`
	IDTokenClaims  []string   `json:"idTokenClaims,omitempty"`
	UserInfoClaims []string   `json:"userinfoClaims,omitempty"`
	// ProviderHint is the provider's ID token, for signing out there.
	ProviderHint string `json:"providerHint,omitempty"`
}

// SealGrant seals what the tokens of a grant will say.
func (g *Room) SealGrant(id string, body GrantBody) ([]byte, error) {
	plain, err := json.Marshal(body)
	if err != nil {
		return nil, err
	}
	return g.Store.Sealer.Seal(store.PlaceGrant, id, plain), nil
}

// HeldGrant is a grant with everything that decides whether it still counts.
type HeldGrant struct {
	served bool // the provider still serves the application
	store.Grant
	Body     GrantBody
	App      *partners.Application
	Provider *partners.Provider
	active   bool // the person, if the gate knows them
	profile  string
	codeUsed bool
	ended    bool
}

// heldToken is a token, and what it came from.
type heldToken struct {
	*HeldGrant
	hash          [32]byte
	Kind, scope   string
	created, Ends time.Time
	used          bool
}

// What every call with a token or code reads. The driver's work grows with the number of columns, so all but the large
// ones travel as one, with a separator that none of them holds. Other tables are read by subqueries: a join with a
// bound parameter is planned anew at each run, which takes four times as long as reading the rows.
const (
	grantFields = "g.id || x'1f' || g.application_id || x'1f' || g.provider_id || x'1f' || g.person_id || x'1f' || g.expires_at || " +
		"x'1f' || (g.offline + 2 * g.rehearsal + 4 * (g.ended_at IS NOT NULL) + 8 * coalesce((SELECT p.active FROM people p WHERE " +
		"p.id = g.person_id), 0))"
	grantFrom = " g.sealed, coalesce((SELECT p.profile FROM people p WHERE p.id = g.person_id), '') FROM grants g WHERE "
	codeQuery = "SELECT " + grantFields + " || x'1f' || g.code_ends || x'1f' || (g.code_used_at IS NOT NULL)," + grantFrom +
		"g.code_hash = ?"
	idQuery    = "SELECT " + grantFields + "," + grantFrom + "g.id = ?"
	ofToken    = " FROM grants g WHERE g.id = t.grant_id)"
	tokenQuery = "SELECT (SELECT " + grantFields + ofToken +
		" || x'1f' || t.kind || x'1f' || t.scope || x'1f' || t.created_at || x'1f' || t.expires_at || x'1f' || (t.used_at IS NOT NULL)," +
		" (SELECT g.sealed" + ofToken + ", coalesce((SELECT p.profile FROM people p WHERE p.id = (SELECT g.person_id" + ofToken +
		"), '') FROM tokens t WHERE t.hash = ?"
)

// instant reads a time as the database keeps it.
func instant(text string) time.Time {
	for _, layout := range []string{"2006-01-02 15:04:05.999999999-07:00", time.RFC3339Nano} {
		if t, err := time.Parse(layout, text); err == nil {
			return t.UTC()
		}
	}
	return time.Time{} // over, whatever it is
}

// scanGrant reads a row of one of these queries. Without a row it returns nil; more are the fields behind the grant's
// own.
func (g *Room) scanGrant(ctx context.Context, row *sql.Row) (h *HeldGrant, more []string, err error) {
	h = &HeldGrant{}
	var packed sql.NullString
	switch err := row.Scan(&packed, &h.Sealed, &h.profile); {
	case errors.Is(err, sql.ErrNoRows):
		return nil, nil, nil
	case err != nil:
		return nil, nil, store.Clear(err)
	case !packed.Valid: // a token whose grant is deleted
		return nil, nil, nil
	}
	fields := strings.Split(packed.String, "\x1f")
	if len(fields) < 6 {
		return nil, nil, errors.New("a grant can't be read")
	}
	flags, err := strconv.Atoi(fields[5])
	if err != nil {
		return nil, nil, errors.New("a grant can't be read")
	}
	h.ID, h.ApplicationID, h.ProviderID, h.PersonID, h.ExpiresAt = fields[0], fields[1], fields[2], fields[3], instant(fields[4])
	h.Offline, h.Rehearsal, h.ended, h.active = flags&1 != 0, flags&2 != 0, flags&4 != 0, h.PersonID == "" || flags&8 != 0
	sealed, err := g.Store.Sealer.Open(store.PlaceGrant, h.ID, h.Sealed)
	if err != nil {
		return nil, nil, err
	}
	if err := json.Unmarshal(sealed, &h.Body); err != nil {
		return nil, nil, err
	}
	h.Subject, h.TraceID, h.ProviderSession = h.Body.Subject, h.Body.TraceID, h.Body.ProviderSession
	if h.App, err = g.partners.ApplicationByID(ctx, h.ApplicationID); err != nil && !ground.IsNotFound(err) {
		return nil, nil, err
	}
	if h.Provider, err = g.partners.ProviderByID(ctx, h.ProviderID); err != nil && !ground.IsNotFound(err) {
		return nil, nil, err
	}
	h.served, err = g.partners.StillServes(ctx, h.App, h.Provider)
	return h, fields[6:], err
}

func (g *Room) grantByCode(ctx context.Context, hash []byte) (*HeldGrant, error) {
	h, more, err := g.scanGrant(ctx, g.Store.Row(ctx, codeQuery, hash))
	if h != nil && len(more) == 2 {
		h.CodeEnds, h.codeUsed = instant(more[0]), more[1] == "1"
	}
	return h, err
}

// GrantByID finds a grant with everything that decides whether it still counts; nil where there is none.
func (g *Room) GrantByID(ctx context.Context, id string) (*HeldGrant, error) {
	h, _, err := g.scanGrant(ctx, g.Store.Row(ctx, idQuery, id))
	return h, err
}

// TokenBy finds a token by its value, or nothing.
func (g *Room) TokenBy(ctx context.Context, value string) (*heldToken, error) {
	hash := keys.HashSecret(value)
	h, more, err := g.scanGrant(ctx, g.Store.Row(ctx, tokenQuery, hash))
	if err != nil || h == nil || len(more) != 5 {
		return nil, err
	}
	return &heldToken{
		HeldGrant: h,
		hash:      [32]byte(hash),
		Kind:      more[0],
		scope:     more[1],
		created:   instant(more[2]),
		Ends:      instant(more[3]),
		used:      more[4] == "1",
	}, nil
}

// Over says why a grant no longer counts, or nothing. What was true at the sign-in is asked again: the person, the
// application, the provider, and that the one still serves the other.
func (g *Room) Over(h *HeldGrant) string {
	now := g.Now()
	switch {
	case h.ended:
		return "it was ended"
	case !now.Before(h.ExpiresAt):
		return "its time is over"
	case !h.active:
		return "the person is not active"
	case h.App == nil || h.App.OIDC == nil:
		return "the application is gone"
	case h.Provider == nil:
		return "the provider is gone"
	case !h.served:
		return "the provider no longer serves the application"
	case h.App.Reach != access.InCircle && h.App.Reach.Serves("application", h.App.Name, h.Rehearsal) != nil:
		return "the application is not open"
	case h.Provider.Reach != access.InCircle && h.Provider.Reach.Serves("provider", h.Provider.Name, h.Rehearsal) != nil:
		return "the provider is not open"
	}
	return ""
}

// profileOf is what the application's mapping sees of a grant's person now. For a rehearsal, and where nobody is
// stored, it is what it was at the sign-in.
func (g *Room) profileOf(ctx context.Context, h *HeldGrant) (claims.Bag, error) {
	if h.profile == "" {
		return h.Body.Profile, nil
	}
	profile, err := ground.DecodeBody[claims.Bag](h.profile)
	if err != nil {
		return nil, err
	}
	for name, values := range h.Body.Session {
		profile[name] = values
	}
	if !h.App.NeedsGroups && !h.App.Outbound.Reads(people.PersonType) {
		people.NameFromParts(profile)
		return profile, nil
	}
	groups, kind, err := g.persons.Standing(ctx, h.PersonID)
	if err != nil {
		return nil, err
	}
	assigned, err := g.partners.Assignments(ctx, h.App, h.PersonID, groups)
	if err != nil {
		return nil, err
	}
	return people.Outbound(profile, groups, kind, h.App.Policy.Roles(assigned)), nil
}

// Place is where claims go: the ID token or UserInfo, with the scopes that were granted and the claims that were asked
// for by name. Only where a rule or a name says so does a sparing place get anything.
type Place struct {
	Name          string
	Scopes, Named []string
	Sparing       bool
}

// Gets says whether a claim goes to the place.
func (p Place) Gets(r *claims.Rule, allowed []string) bool { return p.Withholds(r, allowed) == "" }

// Withholds says why a claim does not go to the place, empty where it does. Allowed are the claims of the scopes that the
// application may ask for.
func (p Place) Withholds(r *claims.Rule, allowed []string) string {
	named := slices.Contains(p.Named, r.Set) && (slices.Contains(allowed, r.Set) || !oidc.InScopes(r.Set))
	switch {
	case r.Place != "" && r.Place != claims.PlaceBoth && r.Place != p.Name:
		return "its rule sends it with " + placeWords[r.Place]
	case named:
		return ""
	case oidc.InScopes(r.Set) && !slices.Contains(oidc.ClaimsOf(p.Scopes), r.Set):
		return "the scope " + oidc.ScopeOf(r.Set) + " was not granted"
	case p.Sparing && r.Place == "":
		return "this application gets its claims from UserInfo"
	}
	return ""
}

// placeWords are the places of claims as people call them.
var placeWords = map[string]string{claims.PlaceIDToken: "the ID token", claims.PlaceUserInfo: "UserInfo"}

// Places are where a grant's claims go with these scopes: its ID token, and UserInfo.
func Places(o *config.OIDCApplication, scopes []string, body GrantBody) (token, userInfo Place) {
	return Place{claims.PlaceIDToken, scopes, body.IDTokenClaims, !o.ClaimsInIDToken},
		Place{claims.PlaceUserInfo, scopes, body.UserInfoClaims, false}
}

// MarkWithheld marks in a sign-in's record what will go neither into the ID token nor to UserInfo.
func MarkWithheld(o *config.OIDCApplication, body GrantBody, out []claims.Output, rec *trace.Recorder) {
	allowed := oidc.ClaimsOf(o.Scopes)
	token, userInfo := Places(o, body.Scopes, body)
	for _, v := range out {
		if why := userInfo.Withholds(v.Rule, allowed); why != "" && !token.Gets(v.Rule, allowed) {
			rec.Withhold("out", v.Rule.Set, why)
		}
	}
}

// claimsOf are the claims of a grant's person for one place.
func (g *Room) claimsOf(ctx context.Context, h *HeldGrant, to Place, rec *trace.Recorder) (map[string]any, error) {
	profile, err := g.profileOf(ctx, h)
	if err != nil {
		return nil, err
	}
	out, err := h.App.Outbound.Apply(profile, "out", rec)
	if err != nil {
		return nil, explain.OfPartner(err, h.App.Name)
	}
	allowed := oidc.ClaimsOf(h.App.OIDC.Scopes)
	values := make(claims.Bag, len(out))
	for _, o := range out {
		if why := to.Withholds(o.Rule, allowed); why != "" {
			rec.Withhold("out", o.Rule.Set, why)
			continue
		}
		values[o.Rule.Set] = o.Values
	}
	object, left := oidc.Object(values)
	for _, name := range left {
		rec.Withhold("out", name, "it is the protocol's own, or its value has the wrong form")
		rec.Decide(
			trace.Decision{About: "claim", Result: name + " left out", By: "it is the protocol's own, or its value has the wrong form"},
		)
	}
	return object, nil
}

// addToTrace appends what happened on the back channel to the trace of the sign-in.
func (g *Room) traceAddition(id string, rec *trace.Recorder) (*store.TraceAddition, error) {
	entries, err := json.Marshal(redact.Clip(rec.Entries(), 64<<10))
	if err != nil {
		return nil, err
	}
	a := &store.TraceAddition{ID: store.NewID(), TraceID: id, At: g.Now().UTC()}
	a.Entries = g.Store.Sealer.Seal(store.PlaceTrace, a.ID, entries) // too small for compressing to be worth its time
	return a, nil
}

// grantOver is the failure for a grant that no longer counts.
func grantOver(h *HeldGrant, why string) error {
	f := explain.New(explain.OIDCGrantOver, explain.Fact("reason", why))
	if h.App != nil {
		f.Of(h.App.Name)
	}
	return f
}

// LogoutEndpoint is the exchange in which a provider's logout token comes.
const LogoutEndpoint = "back-channel logout"
