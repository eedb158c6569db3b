package moves

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/config"
	"innergate/core/moves"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/store"
)

// How a move, its waves and its applications stand.
const (
	MoveDone    = "done"
	MoveOver    = "given up"
	WavePlanned = "planned"
	WaveSettled = "settled"
	WaveBack    = "back"
	AppWaiting  = "waiting"
	AppMoved    = "moved"
	AppBack     = "back"
)

const (
	moveApps   = 1000
	moveWaves  = 50
	waveLength = time.Hour
)

// NewMove plans a move. Nothing of the applications changes until a wave is opened.
func (g *Room) NewMove(ctx context.Context, who ground.Actor, in api.NewMove) (*api.Move, error) {
	in.Name = strings.TrimSpace(in.Name)
	if in.Slug == "" {
		in.Slug = config.Slug(in.Name)
	}
	if in.Name == "" || len(in.Name) > 200 || !config.SlugFits(in.Slug) {
		return nil, ground.BadRequest(
			"name", "A move needs a name of 1 to 200 characters, and a short name of small letters, digits and dashes.",
			"",
		)
	}
	from, err := g.partners.Provider(ctx, in.From)
	if err != nil {
		return nil, err
	}
	to, err := g.partners.Provider(ctx, in.To)
	if err != nil {
		return nil, err
	}
	if from.ID == to.ID {
		return nil, ground.BadRequest("same-provider", "A move leads from one provider to another; this is the same one twice.", "")
	}
	if in.Circle != nil {
		if err := in.Circle.Check(); err != nil {
			return nil, ground.BadRequest("circle", words.Capitalise(err.Error())+".", "")
		}
	}
	var apps []store.Application
	if len(in.Applications) == 0 {
		if err := partners.UsedBy(g.Store.Read(ctx), from.Slug).Order("name").Limit(moveApps + 1).Find(&apps).Error; err != nil {
			return nil, store.Clear(err)
		}
	}
	for _, slug := range in.Applications {
		a, err := g.partners.Application(ctx, slug)
		if err != nil {
			return nil, err
		}
		if !slices.Contains(a.Providers, from.Slug) {
			return nil, ground.BadRequest(
				"not-used",
				fmt.Sprintf("People don't sign in to %s with %s, so there is nothing to move.", a.Name, from.Name), "",
			)
		}
		apps = append(apps, store.Application{Object: store.Object{ID: a.ID}})
	}
	switch {
	case len(apps) == 0:
		return nil, ground.BadRequest("nothing-to-move", "No application has "+from.Name+" among its providers.", "")
	case len(apps) > moveApps:
		return nil, ground.BadRequest(
			"too-many", fmt.Sprintf("A move has %d applications at most.", moveApps),
			"Name some of them, and make several moves.",
		)
	}
	now := g.Now().UTC()
	row := store.Move{
		ID:        store.NewIDAt(now),
		Slug:      in.Slug,
		Name:      in.Name,
		Remark:    words.Clip(strings.TrimSpace(in.Remark), 1000),
		FromID:    from.ID,
		ToID:      to.ID,
		State:     partners.MoveOpen,
		By:        who.Name,
		CreatedAt: now,
	}
	if in.Circle != nil {
		row.Circle = ground.MustJSON(in.Circle)
	}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		for _, a := range apps {
			var busy struct{ Name string }
			if err := tx.Raw("SELECT name FROM moves WHERE state = ? AND id IN (SELECT move_id FROM move_applications WHERE "+
				"application_id = ?) LIMIT 1", partners.MoveOpen, a.ID).Scan(&busy).Error; err != nil {
				return err
			}
			if busy.Name != "" {
				return ground.Conflict(
					"already-moving", fmt.Sprintf("An application of these is in the move %q already.", busy.Name),
					"End that move first, or leave the application out.",
				)
			}
			if err := tx.Create(&store.MoveApplication{MoveID: row.ID, ApplicationID: a.ID, Wave: 1, State: AppWaiting}).Error; err != nil {
				return err
			}
		}
		if err := tx.Create(&row).Error; err != nil {
			return err
		}
		if err := tx.Create(&store.MoveWave{MoveID: row.ID, Number: 1, State: WavePlanned, Failures: 3,
			PlannedBy: who.Name, PlannedByID: who.Human()}).Error; err != nil {
			return err
		}
		if err := ground.Journal(tx, now, who, "planned", "move", row.ID, row.Name, "", ground.MustJSON(in)); err != nil {
			return err
		}
		return store.Changed(tx)
	})
	if errors.Is(err, store.ErrDuplicate) {
		return nil, ground.Problem(
			http.StatusConflict, "slug-taken", "The short name is taken",
			"There is a move with the short name "+in.Slug+" already.", "Choose another name.",
		)
	}
	if err != nil {
		return nil, err
	}
	return g.Move(ctx, in.Slug)
}

func (g *Room) moveRow(ctx context.Context, slug string) (*store.Move, error) {
	var row store.Move
	if err := g.Store.Read(ctx).Where("slug = ?", slug).Take(&row).Error; err != nil {
		return nil, ground.Missing(err, "move", slug)
	}
	return &row, nil
}

func (g *Room) openMove(ctx context.Context, slug string) (*store.Move, error) {
	row, err := g.moveRow(ctx, slug)
	if err == nil && row.State != partners.MoveOpen {
		err = ground.Conflict("move-over", "The move "+row.Name+" is "+row.State+".", "Plan another one.")
	}
	return row, err
}

// Moves lists them, the newest first.
func (g *Room) Moves(ctx context.Context) (*api.List[api.MoveLine], error) {
	var rows []store.Move
	if err := g.Store.Read(ctx).Order("id DESC").Limit(200).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := &api.List[api.MoveLine]{Items: []api.MoveLine{}}
	for i := range rows {
		l, err := g.moveLine(ctx, &rows[i])
		if err != nil {
			return nil, err
		}
		out.Items = append(out.Items, *l)
	}
	return out, nil
}

func (g *Room) moveLine(ctx context.Context, row *store.Move) (*api.MoveLine, error) {
	from, err := g.Reference(ctx, "provider", row.FromID)
	if err != nil {
		return nil, err
	}
	to, err := g.Reference(ctx, "provider", row.ToID)
	if err != nil {
		return nil, err
	}
	l := &api.MoveLine{Slug: row.Slug, Name: row.Name, From: *from, To: *to, State: row.State, By: row.By, Created: row.CreatedAt}
	err = g.Store.Read(ctx).
		Raw("SELECT count(*) AS applications, coalesce(sum(state = 'moved'), 0) AS moved FROM move_applications WHERE move_id = ?", row.ID).
		Row().
		Scan(&l.Applications, &l.Moved)
	return l, store.Clear(err)
}

// Move shows one with its waves, and each application's usage and readiness.
func (g *Room) Move(ctx context.Context, slug string) (*api.Move, error) {
	row, err := g.moveRow(ctx, slug)
	if err != nil {
		return nil, err
	}
	line, err := g.moveLine(ctx, row)
	if err != nil {
		return nil, err
	}
	out := &api.Move{MoveLine: *line, Remark: row.Remark, Waves: []api.Wave{}, Apps: []api.MoveApplication{}}
	if row.Circle != "" {
		c, err := ground.DecodeBody[access.Circle](row.Circle)
		if err != nil {
			return nil, err
		}
		out.Circle = &c
	}
	review, err := g.changes.ReviewRules(ctx)
	if err != nil {
		return nil, err
	}
	var waves []store.MoveWave
	if err := g.Store.Read(ctx).Where("move_id = ?", row.ID).Order("number").Find(&waves).Error; err != nil {
		return nil, store.Clear(err)
	}
	for _, w := range waves {
		out.Waves = append(
			out.Waves,
			api.Wave{
				Number:      w.Number,
				State:       w.State,
				Opens:       w.OpensAt,
				Closes:      w.ClosesAt,
				Limits:      moves.Limits{Failures: w.Failures, Differences: w.Differences},
				Count:       moves.Count{SignedIn: w.SignedIn, Failed: w.Failed, Differed: w.Differed},
				PlannedBy:   w.PlannedBy,
				ApprovedBy:  w.ApprovedBy,
				NeedsSecond: review.Second && w.ApprovedBy == "",
				Opened:      w.OpenedAt,
				Ended:       w.EndedAt,
				Note:        w.Note,
			},
		)
	}
	var apps []store.MoveApplication
	if err := g.Store.Read(ctx).Where("move_id = ?", row.ID).Find(&apps).Error; err != nil {
		return nil, store.Clear(err)
	}
	for i := range apps {
		a, err := g.moveApplication(ctx, row, &apps[i])
		if err != nil {
			return nil, err
		}
		if a != nil {
			out.Apps = append(out.Apps, *a)
		}
	}
	slices.SortFunc(out.Apps, func(a, b api.MoveApplication) int {
		if a.Wave != b.Wave {
			return a.Wave - b.Wave
		}
		return strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name))
	})
	return out, nil
}

// PlanWave puts applications into a wave, and says when it opens and what it bears.
func (g *Room) PlanWave(ctx context.Context, who ground.Actor, slug string, number int, in api.PlanWave) (*api.Move, error) {
	row, err := g.openMove(ctx, slug)
	if err != nil {
		return nil, err
	}
	if number < 1 || number > moveWaves {
		return nil, ground.BadRequest("wave", fmt.Sprintf("Waves are numbered from 1 to %d.", moveWaves), "")
	}
	if in.Limits != nil && (in.Limits.Failures < 0 || in.Limits.Differences < 0) {
		return nil, ground.BadRequest("limits", "A wave can't bear less than nothing.", "")
	}
	if in.Closes != nil && in.Opens == nil {
		return nil, ground.BadRequest("window", "A window that closes has to open first.", "Say when it opens as well.")
	}
	if in.Opens != nil {
		if in.Closes == nil {
			end := in.Opens.Add(waveLength)
			in.Closes = &end
		}
		if !in.Closes.After(*in.Opens) || !in.Closes.After(g.Now()) {
			return nil, ground.BadRequest("window", "The window ends before it begins, or is over.", "")
		}
	}
	var ids []string
	for _, s := range in.Applications {
		a, err := g.partners.Application(ctx, s)
		if err != nil {
			return nil, err
		}
		ids = append(ids, a.ID)
	}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		w, err := store.One[store.MoveWave](tx, "move_id = ? AND number = ?", row.ID, number)
		if err != nil {
			return err
		}
		if w.Number == 0 {
			w = store.MoveWave{MoveID: row.ID, Number: number, State: WavePlanned, Failures: 3}
		}
		if w.State == partners.WaveOpen {
			return ground.Conflict(
				"wave-open", fmt.Sprintf("Wave %d is open.", number),
				"Take it back, or wait until its window has closed.",
			)
		}
		// Whoever approved it has to look at it again. A wave that went back is planned anew.
		w.PlannedByID = who.Human()
		w.State, w.PlannedBy, w.ApprovedBy, w.SignedIn, w.Failed, w.Differed, w.Note, w.OpenedAt, w.EndedAt = WavePlanned, who.Name, "",
			0, 0, 0, "", nil, nil
		w.OpensAt, w.ClosesAt = ground.UTCOf(in.Opens), ground.UTCOf(in.Closes)
		if in.Limits != nil {
			w.Failures, w.Differences = in.Limits.Failures, in.Limits.Differences
		}
		if err := tx.Save(&w).Error; err != nil {
			return err
		}
		for _, id := range ids {
			done := tx.Model(&store.MoveApplication{}).
				Where("move_id = ? AND application_id = ? AND state <> ?", row.ID, id, AppMoved).
				Updates(map[string]any{"wave": number, "state": AppWaiting})
			if done.Error != nil {
				return done.Error
			}
			if done.RowsAffected == 0 {
				return ground.BadRequest("not-in-move", "One of these applications is not in the move, or has moved already.", "")
			}
		}
		return ground.Journal(
			tx, g.Now(), who, "planned a wave of", "move", row.ID, row.Name, "",
			fmt.Sprintf("wave %d: %s", number, ground.MustJSON(in)),
		)
	})
	if err != nil {
		return nil, err
	}
	return g.Move(ctx, slug)
}

// EndMove ends a move: when nothing of it waits it is done, else it is given up. What has moved stays moved.
func (g *Room) EndMove(ctx context.Context, who ground.Actor, slug string) error {
	row, err := g.openMove(ctx, slug)
	if err != nil {
		return err
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		var open, waiting int64
		if err := tx.Model(&store.MoveWave{}).Where("move_id = ? AND state = ?", row.ID, partners.WaveOpen).Count(&open).Error; err != nil {
			return err
		}
		if open > 0 {
			return ground.Conflict("wave-open", "A wave of the move is open.", "Take it back, or wait until its window has closed.")
		}
		if err := tx.Model(&store.MoveApplication{}).Where("move_id = ? AND state <> ?", row.ID,
			AppMoved).Count(&waiting).Error; err != nil {
			return err
		}
		state := MoveDone
		if waiting > 0 {
			state = MoveOver
		}
		now := g.Now().UTC()
		if err := tx.Model(&store.Move{}).Where("id = ?", row.ID).Updates(map[string]any{"state": state,
			"ended_at": now}).Error; err != nil {
			return err
		}
		// What people got through either provider was kept for comparing, and for nothing else.
		for _, model := range []any{&store.MoveSample{}, &store.MoveTrial{}} {
			if err := tx.Where("move_id = ?", row.ID).Delete(model).Error; err != nil {
				return err
			}
		}
		if err := ground.Journal(tx, now, who, "ended", "move", row.ID, row.Name, "", state); err != nil {
			return err
		}
		return store.Changed(tx)
	})
}

// ApproveWave is a second person's word for a wave.
func (g *Room) ApproveWave(ctx context.Context, who ground.Actor, slug string, number int) (*api.Move, error) {
	row, err := g.openMove(ctx, slug)
	if err != nil {
		return nil, err
	}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		w, err := waveIn(tx, row, number)
		if err != nil {
			return err
		}
		switch {
		case w.State != WavePlanned:
			return ground.Conflict("wave-over", fmt.Sprintf("Wave %d is %s.", number, w.State), "")
		case who.Is(w.PlannedByID, w.PlannedBy):
			return ground.Problem(
				http.StatusForbidden, "own-proposal", "A second person must look at it",
				"You planned this wave yourself.", "Ask somebody else with the role engineer.",
			)
		}
		if err := tx.Model(w).Where("move_id = ? AND number = ?", row.ID, number).Update("approved_by", who.Name).Error; err != nil {
			return err
		}
		return ground.Journal(tx, g.Now(), who, "approved a wave of", "move", row.ID, row.Name, "", fmt.Sprintf("wave %d", number))
	})
	if err != nil {
		return nil, err
	}
	return g.Move(ctx, slug)
}

func waveIn(tx *gorm.DB, row *store.Move, number int) (*store.MoveWave, error) {
	w, err := store.One[store.MoveWave](tx, "move_id = ? AND number = ?", row.ID, number)
	if err != nil {
		return nil, err
	}
	if w.Number == 0 {
		return nil, ground.NotFound("wave", fmt.Sprintf("%d of %s", number, row.Name))
	}
	return &w, nil
}
