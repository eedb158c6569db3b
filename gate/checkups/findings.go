package checkups

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"innergate/core/address"
	"innergate/core/checkup"
	"innergate/core/explain"
	"innergate/core/sheet"
	"innergate/core/span"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/store"
)

// staleValues finds a partner that was last given values of ours that no longer hold: our public URL changed, or an
// entity ID of ours. Certificates are the keyring's business.
func (g *Room) staleValues(ctx context.Context, kind, id, slug, name string) ([]checkup.Finding, error) {
	var rows []store.HandOut
	if err := g.Store.Read(ctx).Where("owner_kind = ? AND owner_id = ?", kind,
		id).Order("last_at DESC").Limit(1).Find(&rows).Error; err != nil ||
		len(rows) == 0 {
		return nil, store.Clear(err)
	}
	var given []sheet.Fact
	if err := json.Unmarshal([]byte(rows[0].Body), &given); err != nil {
		return nil, err
	}
	now, _, err := g.exchange.SheetFacts(ctx, kind, slug)
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
		if len(values) == 0 || strings.HasPrefix(f.Name, "certificate") || slices.Contains(values, f.Value) ||
			address.Origin(f.Value) == "" {
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
	return []checkup.Finding{
		{Code: "handed-out.stale", Severity: checkup.Broken, Station: station, Title: name + " holds values of ours that no longer hold",
			Detail: fmt.Sprintf(
				"Its side was last given our values (%s) on %s, by %s. Since then %d of them changed, as happens when the gate's "+
					"public URL or an entity ID of ours changes.",
				rows[0].What,
				rows[0].LastAt.UTC().Format("2 Jan 2006"),
				words.OrNone(rows[0].By),
				len(evidence),
			),
			Remedy:   "Give the exchange sheet out again. Where a partner fetches our metadata by itself, have it fetch it again.",
			Evidence: evidence[:min(len(evidence), 12)]},
	}, nil
}

// habits finds what a partner was seen doing since it was set as it is.
func (g *Room) habits(ctx context.Context, kind, id string, since time.Time) ([]checkup.Finding, error) {
	rows, err := g.partners.Seen(ctx, id, since)
	if err != nil {
		return nil, err
	}
	var list []checkup.Habit
	for _, r := range rows {
		i := slices.IndexFunc(list, func(h checkup.Habit) bool { return h.Kind == r.Kind })
		if i < 0 {
			i, list = len(list), append(list, checkup.Habit{Kind: r.Kind})
		}
		list[i].Details, list[i].References = append(list[i].Details, r.Detail), append(list[i].References, r.Reference)
	}
	return checkup.Habits(kind, list), nil
}

// lateFindings finds what was planned and can't be done yet.
func lateFindings(waiting []ground.Late, now time.Time) []checkup.Finding {
	var out []checkup.Finding
	for _, l := range waiting[:min(len(waiting), lateShown)] {
		if now.Sub(l.Since) < lateAfter {
			continue
		}
		out = append(out, checkup.Finding{
			Code:     "planned.late",
			Severity: checkup.Broken,
			Station:  checkup.Access,
			Title:    l.What + " is late",
			Detail: fmt.Sprintf("It has failed %s since %s: %s. It is tried again until it is done.", words.Plural(l.Tries, "time",
				"times"),
				l.Since.UTC().Format(time.RFC3339), strings.TrimSuffix(l.Why, ".")),
			Remedy:   "Look at the disk that holds the data folder, and at what else uses the database.",
			Evidence: []trace.Evidence{explain.Fact("planned", l.What), explain.Fact("reason", l.Why)},
		})
	}
	return out
}

const (
	lateAfter = time.Minute
	lateShown = 20
)

// clockFindings finds that the gate's own clock has jumped.
func clockFindings(j *ground.Jump) []checkup.Finding {
	if j == nil {
		return nil
	}
	return []checkup.Finding{{
		Code:     "gate.clock-jumped",
		Severity: checkup.Attention,
		Station:  checkup.Access,
		Title:    "The gate's clock has jumped",
		Detail: fmt.Sprintf("At %s it was %s. Sessions may have ended before their time, and what partners signed may have seemed to come "+
			"from another time. What was used once stays used.", j.At.Format(time.RFC3339), j.Words()),
		Remedy:   "Have the machine keep its time by NTP, and see that it does not sleep.",
		Evidence: []trace.Evidence{explain.Fact("by", span.Words(j.By.Abs())), explain.Fact("at", j.At.Format(time.RFC3339))},
	}}
}

// CountFindings counts by severity what was found and nobody has accepted.
func (g *Room) CountFindings(ctx context.Context) (map[string]int64, error) {
	var rows []struct {
		Severity string
		N        int64
	}
	err := g.Store.Read(ctx).Model(&store.KeptFinding{}).Select("severity, count(*) AS n").
		Where("gone_at IS NULL AND (accepted_until IS NULL OR accepted_until <= ?)", g.Now().UTC()).Group("severity").Scan(&rows).Error
	out := map[string]int64{}
	for _, r := range rows {
		out[r.Severity] = r.N
	}
	return out, store.Clear(err)
}
