package gate

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"net/url"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/store"
)

// finish takes what the provider vouched for through matching, access and mapping to the application's answer.
func (g *Gate) finish(ctx context.Context, s *signIn, who identity) *Next {
	if err := g.match(ctx, s, who); err != nil {
		return g.failed(ctx, s, err)
	}
	g.tellFreshness(s, who)
	s.rec.Begin(trace.Decide)
	// The reach is asked again: it may have changed while the person was away.
	if err := g.inCircles(ctx, s); err != nil {
		return g.failed(ctx, s, err)
	}
	if err := g.inTime(s.provider.Name, s.provider.until); err != nil {
		return g.failed(ctx, s, err)
	}
	if next, err := g.letIn(ctx, s, who); err != nil {
		return g.failed(ctx, s, err)
	} else if next != nil {
		return next
	}
	if page, err := g.toAsk(ctx, s); err != nil {
		return g.failed(ctx, s, err)
	} else if page != nil {
		return g.ask(ctx, s, who, page)
	}
	if err := g.mayLookAfter(s); err != nil {
		return g.failed(ctx, s, err)
	}
	if page, err := g.toConfirm(ctx, s); err != nil {
		return g.failed(ctx, s, err)
	} else if page != nil {
		return g.confirm(ctx, s, who, page)
	}
	s.rec.Begin(trace.Issue)
	out, err := s.app.mapping.Apply(s.outbound(), "out", s.rec)
	if err != nil {
		return g.failed(ctx, s, err)
	}
	subject, err := g.settle(ctx, s, who)
	if err != nil {
		return g.failed(ctx, s, err)
	}
	if s.rehearsal != nil && s.rehearsal.Stop {
		s.rec.Decide(trace.Decision{About: "rehearsal", Result: "stops here: nothing goes to the application", By: "the rehearsal was ordered so"})
		g.onNoteMove(ctx, s, subject, out)
		g.keepTrace(ctx, s, "stopped", "")
		return g.onStopped(s)
	}
	next, err := g.applicationSide(s.app).issue(ctx, s, who, subject, out)
	if err != nil {
		return g.failed(ctx, s, err)
	}
	g.Metrics.SignedIn.Add(1)
	g.onNoteMove(ctx, s, subject, out)
	g.keepTrace(ctx, s, "signed-in", "")
	next.DropSignIns, next.DropRehearsal = append(next.DropSignIns, s.id), s.rehearsal != nil && !follows(s.rehearsal, s.app.id)
	if s.rehearsal == nil && who.SessionID == "" && s.row.Flow != "provider" {
		next.Way = s.provider.Slug
	}
	if next.Session = s.sessionToken; s.sessionKept {
		next.SessionEnds = s.sessionEnds
	}
	return next
}

// settle is the one transaction of a sign-in that comes out well: the answer is used up, the sign-in ends, the person and their identifier at the application
// are there. A rehearsal uses up and ends, and changes nobody.
func (g *Gate) settle(ctx context.Context, s *signIn, who identity) (saml.NameID, error) {
	subject := saml.NameID{}
	if s.app.SAML != nil {
		subject.Format = subjectFormat(s.app.Subject.Source, s.app.Subject.Format)
	}
	switch s.app.Subject.Source {
	case "transient", "pairwise", "public":
		subject.Value = keys.RandomID()
	default:
		if subject.Value = s.person.profile.First(s.app.Subject.From); subject.Value == "" {
			return subject, explain.New("subject.empty", explain.Pair("value", s.app.Subject.From, "")).Of(s.app.Name)
		}
		if why := s.app.SubjectProblem(subject.Value); why != "" {
			return subject, explain.New("subject.unfit", explain.Pair("identifier", why, subject.Value)).Of(s.app.Name)
		}
	}
	if _, err := g.heldSessionOf(ctx, s); err != nil {
		return subject, err
	}
	now := g.Now().UTC()
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := g.useUp(tx, s, who, now); err != nil {
			return err
		}
		if s.rehearsal != nil && !s.rehearsal.Keeps {
			if err := g.knownSubject(tx, s, who, &subject); err != nil {
				return err
			}
			if s.sent = samlSubject(s.app, subject); s.rehearsal.Second == "" && !s.rehearsal.Out {
				return nil
			}
			return g.settleSession(tx, s, who, now)
		}
		if err := g.settlePerson(tx, s, who, now); err != nil {
			return err
		}
		if err := g.settleSubject(tx, s, who, &subject, now); err != nil {
			return err
		}
		s.sent = samlSubject(s.app, subject)
		if s.rehearsal == nil || s.rehearsal.Second != "" || s.rehearsal.Out {
			if err := g.settleSession(tx, s, who, now); err != nil {
				return err
			}
		}
		if err := noteAccount(tx, s, subject.Value, now); err != nil {
			return err
		}
		// To the half minute is exact enough for "last sign-in", and spares most sign-ins two writes.
		stale := now.Add(-30 * time.Second)
		if err := tx.Exec("UPDATE applications SET last_sign_in = ? WHERE id = ? AND (last_sign_in IS NULL OR last_sign_in < ?)", now, s.app.id, stale).Error; err != nil {
			return err
		}
		return tx.Exec("UPDATE providers SET last_sign_in = ? WHERE id = ? AND (last_sign_in IS NULL OR last_sign_in < ?)", now, s.provider.id, stale).Error
	})
	if err != nil {
		return subject, err
	}
	s.rec.Decide(trace.Decision{About: "subject", Result: subject.Value, By: subjectReason(s.app.Subject, subject.Format)})
	if w := s.state.Wish.Subject; w != nil && (w.Value != subject.Value || w.Format != "" && w.EffectiveFormat() != saml.FormatUnspecified && w.Format != subject.Format) {
		return subject, explain.New("saml.subject-differs", explain.Pair("subject", w.Value, subject.Value))
	}
	return subject, nil
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
func (g *Gate) useUp(tx *gorm.DB, s *signIn, who identity, now time.Time) error {
	if who.SessionID != "" && !s.known {
		// Nothing of this sign-in was kept before. A request is answered once all the same.
		if s.state.Request == nil {
			return nil
		}
		made, err := store.Exec(tx, "INSERT INTO sign_ins (id, reference, address, application_id, request_id, provider_id, flow, our_request_id, rehearsal_id, created_at, expires_at, finished_at) VALUES (?, ?, ?, ?, ?, ?, ?, '', ?, ?, ?, ?) ON CONFLICT DO NOTHING",
			s.id, s.reference, s.row.Address, s.app.id, s.row.RequestID, s.provider.id, s.row.Flow, s.row.RehearsalID, s.row.CreatedAt, s.row.ExpiresAt, now)
		if err == nil && made == 0 {
			err = explain.New("saml.request-repeated", explain.Fact("request", s.row.RequestID))
		}
		return err
	}
	if who.SessionID != "" {
		return g.endFlight(tx, s, now)
	}
	used := tx.Exec("INSERT INTO used_ids (issuer, value, expires_at) VALUES (?, ?, ?) ON CONFLICT DO NOTHING", who.UsedIssuer, who.UsedID, who.UsedUntil.UTC())
	if used.Error != nil {
		return used.Error
	}
	if used.RowsAffected == 0 {
		return explain.New("saml.replayed", explain.Fact("assertion", who.UsedID)).Of(s.provider.Name)
	}
	return g.endFlight(tx, s, now)
}

// endFlight ends a sign-in in flight, once.
func (g *Gate) endFlight(tx *gorm.DB, s *signIn, now time.Time) error {
	if s.row.Flow == "provider" {
		return nil
	}
	ended := tx.Exec("UPDATE sign_ins SET finished_at = ? WHERE id = ? AND finished_at IS NULL", now, s.id)
	if ended.Error != nil {
		return ended.Error
	}
	if ended.RowsAffected == 0 {
		return explain.New("browser.finished")
	}
	return nil
}

// kept says whether an application's identifiers are random values that are kept.
func kept(a *application) bool { return a.Subject.Source == "pairwise" || a.Subject.Source == "public" }

// subjectOwner is whom a random identifier belongs to: the application alone, those of one sector (OpenID Connect Core 1.0, section 8.1), or everybody.
func subjectOwner(a *application) string {
	switch {
	case a.OIDC == nil:
		return a.id
	case a.Subject.Source == "public":
		return "public"
	case a.OIDC.Sector() != "":
		return "sector:" + a.OIDC.Sector()
	}
	return a.id
}

// knownSubject takes the identifier that a person has at the application already.
func (g *Gate) knownSubject(tx *gorm.DB, s *signIn, who identity, subject *saml.NameID) error {
	owner := s.subjectHolder(who)
	if !kept(s.app) || owner == "" {
		return nil
	}
	var v store.SubjectValue
	if err := tx.Where("person_id = ? AND application_id = ?", owner, subjectOwner(s.app)).Limit(1).Find(&v).Error; err != nil {
		return err
	}
	if v.Value != "" {
		subject.Value = v.Value
	}
	return nil
}

// subjectHolder is who has a random identifier: the person, or, where nobody is stored, the provider's subject.
func (s *signIn) subjectHolder(who identity) string {
	if !s.person.pass {
		return s.person.id
	}
	if who.Subject == "" {
		return ""
	}
	h := sha256.Sum256([]byte(s.provider.id + "\x1f" + who.Subject))
	return "passed:" + hex.EncodeToString(h[:])
}

// noteAccount remembers by which identifier the application knows the person, once an hour at most.
func noteAccount(tx *gorm.DB, s *signIn, subject string, now time.Time) error {
	if s.person.id == "" || s.app.id == consoleID || s.app.Subject.Source == "transient" {
		return nil
	}
	_, err := store.Exec(tx, "INSERT INTO accounts (application_id, person_id, subject, first_at, last_at) VALUES (?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET subject = excluded.subject, last_at = excluded.last_at WHERE subject <> excluded.subject OR last_at < ?",
		s.app.id, s.person.id, subject, now, now, now.Add(-time.Hour))
	return err
}

func (g *Gate) settleSubject(tx *gorm.DB, s *signIn, who identity, subject *saml.NameID, now time.Time) error {
	if !kept(s.app) {
		return nil
	}
	holder := s.subjectHolder(who)
	if holder == "" {
		return explain.New("match.no-lasting-identifier").Of(s.app.Name)
	}
	fresh := subject.Value
	if err := g.knownSubject(tx, s, who, subject); err != nil || subject.Value != fresh {
		return err
	}
	if r := s.state.Request; r != nil && r.NameIDPolicy != nil && r.NameIDPolicy.NoCreate {
		return explain.New("saml.nameid-no-create").Of(s.app.Name)
	}
	return tx.Create(&store.SubjectValue{Value: fresh, PersonID: holder, ApplicationID: subjectOwner(s.app), CreatedAt: now}).Error
}

// allowedLink reports whether a deep link belongs to the application: it begins with one of the beginnings that are set, at a border of its path.
func allowedLink(a *application, to string) bool {
	if len(to) > 2000 || a.SAML == nil {
		return false
	}
	u, err := url.Parse(to)
	if err != nil || u.User != nil || strings.ContainsAny(to, "\\\r\n\t ") || strings.Contains(u.Path, "/../") || strings.HasSuffix(u.Path, "/..") {
		return false
	}
	if to == a.SAML.DefaultRelayState {
		return true
	}
	for _, allowed := range a.SAML.DeepLinks {
		rest, ok := strings.CutPrefix(to, allowed)
		if ok && (rest == "" || strings.HasSuffix(allowed, "/") || strings.ContainsAny(rest[:1], "/?")) && origin(to) == origin(allowed) {
			return true
		}
	}
	return false
}

// tellFreshness says in the trace whether the person was asked by the provider for this very sign-in, or known to it from before, and whose session that was. A window
// that was thought to be a clean one shows itself here.
func (g *Gate) tellFreshness(s *signIn, who identity) {
	at := who.AuthnInstant
	if s.row.Flow == "provider" || at.IsZero() {
		return
	}
	d := trace.Decision{About: "freshness", Result: "the provider asked the person anew", By: s.provider.Name + " says " + at.UTC().Format(time.RFC3339)}
	switch {
	case who.SessionID != "":
		d.Result = "nobody was asked: " + s.person.shown + "’s session at the gate was used"
	case at.Before(s.began.Add(-skew(0))):
		d.Result = s.person.shown + "’s older session at the provider was used, of " + ago(g.Now(), at)
	}
	s.rec.Decide(d)
}
