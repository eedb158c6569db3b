package moves

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/moves"
	"innergate/core/saml"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/gate/signin"
	"innergate/gate/traces"
	"innergate/store"
)

// What comes of comparing.
const (
	ComparedSame    = "same"
	ComparedDiffers = "differs"
	ComparedAlone   = "alone" // there was nothing to compare with
	ComparedFailed  = "failed"
	ComparedOutside = "outside" // the person is not in the move's circle

	howBoth = "both ways"
	howLive = "live"
)

const (
	trialPeople = 20
	trialMost   = 500
	trialHours  = 72
	trialAbout  = "move/"
	runLife     = 2 * time.Hour
)

// SignedIn keeps what an application that is being moved got, or would get, through either provider, and compares once
// there is something to compare. A sign-in never fails because of it.
func (g *Room) SignedIn(ctx context.Context, s *signin.SignIn, subject saml.NameID, out []claims.Output) {
	if err := g.noteMoved(ctx, s, subject, out); err != nil {
		g.Log.ErrorContext(ctx, "a sign-in could not be compared for a move", "reference", s.Reference, "error", err)
	}
}

func (g *Room) noteMoved(ctx context.Context, s *signin.SignIn, subject saml.NameID, out []claims.Output) error {
	run := ""
	if s.Rehearsal != nil {
		if run = runOf(s.Rehearsal.About); run == "" {
			return nil
		}
	}
	m, err := g.partners.Moving(ctx, s.App.ID)
	if err != nil || m == nil || s.Provider.ID != m.Move.FromID && s.Provider.ID != m.Move.ToID {
		return err
	}
	who, how := s.Person.ID, howLive
	if run != "" {
		who, how = run, howBoth
	}
	if who == "" {
		return nil // somebody who is passed through is nobody that could be compared
	}
	now := given(s, subject, out)
	sample := store.MoveSample{
		ID:            store.NewID(),
		MoveID:        m.Move.ID,
		ApplicationID: s.App.ID,
		Who:           who,
		ProviderID:    s.Provider.ID,
		Reference:     s.Reference,
		At:            g.Now().UTC(),
	}
	sample.Sealed = g.Store.Sealer.Seal(store.PlaceMove, sample.ID, []byte(ground.MustJSON(now)))
	if err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		_, err := store.Exec(tx, "INSERT INTO move_samples (id, move_id, application_id, who, provider_id, sealed, reference, at) "+
			"VALUES (?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT (move_id, application_id, who, provider_id) DO UPDATE SET id = excluded.id, "+
			"sealed = excluded.sealed, reference = excluded.reference, at = excluded.at",
			sample.ID, sample.MoveID, sample.ApplicationID, sample.Who, sample.ProviderID, sample.Sealed, sample.Reference, sample.At)
		return err
	}); err != nil {
		return err
	}
	if s.Provider.ID != m.Move.ToID {
		return nil
	}
	before, err := store.One[store.MoveSample](g.Store.Read(ctx), "move_id = ? AND application_id = ? AND who = ? AND provider_id = ?",
		m.Move.ID, s.App.ID, who, m.Move.FromID)
	if err != nil {
		return err
	}
	c := store.MoveComparison{Result: ComparedAlone, Person: s.Person.Shown, How: how}
	var differences []moves.Difference
	if before.ID != "" {
		plain, err := g.Store.Sealer.Open(store.PlaceMove, before.ID, before.Sealed)
		if err != nil {
			return err
		}
		var was moves.Given
		if err := json.Unmarshal(plain, &was); err != nil {
			return err
		}
		if run != "" && m.Circle != nil {
			if in, err := g.inMoveCircle(ctx, m, was.Person); err != nil {
				return err
			} else if !in {
				c.Result = ComparedOutside
				return g.keepComparison(ctx, s, m, who, c, nil)
			}
		}
		if differences = moves.Compare(was, now); len(differences) > 0 {
			c.Result = ComparedDiffers
		} else {
			c.Result = ComparedSame
		}
	}
	var last store.MoveComparison
	if err := g.Store.Read(ctx).Select("result", "how", "wave", "at").Where("move_id = ? AND application_id = ? AND who = ?", m.Move.ID,
		s.App.ID, who).Limit(1).Find(&last).Error; err != nil {
		return store.Clear(err)
	}
	if err := g.keepComparison(ctx, s, m, who, c, differences); err != nil {
		return err
	}
	if run != "" {
		return nil
	}
	g.countInWave(ctx, m, "signed_in")
	// Somebody for whom something differs counts once, however often they come.
	if again := last.Result == ComparedDiffers && last.How == howLive && last.Wave == m.Wave; c.Result == ComparedDiffers && !again {
		g.countInWave(ctx, m, "differed")
	}
	return nil
}

func (g *Room) inMoveCircle(ctx context.Context, m *partners.ActiveMove, personID string) (bool, error) {
	if personID == "" {
		return false, nil
	}
	p, profile, err := g.persons.PersonByID(ctx, personID)
	if err != nil {
		return false, err
	}
	who, err := g.persons.WhoOf(ctx, p, profile)
	if err != nil {
		return false, err
	}
	verdict, _ := m.Circle.Holds(who, m.Move.Slug)
	return verdict == access.Inside, nil
}

// keepComparison keeps what came of it, the newest for each person. Somebody for whom something differed counts once in
// a wave.
func (g *Room) keepComparison(
	ctx context.Context,
	s *signin.SignIn,
	m *partners.ActiveMove,
	who string,
	c store.MoveComparison,
	differences []moves.Difference,
) error {
	c.ID, c.MoveID, c.ApplicationID, c.Who, c.Wave, c.Reference, c.At = store.NewID(), m.Move.ID, s.App.ID, who, m.Wave, s.Reference,
		g.Now().
			UTC()
	c.Sealed = g.Store.Sealer.Seal(store.PlaceMove, c.ID, []byte(ground.MustJSON(differences)))
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Where("move_id = ? AND application_id = ? AND who = ?", c.MoveID, c.ApplicationID,
			c.Who).Delete(&store.MoveComparison{}).Error; err != nil {
			return err
		}
		return tx.Create(&c).Error
	})
}

// Failed counts a sign-in with the new provider that failed while a wave is open. What only the person can mend does
// not count.
func (g *Room) Failed(ctx context.Context, s *signin.SignIn, f *explain.Failure, explanation explain.Explanation) {
	if s.App == nil || s.Provider == nil || explanation.Side == explain.Person || explain.Stray(f.Code) {
		return
	}
	run := ""
	if s.Rehearsal != nil {
		if run = runOf(s.Rehearsal.About); run == "" {
			return
		}
	}
	m, err := g.partners.Moving(ctx, s.App.ID)
	if err != nil || m == nil || s.Provider.ID != m.Move.ToID {
		return
	}
	who := words.FirstOf(run, s.Person.ID, "sign-in "+s.Reference)
	if err := g.keepComparison(ctx, s, m, who,
		store.MoveComparison{Result: ComparedFailed, Code: string(f.Code), Person: s.Person.Shown,
			How: map[bool]string{true: howBoth, false: howLive}[run != ""]}, nil); err != nil {
		g.Log.ErrorContext(ctx, "a sign-in that failed could not be noted for a move", "reference", s.Reference, "error", err)
	}
	if run == "" {
		g.countInWave(ctx, m, "failed")
	}
}

// MoveComparisons lists what came of comparing, those that differ first.
func (g *Room) MoveComparisons(ctx context.Context, slug, application string) (*api.List[api.MoveComparison], error) {
	row, err := g.moveRow(ctx, slug)
	if err != nil {
		return nil, err
	}
	db := g.Store.Read(ctx).Where("move_id = ?", row.ID)
	if application != "" {
		a, err := g.partners.Application(ctx, application)
		if err != nil {
			return nil, err
		}
		db = db.Where("application_id = ?", a.ID)
	}
	var rows []store.MoveComparison
	const worstFirst = "CASE result WHEN 'differs' THEN 0 WHEN 'failed' THEN 1 ELSE 2 END, id DESC"
	if err := db.Order(worstFirst).Limit(500).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := &api.List[api.MoveComparison]{Items: []api.MoveComparison{}}
	for _, r := range rows {
		v := api.MoveComparison{
			Person:      r.Person,
			How:         r.How,
			Result:      r.Result,
			Code:        r.Code,
			Reference:   r.Reference,
			At:          r.At,
			Differences: []moves.Difference{},
		}
		if ref, err := g.Reference(ctx, "application", r.ApplicationID); err == nil {
			v.Application = words.FirstOf(ref.Slug, ref.Name)
		}
		plain, err := g.Store.Sealer.Open(store.PlaceMove, r.ID, r.Sealed)
		if err != nil {
			return nil, err
		}
		if err := json.Unmarshal(plain, &v.Differences); err != nil {
			return nil, err
		}
		if v.Differences == nil {
			v.Differences = []moves.Difference{}
		}
		out.Items = append(out.Items, v)
	}
	return out, nil
}

// NewTrial orders a link by which people sign in both ways: first with the old provider, then with the new one. Nothing
// reaches the application, and nobody is changed by it.
func (g *Room) NewTrial(ctx context.Context, who ground.Actor, slug string, in api.NewTrial) (*api.Trial, error) {
	row, err := g.openMove(ctx, slug)
	if err != nil {
		return nil, err
	}
	if in.People == 0 {
		in.People = trialPeople
	}
	if in.Hours == 0 {
		in.Hours = trialHours
	}
	if in.People < 1 || in.People > trialMost || in.Hours < 1 || in.Hours > 30*24 {
		return nil, ground.BadRequest("trial", fmt.Sprintf("A link is for 1 to %d people, and good for 1 hour to 30 days.", trialMost), "")
	}
	app, err := g.partners.Application(ctx, in.Application)
	if err != nil {
		return nil, err
	}
	m, err := g.partners.Moving(ctx, app.ID)
	if err != nil {
		return nil, err
	}
	if m == nil || m.Move.ID != row.ID {
		return nil, ground.BadRequest("not-in-move", app.Name+" is not in the move "+row.Name+".", "")
	}
	token := keys.NewSecret()
	now := g.Now().UTC()
	t := store.MoveTrial{
		ID:            store.NewID(),
		MoveID:        row.ID,
		ApplicationID: app.ID,
		TokenHash:     keys.HashSecret(token),
		Most:          in.People,
		By:            who.Name,
		CreatedAt:     now,
		ExpiresAt:     now.Add(time.Duration(in.Hours) * time.Hour),
	}
	if err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Create(&t).Error; err != nil {
			return err
		}
		return ground.Journal(tx, now, who, "ordered a link to compare for", "move", row.ID, row.Name, "", app.Name)
	}); err != nil {
		return nil, err
	}
	return &api.Trial{Link: g.PublicURL + "/side-by-side/" + token, Expires: t.ExpiresAt, People: t.Most}, nil
}

// TrialPage is what the page behind such a link says.
type TrialPage struct {
	Application, Old, New, By string
	// Step is first, second or done.
	Step string
}

// runOf is the run that a rehearsal belongs to, or nothing.
func runOf(about string) string {
	id, ok := strings.CutPrefix(about, trialAbout)
	if !ok {
		return ""
	}
	return id
}

var errTrialOver = &api.Problem{
	Type:   "about:blank",
	Status: http.StatusGone,
	Title:  "This link is over",
	Code:   "trial-over",
	Detail: "The link was used by as many people as it was made for, or its time is over.",
	Remedy: "Ask whoever gave it to you for another one.",
}

// OpenTrial shows what a link is for and where this browser stands. Run is what the browser keeps of its way through
// it.
func (g *Room) OpenTrial(ctx context.Context, token, run string) (*TrialPage, error) {
	t, r, err := g.trialRun(ctx, token, run)
	if err != nil {
		return nil, err
	}
	if r == nil && t.Used >= t.Most {
		return nil, errTrialOver
	}
	app, err := g.partners.ApplicationByID(ctx, t.ApplicationID)
	if err != nil {
		return nil, errTrialOver
	}
	m, err := store.One[store.Move](g.Store.Read(ctx), "id = ? AND state = ?", t.MoveID, partners.MoveOpen)
	if err != nil {
		return nil, err
	}
	if m.ID == "" {
		return nil, errTrialOver
	}
	from, err := g.partners.ProviderByID(ctx, m.FromID)
	if err != nil {
		return nil, errTrialOver
	}
	to, err := g.partners.ProviderByID(ctx, m.ToID)
	if err != nil {
		return nil, errTrialOver
	}
	p := &TrialPage{Application: app.Name, Old: from.Name, New: to.Name, By: t.By, Step: "first"}
	if r == nil {
		return p, nil
	}
	for _, leg := range []struct{ id, next string }{{r.Old, "second"}, {r.New, "done"}} {
		done, err := g.legDone(ctx, leg.id)
		if err != nil {
			return nil, err
		}
		if !done {
			break
		}
		p.Step = leg.next
	}
	return p, nil
}

// legDone says whether somebody has got to the end of one of the two sign-ins.
func (g *Room) legDone(ctx context.Context, rehearsal string) (bool, error) {
	if rehearsal == "" {
		return false, nil
	}
	rows, err := traces.Gather(ctx, g.traces, g.Store.Traces.Read(ctx).Model(&store.Trace{}).Select("id").
		Where("rehearsal_id = ? AND outcome = 'stopped'", rehearsal).Limit(1), traces.Newest)
	return len(rows) > 0, err
}

func (g *Room) trialRun(ctx context.Context, token, run string) (*store.MoveTrial, *store.MoveRun, error) {
	var t store.MoveTrial
	err := g.Store.Read(ctx).Where("token_hash = ?", keys.HashSecret(token)).Take(&t).Error
	if errors.Is(err, store.ErrNotFound) || err == nil && !g.Now().Before(t.ExpiresAt) {
		return nil, nil, errTrialOver
	}
	if err != nil {
		return nil, nil, store.Clear(err)
	}
	id, secret, _ := strings.Cut(run, ".")
	var r store.MoveRun
	if id != "" {
		if err := g.Store.Read(ctx).Where("id = ? AND trial_id = ? AND expires_at > ?", id, t.ID,
			g.Now().UTC()).Limit(1).Find(&r).Error; err != nil {
			return nil, nil, store.Clear(err)
		}
	}
	if r.ID == "" || !keys.SecretFits(r.BrowserHash, secret) {
		return &t, nil, nil
	}
	return &t, &r, nil
}

// BeginTrial begins the next of the two sign-ins. It returns what the browser is to keep of its run, and of the
// rehearsal that the sign-in is.
func (g *Room) BeginTrial(
	ctx context.Context,
	b signin.Browser,
	token, run string,
) (next *signin.Next, keepRun, rehearsal string, err error) {
	page, err := g.OpenTrial(ctx, token, run)
	if err != nil {
		return nil, "", "", err
	}
	t, r, err := g.trialRun(ctx, token, run)
	if err != nil {
		return nil, "", "", err
	}
	now := g.Now().UTC()
	keepRun = run
	if r == nil || page.Step == "done" {
		secret := keys.NewSecret()
		r = &store.MoveRun{ID: store.NewID(), TrialID: t.ID, BrowserHash: keys.HashSecret(secret), ExpiresAt: now.Add(runLife)}
		keepRun = r.ID + "." + secret
		page.Step = "first"
		if err := g.Store.Write(ctx, func(tx *gorm.DB) error {
			n, err := store.Exec(tx, "UPDATE move_trials SET used = used + 1 WHERE id = ? AND used < most", t.ID)
			if err != nil {
				return err
			}
			if n == 0 {
				return errTrialOver
			}
			return tx.Create(r).Error
		}); err != nil {
			return nil, "", "", err
		}
	}
	var m store.Move
	if err := g.Store.Read(ctx).Where("id = ?", t.MoveID).Take(&m).Error; err != nil {
		return nil, "", "", store.Clear(err)
	}
	app, err := g.partners.ApplicationByID(ctx, t.ApplicationID)
	if err != nil {
		return nil, "", "", err
	}
	provider, column := m.FromID, "old"
	if page.Step == "second" {
		provider, column = m.ToID, "new"
	}
	p, err := g.partners.ProviderByID(ctx, provider)
	if err != nil {
		return nil, "", "", err
	}
	// In it the application has this provider alone, and is open; nothing is sent to it.
	c, err := ground.DecodeBody[config.Application](ground.MustJSON(app.Application))
	if err != nil {
		return nil, "", "", err
	}
	c.Providers, c.Reach = []string{p.Slug}, access.Everyone
	legToken := keys.NewSecret()
	leg := store.Rehearsal{
		ID:            store.NewID(),
		TokenHash:     keys.HashSecret(legToken),
		ApplicationID: app.ID,
		ProviderID:    p.ID,
		Flow:          "idp",
		Stop:          true,
		Fresh:         true,
		By:            t.By,
		About:         trialAbout + r.ID,
		Override: ground.MustJSON(signin.Overriding{
			Kind: "application",
			ID:   app.ID,
			Body: ground.MustJSON(c),
			Why:  app.Name + " with " + p.Name + " alone, to compare for the move " + m.Name,
		}),
		CreatedAt: now,
		ExpiresAt: now.Add(runLife),
	}
	if err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := g.rehearsal.Insert(tx, &leg); err != nil {
			return err
		}
		return tx.Model(&store.MoveRun{}).Where("id = ?", r.ID).Update(column, leg.ID).Error
	}); err != nil {
		return nil, "", "", err
	}
	b.Rehearsal = ""
	next, rehearsal = g.rehearsal.BeginRehearsal(ctx, b, legToken)
	return next, keepRun, rehearsal, nil
}

// Stopped is where a rehearsal that ends at the gate leaves the person.
func (g *Room) Stopped(s *signin.SignIn) *signin.Next {
	next := &signin.Next{Cookies: signin.Cookies{DropSignIns: []string{s.ID}, DropRehearsal: true}}
	if runOf(s.Rehearsal.About) != "" {
		next.To = signin.Redirect(g.PublicURL + "/side-by-side")
		return next
	}
	next.To = signin.Done("This rehearsal ends here, before the application. Whoever asked you to try it sees what your provider sent.")
	return next
}
