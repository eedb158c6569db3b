package server_test

import (
	"database/sql"
	"io"
	"net/http"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/store"
)

// TestNotReadyWhileTheStoreCantBeWritten has another process hold the database: the gate says that it is not ready, soon, and that
// it is again as soon as it can write.
func TestNotReadyWhileTheStoreCantBeWritten(t *testing.T) {
	t.Parallel()
	w := world(t)
	ready := func() (int, string) {
		answer, err := http.Get(w.URL + "/readyz")
		require.NoError(t, err)
		defer answer.Body.Close()
		text, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		return answer.StatusCode, string(text)
	}
	status, _ := ready()
	require.Equal(t, http.StatusOK, status)
	db, err := sql.Open("sqlite3", filepath.Join(w.Gate.Store.Folder, store.FileName)+"?_txlock=immediate&_busy_timeout=5000")
	require.NoError(t, err)
	defer db.Close()
	tx, err := db.Begin()
	require.NoError(t, err)
	begin := time.Now()
	text := ""
	require.Eventually(t, func() bool {
		status, text = ready()
		return status == http.StatusServiceUnavailable
	}, 10*time.Second, 50*time.Millisecond)
	assert.Contains(t, text, "can't be written")
	assert.Less(t, time.Since(begin), 6*time.Second)
	require.NoError(t, tx.Rollback())
	require.Eventually(t, func() bool { status, _ = ready(); return status == http.StatusOK }, 10*time.Second, 50*time.Millisecond)
}

// TestWhoComesBeyondTheCrowdIsToldToTryAgain begins more sign-ins at one time than the gate takes while it can't write: those
// beyond are told so at once, and the others sign in when it can.
func TestWhoComesBeyondTheCrowdIsToldToTryAgain(t *testing.T) {
	t.Parallel()
	p := newParty(t)
	w := p.w
	db, err := sql.Open("sqlite3", filepath.Join(w.Gate.Store.Folder, store.FileName)+"?_txlock=immediate&_busy_timeout=5000")
	require.NoError(t, err)
	defer db.Close()
	tx, err := db.Begin()
	require.NoError(t, err)
	type came struct {
		status int
		text   string
		took   time.Duration
	}
	const many = 80
	all := make(chan came, many)
	for range many {
		go func() {
			b, begin := w.Walker(), time.Now()
			if err := b.Get(t.Context(), w.URL+"/oidc/authorize?"+p.asks(nil).Encode()); err != nil {
				all <- came{text: err.Error()}
				return
			}
			all <- came{b.Status, b.Text, time.Since(begin)}
		}()
	}
	for range many - 25 {
		one := <-all
		assert.Equal(t, http.StatusServiceUnavailable, one.status)
		assert.Contains(t, one.text, "try again")
		assert.Less(t, one.took, 5*time.Second)
	}
	require.NoError(t, tx.Rollback())
	for range 25 {
		one := <-all
		assert.Equal(t, http.StatusOK, one.status, one.text)
		assert.NotContains(t, one.text, "try again")
	}
	answer, err := http.Get(w.URL + "/metrics")
	require.NoError(t, err)
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	assert.True(t, strings.Contains(string(text), "innergate_sign_ins_turned_away_total 55"), "they are counted")
}
