package gate

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"innergate/core/checkup"
	"innergate/core/explain"
	"innergate/core/trace"
	"innergate/store"
)

// staleValues finds a partner that was last given values of ours that no longer hold: our public URL changed, or an entity ID of ours. Certificates are the keyring's business.
func (g *Gate) staleValues(ctx context.Context, kind, id, slug, name string) ([]checkup.Finding, error) {
	var rows []store.HandOut
	if err := g.Store.Read(ctx).Where("owner_kind = ? AND owner_id = ?", kind, id).Order("last_at DESC").Limit(1).Find(&rows).Error; err != nil || len(rows) == 0 {
		return nil, store.Clear(err)
	}
	var given []fact
	if err := json.Unmarshal([]byte(rows[0].Body), &given); err != nil {
		return nil, err
	}
	now, _, err := g.sheetFacts(ctx, kind, slug)
	if err != nil {
		return nil, err
	}
	held := map[string][]string{}
	for _, f := range now {
		held[f.Name] = append(held[f.Name], f.Value)
	}
	var evidence []trace.Evidence
	for _, f := range given {
		values := held[f.Name]
		if len(values) == 0 || strings.HasPrefix(f.Name, "certificate") || slices.Contains(values, f.Value) || origin(f.Value) == "" {
			continue
		}
		evidence = append(evidence, explain.Pair(f.Name, values[0], f.Value))
	}
	if len(evidence) == 0 {
		return nil, nil
	}
	station := checkup.ApplicationTrust
	if kind == "provider" {
		station = checkup.ProviderTrust
	}
	return []checkup.Finding{{Code: "handed-out.stale", Severity: checkup.Broken, Station: station, Title: name + " holds values of ours that no longer hold",
		Detail: fmt.Sprintf("Its side was last given our values (%s) on %s, by %s. Since then %d of them changed, as happens when the gate's public URL or an entity ID of ours changes.", rows[0].What, rows[0].LastAt.UTC().Format("2 Jan 2006"), orNone(rows[0].By), len(evidence)),
		Remedy: "Give the exchange sheet out again. Where a partner fetches our metadata by itself, have it fetch it again.", Evidence: evidence[:min(len(evidence), 12)]}}, nil
}

// traceLoss is what of the traces gave way, so that sign-ins go on.
type traceLoss struct {
	count int64
	last  time.Time
	said  time.Time
	why   string
}

// lost notes that a trace was not kept, and says so in the log, once a minute.
func (g *Gate) lost(ctx context.Context, why string) {
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

// lostTraces finds that traces gave way within the last day.
func (g *Gate) lostTraces() []checkup.Finding {
	g.losses.Lock()
	defer g.losses.Unlock()
	if g.losses.count == 0 || g.Now().Sub(g.losses.last) > 24*time.Hour {
		return nil
	}
	return []checkup.Finding{{Code: "traces.lost", Severity: checkup.Attention, Station: checkup.Access, Title: "Some sign-ins left no trace", Detail: fmt.Sprintf("%d traces were not kept since the service started, the last at %s: %s. The sign-ins themselves went on as they would have.", g.losses.count, g.losses.last.UTC().Format(time.RFC3339), g.losses.why),
		Remedy: "Look at where the failing sign-ins come from; if the disk is full, make room.", Evidence: []trace.Evidence{explain.Fact("reason", g.losses.why)}}}
}
