package gate

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/core/claims"
	"innergate/core/explain"
	"innergate/core/people"
	"innergate/core/trace"
	"innergate/store"
)

// person is who signs in.
type person struct {
	id    string
	shown string
	// came is what the provider's mapping made; profile is what the application's mapping sees.
	came    claims.Bag
	profile claims.Bag
	session claims.Bag    // what of the profile is for this sign-in only
	held    *store.Person // what is in the store, nil for somebody new
	merged  people.Merged
	kind    string // the person type
	// linked is set where the link is there; by value says how the person was found without one.
	linked  bool
	byValue string
	pass    bool // nobody is matched or stored
	// groups are the person's after this sign-in; gained and lost are memberships that this provider gives and takes.
	groups       []string
	gained, lost []string
	roles        []string // of the application, by assignment
}

// new says whether somebody is to be made.
func (p *person) new() bool { return p.held == nil && !p.pass }

// match maps what came in and finds the person.
func (g *Gate) match(ctx context.Context, s *signIn, who identity) error {
	s.rec.Begin(trace.Match)
	s.person = person{}
	if who.SessionID != "" {
		return g.matchSession(ctx, s, who)
	}
	if who.Person != "" {
		return g.matchOwn(ctx, s, who)
	}
	s.subject, s.subjectShown = who.Subject, who.Shown
	out, err := s.provider.mapping.Apply(who.Attributes, "in", s.rec)
	if err != nil {
		return ofPartner(err, s.provider.Name)
	}
	came := claims.Profile(out)
	s.person.came, s.person.profile, s.person.shown = came, came, shownName(came, who.Shown)
	if s.provider.Admission == "pass" {
		s.person.pass = true
		s.rec.Decide(trace.Decision{About: "person", Result: s.person.shown + " (passed through)", By: "admission: pass; nobody is matched or stored"})
		return nil
	}
	if who.Subject == "" {
		return explain.New("match.transient").Of(s.provider.Name)
	}
	if err := g.findPerson(ctx, s, who); err != nil {
		return ofPartner(err, s.provider.Name)
	}
	settings, err := g.peopleSettings(ctx)
	if err != nil {
		return err
	}
	if s.person.held == nil {
		if err := g.admit(s, who, settings); err != nil {
			return ofPartner(err, s.provider.Name)
		}
	}
	if err := g.mergeProfile(s, settings); err != nil {
		return err
	}
	return ofPartner(g.grantGroups(ctx, s), s.provider.Name)
}

// matchOwn takes a person of the gate's own directory, who is known already.
func (g *Gate) matchOwn(ctx context.Context, s *signIn, who identity) error {
	p, profile, err := g.personByID(ctx, who.Person)
	if err != nil {
		return err
	}
	if !p.Active {
		return explain.New("match.inactive", explain.Fact("person", p.Name))
	}
	s.person = person{id: p.ID, shown: p.Name, came: profile, profile: profile, held: p, kind: p.Type, linked: true}
	s.rec.Decide(trace.Decision{About: "person", Result: p.Name, By: "signed in at the gate itself"})
	return g.grantGroups(ctx, s)
}

func (g *Gate) personByID(ctx context.Context, id string) (*store.Person, claims.Bag, error) {
	var p store.Person
	if err := g.Store.Read(ctx).Where("id = ?", id).Take(&p).Error; err != nil {
		if errors.Is(err, store.ErrNotFound) {
			return nil, nil, notFound("person", id)
		}
		return nil, nil, store.Clear(err)
	}
	profile, err := decodeBody[claims.Bag](p.Profile)
	return &p, profile, err
}

// findLinked finds the person to whom the provider's subject is linked.
func (g *Gate) findLinked(ctx context.Context, s *signIn, who identity) (bool, error) {
	var p store.Person
	if err := g.Store.Read(ctx).Where("id = (SELECT person_id FROM links WHERE provider_id = ? AND subject = ?)", s.provider.id, who.Subject).Limit(1).Find(&p).Error; err != nil {
		return false, store.Clear(err)
	}
	if p.ID == "" {
		return false, nil
	}
	s.person.linked = true
	return true, s.found(&p, "link to "+s.provider.Name, nil)
}

// findPerson finds whom the subject means: by link, or by value within what the provider may speak for.
func (g *Gate) findPerson(ctx context.Context, s *signIn, who identity) error {
	if found, err := g.findLinked(ctx, s, who); found || err != nil {
		return err
	}
	questions, err := s.provider.Matching.Questions(provenBy(s.person.came, who.Attributes))
	if err != nil {
		return err
	}
	passed := []string{"link: this subject of " + s.provider.Name + " is new here"}
	for _, q := range questions {
		found, rows, err := g.candidatesFor(ctx, s.provider.id, q)
		if err != nil {
			return err
		}
		one, err := q.Judge(found)
		if err != nil {
			// The same subject may have signed in for the first time a moment ago, in another browser: then the value is found because of that.
			if found, again := g.findLinked(ctx, s, who); found || again != nil {
				return again
			}
			s.rec.Decide(trace.Decision{About: "person", Result: "refused", By: claims.InWords(q.Field) + " " + q.Value, Passed: passed})
			return err
		}
		if one == nil {
			passed = append(passed, claims.InWords(q.Field)+" "+q.Value+": nobody has it")
			continue
		}
		s.person.byValue = claims.InWords(q.Field)
		return s.found(rows[0], s.person.byValue+" "+q.Value+"; a link is made", passed)
	}
	s.rec.Decide(trace.Decision{About: "person", Result: "nobody known", By: "", Passed: passed})
	return nil
}

// provenBy adds what the provider says about its mail address, where the mapping leaves that out and the address is the one that came: the proof is of that one only.
func provenBy(came, received claims.Bag) claims.Bag {
	proof, mail := received["email_verified"], received.First("email")
	if len(proof) == 0 || mail == "" || len(came["email_verified"]) > 0 || !strings.EqualFold(strings.TrimSpace(mail), came.First(people.Mail)) {
		return came
	}
	out := maps.Clone(came)
	out["email_verified"] = proof
	return out
}

func (s *signIn) found(p *store.Person, by string, passed []string) error {
	if !p.Active {
		return explain.New("match.inactive", explain.Fact("person", p.Name))
	}
	s.person.id, s.person.held, s.person.kind = p.ID, p, p.Type
	s.rec.Decide(trace.Decision{About: "person", Result: p.Name, By: by, Passed: passed})
	return nil
}

// keyColumns are the columns by which people are found.
var keyColumns = map[string][2]string{people.ExternalID: {"external_key", "external_id"}, people.Username: {"username_key", "username"}, people.Mail: {"email_key", "email"}}

func (g *Gate) candidatesFor(ctx context.Context, providerID string, q people.Question) ([]people.Candidate, []*store.Person, error) {
	var rows []*store.Person
	if err := g.Store.Read(ctx).Where(keyColumns[q.Field][0]+" = ?", q.Key).Order("id").Limit(5).Find(&rows).Error; err != nil {
		return nil, nil, store.Clear(err)
	}
	var out []people.Candidate
	for _, r := range rows {
		c := people.Candidate{ID: r.ID, Name: r.Name, Value: map[string]string{people.ExternalID: r.ExternalID, people.Username: r.Username, people.Mail: r.Email}[q.Field]}
		var n int64
		if err := g.Store.Read(ctx).Model(&store.Link{}).Where("person_id = ? AND provider_id = ?", r.ID, providerID).Limit(1).Count(&n).Error; err != nil {
			return nil, nil, store.Clear(err)
		}
		c.Linked = n > 0
		out = append(out, c)
	}
	return out, rows, nil
}

// admit decides about somebody whom nobody matches.
func (g *Gate) admit(s *signIn, who identity, settings people.Settings) error {
	how := s.provider.Admission
	if how != "create" && how != "ask" {
		return explain.New("match.stranger", explain.Fact("identifier", who.Shown))
	}
	a := s.provider.Admit
	if a == nil {
		a = &people.Admission{}
	}
	if len(a.Defaults) > 0 {
		made, err := s.provider.admitted.Apply(s.person.came, "in", s.rec)
		if err != nil {
			return err
		}
		for name, values := range claims.Profile(made) {
			if len(s.person.came[name]) == 0 {
				s.person.came[name] = values
			}
		}
	}
	if s.person.kind = a.Type; s.person.kind == "" {
		s.person.kind = settings.Types[0]
	}
	result := " (created)"
	if s.rehearsal != nil {
		result = " (would be created)"
	}
	s.rec.Decide(trace.Decision{About: "person", Result: shownName(s.person.came, who.Shown) + result, By: "admission: " + how})
	return nil
}

// mergeProfile brings what came into what is held.
func (g *Gate) mergeProfile(s *signIn, settings people.Settings) error {
	held := people.Held{}
	if p := s.person.held; p != nil {
		var err error
		if held.Profile, err = decodeBody[claims.Bag](p.Profile); err != nil {
			return err
		}
		if held.Sources, err = decodeBody[map[string]string](p.Sources); err != nil {
			return err
		}
	}
	s.person.merged = settings.Merge(held, s.person.came, s.provider.sets, s.provider.id, s.provider.Keep)
	for name, values := range s.state.Completed {
		s.person.merged.Profile[name], s.person.merged.Sources[name], s.person.merged.Whole[name] = values, people.ByHand, values
	}
	s.person.profile, s.person.session = s.person.merged.Whole, claims.Bag{}
	for name, values := range s.person.profile {
		if _, kept := s.person.merged.Profile[name]; !kept {
			s.person.session[name] = values
		}
	}
	s.person.shown = shownName(s.person.profile, s.person.shown)
	if s.person.held != nil && len(s.person.merged.Changed) > 0 {
		s.rec.Decide(trace.Decision{About: "profile", Result: "changes: " + strings.Join(s.person.merged.Changed, ", "), By: "what " + s.provider.Name + " sends now"})
	}
	return nil
}

// grantGroups works out the person's groups and type after this sign-in.
func (g *Gate) grantGroups(ctx context.Context, s *signIn) error {
	if len(s.provider.Grants) == 0 && !s.app.needsGroups && (s.provider.Admit == nil || !s.person.new()) {
		return nil
	}
	granted, kind, by, err := people.Granted(s.provider.Grants, s.person.came)
	if err != nil {
		return explain.New("match.failed", explain.Fact("grant", err.Error()))
	}
	if kind != "" {
		s.person.kind = kind
	}
	var rows []struct{ Slug, Giver string }
	if s.person.id != "" {
		err := g.Store.Read(ctx).Raw("SELECT (SELECT slug FROM groups WHERE groups.id = m.group_id) AS slug, m.giver FROM memberships m WHERE m.person_id = ?", s.person.id).Scan(&rows).Error
		if err != nil {
			return store.Clear(err)
		}
	}
	for _, r := range rows {
		if r.Giver == s.provider.id && !slices.Contains(granted, r.Slug) && s.provider.Directory == nil {
			s.person.lost = append(s.person.lost, r.Slug)
			continue
		}
		if r.Slug != "" && !slices.Contains(s.person.groups, r.Slug) {
			s.person.groups = append(s.person.groups, r.Slug)
		}
	}
	for _, slug := range granted {
		if !slices.ContainsFunc(rows, func(r struct{ Slug, Giver string }) bool { return r.Slug == slug && r.Giver == s.provider.id }) {
			s.person.gained = append(s.person.gained, slug)
		}
		if !slices.Contains(s.person.groups, slug) {
			s.person.groups = append(s.person.groups, slug)
		}
	}
	if a := s.provider.Admit; a != nil && s.person.new() {
		for _, slug := range a.Groups {
			if !slices.Contains(s.person.groups, slug) {
				s.person.groups = append(s.person.groups, slug)
			}
		}
	}
	slices.Sort(s.person.groups)
	if len(by) > 0 || len(s.person.lost) > 0 {
		text := "groups: " + orNone(strings.Join(s.person.groups, ", ")) + "; type: " + orNone(s.person.kind)
		var passed []string
		if len(s.person.lost) > 0 {
			passed = []string{"taken away, since the provider no longer says so: " + strings.Join(s.person.lost, ", ")}
		}
		s.rec.Decide(trace.Decision{About: "groups", Result: text, By: strings.Join(by, ", "), Passed: passed})
	}
	return nil
}

func orNone(v string) string {
	if v == "" {
		return "none"
	}
	return v
}

func shownName(profile claims.Bag, fallback string) string {
	if n := profile.First("name"); n != "" {
		return n
	}
	if n := strings.TrimSpace(profile.First("given_name") + " " + profile.First("family_name")); n != "" {
		return n
	}
	for _, a := range []string{"email", "preferred_username"} {
		if n := profile.First(a); n != "" {
			return n
		}
	}
	return fallback
}

// settlePerson writes what a sign-in makes of the person: the record, the link, and the groups that the provider gives and takes.
func (g *Gate) settlePerson(tx *gorm.DB, s *signIn, who identity, now time.Time) error {
	switch {
	case s.person.pass || who.SessionID != "":
		return nil
	case s.person.held == nil:
		if err := g.createPerson(tx, s, who, now); err != nil {
			return err
		}
	case s.provider.Directory == nil:
		if err := g.refreshPerson(tx, s, who, now); err != nil {
			return err
		}
	}
	return g.settleGroups(tx, s, now)
}

// refreshPerson writes what the sign-in changed of somebody known.
func (g *Gate) refreshPerson(tx *gorm.DB, s *signIn, who identity, now time.Time) error {
	if p := s.person.held; len(s.person.merged.Changed) > 0 || p.Type != s.person.kind || p.Name != s.person.shown {
		fresh := *p
		fresh.Name = s.person.shown
		fresh.SetKeys(s.person.merged.Profile)
		// Somebody may have changed the profile by hand in the meantime; then that stays, and the next sign-in brings the rest.
		if err := tx.Exec("UPDATE people SET name = ?, name_key = ?, last_key = ?, email = ?, email_key = ?, username = ?, username_key = ?, external_id = ?, external_key = ?, type = ?, profile = ?, sources = ?, updated_at = ? WHERE id = ? AND profile = ?",
			fresh.Name, fresh.NameKey, fresh.LastKey, fresh.Email, fresh.EmailKey, fresh.Username, fresh.UsernameKey, fresh.ExternalID, fresh.ExternalKey, s.person.kind, mustJSON(s.person.merged.Profile), mustJSON(s.person.merged.Sources), now, p.ID, p.Profile).Error; err != nil {
			return err
		}
	}
	if s.person.linked {
		return tx.Exec("UPDATE links SET last_used = ? WHERE provider_id = ? AND subject = ? AND last_used < ?", now, s.provider.id, who.Subject, now.Add(-30*time.Second)).Error
	}
	// Another browser may have linked the same person to another subject of this provider a moment ago.
	made := tx.Exec("INSERT INTO links (id, person_id, provider_id, subject, shown, first_used, last_used) SELECT ?, ?, ?, ?, ?, ?, ? WHERE NOT EXISTS (SELECT 1 FROM links WHERE person_id = ? AND provider_id = ?) ON CONFLICT DO NOTHING",
		store.NewID(), s.person.id, s.provider.id, who.Subject, who.Shown, now, now, s.person.id, s.provider.id)
	if made.Error != nil {
		return made.Error
	}
	if made.RowsAffected == 0 {
		var held store.Link
		if err := tx.Where("provider_id = ? AND subject = ?", s.provider.id, who.Subject).Limit(1).Find(&held).Error; err != nil {
			return err
		}
		if held.PersonID != s.person.id {
			return explain.New("match.already-linked", explain.Fact("person", s.person.shown)).Of(s.provider.Name)
		}
		return nil
	}
	return journal(tx, now, Actor{Name: "sign-in " + s.reference}, "linked", "person", s.person.id, s.person.shown, "", s.provider.Name+", found by "+s.person.byValue)
}

func (g *Gate) createPerson(tx *gorm.DB, s *signIn, who identity, now time.Time) error {
	p := store.Person{ID: store.NewID(), Name: s.person.shown, Active: true, Type: s.person.kind, Profile: mustJSON(s.person.merged.Profile), Sources: mustJSON(s.person.merged.Sources), CreatedAt: now, UpdatedAt: now}
	p.SetKeys(s.person.merged.Profile)
	// Two first sign-ins at once: the second finds the first one's link.
	made := tx.Exec("INSERT INTO links (id, person_id, provider_id, subject, shown, first_used, last_used) VALUES (?, ?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING", store.NewID(), p.ID, s.provider.id, who.Subject, who.Shown, now, now)
	if made.Error != nil {
		return made.Error
	}
	if made.RowsAffected == 0 {
		var held store.Link
		if err := tx.Where("provider_id = ? AND subject = ?", s.provider.id, who.Subject).Take(&held).Error; err != nil {
			return err
		}
		s.person.id = held.PersonID
		return nil
	}
	s.person.id = p.ID
	if err := tx.Create(&p).Error; err != nil {
		return err
	}
	if a := s.provider.Admit; a != nil {
		for _, slug := range a.Groups {
			if err := joinGroup(tx, p.ID, slug, people.ByHand, now); err != nil {
				return err
			}
		}
	}
	return nil
}

func (g *Gate) settleGroups(tx *gorm.DB, s *signIn, now time.Time) error {
	for _, slug := range s.person.gained {
		if err := joinGroup(tx, s.person.id, slug, s.provider.id, now); err != nil {
			return err
		}
	}
	for _, slug := range s.person.lost {
		if err := tx.Exec("DELETE FROM memberships WHERE person_id = ? AND giver = ? AND group_id = (SELECT id FROM groups WHERE slug = ?)", s.person.id, s.provider.id, slug).Error; err != nil {
			return err
		}
	}
	return nil
}

// joinGroup puts a person into a group, if the group is there.
func joinGroup(tx *gorm.DB, personID, slug, by string, now time.Time) error {
	return tx.Exec("INSERT INTO memberships (person_id, group_id, giver, at) SELECT ?, id, ?, ? FROM groups WHERE slug = ? ON CONFLICT DO NOTHING", personID, by, now, slug).Error
}

const settingPeople = "people"

// peopleSettings are what holds for all people.
func (g *Gate) peopleSettings(ctx context.Context) (people.Settings, error) {
	c, err := g.cache(ctx)
	if err != nil {
		return people.Settings{}, err
	}
	if s := c.people.Load(); s != nil {
		return *s, nil
	}
	var row store.Setting
	if err := g.Store.Read(ctx).Where("name = ?", settingPeople).Limit(1).Find(&row).Error; err != nil {
		return people.Settings{}, store.Clear(err)
	}
	s := people.DefaultSettings()
	if row.Value != "" {
		if err := json.Unmarshal([]byte(row.Value), &s); err != nil {
			return s, fmt.Errorf("the settings for people can't be read: %w", err)
		}
	}
	c.people.Store(&s)
	return s, nil
}
