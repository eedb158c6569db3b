package readings

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/bridge"
	"innergate/core/explain"
	"innergate/core/people"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/ldapdir"
	"innergate/gate/partners"
	"innergate/gate/persons"
	"innergate/gate/signin"
	"innergate/store"
)

const (
	atOnce       = 100 // people of one transaction
	mostProblems = 200
	mostNames    = 100
)

// job is one reading at work.
type job struct {
	*Room
	p   *partners.Provider
	row *store.Reading
	who ground.Actor
	// admitting is the provider as it takes people in that are read: whoever is in the directory may be made.
	admitting *partners.Provider
	seen      map[string]bool // identifiers that are there
	nameless  bool            // an entry had none, so that nobody can be told to be gone for sure
	problems  []api.ReadingProblem
	// keys are what new people are known by, of the batch while it is written, of all while it is only looked at.
	keys map[string]string
}

func (j *job) writes() bool { return j.row.State == Writing }

// run reads all pages, and then looks who is gone.
func (j *job) run(ctx context.Context) error {
	admitting := *j.p
	admitting.Admission = "create"
	j.admitting, j.seen, j.keys, j.problems = &admitting, map[string]bool{}, map[string]string{}, []api.ReadingProblem{}
	err := j.ldap.Pages(ctx, j.p, j.row.Since, func(page []ldapdir.Read) error {
		for len(page) > 0 {
			if err := ctx.Err(); err != nil {
				return err
			}
			n := min(atOnce, len(page))
			if err := j.batch(ctx, page[:n]); err != nil {
				return err
			}
			page = page[n:]
		}
		return nil
	})
	if err != nil {
		return err
	}
	if !j.row.OnlyChanged {
		if err := j.gone(ctx); err != nil || j.row.State == Asking {
			return err
		}
	}
	if !j.writes() {
		j.row.State = Looked
		return nil
	}
	j.row.State = Done
	return j.Store.Write(ctx, func(tx *gorm.DB) error {
		return ground.Journal(tx, j.Now(), j.who, "read people from", "provider", j.p.ID, j.p.Name, "", fmt.Sprintf(
			"%d read: %d made, %d changed, %d active again, %d gone, %d not taken", j.row.Entries, j.row.Made, j.row.Updated, j.row.Back,
			j.row.Gone, j.row.Bad))
	})
}

// found is somebody who was read, with whom the gate knows or makes.
type found struct {
	entry   ldapdir.Read
	arrived *persons.Arrived
	back    string // the person who is active again
}

// batch works out what a part of a page means, and writes it in one transaction, together with how far the reading is.
func (j *job) batch(ctx context.Context, page []ldapdir.Read) error {
	var list []found
	if j.writes() {
		j.keys = map[string]string{}
	}
	for _, e := range page {
		j.row.Entries++
		one, err := j.find(ctx, e)
		if err != nil {
			return err
		}
		if one == nil {
			continue
		}
		if again := j.twice(one); again != "" && j.writes() && len(list) > 0 {
			// Somebody of this batch may be meant: it is written first, and looked up again.
			if err := j.write(ctx, list); err != nil {
				return err
			}
			list, j.keys = nil, map[string]string{}
			if one, err = j.find(ctx, e); err != nil {
				return err
			}
			if one == nil {
				continue
			}
		} else if again != "" {
			j.bad(e, "match.several", "Another entry, "+again+", has the same mail address, user name or external ID.")
			continue
		}
		j.note(one)
		list = append(list, *one)
	}
	j.row.UpdatedAt = j.Now().UTC()
	j.row.Problems = ground.MustJSON(j.problems)
	return j.write(ctx, list)
}

// note counts what comes of somebody, and remembers what a new one is known by.
func (j *job) note(one *found) {
	a := one.arrived
	switch {
	case one.back != "":
		j.row.Back++
	case a.Held == nil:
		j.row.Made++
	case changes(a):
		j.row.Updated++
	default:
		j.row.Same++
	}
	for _, key := range keysOf(a) {
		j.keys[key] = one.entry.DN
	}
}

// changes says whether anything of somebody known is written.
func changes(a *persons.Arrived) bool {
	return len(a.Merged.Changed)+len(a.Gained)+len(a.Lost) > 0 || !a.Linked || a.Kind != a.Held.Type || a.Name != a.Held.Name
}

// keysOf are what somebody new is known by, besides the link.
func keysOf(a *persons.Arrived) []string {
	if a.Held != nil {
		return nil
	}
	var out []string
	for _, name := range []string{people.Mail, people.Username, people.ExternalID} {
		if v := a.Merged.Profile.First(name); v != "" {
			out = append(out, name+"\x1f"+people.Key(v))
		}
	}
	return out
}

// twice is another entry that is about to make somebody known by the same.
func (j *job) twice(one *found) string {
	for _, key := range keysOf(one.arrived) {
		if dn := j.keys[key]; dn != "" {
			return dn
		}
	}
	return ""
}

func (j *job) bad(e ldapdir.Read, code, text string) {
	if j.row.Bad++; len(j.problems) < mostProblems {
		j.problems = append(j.problems, api.ReadingProblem{Entry: e.DN, Code: code, Text: text})
	}
}

// find finds whom an entry means, as a sign-in would; nil where it is not taken.
func (j *job) find(ctx context.Context, e ldapdir.Read) (*found, error) {
	if e.Changed > j.row.Newest {
		j.row.Newest = e.Changed
	}
	fails := func(err error) (*found, error) {
		var f *explain.Failure
		if !errors.As(err, &f) {
			return nil, err
		}
		j.bad(e, string(f.Code), words.Clip(f.Of(j.p.Name).Explain().Cause, 500))
		return nil, nil
	}
	if e.Err != nil {
		j.nameless = true
		return fails(e.Err)
	}
	who := bridge.Identity{Subject: "entry\x1f" + e.Identifier, Shown: e.Identifier, Attributes: e.Values}
	j.seen[who.Subject] = true
	one := &found{entry: e}
	a, err := j.match(ctx, who)
	var f *explain.Failure
	if errors.As(err, &f) && f.Code == explain.MatchInactive {
		if one.back, err = j.mayBeBack(ctx, who.Subject); err == nil && one.back == "" {
			err = f
		}
		if err == nil {
			a, err = j.again(ctx, who, one.back)
		}
	}
	if err != nil {
		return fails(err)
	}
	one.arrived = a
	return one, nil
}

// match asks the engine whom an identity means.
func (j *job) match(ctx context.Context, who bridge.Identity) (*persons.Arrived, error) {
	s := &signin.SignIn{Rec: trace.NewRecorder(j.Now(), j.Now), App: &partners.Application{}, Provider: j.admitting}
	if err := j.signin.Match(ctx, s, who); err != nil {
		return nil, err
	}
	return s.Arrived(who, "reading of "+j.p.Name), nil
}

// write writes a part, with how far the reading is.
func (j *job) write(ctx context.Context, list []found) error {
	began := time.Now()
	err := j.Store.Write(ctx, func(tx *gorm.DB) error {
		now := j.Now().UTC()
		if j.writes() {
			for _, one := range list {
				if err := j.settle(tx, one, now); err != nil {
					return err
				}
			}
		}
		return tx.Save(j.row).Error
	})
	if err == nil && j.writes() {
		time.Sleep(time.Since(began) / 2) // the writer is for others as well
	}
	return err
}

// settle writes one. Whoever is as they were costs nothing.
func (j *job) settle(tx *gorm.DB, one found, now time.Time) error {
	a := one.arrived
	if one.back != "" {
		if err := activate(tx, one.back, j.p.ID, now); err != nil {
			return err
		}
	}
	if a.Held != nil && !changes(a) {
		return nil
	}
	_, err := a.Settle(tx, now)
	return err
}
