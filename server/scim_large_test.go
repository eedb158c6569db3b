package server_test

import (
	"fmt"
	"net/http"
	"net/url"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate/core/config"
	"innergate/store"
)

// fill puts thousands of accounts and groups under the provider, past everything that a sender would have to go through.
func (p *pusher) fill(n int) {
	p.t.Helper()
	provider, err := p.w.Gate.Partners.Provider(p.t.Context(), "tugs")
	require.NoError(p.t, err)
	now := time.Now().UTC()
	require.NoError(p.t, p.w.Gate.Store.Write(p.t.Context(), func(tx *gorm.DB) error {
		people, keys, groups := []store.PushedPerson{}, []store.PushedKey{}, []store.PushedGroup{}
		for i := range n {
			user := fmt.Sprintf("deckhand%05d", i)
			people = append(people, store.PushedPerson{ID: store.NewID(), ProviderID: provider.ID, UserKey: user, Subject: user,
				Active: true, Body: fmt.Sprintf(`{"userName":%q,"title":"deckhand"}`, user), Version: 1, CreatedAt: now, UpdatedAt: now})
			keys = append(keys, store.PushedKey{ProviderID: provider.ID, Name: "userName", Value: user, PushedID: people[i].ID})
			groups = append(groups, store.PushedGroup{ID: store.NewID(), ProviderID: provider.ID, NameKey: "watch" + user,
				Name: "Watch" + user, Version: 1, CreatedAt: now, UpdatedAt: now})
		}
		for _, rows := range []any{people, keys, groups} {
			if err := tx.CreateInBatches(rows, 500).Error; err != nil {
				return err
			}
		}
		return nil
	}))
}

// TestTooManyToGoThrough refuses what no index answers among thousands, says what could be asked for instead, and answers that at once.
func TestTooManyToGoThrough(t *testing.T) {
	t.Parallel()
	p := pushing(t, nil)
	p.fill(5001)
	for path, instead := range map[string]string{
		"/Users?filter=" + url.QueryEscape(`title eq "deckhand"`): "userName, externalId",
		"/Users?sortBy=title": "userName, externalId",
		"/Groups?filter=" + url.QueryEscape(`displayName co "hand0"`): "displayName",
	} {
		status, got, _ := p.ask("GET", path, nil)
		assert.Equal(t, http.StatusBadRequest, status, path)
		assert.Equal(t, "tooMany", got["scimType"], path)
		assert.Contains(t, got["detail"], "there are more than 5000 resources to go through", path)
		assert.Contains(t, got["detail"], instead, path)
	}
	for path, total := range map[string]float64{
		"/Users?filter=" + url.QueryEscape(`userName eq "DECKHAND00042"`):                        1,
		"/Users?filter=" + url.QueryEscape(`userName eq "deckhand00042" and title eq "captain"`): 0,
		"/Groups?filter=" + url.QueryEscape(`displayName eq "watchdeckhand04999"`):               1,
		"/Users?count=1":  5001,
		"/Groups?count=1": 5001,
	} {
		status, got, _ := p.ask("GET", path, nil)
		assert.Equal(t, http.StatusOK, status, "%s: %v", path, got)
		assert.Equal(t, total, got["totalResults"], path)
	}
}

// TestOnePushedGroup reads one group, with its members and without, and none of another provider's.
func TestOnePushedGroup(t *testing.T) {
	t.Parallel()
	p := pushing(t, nil)
	olle := p.make("olle", nil)
	_, made, _ := p.ask("POST", "/Groups", object{"displayName": "tug-crew", "externalId": "g1", "members": []any{object{"value": olle}}})
	id := made["id"].(string)
	status, got, header := p.ask("GET", "/Groups/"+id, nil)
	require.Equal(t, http.StatusOK, status)
	assert.Equal(t, []any{"tug-crew", "g1"}, []any{got["displayName"], got["externalId"]})
	require.Len(t, got["members"], 1)
	assert.Equal(t, olle, got["members"].([]any)[0].(object)["value"])
	assert.NotEmpty(t, header.Get("ETag"), "RFC 7644, section 3.14")
	_, got, _ = p.ask("GET", "/Groups/"+id+"?excludedAttributes=members", nil)
	assert.NotContains(t, got, "members")
	status, _, _ = p.ask("GET", "/Groups/"+id, nil, "If-None-Match", header.Get("ETag"))
	assert.Equal(t, http.StatusNotModified, status)
	status, _, _ = p.ask("PUT", "/Groups/"+id, object{"displayName": "tug-crew"}, "If-Match", `W/"17"`)
	assert.Equal(t, http.StatusPreconditionFailed, status)
	status, got, _ = p.ask("PUT", "/Groups/"+id, object{"members": []any{}})
	assert.Equal(t, http.StatusBadRequest, status, "a group needs its name: %v", got)
	status, _, _ = p.ask("GET", "/Groups/"+store.NewID(), nil)
	assert.Equal(t, http.StatusNotFound, status)

	_, err := p.w.Client().AddProvider(t.Context(), config.Provider{Slug: "barges", Name: "Barge Company", Kind: "oauth2",
		Admission: "refuse", Pushed: &config.Pushed{On: true}})
	require.NoError(t, err)
	token, err := p.w.Client().NewPushToken(t.Context(), "barges", 30)
	require.NoError(t, err)
	held, err := p.w.Client().Pushes(t.Context(), "barges")
	require.NoError(t, err)
	other := &pusher{t, p.w, held.Address, token.Secret}
	for _, method := range []string{"GET", "PUT", "PATCH", "DELETE"} {
		status, _, _ = other.ask(method, "/Groups/"+id, object{"displayName": "ours", "schemas": []string{}, "Operations": []any{
			object{"op": "replace", "path": "displayName", "value": "ours"}}})
		assert.Equal(t, http.StatusNotFound, status, method)
	}
	_, got, _ = p.ask("GET", "/Groups/"+id, nil)
	assert.Equal(t, "tug-crew", got["displayName"])
}
