package server_test

import (
	"context"
	"net/http"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/gate/ground"
)

// TestFollowersAreBounded has two hundred streams asked for at the same moment by twenty people: a hundred are let in, whoever
// comes first.
func TestFollowersAreBounded(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx, leave := context.WithCancel(t.Context())
	defer leave()
	r, err := w.Client().NewRehearsal(ctx, api.NewRehearsal{Application: "crew-rota", Provider: "saltmere-staff", Flow: "sp"})
	require.NoError(t, err)
	var in, refused atomic.Int64
	var all sync.WaitGroup
	client := &http.Client{Transport: &http.Transport{MaxConnsPerHost: 0}}
	ask := func(token string) *http.Response {
		q, err := http.NewRequestWithContext(ctx, http.MethodGet, w.URL+"/api/v1/rehearsals/"+r.ID+"/events", nil)
		require.NoError(t, err)
		q.Header.Set("Authorization", "Bearer "+token)
		answer, err := client.Do(q)
		require.NoError(t, err)
		switch answer.StatusCode {
		case http.StatusOK:
			in.Add(1)
		case http.StatusTooManyRequests:
			refused.Add(1)
		default:
			t.Errorf("status %d", answer.StatusCode)
		}
		return answer
	}
	var tokens []string
	for range 20 {
		tokens = append(tokens, token(t, w, ground.RoleEngineer))
	}
	var lock sync.Mutex
	var open []*http.Response
	for i := range 200 {
		all.Go(func() {
			answer := ask(tokens[i%20])
			lock.Lock()
			defer lock.Unlock()
			if answer.StatusCode == http.StatusOK {
				open = append(open, answer)
			} else {
				answer.Body.Close()
			}
		})
	}
	all.Wait()
	assert.EqualValues(t, 100, in.Load())
	assert.EqualValues(t, 100, refused.Load())
	for _, answer := range open {
		answer.Body.Close()
	}
}
