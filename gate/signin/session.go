package signin

import (
	"cmp"
	"context"
	"encoding/json"
	"maps"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/core/bridge"
	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/gate/sessions"
	"innergate/store"
)

// heldSessionOf is the session that a sign-in may use: the browser's, or, in a rehearsal, the rehearsal's own.
func (g *Room) heldSessionOf(ctx context.Context, s *SignIn) (*sessions.HeldSession, error) {
	if s.looked {
		return s.session, nil
	}
	s.looked = true
	var err error
	if s.Rehearsal == nil {
		s.session, err = g.sessions.SessionByToken(ctx, s.Browser.Session)
		return s.session, err
	}
	row, err := store.One[store.Session](g.Store.Read(ctx), "id = ?", s.Rehearsal.ID)
	if err != nil {
		return nil, err
	}
	s.session, err = g.sessions.OpenSession(ctx, row)
	return s.session, err
}

// fromSession takes what a provider vouched for earlier in the same session, where that counts for this application and
// for what it wants. Otherwise it says that it did not, and the trace tells why the person is asked.
func (g *Room) fromSession(ctx context.Context, s *SignIn, open []*partners.Provider) (used bool, err error) {
	if s.App.ID == partners.ConsoleID || s.Rehearsal != nil && s.Rehearsal.Second != s.App.ID {
		return false, nil
	}
	h, err := g.heldSessionOf(ctx, s)
	if err != nil {
		return false, err
	}
	if h == nil {
		return false, nil
	}
	last, err := g.sessions.LastUse(ctx, h.ID, s.App.ID)
	if err != nil {
		return false, err
	}
	var passed []string
	for _, p := range open {
		vouched, ok := h.Body.Proofs[p.ID]
		if !ok {
			passed = append(passed, p.Name+": it vouched for nobody in this session")
			continue
		}
		if why := vouched.AsksAnew(&s.State.Wish, p, s.App, last, g.Now()); why != "" {
			passed = append(passed, p.Name+": "+why)
			continue
		}
		who := vouched.Identity
		who.SessionID = h.ID
		s.Provider, s.Row.ProviderID = p, p.ID
		s.Rec.Decide(trace.Decision{
			About:  "session",
			Result: "used",
			By:     "signed in through " + p.Name + " " + words.Ago(g.Now(), vouched.Since()),
			Passed: passed,
		})
		s.Vouched(who, vouched.At)
		if !h.Body.Second.IsZero() {
			s.evidence = s.evidence.WithSecond(h.PersonID, h.Body.Second)
		}
		return true, nil
	}
	s.Rec.Decide(trace.Decision{About: "session", Result: "not used", By: "the person is asked", Passed: passed})
	if s.Rehearsal != nil && s.Rehearsal.Second == s.App.ID {
		return false, explain.New(explain.RehearsalAskedAgain,
			explain.Fact("reason", cmp.Or(strings.Join(passed, "; "), "there is no session"))).Of(s.App.Name)
	}
	return false, nil
}

// matchSession takes the person whom a session is of. The profile is what is held now; what came is what the provider
// said when it vouched.
func (g *Room) matchSession(ctx context.Context, s *SignIn, who bridge.Identity) error {
	h, err := g.heldSessionOf(ctx, s)
	if err == nil && (h == nil || h.ID != who.SessionID) {
		if h, err = g.sessions.SessionByID(ctx, who.SessionID); h != nil {
			s.session = h
		}
	}
	if err != nil {
		return err
	}
	if h == nil {
		return explain.New(explain.SessionOver).Of(s.App.Name)
	}
	vouched := h.Body.Proofs[s.Provider.ID]
	s.subject, s.subjectShown = who.Subject, who.Shown
	s.Person = Person{Came: vouched.Came, Session: vouched.Values, Shown: h.Person, linked: true}
	if h.PersonID == "" {
		s.Person.pass, s.Person.Profile, s.Person.Kind = true, vouched.Profile, vouched.Kind
		s.Rec.Decide(trace.Decision{About: "person", Result: h.Person, By: "the session"})
		return nil
	}
	p, profile, err := g.persons.PersonByID(ctx, h.PersonID)
	if err != nil {
		return err
	}
	if !p.Active {
		return explain.New(explain.MatchInactive, explain.Fact("person", p.Name))
	}
	if len(vouched.Values) > 0 {
		profile = maps.Clone(profile)
		maps.Copy(profile, vouched.Values)
	}
	s.Person.ID, s.Person.held, s.Person.Kind, s.Person.Shown, s.Person.Profile = p.ID, p, p.Type, p.Name, profile
	s.Rec.Decide(trace.Decision{About: "person", Result: p.Name, By: "the session"})
	if s.App.NeedsGroups {
		s.Person.Groups, _, err = g.persons.Standing(ctx, p.ID)
	}
	return err
}

// settleSession notes the sign-in in the browser's session: a new one, or the one that is there already. What a
// provider vouched for anew gets a new token, so that nobody can have had it beforehand.
func (g *Room) settleSession(tx *gorm.DB, s *SignIn, who bridge.Identity, now time.Time) error {
	if s.App.ID == partners.ConsoleID || len(s.State.Device) > 0 {
		return nil // the console has sessions of its own, and what is for another device does not end with this browser
	}
	if who.SessionID != "" {
		touched, err := sessions.Touch(tx, who.SessionID, now)
		if err != nil {
			return err
		}
		if touched == 0 {
			return explain.New(explain.SessionOver).Of(s.App.Name)
		}
		s.SessionID, s.sessionEnds = who.SessionID, s.session.ExpiresAt
		return g.settleUse(tx, s, now)
	}
	limits, err := g.sessions.Limits(tx.Statement.Context)
	if err != nil {
		return err
	}
	h, vouched := s.session, g.proofOf(s, who, now)
	if s.Row.Flow == "provider" {
		// Nobody in this browser asked for it, so it must not become the browser's session: another site may have sent
		// it. It is kept for telling the application of its end.
		h = nil
	}
	holder := ""
	if s.Person.ID == "" {
		holder = s.Provider.ID + "\x1f" + who.Subject
	}
	if h != nil && (h.PersonID != s.Person.ID || h.Body.Holder != holder) {
		// Somebody else signs in with this browser: the session of the one before ends.
		if err := sessions.EndSession(tx, h.ID, "somebody else signed in", now); err != nil {
			return err
		}
		h = nil
	}
	fresh := h == nil
	if fresh {
		h = &sessions.HeldSession{
			Session: store.Session{
				ID:         store.NewIDAt(now),
				PersonID:   s.Person.ID,
				Address:    s.Browser.Address,
				Device:     words.Clip(s.Browser.Device, 300),
				Persistent: limits.Persistent,
				CreatedAt:  now,
			},
		}
		if s.Rehearsal != nil {
			h.ID, h.RehearsalID = s.Rehearsal.ID, s.Rehearsal.ID
		}
		h.Body.Proofs = map[string]sessions.Proof{}
	}
	h.Body.Holder = holder
	h.Body.Proofs = maps.Clone(h.Body.Proofs)
	h.Body.Proofs[s.Provider.ID] = vouched
	if s.evidence.Second(s.Person.ID) {
		h.Body.Second = now
	}
	plain, err := json.Marshal(h.Body)
	if err != nil {
		return err
	}
	ends := now.Add(limits.Max())
	s.SessionID, s.sessionEnds = h.ID, ends
	token := keys.NewSecret()
	if s.Row.Flow != "provider" && s.Rehearsal == nil {
		s.sessionToken, s.sessionKept = token, limits.Persistent
	}
	sealed, hash := g.Store.Sealer.Seal(store.PlaceSession, h.ID, plain), keys.HashSecret(token)
	h.Session.Person, h.LastUsed, h.ExpiresAt = s.Person.Shown, now, ends
	if fresh {
		err = sessions.Insert(tx, &h.Session, hash, sealed)
	} else {
		var touched int64
		touched, err = sessions.Renew(tx, &h.Session, hash, sealed)
		if err == nil && touched == 0 {
			err = explain.New(explain.SessionOver).Of(s.App.Name)
		}
	}
	if err != nil {
		return err
	}
	strength := "one"
	if g.TwoFactor(s, who) {
		strength = "two"
	}
	proof := &store.SessionProof{
		SessionID:       h.ID,
		ProviderID:      s.Provider.ID,
		Subject:         who.Subject,
		NameValue:       sessions.NameValue(who.NameID),
		ProviderSession: who.Session,
		Strength:        strength,
		At:              now,
	}
	if err := sessions.NoteProof(tx, proof); err != nil {
		return err
	}
	return g.settleUse(tx, s, now)
}

// proofOf is what is kept of a provider's word.
func (g *Room) proofOf(s *SignIn, who bridge.Identity, now time.Time) sessions.Proof {
	who.Attributes = nil // what came of them is kept
	v := sessions.Proof{Identity: who, Came: s.Person.Came, Values: s.Person.Session, At: now}
	if s.Person.ID == "" {
		v.Profile, v.Kind = s.Person.Profile, s.Person.Kind
	}
	return v
}

// settleUse notes that the session went to the application, and gives it the session's name there.
func (g *Room) settleUse(tx *gorm.DB, s *SignIn, now time.Time) error {
	if s.App.ID == partners.PortalID {
		return nil // a page of ours: there is nothing to end there
	}
	use := &store.SessionUse{
		SessionID:     s.SessionID,
		ApplicationID: s.App.ID,
		NameValue:     s.sent.Value,
		Index:         keys.RandomID(),
		NameID:        ground.MustJSON(s.sent),
	}
	var err error
	s.sessionIndex, err = sessions.NoteUse(tx, use, now)
	return err
}

// SessionEnd is when the sign-in ends at the application: with the session, or with what the application is set to, or
// with the provider's session.
func (s *SignIn) SessionEnd(who bridge.Identity, now time.Time) time.Time {
	end := who.SessionEnd
	if !s.sessionEnds.IsZero() && (end.IsZero() || s.sessionEnds.Before(end)) {
		end = s.sessionEnds
	}
	if r := s.App.Session; r != nil && r.MaxMinutes > 0 && !who.AuthnInstant.IsZero() {
		if own := who.AuthnInstant.Add(time.Duration(r.MaxMinutes) * time.Minute); own.After(now) && (end.IsZero() || own.Before(end)) {
			end = own
		}
	}
	return end
}
