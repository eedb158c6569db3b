package changes_test

import (
	"context"
	"database/sql"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate/api"
	"innergate/gate/changes"
	"innergate/gate/ground"
	"innergate/store"
	"innergate/testbed"
)

// many is a file of as many groups and links, named by a text.
func many(n int, name string) string {
	var b strings.Builder
	b.WriteString("groups:\n")
	for i := range n {
		fmt.Fprintf(&b, "  - {slug: g%d, name: %s %d}\n", i, name, i)
	}
	b.WriteString("applications:\n")
	for i := range n {
		fmt.Fprintf(&b, "  - {slug: a%d, name: %s %d, kind: link, startUrl: \"https://a%d.example/\"}\n", i, name, i, i)
	}
	return b.String()
}

func load(t *testing.T, l *testbed.Lab, text string, more ...func(*api.LoadConfig)) (*api.ConfigResult, error) {
	t.Helper()
	in := api.LoadConfig{Files: texts(text)}
	for _, m := range more {
		m(&in)
	}
	return l.Changes.LoadConfig(context.Background(), testbed.Owner, in)
}

func removing(in *api.LoadConfig) { in.RemoveAbsent = true }

// TestAPreviewTakesNoWritersTurn previews the deletion of everything while somebody else writes and does not end.
func TestAPreviewTakesNoWritersTurn(t *testing.T) {
	t.Parallel()
	l := testbed.NewLab(t)
	_, err := load(t, l, coast)
	require.NoError(t, err)
	db, err := sql.Open("sqlite3", filepath.Join(l.Folder, store.FileName)+"?_txlock=immediate")
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	tx, err := db.Begin()
	require.NoError(t, err)
	begin := time.Now()
	r, err := load(t, l, "groups: [{slug: last, name: Last}]\n", removing, func(in *api.LoadConfig) { in.Preview = true })
	require.NoError(t, err)
	assert.Less(t, time.Since(begin), 3*time.Second)
	assert.NotEmpty(t, r.Named("remove"))
	require.NoError(t, tx.Rollback())
}

// TestALargeLoadLeavesTheWriterToOthers writes two hundred objects while others write: none of them waits for all of it. Loaded
// again it changes nothing; taken out of the file, all go again.
func TestALargeLoadLeavesTheWriterToOthers(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	stop, longest := make(chan struct{}), make(chan time.Duration)
	go func() {
		var most time.Duration
		for {
			select {
			case <-stop:
				longest <- most
				return
			case <-time.After(time.Millisecond):
			}
			begin := time.Now()
			if err := l.Store.Write(ctx, store.Changed); err != nil {
				t.Error(err)
			}
			most = max(most, time.Since(begin))
		}
	}()
	r, err := load(t, l, many(250, "Pier"))
	close(stop)
	require.NoError(t, err)
	assert.Len(t, r.Steps, 500)
	assert.Less(t, <-longest, 400*time.Millisecond)
	r, err = load(t, l, many(250, "Pier"))
	require.NoError(t, err)
	assert.Empty(t, r.Steps)
	r, err = load(t, l, many(1, "Pier"), removing)
	require.NoError(t, err)
	assert.Len(t, r.Named("remove"), 498)
	list, err := l.Checkups.Applications(ctx, store.Page{}, ground.Narrow{}, "")
	require.NoError(t, err)
	assert.Len(t, list.Items, 1)
	// What was written down for it goes after a while.
	l.Turn(8 * 24 * time.Hour)
	require.NoError(t, l.Tidy(ctx))
	for _, table := range []any{&store.Load{}, &store.LoadStep{}} {
		var n int64
		require.NoError(t, l.Store.Read(ctx).Model(table).Count(&n).Error)
		assert.Zero(t, n)
	}
}

// broken has one application refuse to be written: what fails so is no refusal of its values.
func broken(t *testing.T, l *testbed.Lab, slug string, yes bool) {
	t.Helper()
	set := "DROP TRIGGER broken"
	if yes {
		set = "CREATE TRIGGER broken BEFORE INSERT ON revisions WHEN NEW.slug = '" + slug + "' BEGIN SELECT RAISE(ABORT, 'the disk is " +
			"full'); END"
	}
	require.NoError(t, l.Store.Write(context.Background(), func(tx *gorm.DB) error { return tx.Exec(set).Error }))
}

func count(t *testing.T, l *testbed.Lab, table string) (n int) {
	t.Helper()
	require.NoError(t, l.Store.Row(context.Background(), "SELECT count(*) FROM "+table).Scan(&n))
	return n
}

// TestALargeLoadGoesOnAfterItWasCut stops a load in the middle, as a kill would, and starts another gate on the same store.
func TestALargeLoadGoesOnAfterItWasCut(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	require.NoError(t, l.Changes.BeginLoad(ctx, testbed.Owner, api.LoadConfig{Files: texts(many(100, "Pier"))}, 12))
	done := count(t, l, "groups") + count(t, l, "applications")
	require.Equal(t, 60, done, "twelve parts of it")
	require.NoError(t, l.Changes.ContinueLoads(ctx))
	assert.Equal(t, done, count(t, l, "groups")+count(t, l, "applications"), "whoever began it has it for a while")
	_, err := load(t, l, many(100, "Quay"))
	require.ErrorContains(t, err, "of 200 steps are written")
	l.Turn(time.Minute)
	require.NoError(t, l.Changes.ContinueLoads(ctx))
	assert.Equal(t, 200, count(t, l, "groups")+count(t, l, "applications"))
	require.NoError(t, l.Changes.ContinueLoads(ctx))
	assert.Equal(t, 200, count(t, l, "revisions WHERE kind IN ('group', 'application')"), "each step once")
	r, err := load(t, l, many(100, "Pier"))
	require.NoError(t, err)
	assert.Empty(t, r.Steps)
}

// TestALargeLoadOnAFullDisk fails in the middle for a reason that passes: what is written stays, and the rest follows.
func TestALargeLoadOnAFullDisk(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	require.NoError(t, l.Changes.BeginLoad(ctx, testbed.Owner, api.LoadConfig{Files: texts(many(100, "Pier"))}, 8))
	broken(t, l, "a50", true)
	l.Turn(time.Minute)
	require.NoError(t, l.Changes.ContinueLoads(ctx))
	require.Len(t, l.Waiting(), 1)
	assert.Contains(t, l.Waiting()[0].Why, "disk is full")
	broken(t, l, "a50", false)
	l.Turn(time.Minute)
	require.NoError(t, l.Changes.ContinueLoads(ctx))
	assert.Empty(t, l.Waiting())
	assert.Equal(t, 200, count(t, l, "groups")+count(t, l, "applications"))
}

// TestALargeLoadThatIsRefusedIsTakenBack: somebody changes what a later step was to change. All steps before it are taken back,
// and what the other changed stays.
func TestALargeLoadThatIsRefusedIsTakenBack(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	_, err := load(t, l, many(100, "Pier"))
	require.NoError(t, err)
	ids := func() (out []string) {
		require.NoError(t, l.Store.Read(ctx).Raw("SELECT id || slug || body FROM applications UNION ALL SELECT id || slug || name FROM "+
			"groups "+
			"ORDER BY 1").Scan(&out).Error)
		return out
	}
	before := ids()
	// A file that renames all, and lets go of some.
	text := strings.ReplaceAll(many(90, "Quay"), "a7.example", "b7.example")
	require.NoError(t, l.Changes.BeginLoad(ctx, testbed.Owner, api.LoadConfig{Files: texts(text), RemoveAbsent: true}, 24))
	a, err := l.Checkups.Application(ctx, "a89")
	require.NoError(t, err)
	require.Equal(t, "Pier 89", a.Name, "it is not there yet")
	c := a.Application
	c.Description = "Somebody else's."
	_, err = l.Configuration.SaveApplication(ctx, testbed.Owner, "a89", c, a.Revision)
	require.NoError(t, err)
	l.Turn(time.Minute)
	require.NoError(t, l.Changes.ContinueLoads(ctx))
	assert.Empty(t, l.Waiting())
	now := ids()
	require.Len(t, now, len(before))
	differ := 0
	for i := range now {
		if now[i] != before[i] {
			differ++
			assert.Contains(t, now[i], "Somebody else's.")
		}
	}
	assert.Equal(t, 1, differ)
	// And it can be done again.
	_, err = load(t, l, text, removing)
	require.NoError(t, err)
	list, err := l.Changes.History(ctx, page(""), changes.HistoryFilter{Kind: "application", Slug: "a1"})
	require.NoError(t, err)
	assert.Contains(t, list.Items[1].Remark, "taken back")
}
