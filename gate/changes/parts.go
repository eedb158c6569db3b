package changes

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/files"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/store"
)

// A change of many objects is written a part at a time. Unless it is very large it is tried aside first, so that what can't be
// taken is refused before anything is written. Its steps are kept: where the process ends in between, they go on with the
// next start, and where one is
// refused all the same, since somebody else has changed something, those before it are taken back.

const (
	// together is how many steps are written in one transaction, with everything else that a small change does.
	together = 50
	// triedAside is up to how many steps a change is tried aside first: all of it is held in memory there.
	triedAside = 500
	// inPart is how many steps of a large change one transaction writes, noted how many are kept in one.
	inPart, noted = 5, 200
	// betweenParts is how long the writer is free for others at least; after a part that took longer, as long as that.
	betweenParts = 5 * time.Millisecond
	// partHeld is how long a process has a load for itself without a sign of life.
	partHeld = 30 * time.Second
	// partTries is how often a part is tried before the load is left to be gone on with from time to time.
	partTries = 8
	loadsKept = 7 * 24 * time.Hour
)

// The states of a load.
const (
	loadNoting  = "noting"
	loadRunning = "running"
	loadBack    = "back"
	loadDone    = "done"
	loadUndone  = "undone"
)

// inParts carries out a plan of many steps.
func (g *Room) inParts(ctx context.Context, who ground.Actor, p *plan) error {
	if err := mayAll(who, p.steps); err != nil {
		return err
	}
	if len(p.steps) <= triedAside {
		if err := g.tryAside(ctx, who, p); err != nil {
			return err
		}
	}
	ctx = context.WithoutCancel(ctx) // what has begun goes on, whoever leaves
	id, err := g.keepLoad(ctx, who, p)
	if err != nil {
		return err
	}
	if err = g.goOn(ctx, id); errors.Is(err, errLoadTaken) {
		return ground.Problem(http.StatusServiceUnavailable, "load-later", "Another process goes on with it",
			"It took this one long, and another process on the same data has gone on with it.",
			"Look at the history in a while, or preview the files again.")
	}
	return err
}

// tryAside carries a plan out where nobody sees it.
func (g *Room) tryAside(ctx context.Context, who ground.Actor, p *plan) error {
	_, err := g.aside(ctx, func(aside *Room) (*api.ConfigResult, error) {
		who.IDs = p.ids
		return nil, aside.Store.Write(ctx, func(tx *gorm.DB) error { return aside.carryOut(ctx, tx, who, p) })
	})
	return err
}

// keepLoad writes a plan down. Nothing of it holds until all of it is there.
func (g *Room) keepLoad(ctx context.Context, who ground.Actor, p *plan) (string, error) {
	who.CSRF, who.IDs = "", nil
	now := g.Now().UTC()
	row := store.Load{ID: store.NewIDAt(now), State: loadNoting, Who: ground.MustJSON(who), FromFiles: p.fromFiles, Steps: len(p.steps),
		At: now, HeldUntil: now.Add(partHeld)}
	var secrets []keptSecret
	for _, s := range p.secrets {
		secrets = append(secrets, keptSecret{s.ref, s.value, s.changed})
	}
	row.Sealed = g.Store.Sealer.Seal(store.PlaceLoad, row.ID, []byte(ground.MustJSON(secrets)))
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		// One at a time. What was noted in part by a process that has ended does not count.
		other, err := store.One[store.Load](tx, "ended_at IS NULL AND (state <> ? OR held_until >= ?)", loadNoting, now)
		if err != nil {
			return err
		}
		if other.ID != "" {
			return ground.Problem(http.StatusConflict, "load-running", "Another large change is being written",
				fmt.Sprintf("It began at %s; %d of %d steps are written.", other.At.Format(time.RFC3339), other.Done, other.Steps),
				"Wait until it is done, and try again.")
		}
		return tx.Create(&row).Error
	})
	for from := 0; err == nil && from < len(p.steps); from += noted {
		var steps []store.LoadStep
		for i := from; i < min(from+noted, len(p.steps)); i++ {
			s := &p.steps[i]
			steps = append(steps, store.LoadStep{LoadID: row.ID, Number: i, Action: s.Action, Kind: s.Kind, Slug: s.Slug, Name: s.Name,
				Body: s.Body, Before: s.Before, ObjectID: words.FirstOf(p.ids[s.Key()], s.ID), File: s.At.File, Line: s.At.Line})
		}
		err = g.Store.Write(ctx, func(tx *gorm.DB) error {
			if err := tx.CreateInBatches(steps, 50).Error; err != nil {
				return err
			}
			return tx.Model(&store.Load{}).Where("id = ?", row.ID).Update("held_until", g.Now().UTC().Add(partHeld)).Error
		})
		time.Sleep(betweenParts)
	}
	if err == nil {
		err = g.Store.Write(ctx, func(tx *gorm.DB) error {
			begun := tx.Model(&store.Load{}).Where("id = ? AND state = ?", row.ID, loadNoting).Updates(map[string]any{
				"state": loadRunning, "held_until": g.Now().UTC().Add(partHeld)})
			if begun.Error == nil && begun.RowsAffected == 0 {
				return ground.Conflict("load-slow", "It took too long to write it down, so it was given up; nothing was changed.",
					"Look at the disk, and try again.")
			}
			return begun.Error
		})
	}
	return row.ID, err
}

// keptSecret is a secret of a load as it is kept, sealed.
type keptSecret struct {
	Ref     files.Secret
	Value   string
	Changed bool
}

// goOn writes a load to its end, forwards or back. What fails for a reason that may pass is tried again a few times, and then
// left to ContinueLoads.
func (g *Room) goOn(ctx context.Context, id string) error {
	for tries, pause := 0, 50*time.Millisecond; ; {
		begin := time.Now()
		l, err := g.part(ctx, id)
		switch {
		case err == nil && l.State == loadDone:
			return nil
		case err == nil && l.State == loadUndone:
			return undone(l)
		case err == nil:
			tries, pause = 0, 50*time.Millisecond
			time.Sleep(max(betweenParts, time.Since(begin)))
			continue
		case errors.Is(err, errLoadTaken):
			return err
		case ground.Refused(err) && l.State == loadRunning:
			if err := g.turnBack(ctx, id, err); err != nil {
				return err
			}
			continue
		}
		if tries++; tries == partTries {
			g.Log.ErrorContext(ctx, "a large change can't be written on at the moment", "load", id, "error", err)
			return ground.Problem(http.StatusServiceUnavailable, "load-later", "It is not all written yet",
				words.Capitalise(words.Clip(err.Error(), 300))+". What is written stays, and the rest follows by itself as soon as it can "+
					"be.",
				"Look at the checkup, which tells until it is done.")
		}
		time.Sleep(pause)
		pause *= 2
	}
}

// errLoadTaken says that another process writes a load.
var errLoadTaken = errors.New("another process writes this large change")

// undone is the refusal of a load whose steps were taken back.
func undone(l *store.Load) error {
	return ground.Problem(http.StatusConflict, "load-undone", "It was taken back",
		fmt.Sprintf("While it was written, one step was refused: %s What was written before it was taken back.", l.Why),
		"Preview it again: somebody has changed something meanwhile.")
}

// turnBack has what was written of a load taken back.
func (g *Room) turnBack(ctx context.Context, id string, why error) error {
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Model(&store.Load{}).Where("id = ? AND state = ?", id, loadRunning).Updates(map[string]any{"state": loadBack,
			"why": words.Clip(why.Error(), 900)}).Error
	})
}

// part writes the next part of a load, forwards or back, and gives the load as it stands then.
func (g *Room) part(ctx context.Context, id string) (*store.Load, error) {
	var l store.Load
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Where("id = ?", id).Take(&l).Error; err != nil {
			return err
		}
		if l.State == loadDone || l.State == loadUndone {
			return nil
		}
		var who ground.Actor
		if err := json.Unmarshal([]byte(l.Who), &who); err != nil {
			return err
		}
		now, done := g.Now().UTC(), l.Done
		step := g.forward
		if l.State == loadBack {
			step = g.backward
		}
		if err := step(ctx, tx, who, &l); err != nil {
			return err
		}
		if l.State == loadDone || l.State == loadUndone {
			l.EndedAt, l.Sealed = &now, nil
		}
		moved := tx.Model(&store.Load{}).Where("id = ? AND done = ?", id, done).Updates(map[string]any{"done": l.Done, "state": l.State,
			"sealed": l.Sealed, "why": l.Why, "held_until": now.Add(partHeld), "ended_at": l.EndedAt})
		if moved.Error == nil && moved.RowsAffected == 0 {
			return errLoadTaken
		}
		return moved.Error
	})
	return &l, err
}

// forward takes the next steps. Behind the last one come the secrets.
func (g *Room) forward(ctx context.Context, tx *gorm.DB, who ground.Actor, l *store.Load) error {
	var rows []store.LoadStep
	if err := tx.Where("load_id = ? AND number >= ?", l.ID, l.Done).Order("number").Limit(inPart).Find(&rows).Error; err != nil {
		return err
	}
	p := &plan{fromFiles: l.FromFiles, ids: map[string]string{}}
	for _, r := range rows {
		s := stepOf(r)
		is, err := g.heldOne(tx, s.Kind, s.Slug)
		if err != nil {
			return err
		}
		switch {
		case s.Action != files.Remove && is.Body == s.Body, s.Action == files.Remove && is.Body == "":
			continue // it is as it shall be
		case s.Action == files.Remove && s.Kind == files.Setting, is.Body == s.Before:
		default:
			return located(ground.StaleRevision(s.Name), &s)
		}
		p.steps = append(p.steps, s)
		p.ids[s.Key()] = r.ObjectID
	}
	l.Done += len(rows)
	if l.Done >= l.Steps {
		if err := g.keptSecrets(l, p); err != nil {
			return err
		}
		l.State = loadDone
	}
	who.IDs = p.ids
	return g.carryOut(ctx, tx, who, p)
}

func (g *Room) keptSecrets(l *store.Load, p *plan) error {
	plain, err := g.Store.Sealer.Open(store.PlaceLoad, l.ID, l.Sealed)
	if err != nil {
		return err
	}
	var secrets []keptSecret
	if err := json.Unmarshal(plain, &secrets); err != nil {
		return err
	}
	for _, s := range secrets {
		p.secrets = append(p.secrets, readySecret{s.Ref, s.Value, s.Changed})
	}
	return nil
}

// backward takes back the last steps that were written, as far as nobody has changed since what they made.
func (g *Room) backward(_ context.Context, tx *gorm.DB, who ground.Actor, l *store.Load) error {
	var rows []store.LoadStep
	if err := tx.Where("load_id = ? AND number < ?", l.ID, l.Done).Order("number DESC").Limit(inPart).Find(&rows).Error; err != nil {
		return err
	}
	who.Approved, who.Remark, who.IDs = true, "taken back: "+words.Clip(l.Why, 200), map[string]string{}
	for _, r := range rows {
		s := reversedOf(r)
		who.IDs[s.Key()] = r.ObjectID
		is, err := g.heldOne(tx, s.Kind, s.Slug)
		if err != nil {
			return err
		}
		if is.Body != s.Before {
			continue // somebody else has changed it, and that stays
		}
		if err := tx.SavePoint("one").Error; err != nil {
			return err
		}
		err = g.carry(tx, who, &s)
		if err != nil && !ground.Refused(err) {
			return err
		}
		if err != nil {
			if err := tx.RollbackTo("one").Error; err != nil {
				return err
			}
			l.Why = words.Clip(l.Why+" Not taken back: "+s.Key()+", "+err.Error(), 900)
			continue
		}
		if r.Action == files.Remove && l.FromFiles {
			if err := ground.NoteFromFile(tx, s.Kind, s.Slug, g.Now().UTC()); err != nil {
				return err
			}
		}
	}
	if l.Done -= len(rows); l.Done <= 0 {
		l.State = loadUndone
	}
	return nil
}

func stepOf(r store.LoadStep) files.Step {
	return files.Step{
		Action: r.Action,
		Object: files.Object{Kind: r.Kind, Slug: r.Slug, Name: r.Name, Body: r.Body, ID: r.ObjectID, At: files.Place{File: r.File,
			Line: r.Line}},
		Before: r.Before,
	}
}

// reversedOf is the step that takes another one back.
func reversedOf(r store.LoadStep) files.Step {
	s := stepOf(r)
	switch r.Action {
	case files.Create:
		s.Action, s.Before = files.Remove, r.Body
	case files.Update:
		s.Body, s.Before = r.Before, r.Body
	case files.Remove:
		s.Action, s.Body, s.Before = files.Create, r.Before, ""
	}
	return s
}

// ContinueLoads goes on with large changes that nobody writes: the process that did has ended, or something failed. What was
// noted in part only is forgotten.
func (g *Room) ContinueLoads(ctx context.Context) error {
	var rows []store.Load
	if err := g.Store.Read(ctx).Where("ended_at IS NULL AND held_until < ?",
		g.Now().UTC()).Order("id").Limit(20).Find(&rows).Error; err != nil {
		return store.Clear(err)
	}
	for _, l := range rows {
		if err := g.Attempt(ctx, "load/"+l.ID, "Writing a large change of the configuration", func() error {
			return g.continueOne(ctx, &l)
		}); err != nil {
			g.Log.ErrorContext(ctx, "a large change of the configuration was not made", "load", l.ID, "error", err)
		}
	}
	return nil
}

func (g *Room) continueOne(ctx context.Context, l *store.Load) error {
	now, mine := g.Now().UTC(), false
	if err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		values := map[string]any{"held_until": now.Add(partHeld)}
		if l.State == loadNoting {
			values["state"], values["ended_at"], values["sealed"] = loadUndone, now, nil
		}
		taken := tx.Model(&store.Load{}).Where("id = ? AND held_until = ?", l.ID, l.HeldUntil).Updates(values)
		mine = taken.RowsAffected > 0
		return taken.Error
	}); err != nil || !mine || l.State == loadNoting {
		return err
	}
	err := g.goOn(ctx, l.ID)
	if errors.Is(err, errLoadTaken) {
		return nil
	}
	var p *api.Problem
	if errors.As(err, &p) && p.Status >= http.StatusInternalServerError {
		return errors.New(p.Detail)
	}
	return err
}

// tidyLoads forgets large changes that ended some time ago, their steps first.
func tidyLoads(t *ground.Tidying) error {
	old := "ended_at < ?"
	if err := t.Delete(ground.Over{Model: &store.LoadStep{}, Where: "load_id IN (SELECT id FROM loads WHERE " + old + ")",
		Arg: t.Now.Add(-loadsKept)}); err != nil || t.More {
		return err
	}
	return t.Delete(ground.Over{Model: &store.Load{}, Where: old, Arg: t.Now.Add(-loadsKept)})
}
