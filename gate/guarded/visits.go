package guarded

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"gorm.io/gorm"

	"innergate/core/access"
	"innergate/core/bridge"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/jose"
	"innergate/core/keys"
	"innergate/core/paths"
	"innergate/core/people"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/keyring"
	"innergate/gate/partners"
	"innergate/gate/sessions"
	"innergate/gate/signin"
	"innergate/gate/signout"
	"innergate/store"
)

const (
	guardAgain   = time.Minute      // after which everything is asked again
	guardToken   = time.Minute      // for which a signed token is good, and used again
	guardSession = 30 * time.Second // left of a token before a new one is made
)

// Guarded is a guarded application as the guard needs it.
type Guarded struct {
	config.GuardedApplication
	Slug, Name string
	// Headers are all names by which the application may be told who comes; a browser may send none of them.
	Headers []string
	app     *partners.Application
}

// GuardedAt finds the guarded application at a public address (scheme, host and port), or nothing.
func (g *Room) GuardedAt(ctx context.Context, public string) (*Guarded, error) {
	a, err := g.partners.FindApplication(ctx, "guard:"+public, "kind = 'guarded' AND entity_id = ?", public)
	if ground.IsNotFound(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	out := &Guarded{GuardedApplication: *a.Guarded, Slug: a.Slug, Name: a.Name, app: a}
	out.Headers = append(out.Headers, a.Guarded.TokenHeaderName())
	if a.Guarded.Pass == config.PassHeaders {
		for _, r := range a.Whole {
			if r.Set != "" && !slices.Contains(out.Headers, r.Set) {
				out.Headers = append(out.Headers, r.Set)
			}
		}
	}
	return out, nil
}

// carries lists the headers by which the application is told who comes.
func (a *Guarded) carries() []string {
	switch a.Pass {
	case config.PassHeaders:
		return a.Headers[1:] // behind that of the signed token
	case config.PassToken:
		return a.Headers[:1]
	case config.PassBasic:
		return []string{"Authorization"}
	}
	return []string{}
}

// GuardVisit is what a browser asks of a guarded application.
type GuardVisit struct {
	Method, Path, Address string
	// Token is the browser's session at the application's host.
	Token string
}

// The answers of a guard.
const (
	GuardPass   = "pass"    // go on, with Headers
	GuardSignIn = "sign-in" // somebody has to sign in first
	GuardRefuse = "refuse"
)

// GuardAnswer says whether a visit may go on, and what the application is told.
type GuardAnswer struct {
	Result  string
	Headers map[string][]string
	// Basic are credentials, where identity is passed on so.
	User, Password string
	Person         string
	SessionID      string
	Explanation    explain.Explanation
}

// heldGuard is what is remembered of a browser at a guarded application, until everything is asked again.
type heldGuard struct {
	sync.Mutex
	application string
	body        guardBody
	generation  string
	// commits is how much this process had written when the session was looked at, and looked when that was: until
	// either changes, it is as it was.
	commits, looked atomic.Int64
	at              time.Time
	out             map[string][]string
	token           string
	tokenEnds       time.Time
	refused         *explain.Failure
	session         string
	facts           access.Facts
}

func (h *heldGuard) saw(at time.Time, commits int64) {
	h.commits.Store(commits)
	h.looked.Store(at.UnixNano())
}

// Guard decides about one visit. The session is looked at each time; rules, groups and mapping once a minute, and
// whenever the configuration changes.
func (g *Room) Guard(ctx context.Context, a *Guarded, v GuardVisit) (*GuardAnswer, error) {
	rule := paths.PathRule(a.Paths, v.Method, v.Path)
	if rule.Then == config.PathRefuse {
		return &GuardAnswer{
			Result:      GuardRefuse,
			Explanation: explain.New(explain.GuardPathRefused, explain.Fact("path", words.Clip(v.Path, 200))).Of(a.Name).Explain(),
		}, nil
	}
	held, err := g.heldGuard(ctx, a, v.Token)
	if err != nil {
		return nil, err
	}
	if held == nil {
		if rule.Then == config.PathOpen {
			return &GuardAnswer{Result: GuardPass}, nil
		}
		return &GuardAnswer{Result: GuardSignIn}, nil
	}
	held.Lock()
	defer held.Unlock()
	if held.refused == nil {
		if held.refused, err = g.guardAgain(ctx, a, held, v.Address); err != nil {
			return nil, err
		}
	}
	switch {
	case held.refused != nil && rule.Then == config.PathOpen:
		return &GuardAnswer{Result: GuardPass}, nil
	case held.refused != nil:
		return &GuardAnswer{Result: GuardRefuse, Explanation: held.refused.Explain()}, nil
	case rule.Then == config.PathGroups && !slices.ContainsFunc(rule.Groups, func(slug string) bool {
		return slices.Contains(held.body.Groups, slug)
	}):
		return &GuardAnswer{
			Result:      GuardRefuse,
			Explanation: explain.New(explain.GuardPathGroups, explain.Fact("groups", strings.Join(rule.Groups, ", "))).Of(a.Name).Explain(),
		}, nil
	case rule.Then == config.PathRules:
		facts := held.facts
		facts.At = g.Now()
		facts.Network, _ = netip.ParseAddr(v.Address)
		policy := a.app.Paths[rule.Use]
		if policy == nil {
			return nil, fmt.Errorf("the rule set %s of a path of %s is not ready", rule.Use, a.Slug)
		}
		if d := policy.Decide(facts, false); d.Result != access.Allow {
			return &GuardAnswer{
				Result:      GuardRefuse,
				Explanation: explain.New(explain.GuardPathRules, explain.Fact("rule", d.By)).Of(a.Name).Explain(),
			}, nil
		}
	}
	out := &GuardAnswer{Result: GuardPass, Person: held.body.Shown, SessionID: held.session}
	return out, g.passOn(ctx, a, held, out)
}

// heldGuard finds what is known of a browser. That its session goes on is asked of the store each time, so that whoever
// is signed out is out at once; not again within milliseconds, as long as this process has written nothing.
func (g *Room) heldGuard(ctx context.Context, a *Guarded, token string) (*heldGuard, error) {
	if len(token) < 20 || len(token) > 100 {
		return nil, nil
	}
	hash := keys.HashSecret(token)
	c, err := g.Cache(ctx)
	if err != nil {
		return nil, err
	}
	commits := g.Store.Commits()
	if h, ok := g.guards.Load(string(hash)); ok {
		if held := h.(*heldGuard); held.application == a.app.ID && held.generation == c.Generation && held.commits.Load() == commits &&
			time.Since(time.Unix(0, held.looked.Load())) < ground.LookLife {
			return held, nil
		}
	}
	limits, err := g.sessions.Limits(ctx)
	if err != nil {
		return nil, err
	}
	looked, now := time.Now(), g.Now()
	var session string
	var open bool
	row := g.Store.Row(
		ctx,
		"SELECT session_id, expires_at > ? AND (session_id = '' OR EXISTS (SELECT 1 FROM sessions s WHERE s.id = session_id AND "+
			"s.ended_at IS NULL AND s.expires_at > ? AND s.last_used > ?)) FROM guard_sessions WHERE token_hash = ? AND application_id = ?",
		now.UTC(),
		now.UTC(),
		now.Add(-limits.Idle()).UTC(),
		hash,
		a.app.ID,
	)
	if err := row.Scan(&session, &open); err != nil || !open {
		g.guards.Delete(string(hash))
		if errors.Is(err, sql.ErrNoRows) {
			err = nil
		}
		return nil, err
	}
	if h, ok := g.guards.Load(string(hash)); ok {
		if held := h.(*heldGuard); held.generation == c.Generation && g.Now().Sub(held.at) < guardAgain {
			held.saw(looked, commits)
			return held, nil
		}
	}
	var kept store.GuardSession
	if err := g.Store.Read(ctx).Where("token_hash = ?", hash).Take(&kept).Error; err != nil {
		return nil, store.Clear(err)
	}
	plain, err := g.Store.Sealer.Open(store.PlaceGuard, kept.ID, kept.Sealed)
	if err != nil {
		g.Log.WarnContext(ctx, "a session at a guarded application can't be opened and counts no more", "error", err)
		return nil, nil
	}
	held := &heldGuard{application: a.app.ID, generation: c.Generation, at: g.Now(), session: session}
	if err := json.Unmarshal(plain, &held.body); err != nil {
		return nil, err
	}
	if idle, err := g.idleThere(ctx, a.app, session); err != nil || idle {
		return nil, err
	}
	if err := g.touchSession(ctx, session, a.app.ID); err != nil {
		return nil, err
	}
	held.saw(looked, commits)
	g.guards.Store(string(hash), held)
	return held, nil
}

// idleThere says whether the application has lain unused for longer than it is set to. Then its people are asked anew,
// as at a sign-in.
func (g *Room) idleThere(ctx context.Context, app *partners.Application, session string) (bool, error) {
	if session == "" || app.Session == nil || app.Session.IdleMinutes == 0 {
		return false, nil
	}
	last, err := g.sessions.LastUse(ctx, session, app.ID)
	return !last.IsZero() && g.Now().Sub(last) > time.Duration(app.Session.IdleMinutes)*time.Minute, err
}

// touchSession notes that a session at the gate is in use, and in it the application, once a minute.
func (g *Room) touchSession(ctx context.Context, id, application string) error {
	if id == "" {
		return nil
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		now := g.Now().UTC()
		if err := sessions.TouchUse(tx, id, application, now); err != nil {
			return err
		}
		_, err := sessions.Touch(tx, id, now)
		return err
	})
}

// guardAgain asks everything again that decided the sign-in, and makes anew what is passed on.
func (g *Room) guardAgain(ctx context.Context, a *Guarded, h *heldGuard, address string) (*explain.Failure, error) {
	if h.out != nil {
		return nil, nil
	}
	b, app := &h.body, a.app
	p, err := g.partners.ProviderByID(ctx, b.ProviderID)
	if ground.IsNotFound(err) || err == nil && !g.partners.ServesYet(ctx, app, p) {
		return explain.New(explain.RouteNone).Of(a.Name), nil
	}
	if err != nil {
		return nil, err
	}
	profile := b.Profile
	if b.PersonID != "" {
		held, now, err := g.persons.PersonByID(ctx, b.PersonID)
		if ground.IsNotFound(err) || err == nil && !held.Active {
			return explain.New(explain.MatchInactive, explain.Fact("person", b.Shown)), nil
		}
		if err != nil {
			return nil, err
		}
		profile = claims.Bag{}
		for _, bag := range []claims.Bag{now, b.Values} {
			for name, values := range bag {
				profile[name] = values
			}
		}
		if !b.Rehearsal {
			if b.Groups, b.Kind, err = g.persons.Standing(ctx, b.PersonID); err != nil {
				return nil, err
			}
		}
	}
	who := access.Who{
		Known:    true,
		ID:       b.PersonID,
		Username: profile.First(people.Username),
		Mail:     profile.First(people.Mail),
		Groups:   b.Groups,
	}
	who.Network, _ = netip.ParseAddr(address)
	if err := app.Reach.Admits(app.Circle, who, "application", app.Name, app.Slug, b.Rehearsal); err != nil {
		return err.(*explain.Failure), nil
	}
	if err := p.Reach.Admits(p.Circle, who, "provider", p.Name, p.Slug, b.Rehearsal); err != nil {
		return err.(*explain.Failure), nil
	}
	facts := access.Facts{
		Person:    b.PersonID,
		Type:      b.Kind,
		Groups:    b.Groups,
		Received:  b.Came["groups"],
		Provider:  p.Slug,
		Mail:      who.Mail,
		At:        g.Now(),
		TwoFactor: b.Two,
		Network:   who.Network,
	}
	if facts.Assigned, err = g.partners.Assignments(ctx, app, b.PersonID, b.Groups); err != nil {
		return nil, err
	}
	d := app.Policy.Decide(facts, false)
	if d.Result == access.Stronger {
		return explain.New(explain.AccessStrongerImpossible, explain.Fact("rule", d.By)).Of(app.Name), nil
	}
	if d.Result != access.Allow {
		return app.Refusal(d, b.Shown, facts.Received), nil
	}
	out, err := app.Outbound.Apply(people.Outbound(profile, b.Groups, b.Kind, d.Roles), "out", nil)
	if err != nil {
		if f, ok := err.(*explain.Failure); ok {
			return f.Of(app.Name), nil
		}
		return nil, err
	}
	h.facts, h.out = facts, map[string][]string{}
	for _, o := range out {
		h.out[o.Rule.Set] = o.Values
	}
	return nil, nil
}

// passOn puts who comes into the form that the application takes.
func (g *Room) passOn(ctx context.Context, a *Guarded, h *heldGuard, out *GuardAnswer) error {
	switch a.Pass {
	case config.PassHeaders:
		out.Headers = map[string][]string{}
		for name, values := range h.out {
			if text := paths.HeaderText(values); text != "" {
				out.Headers[name] = []string{text}
			}
		}
	case config.PassToken:
		now := g.Now()
		if h.token == "" || now.After(h.tokenEnds.Add(-guardSession)) {
			signer, err := g.keyring.TokenSigner(ctx, keyring.Ourselves, keyring.PurposeOf(jose.ES256), jose.ES256)
			if err != nil {
				return err
			}
			content := map[string]any{
				"iss": g.partners.Issuer(),
				"aud": a.PublicURL,
				"sub": h.body.Subject,
				"iat": now.Unix(),
				"exp": now.Add(guardToken).Unix(),
				"jti": keys.RandomID(),
			}
			for name, values := range h.out {
				if _, own := content[name]; own || len(values) == 0 {
					continue
				}
				if content[name] = values; len(values) == 1 {
					content[name] = values[0]
				}
			}
			if h.token, err = signer.Sign(jose.TypeGuard, content); err != nil {
				return err
			}
			h.tokenEnds = now.Add(guardToken)
		}
		out.Headers = map[string][]string{a.TokenHeaderName(): {h.token}}
	case config.PassBasic:
		if u := h.out["username"]; len(u) > 0 {
			out.User = u[0]
		} else {
			out.User = h.body.Subject
		}
		if bridge.CheckIdentifier(out.User) != nil || strings.Contains(out.User, ":") {
			// The name ends at the first colon (RFC 7617, section 2), so that it would be another's.
			f := explain.New(explain.GuardUserName, explain.Fact("user name", words.Clip(out.User, 200))).Of(a.Name)
			*out = GuardAnswer{Result: GuardRefuse, Explanation: f.Explain()}
			return nil
		}
		secret, err := g.partners.TheirSecret(ctx, a.app.ID)
		if err != nil {
			return err
		}
		if out.Password = secret; secret == "" {
			*out = GuardAnswer{Result: GuardRefuse, Explanation: explain.New(explain.GuardNoPassword).Of(a.Name).Explain()}
		}
	}
	return nil
}

// EnterTicket redeems a ticket at a guarded application's host: once, in time, and in the browser that began there. It
// returns the token that the browser keeps and where to go on.
func (g *Room) EnterTicket(ctx context.Context, a *Guarded, ticket, kept string) (token, to string, err error) {
	bind := sha256.Sum256([]byte(kept))
	now := g.Now().UTC()
	var rows []store.GuardTicket
	token = keys.NewSecret()
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Raw("DELETE FROM guard_tickets WHERE hash = ? AND application_id = ? AND bind = ? AND expires_at > ? AND NOT "+
			"`out` RETURNING *", keys.HashSecret(ticket), a.app.ID, bind[:], now).Scan(&rows).Error; err != nil {
			return err
		}
		if len(rows) == 0 {
			return explain.New(explain.GuardTicket).Of(a.Name)
		}
		ends := now.Add(time.Hour)
		if rows[0].SessionID != "" {
			var held []store.Session
			if err := tx.Omit("sealed").Where("id = ? AND ended_at IS NULL", rows[0].SessionID).Find(&held).Error; err != nil {
				return err
			}
			if len(held) == 0 {
				return explain.New(explain.SessionOver).Of(a.Name)
			}
			ends = held[0].ExpiresAt
		}
		if own := rows[0].Ends; own != nil && own.Before(ends) {
			ends = *own
		}
		return sessions.InsertVisit(tx, &store.GuardSession{
			ID:            rows[0].ID,
			TokenHash:     keys.HashSecret(token),
			SessionID:     rows[0].SessionID,
			ApplicationID: a.app.ID,
			Sealed:        rows[0].Sealed,
			CreatedAt:     now,
			ExpiresAt:     ends,
		})
	})
	if err != nil {
		return "", "", err
	}
	return token, rows[0].To, nil
}

// LeaveTicket makes the way from a guarded application's sign-out to the gate's.
func (g *Room) LeaveTicket(ctx context.Context, a *Guarded, token string) (string, error) {
	row, err := store.One[store.GuardSession](g.Store.Read(ctx), "token_hash = ? AND application_id = ?", keys.HashSecret(token), a.app.ID)
	if err != nil {
		return "", err
	}
	if row.SessionID == "" {
		return g.PublicURL + "/sign-out", nil
	}
	ticket := keys.NewSecret()
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := sessions.EndVisit(tx, row.TokenHash); err != nil {
			return err
		}
		return tx.Create(&store.GuardTicket{
			ID:            keys.RandomID(),
			Hash:          keys.HashSecret(ticket),
			ApplicationID: a.app.ID,
			SessionID:     row.SessionID,
			Out:           true,
			ExpiresAt:     g.Now().Add(ticketLife).UTC(),
		}).Error
	})
	return g.PublicURL + "/sign-out/guard/" + ticket, err
}

// LeaveGuarded signs out whoever comes from a guarded application's sign-out.
func (g *Room) LeaveGuarded(ctx context.Context, b signin.Browser, ticket string) *signin.Next {
	return g.signin.Walk(ctx, g.signin.Begin(b, "slo"), func(ctx context.Context, s *signin.SignIn) (*signin.Next, error) {
		return g.leave(ctx, s, ticket)
	})
}

func (g *Room) leave(ctx context.Context, s *signin.SignIn, ticket string) (*signin.Next, error) {
	var rows []store.GuardTicket
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Raw("DELETE FROM guard_tickets WHERE hash = ? AND expires_at > ? AND `out` RETURNING *", keys.HashSecret(ticket),
			g.Now().UTC()).
			Scan(&rows).
			Error
	})
	if err != nil {
		return nil, err
	}
	if len(rows) == 0 {
		return nil, explain.New(explain.LogoutLost)
	}
	if s.App, err = g.partners.ApplicationByID(ctx, rows[0].ApplicationID); err != nil {
		return nil, err
	}
	o := &signout.SignOut{By: s.App.Name, Began: g.Now().UTC(), Trace: s.ID, Reference: s.Reference}
	h, err := g.sessions.SessionByID(ctx, rows[0].SessionID)
	if err == nil && h != nil {
		err = g.signout.OutOf(ctx, s, h, o)
	}
	if err != nil {
		return nil, err
	}
	return g.signout.OnwardOut(ctx, s, o)
}

// GuardOver says whether a session that a long visit belongs to has ended.
func (g *Room) GuardOver(ctx context.Context, sessionID string) bool {
	if sessionID == "" {
		return false
	}
	limits, err := g.sessions.Limits(ctx)
	if err != nil {
		return false
	}
	var n int64
	err = g.Store.Read(ctx).
		Model(&store.Session{}).
		Where("id = ? AND ended_at IS NULL AND expires_at > ? AND last_used > ?", sessionID, g.Now().UTC(),
			g.Now().Add(-limits.Idle()).UTC()).
		Limit(1).
		Count(&n).
		Error
	return err == nil && n == 0
}
