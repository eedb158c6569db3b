package store_test

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"path/filepath"
	"testing"

	"github.com/mattn/go-sqlite3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/driver/sqlite"
	"gorm.io/gorm"

	"innergate/store"
)

var errLost = errors.New("the answer was lost")

// elsewhere is an engine whose answers to commits may be lost, whether they were written or not.
type elsewhere struct {
	path         string
	lose, commit bool // of the next commit
}

func (e *elsewhere) Pool(connections int) *sql.DB {
	db := sql.OpenDB(e)
	db.SetMaxOpenConns(connections)
	return db
}
func (e *elsewhere) Dialect(d sqlite.Dialector) gorm.Dialector { return &d }
func (e *elsewhere) Unknown(err error) bool                    { return errors.Is(err, errLost) }
func (e *elsewhere) Lost(err error) bool                       { return errors.Is(err, errLost) }
func (e *elsewhere) Driver() driver.Driver                     { return &sqlite3.SQLiteDriver{} }
func (e *elsewhere) Connect(context.Context) (driver.Conn, error) {
	in, err := e.Driver().Open(e.path + "?_txlock=immediate&_busy_timeout=2000&_journal_mode=WAL")
	if err != nil {
		return nil, err
	}
	return &lossy{in.(*sqlite3.SQLiteConn), e}, nil
}

type lossy struct {
	*sqlite3.SQLiteConn
	of *elsewhere
}

func (l *lossy) BeginTx(ctx context.Context, o driver.TxOptions) (driver.Tx, error) {
	tx, err := l.SQLiteConn.BeginTx(ctx, o)
	return &lossyTx{tx, l.of}, err
}

type lossyTx struct {
	driver.Tx
	of *elsewhere
}

func (t *lossyTx) Commit() error {
	if !t.of.lose {
		return t.Tx.Commit()
	}
	t.of.lose = false
	if t.of.commit {
		return errors.Join(errLost, t.Tx.Commit())
	}
	return errors.Join(errLost, t.Rollback())
}

func on(t *testing.T, e *elsewhere) *store.Store {
	t.Helper()
	sealer, err := store.NewSealer(store.NewMasterKey())
	require.NoError(t, err)
	s, err := store.OpenOn(t.TempDir(), sealer, e, false)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

// TestALostAnswerIsLookedUp loses the answer to a commit: what was written is known to be, what was not is said not to be, and
// nothing is done twice.
func TestALostAnswerIsLookedUp(t *testing.T) {
	t.Parallel()
	e := &elsewhere{path: filepath.Join(t.TempDir(), "records.db")}
	s := on(t, e)
	calls := 0
	write := func(id string) error {
		return s.Write(t.Context(), func(tx *gorm.DB) error {
			calls++
			return tx.Create(&store.Person{ID: id}).Error
		})
	}
	e.lose, e.commit = true, true
	require.NoError(t, write("a"), "it was written")
	e.lose, e.commit = true, false
	require.ErrorIs(t, write("b"), store.ErrNotWritten)
	require.NoError(t, write("b"), "so it can be done again")
	assert.Equal(t, 3, calls, "each was done once")
	var ids []string
	require.NoError(t, s.Read(t.Context()).Model(&store.Person{}).Order("id").Pluck("id", &ids).Error)
	assert.Equal(t, []string{"a", "b"}, ids)
}

// TestANodeStartsAmidAnElection loses the first answers while the records are brought to their newest form: it is gone on with.
func TestANodeStartsAmidAnElection(t *testing.T) {
	t.Parallel()
	for _, commit := range []bool{true, false} {
		e := &elsewhere{path: filepath.Join(t.TempDir(), "records.db"), lose: true, commit: commit}
		s := on(t, e)
		assert.False(t, e.lose, "it was lost")
		assert.NoError(t, s.Write(t.Context(), func(tx *gorm.DB) error { return tx.Create(&store.Person{ID: "a"}).Error }))
		tries := 0
		assert.ErrorContains(t, s.Patiently(t.Context(), func() error { tries++; return errors.New("an answer") }), "an answer")
		assert.Equal(t, 1, tries, "what was answered is not asked again")
		require.NoError(t, s.Patiently(t.Context(), func() error {
			if tries++; tries < 4 {
				return errors.Join(errLost)
			}
			return nil
		}))
	}
}
