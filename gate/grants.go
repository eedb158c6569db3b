package gate

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"slices"
	"strconv"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/oidc"
	"innergate/core/people"
	"innergate/core/trace"
	"innergate/store"
)

// grantBody is what a grant's tokens say. It is kept sealed.
type grantBody struct {
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
	// Came is what the provider said, where somebody comes in to the gate itself; Session is what of the profile is for this sign-in only.
	Came           claims.Bag `json:"came,omitempty"`
	Session        claims.Bag `json:"session,omitempty"`
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
	served bool // the provider still serves the application
	store.Grant
	body     grantBody
	app      *application
	provider *provider
	active   bool // the person, if the gate knows them
	profile  string
	codeUsed bool
	ended    bool
}

// heldToken is a token, and what it came from.
type heldToken struct {
	*heldGrant
	kind, scope   string
	created, ends time.Time
	used          bool
}

// What every call with a token or code reads. The driver's work grows with the number of columns, so all but the large ones travel as one, with a separator that none
// of them holds. Other tables are read by subqueries: a join with a bound parameter is planned anew at each run, which takes four times as
// long as reading the rows.
const (
	grantFields = "g.id || x'1f' || g.application_id || x'1f' || g.provider_id || x'1f' || g.person_id || x'1f' || g.expires_at || x'1f' || (g.offline + 2 * g.rehearsal + 4 * (g.ended_at IS NOT NULL) + 8 * coalesce((SELECT p.active FROM people p WHERE p.id = g.person_id), 0))"
	grantFrom   = " g.sealed, coalesce((SELECT p.profile FROM people p WHERE p.id = g.person_id), '') FROM grants g WHERE "
	codeQuery   = "SELECT " + grantFields + " || x'1f' || g.code_ends || x'1f' || (g.code_used_at IS NOT NULL)," + grantFrom + "g.code_hash = ?"
	idQuery     = "SELECT " + grantFields + "," + grantFrom + "g.id = ?"
	ofToken     = " FROM grants g WHERE g.id = t.grant_id)"
	tokenQuery  = "SELECT (SELECT " + grantFields + ofToken + " || x'1f' || t.kind || x'1f' || t.scope || x'1f' || t.created_at || x'1f' || t.expires_at || x'1f' || (t.used_at IS NOT NULL)," +
		" (SELECT g.sealed" + ofToken + ", coalesce((SELECT p.profile FROM people p WHERE p.id = (SELECT g.person_id" + ofToken + "), '') FROM tokens t WHERE t.hash = ?"
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

// scanGrant reads a row of one of these queries. Without a row it returns nil; more are the fields behind the grant's own.
func (g *Gate) scanGrant(ctx context.Context, row *sql.Row) (h *heldGrant, more []string, err error) {
	h = &heldGrant{}
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
	sealed, err := g.Store.Sealer.Open("grant/"+h.ID, h.Sealed)
	if err != nil {
		return nil, nil, err
	}
	if err := json.Unmarshal(sealed, &h.body); err != nil {
		return nil, nil, err
	}
	h.Subject, h.TraceID, h.ProviderSession = h.body.Subject, h.body.TraceID, h.body.ProviderSession
	if h.app, err = g.applicationByID(ctx, h.ApplicationID); err != nil && !isNotFound(err) {
		return nil, nil, err
	}
	if h.provider, err = g.providerByID(ctx, h.ProviderID); err != nil && !isNotFound(err) {
		return nil, nil, err
	}
	h.served, err = g.stillServes(ctx, h.app, h.provider)
	return h, fields[6:], err
}

func (g *Gate) grantByCode(ctx context.Context, hash []byte) (*heldGrant, error) {
	h, more, err := g.scanGrant(ctx, g.Store.Row(ctx, codeQuery, hash))
	if h != nil && len(more) == 2 {
		h.CodeEnds, h.codeUsed = instant(more[0]), more[1] == "1"
	}
	return h, err
}

func (g *Gate) grantByID(ctx context.Context, id string) (*heldGrant, error) {
	h, _, err := g.scanGrant(ctx, g.Store.Row(ctx, idQuery, id))
	return h, err
}

// tokenBy finds a token by its value, or nothing.
func (g *Gate) tokenBy(ctx context.Context, value string) (*heldToken, error) {
	h, more, err := g.scanGrant(ctx, g.Store.Row(ctx, tokenQuery, keys.HashSecret(value)))
	if err != nil || h == nil || len(more) != 5 {
		return nil, err
	}
	return &heldToken{heldGrant: h, kind: more[0], scope: more[1], created: instant(more[2]), ends: instant(more[3]), used: more[4] == "1"}, nil
}

// over says why a grant no longer counts, or nothing. What was true at the sign-in is asked again: the person, the application, the provider, and that the one still
// serves the other.
func (g *Gate) over(h *heldGrant) string {
	now := g.Now()
	switch {
	case h.ended:
		return "it was ended"
	case !now.Before(h.ExpiresAt):
		return "its time is over"
	case !h.active:
		return "the person is not active"
	case h.app == nil || h.app.OIDC == nil:
		return "the application is gone"
	case h.provider == nil:
		return "the provider is gone"
	case !h.served:
		return "the provider no longer serves the application"
	case h.app.Reach != access.InCircle && h.app.Reach.Serves("application", h.app.Name, h.Rehearsal) != nil:
		return "the application is not open"
	case h.provider.Reach != access.InCircle && h.provider.Reach.Serves("provider", h.provider.Name, h.Rehearsal) != nil:
		return "the provider is not open"
	}
	return ""
}

func insertGrant(tx *gorm.DB, g *store.Grant) error {
	_, err := store.Exec(tx, "INSERT INTO grants (id, application_id, provider_id, provider_subject, provider_session, session_id, person_id, subject, trace_id, sealed, code_hash, code_ends, offline, rehearsal, created_at, expires_at, ended_by) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, '')",
		g.ID, g.ApplicationID, g.ProviderID, g.ProviderSubject, g.ProviderSession, g.SessionID, g.PersonID, g.Subject, g.TraceID, g.Sealed, g.CodeHash, g.CodeEnds, g.Offline, g.Rehearsal, g.CreatedAt, g.ExpiresAt)
	return err
}

// endGrant ends a grant and with it every token that came of it.
func endGrant(tx *gorm.DB, id, why string, now time.Time) error {
	_, err := store.Exec(tx, "UPDATE grants SET ended_at = ?, ended_by = ? WHERE id = ? AND ended_at IS NULL", now, why, id)
	return err
}

// profileOf is what the application's mapping sees of a grant's person now. For a rehearsal, and where nobody is stored, it is what it was at the sign-in.
func (g *Gate) profileOf(ctx context.Context, h *heldGrant) (claims.Bag, error) {
	if h.profile == "" {
		return h.body.Profile, nil
	}
	profile, err := decodeBody[claims.Bag](h.profile)
	if err != nil {
		return nil, err
	}
	for name, values := range h.body.Session {
		profile[name] = values
	}
	if !h.app.needsGroups && !h.app.mapping.Reads(people.PersonType) {
		return profile, nil
	}
	groups, kind, err := g.standing(ctx, h.PersonID)
	if err != nil {
		return nil, err
	}
	assigned, err := g.assignments(ctx, h.app, h.PersonID, groups)
	if err != nil {
		return nil, err
	}
	return outbound(profile, groups, kind, h.app.policy.Roles(assigned)), nil
}

// place is where claims go: the ID token or UserInfo, with the scopes that were granted and the claims that were asked for by name. Only where a rule or a
// name says so does a sparing place get anything.
type place struct {
	name          string
	scopes, named []string
	sparing       bool
}

// gets says whether a claim goes to the place.
func (p place) gets(r *claims.Rule, allowed []string) bool {
	named := slices.Contains(p.named, r.Set) && (slices.Contains(allowed, r.Set) || !oidc.InScopes(r.Set))
	switch {
	case r.Place != "" && r.Place != claims.PlaceBoth && r.Place != p.name:
		return false
	case named:
		return true
	case p.sparing && r.Place == "":
		return false
	}
	return !oidc.InScopes(r.Set) || slices.Contains(oidc.ClaimsOf(p.scopes), r.Set)
}

// claimsOf are the claims of a grant's person for one place.
func (g *Gate) claimsOf(ctx context.Context, h *heldGrant, to place, rec *trace.Recorder) (map[string]any, error) {
	profile, err := g.profileOf(ctx, h)
	if err != nil {
		return nil, err
	}
	out, err := h.app.mapping.Apply(profile, "out", rec)
	if err != nil {
		return nil, ofPartner(err, h.app.Name)
	}
	allowed := oidc.ClaimsOf(h.app.OIDC.Scopes)
	values := make(claims.Bag, len(out))
	for _, o := range out {
		if to.gets(o.Rule, allowed) {
			values[o.Rule.Set] = o.Values
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
	a.Entries = g.Store.Sealer.Seal("trace/"+a.ID, entries) // too small for compressing to be worth its time
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
	if err != nil {
		return 0, err
	}
	var alone []store.Grant
	for _, e := range ended {
		if e.SessionID == "" {
			alone = append(alone, e)
		}
	}
	g.tellApplications(alone)
	return len(ended), g.endProviderSessions(ctx, p, subject, session, why)
}

// endProviderSessions ends the sessions at the gate in which a provider vouched for a subject, or in which its own session has this name. Their applications are told by the
// back channel.
func (g *Gate) endProviderSessions(ctx context.Context, p *provider, subject, session, why string) error {
	query := g.Store.Read(ctx).Model(&store.SessionProof{}).Where("provider_id = ?", p.id)
	if subject != "" {
		query = query.Where("subject = ?", subject)
	}
	if session != "" {
		query = query.Where("provider_session = ?", session)
	}
	var ids []string
	if err := query.Limit(1000).Pluck("session_id", &ids).Error; err != nil {
		return store.Clear(err)
	}
	if len(ids) == 0 {
		return nil
	}
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		for _, id := range ids {
			if err := endSession(tx, id, why, g.Now().UTC()); err != nil {
				return err
			}
		}
		return nil
	})
	g.tellSoon()
	return err
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
