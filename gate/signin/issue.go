package signin

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"time"

	"gorm.io/gorm"

	"innergate/core/bridge"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/gate/persons"
	"innergate/gate/traces"
	"innergate/store"
)

// issue maps what the application receives, settles the sign-in in one transaction, and makes the answer.
func (g *Room) issue(ctx context.Context, s *SignIn) (*Next, error) {
	s.Rec.Begin(trace.Issue)
	who := s.evidence.Who()
	approved, ok := partners.BothApproved(s.App, s.Provider)
	s.dry = !ok || s.Rehearsal != nil && !s.Rehearsal.Keeps
	out, err := s.App.Outbound.Apply(s.Outbound(), "out", s.Rec)
	if err != nil {
		return nil, err
	}
	answered := ok && (s.Rehearsal == nil || !s.Rehearsal.Stop)
	subject, err := g.settle(ctx, s, who, ok, func(tx *gorm.DB, subject saml.NameID) error {
		if !answered {
			return nil
		}
		return g.ApplicationSide(s.App).Settle(tx, s, approved, who, subject)
	})
	if err != nil {
		return nil, err
	}
	if !answered {
		by := "the rehearsal was ordered so"
		if !ok {
			by = "what is tried was not approved, so nothing is answered for it"
		}
		s.Rec.Decide(trace.Decision{About: "rehearsal", Result: "stops here: nothing goes to the application", By: by})
		g.Outcomes.SignedIn(ctx, s, subject, out)
		g.KeepTrace(ctx, s, "stopped", "")
		return g.Outcomes.Stopped(s), nil
	}
	next, err := g.ApplicationSide(s.App).Issue(ctx, s, approved, who, subject, out)
	if err != nil {
		return nil, err
	}
	g.Outcomes.SignedIn(ctx, s, subject, out)
	if g.KeepTrace(ctx, s, takenUp(s), ""); takenUp(s) == traces.OutcomeSignedIn {
		g.Metrics.SignedIn.Add(1)
	}
	next.DropSignIns, next.DropRehearsal = append(next.DropSignIns, s.ID), s.Rehearsal != nil && !follows(s.Rehearsal, s.App.ID)
	if s.Rehearsal == nil && who.SessionID == "" && s.Row.Flow != "provider" {
		next.Way = s.Provider.Slug
	}
	if next.Session = s.sessionToken; s.sessionKept {
		next.SessionEnds = s.sessionEnds
	}
	return next, nil
}

// takenUp says how a sign-in stands once it was answered: an OpenID Connect application has a code, and must still come for its
// tokens; any other has all that it gets.
func takenUp(s *SignIn) string {
	if s.App.OIDC != nil && !s.State.Console {
		return traces.OutcomeWaiting
	}
	return traces.OutcomeSignedIn
}

// settle is the one transaction of a sign-in that comes out well: the answer is used up, the sign-in ends, the person
// and their identifier at the application are there, and what stands behind the application's answer.
func (g *Room) settle(
	ctx context.Context, s *SignIn, who bridge.Identity, ok bool, behind func(*gorm.DB, saml.NameID) error,
) (saml.NameID, error) {
	subject := saml.NameID{}
	if s.App.SAML != nil {
		subject.Format = bridge.SubjectFormat(s.App.Subject.Source, s.App.Subject.Format)
	}
	switch s.App.Subject.Source {
	case "transient", "pairwise", "public":
		subject.Value = keys.RandomID()
	default:
		if subject.Value = s.Person.Profile.First(s.App.Subject.From); subject.Value == "" {
			return subject, explain.New(explain.SubjectEmpty, explain.Pair("value", s.App.Subject.From, "")).Of(s.App.Name)
		}
		if why := s.App.SubjectProblem(subject.Value); why != "" {
			return subject, explain.New(explain.SubjectUnfit, explain.Pair("identifier", why, subject.Value)).Of(s.App.Name)
		}
	}
	if _, err := g.heldSessionOf(ctx, s); err != nil {
		return subject, err
	}
	now := g.Now().UTC()
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := g.settleWho(tx, s, who, &subject, ok, now); err != nil {
			return err
		}
		return behind(tx, subject)
	})
	if err != nil {
		return subject, err
	}
	s.Rec.Decide(trace.Decision{About: "subject", Result: subject.Value, By: subjectReason(s.App.Subject, subject.Format)})
	return subject, nil
}

// settleWho settles whom the sign-in is about. A rehearsal uses up and ends, and changes nobody; where it is not ok to answer
// for what is tried, not even a session begins.
func (g *Room) settleWho(tx *gorm.DB, s *SignIn, who bridge.Identity, subject *saml.NameID, ok bool, now time.Time) error {
	if err := g.useUp(tx, s, who, now); err != nil {
		return err
	}
	if s.dry {
		if err := g.knownSubject(tx, s, who, subject); err != nil {
			return err
		}
		if err := g.ownSubject(tx, s, who, subject); err != nil {
			return err
		}
		if s.sent = SAMLSubject(s.App, *subject); !ok || s.Rehearsal.Second == "" && !s.Rehearsal.Out {
			return nil
		}
		return g.settleSession(tx, s, who, now)
	}
	if err := g.settlePerson(tx, s, who, now); err != nil {
		return err
	}
	if err := g.settleSubject(tx, s, who, subject, now); err != nil {
		return err
	}
	if err := g.ownSubject(tx, s, who, subject); err != nil {
		return err
	}
	s.sent = SAMLSubject(s.App, *subject)
	if s.Rehearsal == nil || s.Rehearsal.Second != "" || s.Rehearsal.Out {
		if err := g.settleSession(tx, s, who, now); err != nil {
			return err
		}
	}
	if err := noteAccount(tx, s, who, subject.Value, now); err != nil {
		return err
	}
	return partners.NoteSignIn(tx, s.App.ID, s.Provider.ID, now)
}

// ownSubject refuses an identifier that is another person's at the application, and one that is not whom the application
// named. The application can't tell two people apart who come with the same one.
func (g *Room) ownSubject(tx *gorm.DB, s *SignIn, who bridge.Identity, subject *saml.NameID) error {
	if w := s.State.Wish.Subject; w != nil &&
		(w.Value != subject.Value || w.Format != "" && w.EffectiveFormat() != saml.FormatUnspecified && w.Format != subject.Format) {
		return explain.New(explain.SAMLSubjectDiffers, explain.Pair("subject", w.Value, subject.Value))
	}
	if s.App.Subject.Source != "profile" {
		return nil
	}
	other, err := persons.KnownThereAs(tx, s.App.ID, subject.Value, s.subjectHolder(who))
	if err != nil || other == "" {
		return err
	}
	return explain.New(explain.SubjectTaken, explain.Pair("identifier", subject.Value, other)).Of(s.App.Name)
}

func subjectReason(s config.Subject, format string) string {
	by := s.Source
	if s.Source == "profile" {
		by = "the profile's " + s.From
	}
	if format == "" {
		return by
	}
	return by + ", as " + saml.FormatName(format)
}

// useUp notes that the assertion was used and that the sign-in is over, each by one conditional write.
func (g *Room) useUp(tx *gorm.DB, s *SignIn, who bridge.Identity, now time.Time) error {
	if who.SessionID != "" && !s.Known {
		// Nothing of this sign-in was kept before. A request is answered once all the same.
		if s.State.Request == nil {
			return nil
		}
		made, err := store.Exec(
			tx,
			"INSERT INTO sign_ins (id, reference, address, application_id, request_id, provider_id, flow, our_request_id, "+
				"rehearsal_id, created_at, expires_at, finished_at, vouched) VALUES (?, ?, ?, ?, ?, ?, ?, '', ?, ?, ?, ?, true) "+
				"ON CONFLICT DO NOTHING",
			s.ID,
			s.Reference,
			s.Row.Address,
			s.App.ID,
			s.Row.RequestID,
			s.Provider.ID,
			s.Row.Flow,
			s.Row.RehearsalID,
			s.Row.CreatedAt,
			s.Row.ExpiresAt,
			now,
		)
		if err == nil && made == 0 {
			err = explain.New(explain.SAMLRequestRepeated, explain.Fact("request", s.Row.RequestID))
		}
		return err
	}
	if who.SessionID != "" {
		return g.endFlight(tx, s, now)
	}
	fresh, err := ground.UseOnce(tx, who.UsedIssuer, who.UsedID, who.UsedUntil)
	if err != nil {
		return err
	}
	if !fresh && s.Provider.Kerberos != nil {
		return explain.New(explain.KerberosReplayed, explain.Fact("token", who.UsedID[:16])).Of(s.Provider.Name)
	}
	if !fresh {
		return explain.New(explain.SAMLReplayed, explain.Fact("assertion", who.UsedID)).Of(s.Provider.Name)
	}
	return g.endFlight(tx, s, now)
}

// endFlight ends a sign-in in flight, once.
func (g *Room) endFlight(tx *gorm.DB, s *SignIn, now time.Time) error {
	if s.Row.Flow == "provider" {
		return nil
	}
	ended := tx.Exec("UPDATE sign_ins SET finished_at = ?, vouched = true WHERE id = ? AND finished_at IS NULL", now, s.ID)
	if ended.Error != nil {
		return ended.Error
	}
	if ended.RowsAffected == 0 {
		return explain.New(explain.BrowserFinished)
	}
	return nil
}

// knownSubject takes the identifier that a person has at the application already.
func (g *Room) knownSubject(tx *gorm.DB, s *SignIn, who bridge.Identity, subject *saml.NameID) error {
	known, err := partners.KnownIdentifier(tx, s.App, s.subjectHolder(who))
	if known != "" {
		subject.Value = known
	}
	return err
}

// subjectHolder is who has a random identifier: the person, or, where nobody is stored, the provider's subject.
func (s *SignIn) subjectHolder(who bridge.Identity) string {
	if !s.Person.pass {
		return s.Person.ID
	}
	if who.Subject == "" {
		return ""
	}
	h := sha256.Sum256([]byte(s.Provider.ID + "\x1f" + who.Subject))
	return "passed:" + hex.EncodeToString(h[:])
}

// noteAccount remembers by which identifier the application knows the person, once an hour at most.
func noteAccount(tx *gorm.DB, s *SignIn, who bridge.Identity, subject string, now time.Time) error {
	holder := s.subjectHolder(who)
	if holder == "" || s.App.ID == partners.ConsoleID || s.App.Subject.Source == "transient" {
		return nil
	}
	return persons.NoteAccount(tx, s.App.ID, holder, subject, now)
}

func (g *Room) settleSubject(tx *gorm.DB, s *SignIn, who bridge.Identity, subject *saml.NameID, now time.Time) error {
	if !partners.Kept(s.App) {
		return nil
	}
	holder := s.subjectHolder(who)
	if holder == "" {
		return explain.New(explain.MatchNoLastingIdentifier).Of(s.App.Name)
	}
	fresh := subject.Value
	if err := g.knownSubject(tx, s, who, subject); err != nil || subject.Value != fresh {
		return err
	}
	if r := s.State.Request; r != nil && r.NameIDPolicy != nil && r.NameIDPolicy.NoCreate {
		return explain.New(explain.SAMLNameIDNoCreate).Of(s.App.Name)
	}
	return partners.GiveIdentifier(tx, s.App, holder, fresh, now)
}
