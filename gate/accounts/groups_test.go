package accounts_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/core/config"
	"innergate/gate/accounts"
	"innergate/store"
	"innergate/testbed"
)

// askThere asks the application itself for something, as its own administrator would.
func (l *ledger) askThere(method, path string, body any) map[string]any {
	l.t.Helper()
	data, err := json.Marshal(body)
	require.NoError(l.t, err)
	r, err := http.NewRequestWithContext(context.Background(), method, l.there.Base+path, bytes.NewReader(data))
	require.NoError(l.t, err)
	r.Header.Set("Authorization", "Bearer "+token)
	r.Header.Set("Content-Type", "application/scim+json")
	answer, err := http.DefaultClient.Do(r)
	require.NoError(l.t, err)
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	require.NoError(l.t, err)
	require.Less(l.t, answer.StatusCode, 300, "%s", text)
	var out map[string]any
	if len(text) > 0 {
		require.NoError(l.t, json.Unmarshal(text, &out))
	}
	return out
}

// plantGroup makes a group at the application behind everybody's back, and says which identifier it has.
func (l *ledger) plantGroup(name, external string) string {
	body := map[string]any{"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:Group"}, "displayName": name}
	if external != "" {
		body["externalId"] = external
	}
	id, _ := l.askThere(http.MethodPost, "/Groups", body)["id"].(string)
	require.NotEmpty(l.t, id)
	return id
}

// group makes a group here with some people in it, all of whom are assigned.
func (l *ledger) group(slug string, names ...string) map[string]string {
	l.t.Helper()
	_, err := l.Persons.SaveGroup(context.Background(), testbed.Owner, "", config.Group{Slug: slug, Name: "The " + slug})
	require.NoError(l.t, err)
	ids := map[string]string{}
	for _, name := range names {
		p, err := l.Persons.SavePerson(context.Background(), testbed.Owner, "", api.SavePerson{Profile: profileOf(name),
			Groups: &[]string{slug}})
		require.NoError(l.t, err)
		ids[name] = p.ID
	}
	require.NoError(l.t, l.Persons.Assign(context.Background(), testbed.Owner, "cargo", api.Assignment{Kind: "group", Who: slug}))
	return ids
}

// membersThere are the identifiers of those who are in a group at the application.
func (l *ledger) membersThere(name string) []any {
	l.t.Helper()
	g := l.there.Find(name)
	require.NotNil(l.t, g, name)
	list, _ := g["members"].([]any)
	var out []any
	for _, m := range list {
		out = append(out, m.(map[string]any)["value"])
	}
	return out
}

// TestGroupsThatAreThere finds groups of the same name at the application before anything is sent: they wait for approval, one that is
// somebody else's is not taken, and one that has our identifier is ours.
func TestGroupsThatAreThere(t *testing.T) {
	t.Parallel()
	l := keeping(t, func(a *config.Accounts) { a.Approve, a.Groups = config.ApproveAll, []string{"*"} })
	l.group("crane", "mira")
	l.group("tally", "ivo")
	l.group("pilots", "ada")
	l.workOut()
	var ours string
	for _, a := range l.list("approval") {
		if a.Name == "The pilots" {
			require.NoError(t, l.Store.Row(context.Background(), "SELECT who_id FROM kept_accounts WHERE id = ?", a.ID).Scan(&ours))
		}
	}
	l.plantGroup("The crane", "")
	l.plantGroup("The tally", "another system's")
	l.plantGroup("Pilots of old", ours)
	l.compare()
	by := map[string]api.Account{}
	for _, a := range l.list("") {
		by[a.Name] = a
	}
	assert.Equal(t, []string{"approval", "approval", "due"},
		[]string{by["The crane"].State, by["The tally"].State, by["The pilots"].State})
	assert.Contains(t, by["The crane"].Reason, "a group of this name already")
	l.act("approve")
	l.settle()
	assert.Equal(t, []any{l.there.Find("mira")["id"]}, l.membersThere("The crane"), "the one that was there is ours now")
	assert.Len(t, l.membersThere("The pilots"), 1, "and this one has our name by now")
	assert.Nil(t, l.there.Find("Pilots of old"))
	failed := l.only("failed")
	assert.Equal(t, []string{"The tally", "scim.taken"}, []string{failed.Name, failed.Code})
	assert.Empty(t, l.membersThere("The tally"), "another system's is left as it is")

	one, err := l.Accounts.One(context.Background(), "cargo", by["The crane"].ID)
	require.NoError(t, err)
	assert.Equal(t, "crane", one.Who)
	assert.Contains(t, one.Why, "Groups named *")
	assert.Contains(t, one.Values, api.AccountValue{Path: "displayName", Value: "The crane"})
}

// TestTwoGroupsOfOneName leaves it to people which of two at the application is meant.
func TestTwoGroupsOfOneName(t *testing.T) {
	t.Parallel()
	l := keeping(t, func(a *config.Accounts) { a.Groups = []string{"*"} })
	l.compare()
	l.group("crane", "mira")
	l.plantGroup("The crane", "")
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodGet && strings.Contains(r.URL.Query().Get("filter"), "displayName") {
			fmt.Fprint(w, `{"schemas":["urn:ietf:params:scim:api:messages:2.0:ListResponse"],"totalResults":2,"Resources":[`+
				`{"id":"1","displayName":"The crane"},{"id":"2","displayName":"The crane"}]}`)
			return
		}
		l.there.ServeHTTP(w, r)
	}))
	t.Cleanup(server.Close)
	l.set(func(a *config.Accounts) { a.Address = server.URL + "/scim/v2" })
	_, err := l.Partners.KeepAccountSecret(context.Background(), testbed.Owner, "cargo", api.TheirSecret{Value: token})
	require.NoError(t, err)
	l.settle()
	assert.Equal(t, "scim.several", l.only("failed").Code)
	assert.Empty(t, l.membersThere("The crane"))
}

// TestGroupsThatNoLongerGoAlong empties a group, or deletes it where accounts are deleted.
func TestGroupsThatNoLongerGoAlong(t *testing.T) {
	t.Parallel()
	for _, how := range []string{config.AccountDeactivate, config.AccountDelete} {
		t.Run(how, func(t *testing.T) {
			t.Parallel()
			l := keeping(t, func(a *config.Accounts) { a.Unassigned, a.Groups = how, []string{"crane"} })
			l.compare()
			l.group("crane", "mira", "ivo")
			l.settle()
			require.Len(t, l.membersThere("The crane"), 2)
			l.set(func(a *config.Accounts) { a.Groups = []string{"tally"} })
			l.settle()
			if how == config.AccountDelete {
				assert.Nil(t, l.there.Find("The crane"))
			} else {
				assert.Empty(t, l.membersThere("The crane"))
			}
			assert.Equal(t, true, l.there.Find("mira")["active"], "people are another matter")
			l.set(func(a *config.Accounts) { a.Groups = []string{"crane"} })
			l.settle()
			assert.Len(t, l.membersThere("The crane"), 2, "and it may go along again")
		})
	}
}

// TestMembersChangedThere has the application's administrator put somebody into a group and take somebody out: a comparison sets both
// right, and says so in its history.
func TestMembersChangedThere(t *testing.T) {
	t.Parallel()
	l := keeping(t, func(a *config.Accounts) { a.Groups = []string{"crane"} })
	l.compare()
	l.group("crane", "mira", "ivo")
	l.there.Plant(map[string]any{"userName": "stowaway", "active": true})
	l.settle()
	id, _ := l.there.Find("The crane")["id"].(string)
	l.askThere(http.MethodPatch, "/Groups/"+id, map[string]any{
		"schemas": []string{"urn:ietf:params:scim:api:messages:2.0:PatchOp"},
		"Operations": []any{
			map[string]any{"op": "add", "path": "members", "value": []any{map[string]any{"value": l.there.Find("stowaway")["id"]}}},
			map[string]any{"op": "remove", "path": fmt.Sprintf("members[value eq %q]", l.there.Find("ivo")["id"])},
		}})
	require.ElementsMatch(t, []any{l.there.Find("mira")["id"], l.there.Find("stowaway")["id"]}, l.membersThere("The crane"))
	l.compare()
	l.settle()
	assert.ElementsMatch(t, []any{l.there.Find("mira")["id"], l.there.Find("ivo")["id"]}, l.membersThere("The crane"))
	list, err := l.Accounts.List(context.Background(), "cargo", store.Page{}, accounts.Filter{Kind: "group"})
	require.NoError(t, err)
	require.Len(t, list.Items, 1)
	one, err := l.Accounts.One(context.Background(), "cargo", list.Items[0].ID)
	require.NoError(t, err)
	assert.Equal(t, "changed: 1 members added, 1 taken out", one.Talks[0].Result)
}

// TestAGroupOfThousands sends members some at a time, and only those that are missing.
func TestAGroupOfThousands(t *testing.T) {
	t.Parallel()
	l := keeping(t, func(a *config.Accounts) { a.Groups, a.AtOnce = []string{"crane"}, 16 })
	l.compare()
	var names []string
	for i := range 1100 {
		names = append(names, fmt.Sprintf("hand%04d", i))
	}
	ids := l.group("crane", names...)
	v := l.settle()
	assert.Equal(t, 1101, v.Counts["step"])
	assert.Len(t, l.membersThere("The crane"), 1100)
	asked := l.there.Asked()
	empty := []string{}
	_, err := l.Persons.SavePerson(context.Background(), testbed.Owner, ids["hand0500"], api.SavePerson{Profile: profileOf("hand0500"),
		Groups: &empty})
	require.NoError(t, err)
	l.settle()
	assert.Len(t, l.membersThere("The crane"), 1099)
	assert.Less(t, l.there.Asked()-asked, 12, "one member less is no reason to send the others")
}
