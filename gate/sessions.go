package gate

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"time"

	"gorm.io/gorm"

	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/store"
)

const settingSessions = "sessions"

// proof is what one provider vouched for in a session. It is kept sealed with it.
type proof struct {
	Identity identity `json:"identity"`
	// Came is what the provider's mapping made of it, Values what of the profile is for the session only; Profile is the whole of it, where nobody is stored.
	Came    claims.Bag `json:"came,omitempty"`
	Values  claims.Bag `json:"values,omitempty"`
	Profile claims.Bag `json:"profile,omitempty"`
	Kind    string     `json:"kind,omitempty"` // the person type, where nobody is stored
	At      time.Time  `json:"at"`
}

// since is when the person signed in, as far as it is known.
func (p *proof) since() time.Time {
	if p.Identity.AuthnInstant.IsZero() {
		return p.At
	}
	return p.Identity.AuthnInstant
}

// sessionBody is what is kept sealed with a session.
type sessionBody struct {
	Proofs map[string]proof `json:"proofs"` // by provider's ID
	// Second is when the person last proved a second factor at the gate.
	Second time.Time `json:"second,omitzero"`
	// Holder keeps apart people whom the gate does not store.
	Holder string `json:"holder,omitempty"`
}

// heldSession is a session that still counts.
type heldSession struct {
	store.Session
	body sessionBody
}

func (g *Gate) sessionLimits(ctx context.Context) (config.Sessions, error) {
	c, err := g.cache(ctx)
	if err != nil {
		return config.Sessions{}, err
	}
	if s := c.sessions.Load(); s != nil {
		return *s, nil
	}
	var row store.Setting
	if err := g.Store.Read(ctx).Where("name = ?", settingSessions).Limit(1).Find(&row).Error; err != nil {
		return config.Sessions{}, store.Clear(err)
	}
	s := config.UsualSessions
	if row.Value != "" {
		if err := json.Unmarshal([]byte(row.Value), &s); err != nil {
			return s, fmt.Errorf("the limits of sessions can't be read: %w", err)
		}
	}
	c.sessions.Store(&s)
	return s, nil
}

// sessionByToken finds the session of a browser, or nothing where there is none that counts.
func (g *Gate) sessionByToken(ctx context.Context, token string) (*heldSession, error) {
	if len(token) < 20 || len(token) > 100 {
		return nil, nil
	}
	var row store.Session
	if err := g.Store.Read(ctx).Where("token_hash = ?", keys.HashSecret(token)).Limit(1).Find(&row).Error; err != nil {
		return nil, store.Clear(err)
	}
	if row.RehearsalID != "" {
		return nil, nil
	}
	return g.openSession(ctx, row)
}

func (g *Gate) sessionByID(ctx context.Context, id string) (*heldSession, error) {
	var row store.Session
	if err := g.Store.Read(ctx).Where("id = ?", id).Limit(1).Find(&row).Error; err != nil {
		return nil, store.Clear(err)
	}
	return g.openSession(ctx, row)
}

// openSession unseals a session, unless it is over.
func (g *Gate) openSession(ctx context.Context, row store.Session) (*heldSession, error) {
	now := g.Now()
	if row.ID == "" || row.EndedAt != nil || !now.Before(row.ExpiresAt) {
		return nil, nil
	}
	limits, err := g.sessionLimits(ctx)
	if err != nil {
		return nil, err
	}
	if now.Sub(row.LastUsed) > limits.Idle() {
		return nil, nil
	}
	h := &heldSession{Session: row}
	plain, err := g.Store.Sealer.Open("session/"+row.ID, row.Sealed)
	if err != nil {
		// Sealed under a key that is no longer held: the person signs in anew.
		g.Log.WarnContext(ctx, "a session can't be opened and counts no more", "session", row.ID, "error", err)
		return nil, nil
	}
	return h, json.Unmarshal(plain, &h.body)
}

// heldSessionOf is the session that a sign-in may use: the browser's, or, in a rehearsal, the rehearsal's own.
func (g *Gate) heldSessionOf(ctx context.Context, s *signIn) (*heldSession, error) {
	if s.looked {
		return s.session, nil
	}
	s.looked = true
	var err error
	if s.rehearsal == nil {
		s.session, err = g.sessionByToken(ctx, s.browser.Session)
		return s.session, err
	}
	var row store.Session
	if err := g.Store.Read(ctx).Where("id = ?", s.rehearsal.ID).Limit(1).Find(&row).Error; err != nil {
		return nil, store.Clear(err)
	}
	s.session, err = g.openSession(ctx, row)
	return s.session, err
}

// fromSession goes on with what a provider vouched for earlier in the same session, where that counts for this application and for what it wants. Otherwise it
// returns nothing, and the trace tells why the person is asked.
func (g *Gate) fromSession(ctx context.Context, s *signIn, open []*provider) *Next {
	if s.app.id == consoleID || s.rehearsal != nil && s.rehearsal.Second != s.app.id {
		return nil
	}
	h, err := g.heldSessionOf(ctx, s)
	if err != nil {
		return g.failed(ctx, s, err)
	}
	if h == nil {
		return nil
	}
	last, err := g.lastUse(ctx, h.ID, s.app.id)
	if err != nil {
		return g.failed(ctx, s, err)
	}
	var passed []string
	for _, p := range open {
		vouched, ok := h.body.Proofs[p.id]
		if !ok {
			passed = append(passed, p.Name+": it vouched for nobody in this session")
			continue
		}
		if why := g.asksAnew(s, p, &vouched, last); why != "" {
			passed = append(passed, p.Name+": "+why)
			continue
		}
		who := vouched.Identity
		who.SessionID = h.ID
		s.provider, s.row.ProviderID = p, p.id
		if !h.body.Second.IsZero() {
			s.state.Second = true
		}
		s.rec.Decide(trace.Decision{About: "session", Result: "used", By: "signed in through " + p.Name + " " + ago(g.Now(), vouched.since()), Passed: passed})
		return g.finish(ctx, s, who)
	}
	s.rec.Decide(trace.Decision{About: "session", Result: "not used", By: "the person is asked", Passed: passed})
	if s.rehearsal != nil && s.rehearsal.Second == s.app.id {
		return g.failed(ctx, s, explain.New("rehearsal.asked-again", explain.Fact("reason", joined(passed))).Of(s.app.Name))
	}
	return nil
}

func joined(list []string) string {
	if len(list) == 0 {
		return "there is no session"
	}
	out := list[0]
	for _, v := range list[1:] {
		out += "; " + v
	}
	return out
}

// lastUse is when the application was last gone to in the session, if ever.
func (g *Gate) lastUse(ctx context.Context, sessionID, applicationID string) (time.Time, error) {
	var row store.SessionUse
	err := g.Store.Read(ctx).Select("last_at").Where("session_id = ? AND application_id = ?", sessionID, applicationID).Limit(1).Find(&row).Error
	return row.LastAt, store.Clear(err)
}

// asksAnew says why what a provider vouched for in a session does not count for this sign-in, or nothing.
func (g *Gate) asksAnew(s *signIn, p *provider, vouched *proof, last time.Time) string {
	w, who, now := &s.state.Wish, &vouched.Identity, g.Now()
	age := now.Sub(who.AuthnInstant)
	switch {
	case w.Fresh:
		return "the application wants a fresh sign-in"
	case w.Choose:
		return "the application wants the person to choose"
	case p.SAML != nil && p.SAML.ForceAuthn, p.OIDC != nil && p.OIDC.Fresh:
		return "it is set to ask anew each time"
	case !who.SessionEnd.IsZero() && !now.Before(who.SessionEnd):
		return "its own session is over since " + who.SessionEnd.UTC().Format(time.RFC3339)
	case w.MaxAge != nil && (who.AuthnInstant.IsZero() || age > *w.MaxAge+time.Minute):
		return "signed in " + ago(now, who.AuthnInstant) + ", and the application allows " + w.MaxAge.String()
	case w.Context != nil && !w.Preferred && !w.Context.Met(who.Context):
		return "the application asks for " + fmt.Sprint(w.Context.Classes) + ", and it proved " + orNone(who.Context)
	}
	rules := s.app.Session
	if rules == nil {
		return ""
	}
	if since := vouched.since(); rules.MaxMinutes > 0 && now.Sub(since) > time.Duration(rules.MaxMinutes)*time.Minute {
		return "signed in " + ago(now, since) + ", and this application is set to " + fmt.Sprint(rules.MaxMinutes) + " minutes"
	}
	if rules.IdleMinutes > 0 && !last.IsZero() && now.Sub(last) > time.Duration(rules.IdleMinutes)*time.Minute {
		return "the application was last used " + ago(now, last) + ", and is set to " + fmt.Sprint(rules.IdleMinutes) + " minutes"
	}
	return ""
}

// matchSession takes the person whom a session is of. The profile is what is held now; what came is what the provider said when it vouched.
func (g *Gate) matchSession(ctx context.Context, s *signIn, who identity) error {
	h, err := g.heldSessionOf(ctx, s)
	if err == nil && (h == nil || h.ID != who.SessionID) {
		if h, err = g.sessionByID(ctx, who.SessionID); h != nil {
			s.session = h
		}
	}
	if err != nil {
		return err
	}
	if h == nil {
		return explain.New("session.over").Of(s.app.Name)
	}
	vouched := h.body.Proofs[s.provider.id]
	s.subject, s.subjectShown = who.Subject, who.Shown
	s.person = person{came: vouched.Came, session: vouched.Values, shown: h.Person, linked: true}
	if h.PersonID == "" {
		s.person.pass, s.person.profile, s.person.kind = true, vouched.Profile, vouched.Kind
		s.rec.Decide(trace.Decision{About: "person", Result: h.Person, By: "the session"})
		return nil
	}
	p, profile, err := g.personByID(ctx, h.PersonID)
	if err != nil {
		return err
	}
	if !p.Active {
		return explain.New("match.inactive", explain.Fact("person", p.Name))
	}
	if len(vouched.Values) > 0 {
		profile = maps.Clone(profile)
		maps.Copy(profile, vouched.Values)
	}
	s.person.id, s.person.held, s.person.kind, s.person.shown, s.person.profile = p.ID, p, p.Type, p.Name, profile
	s.rec.Decide(trace.Decision{About: "person", Result: p.Name, By: "the session"})
	if s.app.needsGroups {
		s.person.groups, _, err = g.standing(ctx, p.ID)
	}
	return err
}

// settleSession notes the sign-in in the browser's session: a new one, or the one that is there already. What a provider vouched for anew gets a new token, so that
// nobody can have had it beforehand.
func (g *Gate) settleSession(tx *gorm.DB, s *signIn, who identity, now time.Time) error {
	if s.app.id == consoleID || len(s.state.Device) > 0 {
		return nil // the console has sessions of its own, and what is for another device does not end with this browser
	}
	if who.SessionID != "" {
		touched, err := store.Exec(tx, "UPDATE sessions SET last_used = ? WHERE id = ? AND ended_at IS NULL", now, who.SessionID)
		if err != nil {
			return err
		}
		if touched == 0 {
			return explain.New("session.over").Of(s.app.Name)
		}
		s.sessionID, s.sessionEnds = who.SessionID, s.session.ExpiresAt
		return g.settleUse(tx, s, now)
	}
	limits, err := g.sessionLimits(tx.Statement.Context)
	if err != nil {
		return err
	}
	h, vouched := s.session, g.proofOf(s, who, now)
	if s.row.Flow == "provider" {
		// Nobody in this browser asked for it, so it must not become the browser's session: another site may have sent it. It is kept for telling the application of its end.
		h = nil
	}
	holder := ""
	if s.person.id == "" {
		holder = s.provider.id + "\x1f" + who.Subject
	}
	if h != nil && (h.PersonID != s.person.id || h.body.Holder != holder) {
		// Somebody else signs in with this browser: the session of the one before ends.
		if err := endSession(tx, h.ID, "somebody else signed in", now); err != nil {
			return err
		}
		h = nil
	}
	fresh := h == nil
	if fresh {
		h = &heldSession{Session: store.Session{ID: store.NewIDAt(now), PersonID: s.person.id, Address: s.browser.Address, Device: clipText(s.browser.Device, 300), Persistent: limits.Persistent, CreatedAt: now}}
		if s.rehearsal != nil {
			h.ID, h.RehearsalID = s.rehearsal.ID, s.rehearsal.ID
		}
		h.body.Proofs = map[string]proof{}
	}
	h.body.Holder = holder
	h.body.Proofs = maps.Clone(h.body.Proofs)
	h.body.Proofs[s.provider.id] = vouched
	if s.state.Second {
		h.body.Second = now
	}
	plain, err := json.Marshal(h.body)
	if err != nil {
		return err
	}
	ends := now.Add(limits.Max())
	s.sessionID, s.sessionEnds = h.ID, ends
	token := keys.NewSecret()
	if s.row.Flow != "provider" && s.rehearsal == nil {
		s.sessionToken, s.sessionKept = token, limits.Persistent
	}
	sealed, hash := g.Store.Sealer.Seal("session/"+h.ID, plain), keys.HashSecret(token)
	if fresh {
		_, err = store.Exec(tx, "INSERT INTO sessions (id, token_hash, person_id, person, rehearsal_id, address, device, sealed, persistent, created_at, last_used, expires_at, ended_by) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, '')",
			h.ID, hash, s.person.id, s.person.shown, h.RehearsalID, h.Address, h.Device, sealed, h.Persistent, now, now, ends)
	} else {
		var touched int64
		touched, err = store.Exec(tx, "UPDATE sessions SET token_hash = ?, person = ?, sealed = ?, last_used = ?, expires_at = ? WHERE id = ? AND ended_at IS NULL", hash, s.person.shown, sealed, now, ends, h.ID)
		if err == nil && touched == 0 {
			err = explain.New("session.over").Of(s.app.Name)
		}
	}
	if err != nil {
		return err
	}
	strength := "one"
	if g.twoFactor(s, who) {
		strength = "two"
	}
	if _, err := store.Exec(tx, "INSERT INTO session_proofs (session_id, provider_id, subject, name_value, provider_session, strength, at) VALUES (?, ?, ?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET subject = excluded.subject, name_value = excluded.name_value, provider_session = excluded.provider_session, strength = excluded.strength, at = excluded.at",
		h.ID, s.provider.id, who.Subject, nameValue(who.NameID), who.Session, strength, now); err != nil {
		return err
	}
	return g.settleUse(tx, s, now)
}

// proofOf is what is kept of a provider's word.
func (g *Gate) proofOf(s *signIn, who identity, now time.Time) proof {
	who.Attributes = nil // what came of them is kept
	v := proof{Identity: who, Came: s.person.came, Values: s.person.session, At: now}
	if s.person.id == "" {
		v.Profile, v.Kind = s.person.profile, s.person.kind
	}
	return v
}

// settleUse notes that the session went to the application, and gives it the session's name there.
func (g *Gate) settleUse(tx *gorm.DB, s *signIn, now time.Time) error {
	if s.app.id == portalID {
		return nil // a page of ours: there is nothing to end there
	}
	var index []string
	err := tx.Raw("INSERT INTO session_uses (session_id, application_id, name_value, session_index, name_id, first_at, last_at, told) VALUES (?, ?, ?, ?, ?, ?, ?, '') ON CONFLICT (session_id, application_id) DO UPDATE SET name_value = excluded.name_value, name_id = excluded.name_id, last_at = excluded.last_at RETURNING session_index",
		s.sessionID, s.app.id, s.sent.Value, keys.RandomID(), mustJSON(s.sent), now, now).Scan(&index).Error
	if err == nil && len(index) == 1 {
		s.sessionIndex = index[0]
	}
	return err
}

// sessionEnd is when the sign-in ends at the application: with the session, or with what the application is set to, or with the provider's session.
func (s *signIn) sessionEnd(who identity, now time.Time) time.Time {
	end := who.SessionEnd
	if !s.sessionEnds.IsZero() && (end.IsZero() || s.sessionEnds.Before(end)) {
		end = s.sessionEnds
	}
	if r := s.app.Session; r != nil && r.MaxMinutes > 0 && !who.AuthnInstant.IsZero() {
		if own := who.AuthnInstant.Add(time.Duration(r.MaxMinutes) * time.Minute); own.After(now) && (end.IsZero() || own.Before(end)) {
			end = own
		}
	}
	return end
}

// endSession ends a session and every grant of it, besides those for access while the person is away. Who must be told is told by TellEnded.
func endSession(tx *gorm.DB, id, why string, now time.Time) error {
	if _, err := store.Exec(tx, "UPDATE sessions SET ended_at = ?, ended_by = ? WHERE id = ? AND ended_at IS NULL", now, why, id); err != nil {
		return err
	}
	_, err := store.Exec(tx, "UPDATE grants SET ended_at = ?, ended_by = ? WHERE session_id = ? AND session_id <> '' AND ended_at IS NULL AND NOT offline", now, why, id)
	return err
}

// endSessionsOf ends all sessions of a person.
func endSessionsOf(tx *gorm.DB, personID, why string, now time.Time) error {
	var ids []string
	if err := tx.Raw("SELECT id FROM sessions WHERE person_id = ? AND ended_at IS NULL", personID).Scan(&ids).Error; err != nil {
		return err
	}
	for _, id := range ids {
		if err := endSession(tx, id, why, now); err != nil {
			return err
		}
	}
	return nil
}

// nameIDOf reads the identifier that an application got.
func nameIDOf(u *store.SessionUse) (saml.NameID, error) { return decodeBody[saml.NameID](u.NameID) }

func nameValue(n *saml.NameID) string {
	if n == nil {
		return ""
	}
	return n.Value
}
