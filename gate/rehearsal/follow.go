package rehearsal

import (
	"context"
	"time"

	"innergate/api"
	"innergate/gate/traces"
	"innergate/store"
)

// followEvery is how often a follower's trace is looked at.
const followEvery = 200 * time.Millisecond

// FollowRehearsal sends what comes to the traces of a rehearsal, as it comes, until its newest sign-in has ended. Where
// nothing came, send is called without a name.
func (g *Room) FollowRehearsal(ctx context.Context, id string, personal bool, send func(name string, v any) error) error {
	order, err := g.Rehearsal(ctx, id)
	if err != nil {
		return err
	}
	// A rehearsal of several steps ends with the last of them, or with the first that is refused.
	steps := 1
	if order.Second != "" {
		steps++
	}
	if order.SignOut {
		steps++
	}
	last := func(rows []store.Trace) bool {
		return len(rows) >= steps || rows[0].Outcome == traces.OutcomeRefused || rows[0].Outcome == traces.OutcomeNotTakenUp
	}
	sent := map[string]int{} // reference → entries
	tick := time.NewTicker(followEvery)
	defer tick.Stop()
	for {
		rows, err := traces.Gather(ctx, g.traces, g.Store.Traces.Read(ctx).Model(&store.Trace{}).Select("id", "reference", "outcome").
			Where("rehearsal_id = ?", id).Order("id DESC").Limit(steps+1), traces.Newest)
		if err != nil {
			return err
		}
		ended := false
		for i := len(rows) - 1; i >= 0; i-- {
			have, seen := sent[rows[i].Reference]
			if seen && traces.Ended(rows[i].Outcome) && have < 0 {
				ended = i == 0 && last(rows)
				continue
			}
			t, err := g.traces.Trace(ctx, rows[i].Reference, personal)
			if err != nil {
				return err
			}
			if fresh := t.Entries[min(max(have, 0), len(t.Entries)):]; len(fresh) > 0 || !seen || traces.Ended(t.Outcome) {
				if err := send("trace", api.FollowedTrace{TraceSummary: t.TraceSummary, Entries: fresh,
					Explanation: t.Explanation}); err != nil {
					return err
				}
			}
			if sent[rows[i].Reference] = len(t.Entries); traces.Ended(t.Outcome) {
				sent[rows[i].Reference], ended = -1, i == 0 && last(rows)
			}
		}
		if ended {
			return nil
		}
		if err := send("", nil); err != nil {
			return err
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}
