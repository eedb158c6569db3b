package traces

import (
	"bytes"
	"cmp"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/store"
)

// ReportFilter narrows a report. Zero values narrow nothing.
type ReportFilter struct {
	Side                          string // application or provider
	Search, Kind, Provider, Owner string
	Reach, Tag                    string
	// Expires is within how many days a certificate ends, Unused for how many days nobody has signed in.
	Expires, Unused int
	// Findings leaves only what something was found about.
	Findings bool
	Sort     string
	Offset   int
	Limit    int
}

const reportLimit = 100

var reportColumns = map[string]string{
	"name":      "name COLLATE NOCASE",
	"kind":      "kind",
	"owner":     "owner COLLATE NOCASE",
	"reach":     "reach",
	"expires":   "CASE WHEN ends IS NULL THEN 1 ELSE 0 END, ends",
	"last":      "last_sign_in",
	"people":    "people",
	"findings":  "broken DESC, attention",
	"providers": "providers",
	"signins":   "signed",
}

func (g *Room) reportQuery(f ReportFilter, counts string) (string, map[string]any, error) {
	table, peopleOf, served := "applications", "SELECT count(*) FROM accounts WHERE application_id = o.id",
		"coalesce(json_extract(o.body, '$.providers'), '[]')"
	if f.Side == "provider" {
		table, peopleOf = "providers", "SELECT count(*) FROM (SELECT DISTINCT person_id FROM links WHERE provider_id = o.id)"
		served = "(SELECT coalesce(json_group_array(a.slug), '[]') FROM uses u JOIN applications a ON a.id = u.application_id WHERE " +
			"u.provider = o.slug)"
	} else if f.Side != "application" {
		return "", nil, ground.BadRequest("side", fmt.Sprintf("%q is no side; application and provider are.", f.Side), "")
	}
	q := `SELECT o.id, o.slug, o.name, o.kind, o.reach, coalesce(json_extract(o.body, '$.contact'), '') AS owner,
		coalesce(json_extract(o.body, '$.tags'), '[]') AS tags, ` + served + ` AS providers, o.last_sign_in, o.updated_at,
		(SELECT min(not_after) FROM trusted_certificates c WHERE c.owner_kind = @side AND c.owner_id = o.id) AS ends, (` + peopleOf + `)
			AS people,
		coalesce(s.n, 0) AS signed,
		(SELECT count(*) FROM kept_findings k WHERE k.kind = @side AND k.owner_id = o.id AND k.gone_at IS NULL AND k.severity = 'broken'
			AND (k.accepted_until IS NULL OR k.accepted_until <= @now)) AS broken,
		(SELECT count(*) FROM kept_findings k WHERE k.kind = @side AND k.owner_id = o.id AND k.gone_at IS NULL AND k.severity =
			'attention' AND (k.accepted_until IS NULL OR k.accepted_until <= @now)) AS attention
		FROM ` + table + ` o LEFT JOIN counted s ON s.id = o.id`
	now := g.Now().UTC()
	args := map[string]any{"side": f.Side, "now": now, "counts": counts}
	var where []string
	add := func(condition, name string, value any) {
		where = append(where, condition)
		args[name] = value
	}
	like := func(v string) string { return "%" + strings.NewReplacer("%", "", "_", "").Replace(v) + "%" }
	if f.Search != "" {
		add("(name LIKE @search OR slug LIKE @search OR owner LIKE @search)", "search", like(f.Search))
	}
	if f.Kind != "" {
		add("kind = @kind", "kind", f.Kind)
	}
	if f.Reach != "" {
		add("reach = @reach", "reach", f.Reach)
	}
	if f.Owner != "" {
		add("owner LIKE @owner", "owner", like(f.Owner))
	}
	if f.Tag != "" {
		add("EXISTS (SELECT 1 FROM json_each(tags) WHERE value = @tag)", "tag", f.Tag)
	}
	if f.Provider != "" {
		add("EXISTS (SELECT 1 FROM json_each(providers) WHERE value = @provider)", "provider", f.Provider)
	}
	if f.Expires > 0 {
		add("ends <= @ends", "ends", now.AddDate(0, 0, f.Expires))
	}
	if f.Unused > 0 {
		add("(last_sign_in IS NULL OR last_sign_in < @unused)", "unused", now.AddDate(0, 0, -f.Unused))
	}
	if f.Findings {
		where = append(where, "broken + attention > 0")
	}
	q = "WITH counted(id, n) AS MATERIALIZED (SELECT key, value FROM json_each(@counts)) SELECT * FROM (" + q + ")"
	if len(where) > 0 {
		q += " WHERE " + strings.Join(where, " AND ")
	}
	name, order := strings.TrimPrefix(f.Sort, "-"), "ASC"
	if name == "" {
		name = "name"
	}
	column, ok := reportColumns[name]
	if !ok {
		return "", nil, ground.BadRequest("sort", fmt.Sprintf("The report can't be sorted by %q.", name), "")
	}
	if strings.HasPrefix(f.Sort, "-") {
		order = "DESC"
	}
	return q + " ORDER BY " + column + " " + order + ", name COLLATE NOCASE, id", args, nil
}

// Report lists applications or providers with what an owner or auditor asks about them. The database is asked once for all of
// them; what the head of the page says is counted here.
func (g *Room) Report(ctx context.Context, f ReportFilter) (*api.Report, error) {
	if f.Limit <= 0 || f.Limit > 500 {
		f.Limit = reportLimit
	}
	rows, err := g.reportLines(ctx, f)
	if err != nil {
		return nil, err
	}
	out := &api.Report{Items: []api.ReportLine{}, By: map[string]map[string]int{}, At: g.Now().UTC(), Count: len(rows)}
	for _, by := range []string{"kind", "reach", "owner", "providers"} {
		out.By[by] = map[string]int{}
	}
	for _, r := range rows {
		out.By["kind"][r.Kind]++
		out.By["reach"][r.Reach]++
		out.By["owner"][r.Owner]++
		for _, p := range r.Providers {
			out.By["providers"][p]++
		}
	}
	for _, counts := range out.By {
		keepMost(counts, 20)
	}
	from := min(f.Offset, len(rows))
	until := min(from+f.Limit, len(rows))
	if until < len(rows) {
		out.Next = strconv.Itoa(until)
	}
	out.Items = append(out.Items, rows[from:until]...)
	return out, nil
}

// reportLines are all lines that a filter leaves.
func (g *Room) reportLines(ctx context.Context, f ReportFilter) ([]api.ReportLine, error) {
	counts, err := g.signedInBy(ctx, f.Side)
	if err != nil {
		return nil, err
	}
	q, args, err := g.reportQuery(f, counts)
	if err != nil {
		return nil, err
	}
	db, done := g.Store.Long(ctx)
	defer done()
	return reportRows(db, q, args)
}

// signedInBy counts the sign-ins of late that went well, by application or provider: a JSON object, for the statement over these.
func (g *Room) signedInBy(ctx context.Context, side string) (string, error) {
	column := "application_id"
	if side == "provider" {
		column = "provider_id"
	}
	db, done := g.Store.Traces.Long(ctx)
	defer done()
	counts, err := g.CountAll(ctx, db.Model(&store.SignInCount{}).Select(column+" AS id, sum(count) AS n").
		Where("outcome = 'signed-in' AND hour >= ?", g.Now().UTC().Add(-partners.UsedLately)).Group(column))
	if err != nil {
		return "", err
	}
	text, err := json.Marshal(counts)
	return string(text), err
}

// keepMost leaves the values that are counted most.
func keepMost(counts map[string]int, most int) {
	values := slices.SortedFunc(maps.Keys(counts), func(a, b string) int {
		return cmp.Or(cmp.Compare(counts[b], counts[a]), strings.Compare(a, b))
	})
	for _, v := range values[min(most, len(values)):] {
		delete(counts, v)
	}
}

func reportRows(db *gorm.DB, q string, args map[string]any) ([]api.ReportLine, error) {
	var rows []struct {
		Slug, Name, Kind, Reach, Owner, Tags, Providers string
		LastSignIn                                      *time.Time
		UpdatedAt                                       time.Time
		Ends                                            *string
		People, Signed                                  int64
		Broken, Attention                               int
	}
	if err := db.Raw(q, args).Scan(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	var out []api.ReportLine
	for _, r := range rows {
		l := api.ReportLine{
			Slug:       r.Slug,
			Name:       r.Name,
			Kind:       r.Kind,
			Reach:      r.Reach,
			Owner:      r.Owner,
			LastSignIn: r.LastSignIn,
			Changed:    r.UpdatedAt,
			People:     r.People,
			SignIns:    r.Signed,
			Broken:     r.Broken,
			Attention:  r.Attention,
			Providers:  []string{},
			Tags:       []string{},
		}
		if err := json.Unmarshal([]byte(r.Providers), &l.Providers); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(r.Tags), &l.Tags); err != nil {
			return nil, err
		}
		if r.Ends != nil {
			if t, err := time.Parse("2006-01-02 15:04:05.999999999-07:00", *r.Ends); err == nil {
				l.Expires = &t
			}
		}
		out = append(out, l)
	}
	return out, nil
}

// ReportCSV is the whole report as a table for a spreadsheet.
func (g *Room) ReportCSV(ctx context.Context, f ReportFilter) ([]byte, error) {
	rows, err := g.reportLines(ctx, f)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	other := "providers"
	if f.Side == "provider" {
		other = "applications"
	}
	if err := w.Write([]string{"short_name", "name", "kind", "reach", "owner", "tags", other, "certificate_ends", "last_sign_in",
		"sign_ins_30_days", "people", "broken", "attention", "changed"}); err != nil {
		return nil, err
	}
	for _, r := range rows {
		cells := []string{
			r.Slug,
			r.Name,
			r.Kind,
			r.Reach,
			r.Owner,
			strings.Join(r.Tags, " "),
			strings.Join(r.Providers, " "),
			day(r.Expires),
			day(r.LastSignIn),
			strconv.FormatInt(r.SignIns, 10),
			strconv.FormatInt(r.People, 10),
			strconv.Itoa(r.Broken),
			strconv.Itoa(r.Attention),
			day(&r.Changed),
		}
		for i := range cells {
			cells[i] = plainCell(cells[i])
		}
		if err := w.Write(cells); err != nil {
			return nil, err
		}
	}
	w.Flush()
	return b.Bytes(), w.Error()
}

func day(t *time.Time) string {
	if t == nil {
		return ""
	}
	return t.UTC().Format("2006-01-02 15:04")
}

// plainCell keeps a spreadsheet from taking a name for a formula.
func plainCell(v string) string {
	if v != "" && slices.Contains([]byte("=+-@\t\r"), v[0]) {
		return "'" + v
	}
	return v
}
