package server_test

import (
	"net/http"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/demo"
	"innergate/server/management"
	"innergate/store"
	"innergate/testbed"
)

// large are the tables that have hundreds of thousands of rows in a store of full size. Applications and providers are not
// among them: reading through ten thousand names takes some milliseconds.
var large = []string{"people", "links", "memberships", "accounts", "subject_values", "sessions", "session_proofs", "session_uses", "grants",
	"tokens", "consents", "traces", "trace_ids", "trace_additions", "sign_in_counts", "revisions", "journal_entries", "used_ids",
	"sign_ins",
	"source_entities", "partner_documents", "credentials"}

// allowed are statements that may go through a large table, each with the reason.
var allowed = []struct{ part, reason string }{
	{"AS signed", "a report, on connections of its own"},
	{"FROM `sign_in_counts` WHERE outcome = 'signed-in' AND hour >= ? AND provider_id = ? GROUP BY", "a report"},
	{"AS id, sum(count) AS n FROM `sign_in_counts`", "a report's counts, on connections of their own"},
	{"FROM `sign_in_counts` WHERE hour >=", "the counts of some days, summed on connections of their own from an index that holds all " +
		"of them"},
	{"ORDER BY at LIMIT 1000", "the first that can be of a time are looked for among a thousand"},
	{"ORDER BY at DESC LIMIT 1000", "the last that can be of a time, too"},
	{"verdict = 'waiting'", "the index holds those alone that wait for a decision"},
	{"DELETE FROM trace_additions WHERE id IN (SELECT id FROM (SELECT id, row_number()", "additions of the last hour"},
	{"SELECT count(*), coalesce(sum(NOT EXISTS", "people are counted up to a number"},
}

// fewRows are conditions that leave a handful of rows of a large table, or those that were counted before.
var fewRows = regexp.MustCompile(`(slug|\(id|rowid|person_id|session_id|trace_id|reference|token_hash|owner_kind=\? AND owner_id|` +
	`application_id=\? AND kind)=\?`)

var (
	tableNames = regexp.MustCompile("(?i)(?:FROM|JOIN|UPDATE|INTO)\\s+[\"`]?(\\w+)[\"`]?(?:\\s+(?:AS\\s+)?(\\w+))?")
	scanned    = regexp.MustCompile(`^SCAN (\w+)(.*)$`)
)

// wrongWith says what in the plan of a statement would take long among many: a scan that is not the list's own order, cut by a
// limit, and rows of large tables that are sorted.
func wrongWith(statement string, plan []string) string {
	for _, a := range allowed {
		if strings.Contains(statement, a.part) {
			return ""
		}
	}
	names := map[string]string{}
	for _, m := range tableNames.FindAllStringSubmatch(statement, -1) {
		names[m[1]] = m[1]
		if m[2] != "" {
			names[m[2]] = m[1]
		}
	}
	if strings.Contains(statement, "/* few */") {
		return ""
	}
	isLarge := func(alias string) bool { return slices.Contains(large, names[alias]) }
	touches, limited := false, strings.Contains(statement, "LIMIT")
	for _, line := range plan {
		if m := scanned.FindStringSubmatch(line); m != nil && isLarge(m[1]) && !limited {
			return line
		}
		if fields := strings.Fields(line); len(fields) > 1 && (fields[0] == "SCAN" || fields[0] == "SEARCH") && isLarge(fields[1]) {
			touches = touches || !fewRows.MatchString(line)
		}
	}
	for _, line := range plan {
		if touches && strings.Contains(line, "TEMP B-TREE") {
			return line
		}
	}
	return ""
}

// TestPlansOfPages fills a store to a hundredth of its full size, opens every list with each of its filters, two together, and
// in each order, and looks at how the database goes about each statement: none may go through a large table or sort its rows.
func TestPlansOfPages(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx := t.Context()
	require.NoError(t, demo.NewWalker(nil).SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	require.NoError(t, w.Fill(ctx, demo.Full.Over(100), func(string) {}))
	var list []testbed.Query
	for _, r := range management.Routes() {
		if r.Method == http.MethodGet {
			list = append(list, testbed.Query{Path: r.Path, Names: r.Query})
		}
	}
	pages, err := testbed.Pages(list)
	require.NoError(t, err)
	require.Greater(t, len(pages), 300)
	var lock sync.Mutex
	asked := map[string]string{} // statement → the first page that asks it
	page := ""
	w.Gate.Store.OnStatement(func(s store.Statement) {
		lock.Lock()
		defer lock.Unlock()
		if text := s.Text; asked[text] == "" && !strings.HasPrefix(text, "EXPLAIN") {
			asked[text] = page
		}
	})
	for _, p := range pages {
		lock.Lock()
		page = p
		lock.Unlock()
		answer, text := send(t, http.DefaultClient, http.MethodGet, w.URL+"/api/v1"+p, w.Token, "")
		assert.Less(t, answer.StatusCode, 500, p+": "+text)
	}
	lock.Lock()
	page = "from time to time"
	lock.Unlock()
	require.NoError(t, w.Gate.Tidy(ctx))
	require.NoError(t, w.Gate.Turn(ctx))
	w.Gate.Store.OnStatement(nil)
	require.Greater(t, len(asked), 100)
	for statement, by := range asked {
		plan, err := w.Gate.Store.Plan(ctx, statement)
		if err != nil { // it is about the other file
			plan, err = w.Gate.Store.Traces.Plan(ctx, statement)
		}
		require.NoError(t, err, statement)
		assert.Empty(t, wrongWith(statement, plan), "%s\n%s\n%s", by, statement, strings.Join(plan, "\n"))
	}
}

// TestWhatIsWrongWithAPlanIsSeen holds the judgement over plans against some that are good and some that are not.
func TestWhatIsWrongWithAPlanIsSeen(t *testing.T) {
	t.Parallel()
	s := world(t).Gate.Store
	for statement, bad := range map[string]bool{
		"SELECT * FROM people WHERE id = ?":                                                                 false,
		"SELECT * FROM people ORDER BY name_key, id LIMIT 51":                                               false,
		"SELECT * FROM people ORDER BY email LIMIT 51":                                                      true,
		"SELECT count(*) FROM people WHERE email LIKE ?":                                                    true,
		"SELECT * FROM sessions s WHERE s.person_id = ? ORDER BY s.address LIMIT 9":                         false,
		"SELECT * FROM sessions AS s ORDER BY s.device LIMIT 9":                                             true,
		"SELECT * FROM links l JOIN people p ON p.id = l.person_id WHERE l.provider_id = ? ORDER BY p.name": true,
		"SELECT * FROM applications ORDER BY body":                                                          false,
		"SELECT DISTINCT address FROM sessions":                                                             true,
	} {
		plan, err := s.Plan(t.Context(), statement)
		require.NoError(t, err)
		assert.Equal(t, bad, wrongWith(statement, plan) != "", "%s\n%s", statement, strings.Join(plan, "\n"))
	}
}
