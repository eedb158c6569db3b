package partners

import (
	"context"
	"encoding/json"
	"slices"
	"time"

	"innergate/core/access"
	"innergate/store"
)

// How a move, its waves and its applications stand.
const (
	MoveOpen = "open"
	WaveOpen = "open"
)

// UsedLately is how far back a sign-in says that somebody uses an application.
const UsedLately = 30 * 24 * time.Hour

// ActiveMove is an application that is being moved, as sign-ins see it.
type ActiveMove struct {
	Move     store.Move
	Wave     int
	state    string
	WaveOpen bool
	Circle   *access.Circle
}

// StillServes says whether sign-ins to an application that a provider vouched for go on: it is among its providers, or
// the application is being moved from or to it. Who has signed in before a wave opens, or while it goes back, is not
// put out because of that.
func (g *Room) StillServes(ctx context.Context, app *Application, p *Provider) (bool, error) {
	if app == nil || p == nil {
		return false, nil
	}
	if slices.Contains(app.Providers, p.Slug) {
		return true, nil
	}
	m, err := g.Moving(ctx, app.ID)
	return err == nil && m != nil && (m.Move.FromID == p.ID || m.Move.ToID == p.ID), err
}

// ServesYet is stillServes where a failure is no reason to let somebody in.
func (g *Room) ServesYet(ctx context.Context, app *Application, p *Provider) bool {
	ok, err := g.StillServes(ctx, app, p)
	return ok && err == nil
}

// Moving finds the move that an application is in, or nothing. It is held with the configuration.
func (g *Room) Moving(ctx context.Context, applicationID string) (*ActiveMove, error) {
	c, err := g.Cache(ctx)
	if err != nil {
		return nil, err
	}
	held, _ := c.Moves.Load().(*map[string]*ActiveMove)
	if held == nil {
		found := map[string]*ActiveMove{}
		var rows []struct {
			store.Move
			ApplicationID, AppState, WaveState string
			Wave                               int
		}
		if err := g.Store.Read(ctx).Raw("SELECT m.*, a.application_id, a.wave, a.state AS app_state, w.state AS wave_state FROM "+
			"move_applications a JOIN moves m ON m.id = a.move_id LEFT JOIN move_waves w ON w.move_id = a.move_id AND w.number = "+
			"a.wave WHERE m.state = ?", MoveOpen).Scan(&rows).Error; err != nil {
			return nil, store.Clear(err)
		}
		for _, r := range rows {
			m := &ActiveMove{Move: r.Move, Wave: r.Wave, state: r.AppState, WaveOpen: r.WaveState == WaveOpen}
			if r.Circle != "" {
				m.Circle = &access.Circle{}
				if err := json.Unmarshal([]byte(r.Circle), m.Circle); err != nil {
					return nil, err
				}
			}
			found[r.ApplicationID] = m
		}
		held = &found
		c.Moves.Store(held)
	}
	return (*held)[applicationID], nil
}
