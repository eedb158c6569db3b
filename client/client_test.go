package client_test

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/client"
	"innergate/core/config"
)

// TestCallsAreWellFormed sees how calls arrive: token, escaped names, queries and bodies.
func TestCallsAreWellFormed(t *testing.T) {
	var method, uri, token, body string
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b, err := io.ReadAll(r.Body)
		assert.NoError(t, err)
		method, uri, token, body = r.Method, r.URL.RequestURI(), r.Header.Get("Authorization"), string(b)
		if r.Method == http.MethodDelete {
			w.WriteHeader(http.StatusNoContent)
			return
		}
		w.Write([]byte(`{"items":[],"slug":"x","files":[{"name":"gate.yaml","text":"providers: []"}]}`))
	}))
	t.Cleanup(s.Close)
	c, ctx := client.New(s.URL+"/", "secret"), context.Background()
	_, err := c.Applications(ctx, client.Page{Search: "crew & co", Limit: 5, Filters: map[string]string{"reach": "draft", "provider": ""}})
	require.NoError(t, err)
	assert.Equal(t, "/api/v1/applications?limit=5&reach=draft&search=crew+%26+co", uri)
	assert.Equal(t, "Bearer secret", token)
	_, err = c.Application(ctx, "../tokens?x")
	require.NoError(t, err)
	assert.Equal(t, "/api/v1/applications/..%2Ftokens%3Fx", uri)
	_, err = c.PutApplication(ctx, config.Application{Slug: "crew-rota", Name: "Crew Rota"}, 7)
	require.NoError(t, err)
	assert.Equal(t, "PUT /api/v1/applications/crew-rota?revision=7", method+" "+uri)
	assert.Contains(t, body, `"name":"Crew Rota"`)
	require.NoError(t, c.Delete(ctx, "providers", "staff"))
	assert.Equal(t, "DELETE /api/v1/providers/staff", method+" "+uri)
	text, err := c.ExportConfig(ctx)
	require.NoError(t, err)
	assert.Equal(t, "providers: []", text)
	_, err = c.OurMetadata(ctx, "sp", "staff", true)
	require.NoError(t, err)
	assert.Equal(t, "/api/v1/metadata/sp/staff?signed=1", uri)
}

func TestErrorsAreExplained(t *testing.T) {
	answer := ""
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(http.StatusConflict)
		w.Write([]byte(answer))
	}))
	c := client.New(s.URL, "")
	answer = `{"type":"about:blank","title":"Taken","status":409,"code":"slug-taken","detail":"It is taken.","remedy":"Choose ` +
		`another.","fields":[{"field":"slug","message":"taken"}]}`
	_, err := c.Me(context.Background())
	var p *api.Problem
	require.ErrorAs(t, err, &p)
	assert.Equal(t, "It is taken.\n  slug: taken\nChoose another.", p.Error())
	answer = "<html>some other server</html>"
	_, err = c.Me(context.Background())
	assert.ErrorContains(t, err, "is it an Inner Gate?")
	s.Close()
	_, err = c.Me(context.Background())
	var far *client.UnreachableError
	require.ErrorAs(t, err, &far)
	assert.ErrorContains(t, err, "does not answer")
}
