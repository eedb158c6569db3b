package traces

import (
	"context"
	"fmt"
	"time"

	"innergate/core/checkup"
	"innergate/core/explain"
	"innergate/core/trace"
)

// traceLoss is what of the traces gave way, so that sign-ins go on.
type traceLoss struct {
	count int64
	last  time.Time
	said  time.Time
	why   string
}

// Lost notes that a trace was not kept, and says so in the log, once a minute.
func (g *Room) Lost(ctx context.Context, why string) {
	g.Metrics.TracesLost.Add(1)
	g.losses.Lock()
	defer g.losses.Unlock()
	now := g.Now()
	g.losses.count++
	g.losses.last, g.losses.why = now, why
	if now.Sub(g.losses.said) >= time.Minute {
		g.losses.said = now
		g.Log.WarnContext(ctx, "traces are not kept; sign-ins go on", "reason", why, "so far", g.losses.count)
	}
}

// LostTraces finds that traces gave way within the last day.
func (g *Room) LostTraces() []checkup.Finding {
	g.losses.Lock()
	defer g.losses.Unlock()
	if g.losses.count == 0 || g.Now().Sub(g.losses.last) > 24*time.Hour {
		return nil
	}
	return []checkup.Finding{
		{
			Code:     "traces.lost",
			Severity: checkup.Attention,
			Station:  checkup.Access,
			Title:    "Some sign-ins left no trace",
			Detail: fmt.Sprintf(
				"%d traces were not kept since the service started, the last at %s: %s. The sign-ins themselves went on as they would "+
					"have.",
				g.losses.count,
				g.losses.last.UTC().Format(time.RFC3339),
				g.losses.why,
			),
			Remedy:   "Look at where the failing sign-ins come from; if the disk is full, make room.",
			Evidence: []trace.Evidence{explain.Fact("reason", g.losses.why)},
		},
	}
}
