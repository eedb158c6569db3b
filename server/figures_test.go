package server_test

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/demo"
	"innergate/server"
	"innergate/testbed"
)

// figures are the names that a gate tells of itself, as one with all options does.
func figures(t *testing.T) string {
	t.Helper()
	w := testbed.World(t, demo.Options{})
	signsIn(t, w, "mvoss")
	s := server.New(w.Gate, server.Options{PublicMetrics: true, NewestCopy: time.Now})
	at := httptest.NewServer(s.Handler())
	defer at.Close()
	get := func(path string) string {
		answer, err := http.Get(at.URL + path)
		require.NoError(t, err)
		defer answer.Body.Close()
		require.Equal(t, http.StatusOK, answer.StatusCode)
		text, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		return string(text)
	}
	get("/saml/idp/sso") // of requests something is told once there was one
	return get("/metrics")
}

var (
	ownFigure = regexp.MustCompile(`\b(innergate|process)_[a-z_]+\b`)
	oneLabel  = regexp.MustCompile(`(\w+)=~?"([^"]+)"`)
)

// TestAlertsAndDashboardNameWhatIsThere reads the files for an operator's own watch: each expression has names that /metrics tells,
// and each alert says what it is and what to do.
func TestAlertsAndDashboardNameWhatIsThere(t *testing.T) {
	t.Parallel()
	told := figures(t)
	var alerts struct {
		Groups []struct {
			Rules []struct {
				Alert, Expr string
				Labels      map[string]string
				Annotations map[string]string
			}
		}
	}
	data, err := os.ReadFile("../packaging/files/alerts.yaml")
	require.NoError(t, err)
	require.NoError(t, yaml.UnmarshalWithOptions(data, &alerts))
	var expressions []string
	for _, g := range alerts.Groups {
		for _, r := range g.Rules {
			assert.NotEmpty(t, r.Annotations["summary"], r.Alert)
			assert.NotEmpty(t, r.Annotations["description"], r.Alert)
			assert.Contains(t, []string{"page", "ticket"}, r.Labels["severity"], r.Alert)
			expressions = append(expressions, r.Expr)
		}
	}
	require.Greater(t, len(expressions), 7)
	var board struct {
		Panels []struct {
			Title   string
			Targets []struct{ Expr string }
		}
	}
	data, err = os.ReadFile("../packaging/files/dashboard.json")
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(data, &board))
	require.Greater(t, len(board.Panels), 5)
	for _, p := range board.Panels {
		for _, target := range p.Targets {
			expressions = append(expressions, target.Expr)
		}
	}
	named := 0
	for _, e := range expressions {
		for _, name := range ownFigure.FindAllString(e, -1) {
			named++
			assert.Regexp(t, `(?m)^`+name+`(\{| )`, told, e)
		}
		for _, label := range oneLabel.FindAllStringSubmatch(e, -1) {
			if !slices.Contains([]string{"file", "severity"}, label[1]) {
				continue
			}
			for value := range strings.SplitSeq(label[2], "|") {
				assert.Contains(t, told, label[1]+`="`+value+`"`, e)
			}
		}
	}
	assert.Greater(t, named, 15)
}
