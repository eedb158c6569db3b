package configuration

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/persons"
	"innergate/gate/sessions"
	"innergate/store"
)

// How many people are looked at for one application, and how many of them are named.
const (
	EffectPeople = 3000
	EffectShown  = 20
)

// reachState is an object's reach with its circle.
type reachState struct {
	Reach  access.Reach   `json:"reach"`
	Circle *access.Circle `json:"circle,omitempty"`
}

const (
	longestReach = 60 * 24 * 60 // minutes for which a reach can be set
	touchedShown = 50
	touchedMost  = 20000
)

// reachOf is what an object's reach is now.
func (g *Room) reachOf(ctx context.Context, kind, slug string) (state reachState, id, name string, revision int, err error) {
	if kind == "application" {
		a, err := g.partners.Application(ctx, slug)
		if err != nil {
			return state, "", "", 0, err
		}
		return reachState{a.Reach, a.Circle}, a.ID, a.Name, a.Revision, nil
	}
	p, err := g.partners.Provider(ctx, slug)
	if err != nil {
		return state, "", "", 0, err
	}
	return reachState{p.Reach, p.Circle}, p.ID, p.Name, p.Revision, nil
}

// PreviewReach says whom a change of the reach would touch, and how many sessions are open of those who would be
// outside. Nothing is changed.
func (g *Room) PreviewReach(ctx context.Context, kind, slug string, in api.ReachChange) (*api.ReachPreview, error) {
	before, id, name, _, err := g.reachOf(ctx, kind, slug)
	if err != nil {
		return nil, err
	}
	after := reachState{in.Reach, before.Circle}
	if in.Circle != nil {
		after.Circle = in.Circle
	}
	if after.Reach == access.InCircle {
		if err := after.Circle.Check(); err != nil {
			return nil, ground.BadRequest("circle", words.Capitalise(err.Error())+".", "")
		}
	}
	if !slices.Contains(access.Reaches, after.Reach) {
		return nil, ground.BadRequest("reach", fmt.Sprintf("%q is no reach; draft, circle, everyone and closed are.", after.Reach), "")
	}
	out := &api.ReachPreview{
		From:  before.Reach,
		To:    after.Reach,
		Gain:  []api.PersonLine{},
		Lose:  []api.PersonLine{},
		Only:  []api.PersonLine{},
		Words: []string{},
	}
	people := "SELECT person_id FROM accounts WHERE application_id = ?"
	if kind == "provider" {
		people = "SELECT person_id FROM links WHERE provider_id = ?"
	}
	outside, after1 := []string{}, ""
	for out.People < touchedMost {
		var rows []store.Person
		if err := g.Store.Read(ctx).Where("id > ? AND id IN ("+people+")", after1,
			id).Order("id").Limit(500).Find(&rows).Error; err != nil {
			return nil, store.Clear(err)
		}
		for _, p := range rows {
			after1 = p.ID
			out.People++
			was, err := g.within(ctx, before, &p, slug)
			if err != nil {
				return nil, err
			}
			is, err := g.within(ctx, after, &p, slug)
			if err != nil {
				return nil, err
			}
			switch {
			case !was && is:
				if out.Gains++; len(out.Gain) < touchedShown {
					out.Gain = append(out.Gain, persons.PersonLine(&p))
				}
			case was && !is:
				if out.Loses++; len(out.Lose) < touchedShown {
					out.Lose = append(out.Lose, persons.PersonLine(&p))
				}
			}
			if !is {
				outside = append(outside, p.ID)
			}
			if kind == "provider" && was && !is {
				var others int64
				if err := g.Store.Read(ctx).Model(&store.Link{}).Where("person_id = ? AND provider_id <> ?", p.ID,
					id).Limit(1).Count(&others).Error; err != nil {
					return nil, store.Clear(err)
				}
				if others == 0 && p.Login == nil {
					if out.Onlys++; len(out.Only) < touchedShown {
						out.Only = append(out.Only, persons.PersonLine(&p))
					}
				}
			}
		}
		if len(rows) < 500 {
			break
		}
	}
	ids, err := g.sessionsOutside(ctx, kind, id, outside)
	if err != nil {
		return nil, err
	}
	out.Sessions = len(ids)
	out.Words = reachWords(out, name, kind, after)
	if kind == "application" && (after.Reach == access.Everyone || after.Reach == access.InCircle) {
		more, err := g.waysIn(ctx, slug)
		if err != nil {
			return nil, err
		}
		out.Words = append(out.Words, more...)
	}
	return out, nil
}

// within says whether a person whom the object knows is served. By network nobody can be judged beforehand: whoever a
// network alone lets in counts as outside.
func (g *Room) within(ctx context.Context, s reachState, p *store.Person, slug string) (bool, error) {
	switch s.Reach {
	case access.Everyone:
		return true, nil
	case access.InCircle:
		profile, err := ground.DecodeBody[claims.Bag](p.Profile)
		if err != nil {
			return false, err
		}
		who, err := g.persons.WhoOf(ctx, p, profile)
		if err != nil {
			return false, err
		}
		verdict, _ := s.Circle.Holds(who, slug)
		return verdict == access.Inside, nil
	}
	return false, nil
}

func (g *Room) sessionsOutside(ctx context.Context, kind, id string, people []string) ([]string, error) {
	limits, err := g.sessions.Limits(ctx)
	if err != nil {
		return nil, err
	}
	var ids []string
	table, column := "session_uses", "application_id"
	if kind == "provider" {
		table, column = "session_proofs", "provider_id"
	}
	for part := range slices.Chunk(people, 500) {
		var some []string
		if err := g.Store.Read(ctx).Raw("SELECT s.id FROM sessions s WHERE s.ended_at IS NULL AND s.expires_at > ? AND s.last_used > "+
			"? AND s.person_id IN ? AND EXISTS (SELECT 1 FROM "+table+" o WHERE o.session_id = s.id AND o."+column+" = ?)", g.Now().UTC(),
			g.Now().Add(-limits.Idle()).UTC(), part, id).Scan(&some).Error; err != nil {
			return nil, store.Clear(err)
		}
		ids = append(ids, some...)
	}
	return ids, nil
}

// waysIn says where an application that is opened has no way in that is open as well.
func (g *Room) waysIn(ctx context.Context, slug string) ([]string, error) {
	a, err := g.partners.Application(ctx, slug)
	if err != nil || a.Kind == config.KindLink {
		return nil, err
	}
	if len(a.Providers) == 0 {
		return []string{"It has no provider: nobody can sign in until one is added."}, nil
	}
	var shut []string
	for _, s := range a.Providers {
		p, err := g.partners.Provider(ctx, s)
		if err != nil {
			continue
		}
		if p.Reach == access.Everyone || p.Reach == access.InCircle {
			return nil, nil
		}
		shut = append(shut, p.Name+" is "+map[access.Reach]string{access.Draft: "a draft", access.Closed: "closed"}[p.Reach])
	}
	return []string{fmt.Sprintf("None of its providers is open (%s): nobody can sign in until one of them is opened, too.",
		strings.Join(shut, ", "))}, nil
}

func reachWords(p *api.ReachPreview, name, kind string, after reachState) []string {
	people := func(n int) string {
		if n == 1 {
			return "1 person"
		}
		return fmt.Sprintf("%d people", n)
	}
	out := []string{fmt.Sprintf("%s have used %s so far.", people(p.People), name)}
	switch after.Reach {
	case access.InCircle:
		out = append(out, "From then on it serves "+after.Circle.InWords()+".")
		if kind == "provider" && after.Circle.Instead != "" {
			out = append(out, "Whoever is outside is sent to "+after.Circle.Instead+".")
		} else {
			out = append(out, "Whoever is outside gets a plain page that says so.")
		}
	case access.Everyone:
		out = append(out, "From then on it serves everyone whom the other rules let in.")
	case access.Draft:
		out = append(out, "From then on only rehearsals reach it.")
	default:
		out = append(out, "From then on it serves nobody, not even rehearsals.")
	}
	if p.Gains > 0 {
		out = append(out, people(p.Gains)+" can use it again or for the first time.")
	}
	if p.Loses > 0 {
		out = append(out, people(p.Loses)+" can't use it any more.")
	}
	if p.Onlys > 0 {
		out = append(out, people(p.Onlys)+" have no other way to sign in.")
	}
	if p.Sessions > 0 {
		out = append(out, fmt.Sprintf("%d open sessions are of people who would be outside; they go on unless you end them.", p.Sessions))
	}
	return out
}

// ChangeReach sets an object's reach, at once; for some minutes only, where that is said. What it was is kept, so that
// one step takes it back.
func (g *Room) ChangeReach(ctx context.Context, who ground.Actor, kind, slug string, in api.ReachChange) (*api.ReachChanged, error) {
	if in.Minutes < 0 || in.Minutes > longestReach {
		return nil, ground.BadRequest("minutes", "A reach can be set for 1 minute to 60 days, or for good.", "")
	}
	preview, err := g.PreviewReach(ctx, kind, slug, in)
	if err != nil {
		return nil, err
	}
	before, id, name, revision, err := g.reachOf(ctx, kind, slug)
	if err != nil {
		return nil, err
	}
	after := reachState{in.Reach, before.Circle}
	if in.Circle != nil {
		after.Circle = in.Circle
	}
	now := g.Now().UTC()
	row := store.ReachChange{
		ID:       store.NewIDAt(now),
		Kind:     kind,
		ObjectID: id,
		Slug:     slug,
		Before:   ground.MustJSON(before),
		After:    ground.MustJSON(after),
		By:       who.Name,
		At:       now,
	}
	if in.Minutes > 0 {
		at := now.Add(time.Duration(in.Minutes) * time.Minute)
		row.RevertAt = &at
	}
	var outside []string
	if in.EndSessions && preview.Sessions > 0 {
		if outside, err = g.outsideSessions(ctx, kind, id, slug, after); err != nil {
			return nil, err
		}
	}
	if err := g.writeReach(ctx, who, kind, slug, after, revision, func(tx *gorm.DB) error {
		for _, s := range outside {
			if err := sessions.EndSession(tx, s, name+" was closed to this person", now); err != nil {
				return err
			}
		}
		return tx.Create(&row).Error
	}); err != nil {
		return nil, err
	}
	if len(outside) > 0 {
		g.sessions.TellSoon()
	}
	return &api.ReachChanged{ReachPreview: *preview, Ended: len(outside), Until: row.RevertAt}, nil
}

// outsideSessions are the open sessions of people whom a reach leaves outside.
func (g *Room) outsideSessions(ctx context.Context, kind, id, slug string, s reachState) ([]string, error) {
	at := "session_uses o WHERE o.application_id = ?"
	if kind == "provider" {
		at = "session_proofs o WHERE o.provider_id = ?"
	}
	var rows []store.Person
	const open = "(SELECT person_id FROM sessions WHERE id = o.session_id AND ended_at IS NULL)"
	if err := g.Store.Read(ctx).Where("id IN (SELECT "+open+" FROM "+at+")", id).Limit(touchedMost).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	var out []string
	for _, p := range rows {
		in, err := g.within(ctx, s, &p, slug)
		if err != nil {
			return nil, err
		}
		if !in {
			out = append(out, p.ID)
		}
	}
	return g.sessionsOutside(ctx, kind, id, out)
}

// writeReach writes an object with another reach, and what goes with it, in one transaction.
func (g *Room) writeReach(
	ctx context.Context,
	who ground.Actor,
	kind, slug string,
	s reachState,
	revision int,
	with func(*gorm.DB) error,
) error {
	now := g.Now().UTC()
	// Closing, and going back to drafts, needs no second person: it may have to happen at once.
	who.Approved = who.Approved || s.Reach == access.Closed || s.Reach == access.Draft
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := with(tx); err != nil {
			return err
		}
		return g.writeReachIn(tx, now, who, kind, slug, s, revision)
	})
}

// writeReachIn writes an object as it is now, with another reach. It is read in the transaction: what somebody else has just
// changed of it stays.
func (g *Room) writeReachIn(tx *gorm.DB, now time.Time, who ground.Actor, kind, slug string, s reachState, revision int) error {
	row, err := objectIn(tx, kind, slug)
	if err != nil {
		return err
	}
	if revision != 0 && revision != row.Revision {
		return ground.StaleRevision(row.Name)
	}
	if kind == "application" {
		c, err := ground.DecodeBody[config.Application](row.Body)
		if err != nil {
			return err
		}
		c.Reach, c.Circle = s.Reach, s.Circle
		if err := c.Validate(); err != nil {
			return ground.Invalid(err)
		}
		return g.WriteApplication(tx, now, who, slug, c, row.Revision)
	}
	c, err := ground.DecodeBody[config.Provider](row.Body)
	if err != nil {
		return err
	}
	c.Reach, c.Circle = s.Reach, s.Circle
	if err := c.Validate(); err != nil {
		return ground.Invalid(err)
	}
	return g.WriteProvider(tx, now, who, slug, c, row.Revision)
}

// objectIn reads an application's or provider's record in a transaction.
func objectIn(tx *gorm.DB, kind, slug string) (*store.Object, error) {
	var row store.Object
	if err := tx.Table(kind+"s").Where("slug = ?", slug).Take(&row).Error; err != nil {
		return nil, ground.Missing(err, kind, slug)
	}
	return &row, nil
}

// UndoReach takes the newest change of an object's reach back.
func (g *Room) UndoReach(ctx context.Context, who ground.Actor, kind, slug string) error {
	_, id, name, _, err := g.reachOf(ctx, kind, slug)
	if err != nil {
		return err
	}
	var row store.ReachChange
	if err := g.Store.Read(ctx).Where("kind = ? AND object_id = ? AND undone_at IS NULL", kind,
		id).Order("id DESC").Limit(1).Find(&row).Error; err != nil {
		return store.Clear(err)
	}
	if row.ID == "" {
		return ground.Problem(
			http.StatusConflict, "nothing-to-undo", "There is nothing to take back",
			"The reach of "+name+" was not changed, or every change was taken back.", "",
		)
	}
	return g.undo(ctx, who, row)
}

func (g *Room) undo(ctx context.Context, who ground.Actor, row store.ReachChange) error {
	before, err := ground.DecodeBody[reachState](row.Before)
	if err != nil {
		return err
	}
	who.Approved = true // it is what a change was that somebody may have looked at
	return g.writeReach(ctx, who, row.Kind, row.Slug, before, 0, func(tx *gorm.DB) error {
		done, err := takeBack(tx, row.ID, g.Now().UTC())
		if err == nil && !done {
			err = ground.StaleRevision(row.Slug)
		}
		return err
	})
}

// takeBack notes that a change of a reach was taken back, and says whether nobody else had done so.
func takeBack(tx *gorm.DB, id string, now time.Time) (bool, error) {
	n, err := store.Exec(tx, "UPDATE reach_changes SET undone_at = ? WHERE id = ? AND undone_at IS NULL", now, id)
	return n > 0, err
}

// RevertDue takes back what was set for some time that is over. What can't be done at the moment is tried again.
func (g *Room) RevertDue(ctx context.Context) error {
	var rows []store.ReachChange
	if err := g.Store.Read(ctx).Where("revert_at IS NOT NULL AND revert_at <= ? AND undone_at IS NULL",
		g.Now().UTC()).Order("id DESC").Limit(500).Find(&rows).Error; err != nil {
		return store.Clear(err)
	}
	for _, row := range rows {
		err := g.Attempt(ctx, "reach/"+row.ID, "Taking back the reach of "+row.Slug, func() error { return g.revert(ctx, row) })
		if err == nil {
			continue
		}
		// It can't go back as it was: it is left as it is, and said once.
		g.Log.ErrorContext(ctx, "a reach that was set for some time can't be taken back", "object", row.Slug, "error", err)
		why := words.Capitalise(words.Clip(err.Error(), 900))
		if err := g.Attempt(ctx, "leave/"+row.ID, "Leaving the reach of "+row.Slug, func() error {
			return g.leaveReach(ctx, row, why)
		}); err != nil {
			return err
		}
	}
	return nil
}

// revert takes one change back, unless somebody has set another reach since, or taken it back already.
func (g *Room) revert(ctx context.Context, row store.ReachChange) error {
	before, err := ground.DecodeBody[reachState](row.Before)
	if err != nil {
		return err
	}
	now, who := g.Now().UTC(), ground.System
	who.Approved = true
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		mine, err := takeBack(tx, row.ID, now)
		if err != nil || !mine {
			return err
		}
		held, err := objectIn(tx, row.Kind, row.Slug)
		if ground.IsNotFound(err) || err == nil && held.ID != row.ObjectID {
			return nil // it was deleted
		}
		if err != nil {
			return err
		}
		is, err := ground.DecodeBody[reachState](held.Body)
		if err != nil {
			return err
		}
		if ground.MustJSON(is) != row.After {
			return ground.Journal(tx, now, who, "left the reach of", row.Kind, row.ObjectID, held.Name, "",
				"somebody has set another one since it was set for some time")
		}
		return g.writeReachIn(tx, now, who, row.Kind, row.Slug, before, held.Revision)
	})
}

// leaveReach gives up taking a change back, and says so in the journal.
func (g *Room) leaveReach(ctx context.Context, row store.ReachChange, why string) error {
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		n, err := store.Exec(tx, "UPDATE reach_changes SET revert_at = NULL WHERE id = ? AND revert_at IS NOT NULL AND undone_at IS NULL",
			row.ID)
		if err != nil || n == 0 {
			return err
		}
		return ground.Journal(tx, g.Now().UTC(), ground.System, "could not take back the reach of", row.Kind, row.ObjectID, row.Slug, "",
			why)
	})
}

// ReachHistory lists the changes of an object's reach, the newest first.
func (g *Room) ReachHistory(ctx context.Context, kind, slug string) (*api.List[api.ReachStep], error) {
	_, id, _, _, err := g.reachOf(ctx, kind, slug)
	if err != nil {
		return nil, err
	}
	var rows []store.ReachChange
	if err := g.Store.Read(ctx).Where("kind = ? AND object_id = ?", kind, id).Order("id DESC").Limit(50).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := &api.List[api.ReachStep]{Items: []api.ReachStep{}}
	for _, r := range rows {
		var from, to reachState
		if err := json.Unmarshal([]byte(r.Before), &from); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(r.After), &to); err != nil {
			return nil, err
		}
		out.Items = append(
			out.Items,
			api.ReachStep{At: r.At, By: r.By, From: from.words(), To: to.words(), Until: r.RevertAt, Undone: r.UndoneAt},
		)
	}
	return out, nil
}

func (s reachState) words() string {
	if s.Reach == access.InCircle {
		return "circle: " + s.Circle.InWords()
	}
	return string(s.Reach)
}
