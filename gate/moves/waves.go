package moves

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/config"
	"innergate/core/moves"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/store"
)

// OpenWave opens a wave at once: from now on people sign in to its applications with the new provider. Until its window
// closes it goes back by itself when more fails or differs than it bears.
func (g *Room) OpenWave(ctx context.Context, who ground.Actor, slug string, number int, in api.OpenWave) (*api.Move, error) {
	row, err := g.openMove(ctx, slug)
	if err != nil {
		return nil, err
	}
	if in.Minutes < 0 || in.Minutes > 30*24*60 {
		return nil, ground.BadRequest("minutes", "A window lasts 1 minute to 30 days.", "")
	}
	if !in.Anyway {
		if err := g.waveReady(ctx, row, number); err != nil {
			return nil, err
		}
	}
	length := waveLength
	if in.Minutes > 0 {
		length = time.Duration(in.Minutes) * time.Minute
	}
	now := g.Now().UTC()
	if err := g.openWave(ctx, who, row, number, now.Add(length)); err != nil {
		return nil, err
	}
	return g.Move(ctx, slug)
}

// waveReady refuses a wave with applications whose sign-ins would fail.
func (g *Room) waveReady(ctx context.Context, row *store.Move, number int) error {
	m, err := g.Move(ctx, row.Slug)
	if err != nil {
		return err
	}
	var why []string
	for _, a := range m.Apps {
		if a.Wave == number && a.Verdict.State == moves.Blocked {
			why = append(why, a.Name+": "+a.Verdict.Why[0])
		}
	}
	if len(why) == 0 {
		return nil
	}
	return ground.Problem(
		http.StatusConflict, "wave-not-ready", "The wave is not ready", strings.Join(why[:min(len(why), 5)], "; ")+".",
		"Mend this first, put the application into another wave, or open it anyway.",
	)
}

// openWave takes the new provider into the place of the old one in every application of a wave, in one transaction.
func (g *Room) openWave(ctx context.Context, who ground.Actor, row *store.Move, number int, closes time.Time) error {
	review, err := g.changes.ReviewRules(ctx)
	if err != nil {
		return err
	}
	from, err := g.partners.ProviderByID(ctx, row.FromID)
	if err != nil {
		return err
	}
	to, err := g.partners.ProviderByID(ctx, row.ToID)
	if err != nil {
		return err
	}
	now := g.Now().UTC()
	who.Remark = fmt.Sprintf("move %s, wave %d: from %s to %s", row.Name, number, from.Name, to.Name)
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		w, err := waveIn(tx, row, number)
		if err != nil {
			return err
		}
		switch {
		case w.State != WavePlanned:
			return ground.Conflict(
				"wave-over", fmt.Sprintf("Wave %d is %s already.", number, w.State),
				"Plan it anew first; that takes a moment.",
			)
		case review.Second && w.ApprovedBy == "":
			return ground.Problem(
				http.StatusConflict, "needs-second", "A second person must look at it",
				fmt.Sprintf("Nobody has approved wave %d yet; here changes of what serves people need two.", number),
				"Have somebody other than "+w.PlannedBy+" approve it.",
			)
		}
		who.Approved = w.ApprovedBy != ""
		var apps []store.MoveApplication
		if err := tx.Where("move_id = ? AND wave = ? AND state <> ?", row.ID, number, AppMoved).Find(&apps).Error; err != nil {
			return err
		}
		if len(apps) == 0 {
			return ground.Conflict("wave-empty", fmt.Sprintf("Wave %d has no application that still has to move.", number), "")
		}
		// What was compared in an earlier try of this wave no longer counts.
		if err := tx.Where("move_id = ? AND wave = ? AND how = ?", row.ID, number,
			howLive).Delete(&store.MoveComparison{}).Error; err != nil {
			return err
		}
		for _, m := range apps {
			if err := g.exchangeProvider(tx, now, who, m.ApplicationID, from.Slug, to.Slug, func(before []string) error {
				return tx.Model(&store.MoveApplication{}).Where("move_id = ? AND application_id = ?", row.ID,
					m.ApplicationID).Updates(map[string]any{"state": AppMoved, "before": ground.MustJSON(before), "moved_at": now}).Error
			}); err != nil {
				return err
			}
		}
		opened := tx.Model(&store.MoveWave{}).Where("move_id = ? AND number = ? AND state = ?", row.ID, number,
			WavePlanned).Updates(map[string]any{"state": partners.WaveOpen, "opened_at": now, "closes_at": closes, "signed_in": 0,
			"failed": 0, "differed": 0, "note": ""})
		if opened.Error != nil {
			return opened.Error
		}
		if opened.RowsAffected == 0 {
			return ground.Conflict("wave-over", fmt.Sprintf("Wave %d was just opened by somebody else.", number), "")
		}
		if err := ground.Journal(tx, now, who, "opened a wave of", "move", row.ID, row.Name, "",
			fmt.Sprintf("wave %d, until %s", number, closes.UTC().Format(time.RFC3339))); err != nil {
			return err
		}
		return store.Changed(tx)
	})
}

// exchangeProvider puts one provider into the place of another in an application.
func (g *Room) exchangeProvider(
	tx *gorm.DB,
	now time.Time,
	who ground.Actor,
	applicationID, old, fresh string,
	note func(before []string) error,
) error {
	row, err := store.One[store.Application](tx, "id = ?", applicationID)
	if err != nil {
		return err
	}
	if row.ID == "" {
		return note(nil) // it was deleted meanwhile
	}
	a, err := ground.DecodeBody[config.Application](row.Body)
	if err != nil {
		return err
	}
	before := slices.Clone(a.Providers)
	at := slices.Index(a.Providers, old)
	switch {
	case at < 0:
	case slices.Contains(a.Providers, fresh):
		a.Providers = slices.Delete(a.Providers, at, at+1)
	default:
		a.Providers[at] = fresh
	}
	if err := a.Validate(); err != nil {
		return ground.Invalid(err)
	}
	if err := g.configuration.WriteApplication(tx, now, who, row.Slug, a, 0); err != nil {
		return err
	}
	return note(before)
}

// BackWave takes a wave back: its applications have their former providers again, at once.
func (g *Room) BackWave(ctx context.Context, who ground.Actor, slug string, number int, in api.BackWave) (*api.Move, error) {
	row, err := g.openMove(ctx, slug)
	if err != nil {
		return nil, err
	}
	if _, err := g.backWave(ctx, who, row, number,
		words.FirstOf(words.Clip(strings.TrimSpace(in.Reason), 1000), "taken back by "+who.Name)); err != nil {
		return nil, err
	}
	return g.Move(ctx, slug)
}

// backWave takes a wave back, once; it reports whether it was this call that did.
func (g *Room) backWave(ctx context.Context, who ground.Actor, row *store.Move, number int, why string) (bool, error) {
	from, err := g.partners.ProviderByID(ctx, row.FromID)
	if err != nil {
		return false, err
	}
	to, err := g.partners.ProviderByID(ctx, row.ToID)
	if err != nil {
		return false, err
	}
	now := g.Now().UTC()
	who.Remark, who.Approved = fmt.Sprintf("move %s, wave %d goes back: %s", row.Name, number, why), true
	did := false
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		done := tx.Model(&store.MoveWave{}).
			Where("move_id = ? AND number = ? AND state IN ?", row.ID, number, []string{partners.WaveOpen, WaveSettled}).
			Updates(map[string]any{"state": WaveBack, "ended_at": now, "note": why})
		if done.Error != nil || done.RowsAffected == 0 {
			return done.Error
		}
		did = true
		var apps []store.MoveApplication
		if err := tx.Where("move_id = ? AND wave = ? AND state = ?", row.ID, number, AppMoved).Find(&apps).Error; err != nil {
			return err
		}
		for _, m := range apps {
			if err := g.bringBack(tx, now, who, &m, from.Slug, to.Slug); err != nil {
				return err
			}
		}
		if err := ground.Journal(tx, now, who, "took back a wave of", "move", row.ID, row.Name, "",
			fmt.Sprintf("wave %d: %s", number, why)); err != nil {
			return err
		}
		return store.Changed(tx)
	})
	if err == nil && !did && who.Kind != ground.System.Kind {
		err = ground.Conflict(
			"wave-not-open",
			fmt.Sprintf("Wave %d is neither open nor settled, so there is nothing to take back.", number), "",
		)
	}
	return did && err == nil, err
}

// bringBack gives an application the providers that it had. Where they were changed by hand since, only the new
// provider gives way to the old one.
func (g *Room) bringBack(tx *gorm.DB, now time.Time, who ground.Actor, m *store.MoveApplication, from, to string) error {
	note := func([]string) error {
		return tx.Model(&store.MoveApplication{}).
			Where("move_id = ? AND application_id = ?", m.MoveID, m.ApplicationID).
			Updates(map[string]any{"state": AppBack, "moved_at": nil}).
			Error
	}
	before, err := ground.DecodeBody[[]string](words.FirstOf(m.Before, "null"))
	if err != nil {
		return err
	}
	row, err := store.One[store.Application](tx, "id = ?", m.ApplicationID)
	if err != nil {
		return err
	}
	if row.ID == "" {
		return note(nil)
	}
	a, err := ground.DecodeBody[config.Application](row.Body)
	if err != nil {
		return err
	}
	moved := slices.Clone(before)
	if at := slices.Index(moved, from); at >= 0 {
		if slices.Contains(moved, to) {
			moved = slices.Delete(moved, at, at+1)
		} else {
			moved[at] = to
		}
	}
	if !slices.Equal(a.Providers, moved) {
		return g.exchangeProvider(tx, now, who, m.ApplicationID, to, from, note)
	}
	a.Providers = before
	if err := a.Validate(); err != nil {
		return ground.Invalid(err)
	}
	if err := g.configuration.WriteApplication(tx, now, who, row.Slug, a, 0); err != nil {
		return err
	}
	return note(nil)
}

// MovesDue opens waves whose window has come, and settles those whose window has closed.
func (g *Room) MovesDue(ctx context.Context) error {
	now := g.Now().UTC()
	var rows []store.MoveWave
	if err := g.Store.Read(ctx).Where("state = ? AND closes_at <= ? OR state = ? AND opens_at IS NOT NULL AND opens_at <= ?",
		partners.WaveOpen, now, WavePlanned, now).Limit(50).Find(&rows).Error; err != nil {
		return store.Clear(err)
	}
	for _, w := range rows {
		key := fmt.Sprintf("wave/%s/%d", w.MoveID, w.Number)
		what := fmt.Sprintf("Opening or settling wave %d of a move", w.Number)
		if err := g.Attempt(ctx, key, what, func() error { return g.waveDue(ctx, w, now) }); err != nil && !ground.IsNotFound(err) {
			return err
		}
	}
	return nil
}

// waveDue settles a wave whose window is over, or opens one whose time has come; where it can't be opened, it is planned no
// more, with the reason.
func (g *Room) waveDue(ctx context.Context, w store.MoveWave, now time.Time) error {
	m, err := store.One[store.Move](g.Store.Read(ctx), "id = ? AND state = ?", w.MoveID, partners.MoveOpen)
	if err != nil || m.ID == "" {
		return err
	}
	if w.State == partners.WaveOpen {
		return g.settleWave(ctx, &m, w.Number)
	}
	who := ground.Actor{ID: ground.System.ID, Name: w.PlannedBy, Role: ground.RoleOwner, Kind: ground.System.Kind, From: "in the window"}
	err = g.waveReady(ctx, &m, w.Number)
	if err == nil && w.ClosesAt != nil && !now.Before(*w.ClosesAt) {
		err = ground.Conflict("window-over", "Its window went by while the service did not run, or could not open it.", "")
	}
	if err == nil {
		closes := now.Add(waveLength)
		if w.ClosesAt != nil {
			closes = *w.ClosesAt
		}
		err = g.openWave(ctx, who, &m, w.Number, closes)
	}
	if err == nil || !ground.Refused(err) {
		return err
	}
	why := "not opened: " + words.Clip(err.Error(), 900)
	if err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		left := tx.Model(&store.MoveWave{}).Where("move_id = ? AND number = ? AND state = ?", m.ID, w.Number,
			WavePlanned).Updates(map[string]any{"opens_at": nil, "closes_at": nil, "note": why})
		if left.Error != nil || left.RowsAffected == 0 {
			return left.Error // another process has opened it
		}
		return ground.Journal(tx, now, ground.System, "could not open a wave of", "move", m.ID, m.Name, "",
			fmt.Sprintf("wave %d: %s", w.Number, why))
	}); err != nil {
		return err
	}
	g.Log.WarnContext(ctx, "a wave was not opened", "move", m.Slug, "wave", w.Number, "reason", why)
	return nil
}

// settleWave ends a wave's window: what has moved stays.
func (g *Room) settleWave(ctx context.Context, m *store.Move, number int) error {
	now := g.Now().UTC()
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		done := tx.Model(&store.MoveWave{}).
			Where("move_id = ? AND number = ? AND state = ?", m.ID, number, partners.WaveOpen).
			Updates(map[string]any{"state": WaveSettled, "ended_at": now})
		if done.Error != nil || done.RowsAffected == 0 {
			return done.Error
		}
		if err := ground.Journal(tx, now, ground.System, "settled a wave of", "move", m.ID, m.Name, "",
			fmt.Sprintf("wave %d", number)); err != nil {
			return err
		}
		return store.Changed(tx)
	})
}

// countInWave notes what came of a sign-in while a wave is open, and takes the wave back when that is more than it
// bears.
func (g *Room) countInWave(ctx context.Context, m *partners.ActiveMove, column string) {
	if !m.WaveOpen {
		return
	}
	var w store.MoveWave
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		if _, err := store.Exec(tx, "UPDATE move_waves SET "+column+" = "+column+
			" + 1 WHERE move_id = ? AND number = ? AND state = 'open'", m.Move.ID, m.Wave); err != nil {
			return err
		}
		return tx.Where("move_id = ? AND number = ?", m.Move.ID, m.Wave).Take(&w).Error
	})
	if err != nil {
		g.Log.ErrorContext(ctx, "what came of a sign-in in a wave could not be noted", "move", m.Move.Slug, "error", err)
		return
	}
	why := moves.Limits{
		Failures:    w.Failures,
		Differences: w.Differences,
	}.Over(
		moves.Count{SignedIn: w.SignedIn, Failed: w.Failed, Differed: w.Differed},
	)
	if why == "" || w.State != partners.WaveOpen {
		return
	}
	did, err := g.backWave(ctx, ground.System, &m.Move, m.Wave, why)
	if err != nil {
		g.Log.ErrorContext(ctx, "a wave that must go back could not be taken back", "move", m.Move.Slug, "wave", m.Wave, "error", err)
	} else if did {
		g.Log.WarnContext(ctx, "a wave went back by itself", "move", m.Move.Slug, "wave", m.Wave, "reason", why)
	}
}
