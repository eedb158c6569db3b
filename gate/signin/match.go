package signin

import (
	"context"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/core/bridge"
	"innergate/core/claims"
	"innergate/core/explain"
	"innergate/core/people"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/gate/persons"
	"innergate/store"
)

// Person is who signs in.
type Person struct {
	ID    string
	Shown string
	// came is what the provider's mapping made; profile is what the application's mapping sees.
	Came    claims.Bag
	Profile claims.Bag
	Session claims.Bag    // what of the profile is for this sign-in only
	held    *store.Person // what is in the store, nil for somebody new
	merged  people.Merged
	Kind    string // the person type
	// linked is set where the link is there; by value says how the person was found without one.
	linked  bool
	byValue string
	pass    bool // nobody is matched or stored
	// groups are the person's after this sign-in; gained and lost are memberships that this provider gives and takes.
	Groups       []string
	gained, lost []string
	Roles        []string // of the application, by assignment
}

// new says whether somebody is to be made.
func (p *Person) new() bool { return p.held == nil && !p.pass }

// Match maps what came in and finds the person.
func (g *Room) Match(ctx context.Context, s *SignIn, who bridge.Identity) error {
	s.Rec.Begin(trace.Match)
	s.Person = Person{}
	if who.SessionID != "" {
		return g.matchSession(ctx, s, who)
	}
	if who.Person != "" {
		return g.matchOwn(ctx, s, who)
	}
	s.subject, s.subjectShown = who.Subject, who.Shown
	out, err := g.Lookups.Apply(ctx, s.Provider, who.Attributes, s.Rec)
	if err != nil {
		return explain.OfPartner(err, s.Provider.Name)
	}
	sent := claims.Profile(out)
	came, unspoken, err := g.persons.Said(ctx, s.Provider, sent, who.Attributes, s.Rec)
	if err != nil {
		return err
	}
	for _, u := range unspoken {
		g.partners.See(ctx, s.Provider.ID, store.SeenValueDropped, u.Attribute+": "+words.OrNone(u.May), s.Reference)
	}
	s.Person.Came, s.Person.Profile, s.Person.Shown = came, came, people.ShownName(came, who.Shown)
	if s.Provider.Admission == "pass" {
		s.Person.pass = true
		s.Rec.Decide(trace.Decision{
			About:  "person",
			Result: s.Person.Shown + " (passed through)",
			By:     "admission: pass; nobody is matched or stored",
		})
		return nil
	}
	if who.Subject == "" {
		return explain.New(explain.MatchTransient).Of(s.Provider.Name)
	}
	if err := g.findPerson(ctx, s, who, sent); err != nil {
		return explain.OfPartner(err, s.Provider.Name)
	}
	if err := g.persons.NotPushedOut(ctx, s.Provider, who.Subject, s.Person.held); err != nil {
		return err
	}
	settings, err := g.persons.Settings(ctx)
	if err != nil {
		return err
	}
	if s.Person.held == nil {
		if err := g.takeIn(s, who, settings); err != nil {
			return explain.OfPartner(err, s.Provider.Name)
		}
	}
	if s.Person.Came, err = g.persons.OwnMail(ctx, s.Provider, s.Person.Came, s.Person.ID, s.Rec); err != nil {
		return err
	}
	if err := g.mergeProfile(s, settings); err != nil {
		return err
	}
	return explain.OfPartner(g.grantGroups(ctx, s), s.Provider.Name)
}

// matchOwn takes a person of the gate's own directory, who is known already.
func (g *Room) matchOwn(ctx context.Context, s *SignIn, who bridge.Identity) error {
	p, profile, err := g.persons.PersonByID(ctx, who.Person)
	if err != nil {
		return err
	}
	if !p.Active {
		return explain.New(explain.MatchInactive, explain.Fact("person", p.Name))
	}
	s.Person = Person{ID: p.ID, Shown: p.Name, Came: profile, Profile: profile, held: p, Kind: p.Type, linked: true}
	s.Rec.Decide(trace.Decision{About: "person", Result: p.Name, By: "signed in at the gate itself"})
	return g.grantGroups(ctx, s)
}

// findLinked finds the person to whom the provider's subject is linked.
func (g *Room) findLinked(ctx context.Context, s *SignIn, who bridge.Identity) (bool, error) {
	p, err := store.One[store.Person](g.Store.Read(ctx), "id = (SELECT person_id FROM links WHERE provider_id = ? AND subject = ?)",
		s.Provider.ID, who.Subject)
	if err != nil {
		return false, err
	}
	if p.ID == "" {
		return false, nil
	}
	s.Person.linked = true
	return true, s.found(&p, "link to "+s.Provider.Name, nil)
}

// findPerson finds whom the subject means: by link, or by value within what the provider may speak for. Where it sent
// what it may not speak for and somebody has that, the sign-in is refused, so that nobody is doubled.
func (g *Room) findPerson(ctx context.Context, s *SignIn, who bridge.Identity, sent claims.Bag) error {
	if found, err := g.findLinked(ctx, s, who); found || err != nil {
		return err
	}
	if p, err := g.persons.PushedAs(ctx, s.Provider, who.Shown); err != nil {
		return err
	} else if p != nil {
		s.Person.byValue = "the account that was pushed"
		return s.found(p, s.Person.byValue, nil)
	}
	questions, err := s.Provider.Matching.Questions(people.ProvenBy(sent, who.Attributes))
	if err != nil {
		return err
	}
	passed := []string{"link: this subject of " + s.Provider.Name + " is new here"}
	for _, q := range questions {
		found, rows, err := g.persons.CandidatesFor(ctx, s.Provider.ID, who.Subject, q)
		if err != nil {
			return err
		}
		one, err := q.Judge(found)
		if err != nil {
			// The same subject may have signed in for the first time a moment ago, in another browser: then the value
			// is found because of that.
			if found, again := g.findLinked(ctx, s, who); found || again != nil {
				return again
			}
			s.Rec.Decide(trace.Decision{About: "person", Result: "refused", By: claims.InWords(q.Field) + " " + q.Value, Passed: passed})
			return err
		}
		if one == nil {
			passed = append(passed, claims.InWords(q.Field)+" "+q.Value+": nobody has it")
			continue
		}
		s.Person.byValue = claims.InWords(q.Field)
		return s.found(rows[0], s.Person.byValue+" "+q.Value+"; a link is made", passed)
	}
	s.Rec.Decide(trace.Decision{About: "person", Result: "nobody known", By: "", Passed: passed})
	return nil
}

func (s *SignIn) found(p *store.Person, by string, passed []string) error {
	if !p.Active {
		return explain.New(explain.MatchInactive, explain.Fact("person", p.Name))
	}
	s.Person.ID, s.Person.held, s.Person.Kind = p.ID, p, p.Type
	s.Rec.Decide(trace.Decision{About: "person", Result: p.Name, By: by, Passed: passed})
	return nil
}

// takeIn decides about somebody whom nobody matches.
func (g *Room) takeIn(s *SignIn, who bridge.Identity, settings people.Settings) error {
	how := s.Provider.Admission
	if how != "create" && how != "ask" {
		return explain.New(explain.MatchStranger, explain.Fact("identifier", who.Shown))
	}
	a := s.Provider.Admit
	if a == nil {
		a = &people.Admission{}
	}
	if len(a.Defaults) > 0 {
		made, err := s.Provider.Admitted.Apply(s.Person.Came, "in", s.Rec)
		if err != nil {
			return err
		}
		for name, values := range claims.Profile(made) {
			if len(s.Person.Came[name]) == 0 {
				s.Person.Came[name] = values
			}
		}
	}
	if s.Person.Kind = a.Type; s.Person.Kind == "" {
		s.Person.Kind = settings.Types[0]
	}
	result := " (created)"
	if s.Rehearsal != nil {
		result = " (would be created)"
	}
	s.Rec.Decide(trace.Decision{About: "person", Result: people.ShownName(s.Person.Came, who.Shown) + result, By: "admission: " + how})
	return nil
}

// mergeProfile brings what came into what is held.
func (g *Room) mergeProfile(s *SignIn, settings people.Settings) error {
	held := people.Held{}
	if p := s.Person.held; p != nil {
		var err error
		if held.Profile, err = ground.DecodeBody[claims.Bag](p.Profile); err != nil {
			return err
		}
		if held.Sources, err = ground.DecodeBody[map[string]string](p.Sources); err != nil {
			return err
		}
	}
	s.Person.merged = settings.Merge(held, s.Person.Came, s.Provider.Sets, s.Provider.ID, s.Provider.Keep)
	completed, _ := s.evidence.Profile()
	for name, values := range completed {
		s.Person.merged.Profile[name], s.Person.merged.Sources[name], s.Person.merged.Whole[name] = values, people.ByHand, values
	}
	s.Person.Profile, s.Person.Session = s.Person.merged.Whole, claims.Bag{}
	for name, values := range s.Person.Profile {
		if _, kept := s.Person.merged.Profile[name]; !kept {
			s.Person.Session[name] = values
		}
	}
	s.Person.Shown = people.ShownName(s.Person.Profile, s.Person.Shown)
	if s.Person.held != nil && len(s.Person.merged.Changed) > 0 {
		s.Rec.Decide(trace.Decision{
			About:  "profile",
			Result: "changes: " + strings.Join(s.Person.merged.Changed, ", "),
			By:     "what " + s.Provider.Name + " sends now",
		})
	}
	return nil
}

// grantGroups works out the person's groups and type after this sign-in.
func (g *Room) grantGroups(ctx context.Context, s *SignIn) error {
	if len(s.Provider.Grants) == 0 && !s.App.NeedsGroups && (s.Provider.Admit == nil || !s.Person.new()) {
		return nil
	}
	granted, kind, by, err := people.Granted(s.Provider.Grants, s.Person.Came)
	if err != nil {
		return explain.New(explain.MatchFailed, explain.Fact("grant", err.Error()))
	}
	if kind != "" {
		s.Person.Kind = kind
	}
	var rows []struct{ Slug, Giver string }
	if s.Person.ID != "" {
		err := g.Store.Read(ctx).
			Raw("SELECT (SELECT slug FROM groups WHERE groups.id = m.group_id) AS slug, m.giver FROM memberships m WHERE m.person_id = ?",
				s.Person.ID).
			Scan(&rows).
			Error
		if err != nil {
			return store.Clear(err)
		}
	}
	for _, r := range rows {
		if r.Giver == s.Provider.ID && !slices.Contains(granted, r.Slug) && s.Provider.Directory == nil {
			s.Person.lost = append(s.Person.lost, r.Slug)
			continue
		}
		if r.Slug != "" && !slices.Contains(s.Person.Groups, r.Slug) {
			s.Person.Groups = append(s.Person.Groups, r.Slug)
		}
	}
	for _, slug := range granted {
		if !slices.ContainsFunc(rows, func(r struct{ Slug, Giver string }) bool { return r.Slug == slug && r.Giver == s.Provider.ID }) {
			s.Person.gained = append(s.Person.gained, slug)
		}
		if !slices.Contains(s.Person.Groups, slug) {
			s.Person.Groups = append(s.Person.Groups, slug)
		}
	}
	if a := s.Provider.Admit; a != nil && s.Person.new() {
		for _, slug := range a.Groups {
			if !slices.Contains(s.Person.Groups, slug) {
				s.Person.Groups = append(s.Person.Groups, slug)
			}
		}
	}
	slices.Sort(s.Person.Groups)
	if len(by) > 0 || len(s.Person.lost) > 0 {
		text := "groups: " + words.OrNone(strings.Join(s.Person.Groups, ", ")) + "; type: " + words.OrNone(s.Person.Kind)
		var passed []string
		if len(s.Person.lost) > 0 {
			passed = []string{"taken away, since the provider no longer says so: " + strings.Join(s.Person.lost, ", ")}
		}
		s.Rec.Decide(trace.Decision{About: "groups", Result: text, By: strings.Join(by, ", "), Passed: passed})
	}
	return nil
}

// settlePerson writes what a sign-in makes of the person.
func (g *Room) settlePerson(tx *gorm.DB, s *SignIn, who bridge.Identity, now time.Time) error {
	if s.Person.pass || who.SessionID != "" {
		return nil
	}
	var err error
	s.Person.ID, err = s.Arrived(who, "sign-in "+s.Reference).Settle(tx, now)
	return err
}

// Arrived is what is to be written of a person who was matched.
func (s *SignIn) Arrived(who bridge.Identity, by string) *persons.Arrived {
	return &persons.Arrived{
		Held: s.Person.held, Name: s.Person.Shown, Kind: s.Person.Kind, Merged: s.Person.merged, Linked: s.Person.linked,
		FoundBy: s.Person.byValue, Provider: s.Provider, Subject: who.Subject, Shown: who.Shown, Gained: s.Person.gained,
		Lost: s.Person.lost, By: by,
	}
}

// match finds the person whom the provider vouched for.
func (g *Room) match(ctx context.Context, s *SignIn) (*Next, error) {
	if err := g.Match(ctx, s, s.evidence.Who()); err != nil {
		return nil, err
	}
	g.tellFreshness(s, s.evidence.Who())
	return nil, nil
}

// tellFreshness says in the trace whether the person was asked by the provider for this very sign-in, or known to it
// from before, and whose session that was. A window that was thought to be a clean one shows itself here.
func (g *Room) tellFreshness(s *SignIn, who bridge.Identity) {
	at := who.AuthnInstant
	if s.Row.Flow == "provider" || at.IsZero() {
		return
	}
	d := trace.Decision{
		About:  "freshness",
		Result: "the provider asked the person anew",
		By:     s.Provider.Name + " says " + at.UTC().Format(time.RFC3339),
	}
	switch {
	case who.SessionID != "":
		d.Result = "nobody was asked: " + s.Person.Shown + "’s session at the gate was used"
	case at.Before(s.Began.Add(-partners.Skew(0))):
		d.Result = s.Person.Shown + "’s older session at the provider was used, of " + words.Ago(g.Now(), at)
	}
	s.Rec.Decide(d)
}
