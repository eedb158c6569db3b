package server_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http/httptest"
	"testing"

	"github.com/gofiber/fiber/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/server"
	"innergate/store"
)

// TestWhatWasNotWrittenIsSaidToBe tells whoever asked for a change that nothing of it was written, and of other failures no more than
// that there was one.
func TestWhatWasNotWrittenIsSaidToBe(t *testing.T) {
	t.Parallel()
	s := server.New(world(t).Gate, server.Options{})
	for _, c := range []struct {
		err    error
		status int
		code   string
	}{
		{fmt.Errorf("%w (the connection was lost)", store.ErrNotWritten), 503, "not-written"},
		{errors.New("something of ours"), 500, "internal"},
	} {
		app := fiber.New()
		app.Get("/api/x", func(f fiber.Ctx) error { return s.Failed(f, c.err) })
		answer, err := app.Test(httptest.NewRequest("GET", "/api/x", nil))
		require.NoError(t, err)
		defer answer.Body.Close()
		var p api.Problem
		require.NoError(t, json.NewDecoder(answer.Body).Decode(&p))
		assert.Equal(t, c.status, answer.StatusCode)
		assert.Equal(t, c.code, p.Code)
		assert.NotContains(t, p.Detail, "of ours")
	}
}
