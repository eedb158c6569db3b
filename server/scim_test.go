package server_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/client"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/people"
	"innergate/demo"
	"innergate/testbed"
)

// pusher is a sender that was written from RFC 7644 alone: it sends what it is told, and looks at what comes back.
type pusher struct {
	t     testing.TB
	w     *demo.World
	base  string
	token string
}

// object is a JSON object as it travels.
type object = map[string]any

// pushing is a world with a provider of its own that pushes its people, and what it pushes with.
func pushing(t testing.TB, change func(*config.Provider)) *pusher {
	t.Helper()
	w := testbed.World(t, demo.Options{})
	p := config.Provider{Slug: "tugs", Name: "Tug Company", Kind: "oauth2", Admission: "refuse",
		Matching: &people.Matching{By: []people.Way{{By: people.Mail}}, Domains: []string{"tugs.example"}, MailUnproven: true,
			Unscoped: true,
			Groups:   []string{"tug-*"}},
		Grants: []people.Grant{{Attribute: "groups", Value: "tug-crew", Groups: []string{"quay"}}},
		Pushed: &config.Pushed{On: true}}
	p.Mapping = claims.IncomingOIDC()
	if change != nil {
		change(&p)
	}
	_, err := w.Client().AddProvider(context.Background(), p)
	require.NoError(t, err)
	token, err := w.Client().NewPushToken(context.Background(), p.Slug, 30)
	require.NoError(t, err)
	held, err := w.Client().Pushes(context.Background(), p.Slug)
	require.NoError(t, err)
	return &pusher{t, w, held.Address, token.Secret}
}

// ask makes a request; the answer is read whatever its status.
func (p *pusher) ask(method, path string, body any, header ...string) (int, object, http.Header) {
	p.t.Helper()
	var data []byte
	if text, ok := body.(string); ok {
		data = []byte(text)
	} else if body != nil {
		var err error
		data, err = json.Marshal(body)
		require.NoError(p.t, err)
	}
	r, err := http.NewRequest(method, p.base+path, bytes.NewReader(data))
	require.NoError(p.t, err)
	r.Header.Set("Authorization", "Bearer "+p.token)
	r.Header.Set("Content-Type", "application/scim+json")
	for i := 0; i+1 < len(header); i += 2 {
		r.Header.Set(header[i], header[i+1])
	}
	answer, err := http.DefaultClient.Do(r)
	require.NoError(p.t, err)
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	require.NoError(p.t, err)
	var out object
	if len(text) > 0 {
		require.NoError(p.t, json.Unmarshal(text, &out), "%s %s: %s", method, path, text)
		assert.True(p.t, strings.HasPrefix(answer.Header.Get("Content-Type"), "application/scim+json"), "RFC 7644, section 8.1")
	}
	return answer.StatusCode, out, answer.Header
}

func account(user string, more object) object {
	out := object{"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:User"}, "userName": user, "externalId": "x-" + user,
		"name":   object{"givenName": strings.ToUpper(user[:1]) + user[1:], "familyName": "Tug"},
		"emails": []any{object{"value": user + "@tugs.example", "type": "work", "primary": true}}, "active": true}
	for n, v := range more {
		out[n] = v
	}
	return out
}

// make makes an account, and gives its identifier.
func (p *pusher) make(user string, more object) string {
	p.t.Helper()
	status, made, header := p.ask("POST", "/Users", account(user, more))
	require.Equal(p.t, http.StatusCreated, status, "%v", made)
	assert.Equal(p.t, p.base+"/Users/"+made["id"].(string), header.Get("Location"), "RFC 7644, section 3.3")
	return made["id"].(string)
}

// person is the one person of a name at the gate.
func (p *pusher) person(name string) *api.Person {
	p.t.Helper()
	list, err := p.w.Client().People(context.Background(), client.Page{Search: name})
	require.NoError(p.t, err)
	require.Len(p.t, list.Items, 1, name)
	one, err := p.w.Client().Person(context.Background(), list.Items[0].ID)
	require.NoError(p.t, err)
	return one
}

func patchWith(ops ...object) object {
	return object{"schemas": []string{"urn:ietf:params:scim:api:messages:2.0:PatchOp"}, "Operations": ops}
}

// names are the userNames or displayNames of a list.
func names(list object) []string {
	out := []string{}
	for _, r := range list["Resources"].([]any) {
		for _, name := range []string{"userName", "displayName"} {
			if v, ok := r.(object)[name].(string); ok {
				out = append(out, v)
				break
			}
		}
	}
	return out
}

// TestPushedPeople walks an account through its life: made, read, put, patched, inactive, active again, and gone.
func TestPushedPeople(t *testing.T) {
	t.Parallel()
	p := pushing(t, nil)
	id := p.make("olle", object{"title": "Mate"})
	person := p.person("Olle Tug")
	assert.True(t, person.Active)
	assert.Equal(t, "olle@tugs.example", person.Email)
	status, got, header := p.ask("GET", "/Users/"+id, nil)
	assert.Equal(t, http.StatusOK, status)
	assert.Equal(t, "Mate", got["title"])
	assert.Equal(t, header.Get("ETag"), got["meta"].(object)["version"])
	status, _, _ = p.ask("GET", "/Users/"+id, nil, "If-None-Match", header.Get("ETag"))
	assert.Equal(t, http.StatusNotModified, status)

	status, got, _ = p.ask("PUT", "/Users/"+id, account("olle", object{"emails": []any{object{"value": "olle.tug@tugs.example"}}}),
		"If-Match", header.Get("ETag"))
	assert.Equal(t, http.StatusOK, status)
	assert.Nil(t, got["title"], "what is not put is gone")
	assert.Equal(t, "olle.tug@tugs.example", p.person("Olle Tug").Email)
	status, got, _ = p.ask("PUT", "/Users/"+id, account("olle", nil), "If-Match", header.Get("ETag"))
	assert.Equal(t, http.StatusPreconditionFailed, status, "%v", got)
	status, got, _ = p.ask("PATCH", "/Users/"+id, patchWith(object{"op": "replace", "path": "name.familyName", "value": "Tugboat"}))
	assert.Equal(t, http.StatusOK, status)
	assert.Equal(t, "Tugboat", got["name"].(object)["familyName"])
	assert.Equal(t, person.ID, p.person("Olle Tugboat").ID, "it is the same person")

	version := got["meta"].(object)["version"]
	_, got, _ = p.ask("PATCH", "/Users/"+id, patchWith(object{"op": "replace", "path": "name.familyName", "value": "Tugboat"}))
	assert.Equal(t, version, got["meta"].(object)["version"], "the same request twice changes nothing")
	_, got, _ = p.ask("PATCH", "/Users/"+id, patchWith(object{"op": "replace", "path": "active", "value": false}))
	assert.Equal(t, false, got["active"])
	assert.False(t, p.person("Olle Tugboat").Active)
	_, got, _ = p.ask("PATCH", "/Users/"+id, patchWith(object{"op": "replace", "path": "active", "value": true}))
	assert.Equal(t, true, got["active"])
	assert.True(t, p.person("Olle Tugboat").Active)

	other := p.make("berta", nil)
	status, got, _ = p.ask("PATCH", "/Users/"+other, patchWith(object{"op": "replace", "path": "userName", "value": "OLLE"}))
	assert.Equal(t, http.StatusConflict, status, "%v", got)
	assert.Equal(t, "uniqueness", got["scimType"])

	status, _, _ = p.ask("DELETE", "/Users/"+id, nil)
	assert.Equal(t, http.StatusNoContent, status)
	status, got, _ = p.ask("GET", "/Users/"+id, nil)
	assert.Equal(t, http.StatusNotFound, status)
	assert.Equal(t, "404", got["status"])
	assert.False(t, p.person("Olle Tugboat").Active, "the person stays, and is inactive")
}

// TestPushedLists asks lists in the ways of RFC 7644, section 3.4.2, and RFC 9865.
func TestPushedLists(t *testing.T) {
	t.Parallel()
	p := pushing(t, nil)
	ids := map[string]string{}
	for _, user := range []string{"olle", "berta", "carl", "dora", "emil"} {
		ids[user] = p.make(user, object{"title": map[string]string{"dora": "Master"}[user]})
	}
	for filter, want := range map[string][]string{
		`userName eq "BERTA"`:                           {"berta"},
		`externalId eq "x-carl"`:                        {"carl"},
		`externalId eq "X-carl"`:                        {},
		`id eq "` + ids["dora"] + `"`:                   {"dora"},
		`emails.value eq "emil@tugs.example"`:           {"emil"},
		`emails[type eq "work" and value sw "emil@"]`:   {"emil"},
		`emails[type eq "home" and value sw "emil@"]`:   {},
		`userName sw "b" or userName sw "C"`:            {"berta", "carl"},
		`name.givenName eq "Dora" and title pr`:         {"dora"},
		`title eq "master"`:                             {"dora"},
		`not (title pr) and active eq true`:             {"berta", "carl", "emil", "olle"},
		`meta.lastModified gt "2020-01-01T00:00:00Z"`:   {"berta", "carl", "dora", "emil", "olle"},
		`meta.lastModified lt "2020-01-01T00:00:00Z"`:   {},
		`userName eq "nobody"`:                          {},
		`userName eq "olle" and emails.value co "nope"`: {},
		`displayName eq null and userName ew "la"`:      {},
	} {
		status, list, _ := p.ask("GET", "/Users?sortBy=userName&filter="+url.QueryEscape(filter), nil)
		if assert.Equal(t, http.StatusOK, status, "%s: %v", filter, list) {
			assert.Equal(t, want, names(list), filter)
			assert.EqualValues(t, len(want), list["totalResults"], filter)
		}
	}
	for filter, kind := range map[string]string{`userName`: "invalidFilter", `nothing eq "x"`: "invalidFilter", strings.Repeat("(", 20) +
		`title pr` + strings.Repeat(")", 20): "invalidFilter", `title eq "` + strings.Repeat("x", 2100) + `"`: "invalidFilter"} {
		status, refused, _ := p.ask("GET", "/Users?filter="+url.QueryEscape(filter), nil)
		assert.Equal(t, http.StatusBadRequest, status, "%.40s", filter)
		assert.Equal(t, kind, refused["scimType"], "%.40s", filter)
		assert.Equal(t, []any{"urn:ietf:params:scim:api:messages:2.0:Error"}, refused["schemas"])
	}

	_, list, _ := p.ask("GET", "/Users?startIndex=2&count=2", nil)
	assert.EqualValues(t, []float64{5, 2, 2}, []float64{list["totalResults"].(float64), list["startIndex"].(float64),
		list["itemsPerPage"].(float64)})
	assert.Equal(t, []string{"berta", "carl"}, names(list), "in the order in which they came")
	_, list, _ = p.ask("GET", "/Users?startIndex=0&count=0", nil)
	assert.EqualValues(t, 5, list["totalResults"], "count 0 tells how many there are")
	assert.Empty(t, list["Resources"])
	_, list, _ = p.ask("GET", "/Users?sortBy=name.givenName&sortOrder=descending&count=2", nil)
	assert.Equal(t, []string{"olle", "emil"}, names(list))

	var all []string
	for _, how := range []string{"", "sortBy=userName&", "filter=" + url.QueryEscape("userName pr") + "&"} {
		all = nil
		for cursor, pages := "", 0; ; pages++ {
			require.Less(t, pages, 5)
			_, list, _ = p.ask("GET", "/Users?"+how+"count=2&cursor="+url.QueryEscape(cursor), nil)
			all = append(all, names(list)...)
			next, more := list["nextCursor"].(string)
			if !more {
				break
			}
			cursor = next
		}
		slices.Sort(all)
		assert.Equal(t, []string{"berta", "carl", "dora", "emil", "olle"}, all, how)
	}
	for query, kind := range map[string]string{"cursor=made-up": "invalidCursor", "count=x": "invalidCount",
		"cursor=%3C": "invalidCursor"} {
		status, refused, _ := p.ask("GET", "/Users?"+query, nil)
		assert.Equal(t, http.StatusBadRequest, status, query)
		assert.Equal(t, kind, refused["scimType"], query)
	}
	_, list, _ = p.ask("GET", "/Users?attributes=userName,name.familyName&count=1", nil)
	assert.Equal(t, []string{"id", "name", "schemas", "userName"}, keysOf(list["Resources"].([]any)[0].(object)))
	_, list, _ = p.ask("GET", "/Users?excludedAttributes=emails,meta,name&count=1", nil)
	assert.Equal(t, []string{"active", "externalId", "id", "schemas", "userName"}, keysOf(list["Resources"].([]any)[0].(object)))
}

func keysOf(o object) []string {
	var out []string
	for k := range o {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// TestPushedGroups maps groups that are pushed to groups of the gate, and knows members in thousands.
func TestPushedGroups(t *testing.T) {
	t.Parallel()
	p := pushing(t, nil)
	olle, berta := p.make("olle", nil), p.make("berta", nil)
	status, group, _ := p.ask("POST", "/Groups", object{"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:Group"},
		"displayName": "tug-crew", "members": []any{object{"value": olle}, object{"value": "somebody whom nobody knows"}}})
	require.Equal(t, http.StatusCreated, status, "%v", group)
	id := group["id"].(string)
	in := func(name string) bool {
		return slices.ContainsFunc(p.person(name).Groups, func(g api.PersonGroup) bool { return g.Slug == "quay" })
	}
	assert.True(t, in("Olle Tug"))
	assert.False(t, in("Berta Tug"))
	_, got, _ := p.ask("GET", "/Users/"+olle, nil)
	assert.Equal(t, "tug-crew", got["groups"].([]any)[0].(object)["display"])

	status, got, _ = p.ask("PATCH", "/Groups/"+id, patchWith(object{"op": "add", "path": "members", "value": []any{object{"value": berta}}},
		object{"op": "remove", "path": `members[value eq "` + olle + `"]`}))
	assert.Equal(t, http.StatusOK, status, "%v", got)
	assert.True(t, in("Berta Tug"))
	assert.False(t, in("Olle Tug"))
	p.ask("PATCH", "/Groups/"+id, patchWith(object{"op": "Remove", "path": "members", "value": []any{object{"value": berta}}}))
	assert.False(t, in("Berta Tug"), "a removal by value, as many write it")
	p.ask("PUT", "/Groups/"+id, object{"displayName": "tug-crew", "members": []any{object{"value": olle}, object{"value": berta}}})
	assert.True(t, in("Olle Tug") && in("Berta Tug"))
	p.ask("PATCH", "/Groups/"+id, patchWith(object{"op": "replace", "path": "displayName", "value": "office"}))
	require.Eventually(t, func() bool { return !in("Olle Tug") && !in("Berta Tug") }, testbed.Patience, 20*time.Millisecond,
		"the provider may not speak for a group of this name")
	status, got, _ = p.ask("POST", "/Groups", object{"displayName": "OFFICE"})
	assert.Equal(t, http.StatusConflict, status)
	assert.Equal(t, "uniqueness", got["scimType"])

	var many []any
	for i := range 3000 {
		many = append(many, object{"value": fmt.Sprintf("nobody-%d", i)})
	}
	began := time.Now()
	status, _, _ = p.ask("PATCH", "/Groups/"+id, patchWith(object{"op": "add", "path": "members", "value": many}))
	assert.Equal(t, http.StatusOK, status)
	assert.Less(t, time.Since(began), 30*time.Second)
	_, list, _ := p.ask("GET", "/Groups?filter="+url.QueryEscape(`displayName eq "office"`)+"&excludedAttributes=members", nil)
	require.Len(t, list["Resources"], 1)
	assert.Nil(t, list["Resources"].([]any)[0].(object)["members"])
	status, _, _ = p.ask("DELETE", "/Groups/"+id, nil)
	assert.Equal(t, http.StatusNoContent, status)
}

// TestHabitsOfSenders takes what usual senders write otherwise than the standard has it, and tells of it.
func TestHabitsOfSenders(t *testing.T) {
	t.Parallel()
	p := pushing(t, nil)
	id := p.make("olle", nil)
	for _, one := range []struct {
		name string
		body object
		at   func(object) any
		want any
	}{
		{"active as a text", patchWith(object{"op": "Replace", "path": "active", "value": "False"}),
			func(r object) any { return r["active"] }, false},
		{"active without a path", patchWith(object{"op": "replace", "value": object{"active": "True"}}),
			func(r object) any { return r["active"] }, true},
		{"names in another case", patchWith(object{"op": "replace", "value": object{"DISPLAYNAME": "Olle of the Tugs"}}),
			func(r object) any { return r["displayName"] }, "Olle of the Tugs"},
		{"one of a list that is not there", patchWith(object{"op": "replace", "path": `phoneNumbers[type eq "mobile"].value`,
			"value": "+44 1632 960003"}),
			func(r object) any { return r["phoneNumbers"].([]any)[0].(object)["value"] }, "+44 1632 960003"},
		{"one of a list that is there", patchWith(object{"op": "Replace", "path": `emails[type eq "work"].value`,
			"value": "o@tugs.example"}),
			func(r object) any { return r["emails"].([]any)[0].(object)["value"] }, "o@tugs.example"},
		{"a schema's attribute in the value", patchWith(object{"op": "Add", "value": object{
			"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:department": "Towing"}}),
			func(r object) any {
				e, _ := r["urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"].(object)
				return e["department"]
			}, "Towing"},
		{"what nobody knows", patchWith(object{"op": "add", "value": object{"shoeSize": "44"}}),
			func(r object) any { return r["shoeSize"] }, nil},
	} {
		status, got, _ := p.ask("PATCH", "/Users/"+id, one.body)
		if assert.Equal(t, http.StatusOK, status, "%s: %v", one.name, got) {
			assert.Equal(t, one.want, one.at(got), one.name)
		}
	}
	status, got, _ := p.ask("POST", "/Users", account("OLLE", nil))
	assert.Equal(t, http.StatusConflict, status, "the same once more")
	assert.Equal(t, "uniqueness", got["scimType"])
	assert.Equal(t, http.StatusOK, first(p.ask("PUT", "/Users/"+id, account("olle", nil), "Content-Type", "application/json")))
	held, err := p.w.Client().Pushes(context.Background(), "tugs")
	require.NoError(t, err)
	var told []string
	for _, r := range held.Remarks {
		told = append(told, r.Text)
	}
	all := strings.Join(told, "\n")
	for _, part := range []string{"as the text False", "came as Replace", "came as DISPLAYNAME", "one was made", "shoeSize"} {
		assert.Contains(t, all, part)
	}
	assert.NotNil(t, held.Tokens[0].LastUsed)
}

func first(status int, _ object, _ http.Header) int { return status }

// TestBadPushes refuses what can't be taken, each with the error of the standard, and changes nothing by it.
func TestBadPushes(t *testing.T) {
	t.Parallel()
	p := pushing(t, nil)
	id := p.make("olle", nil)
	for _, one := range []struct {
		name, method, path string
		body               any
		status             int
		kind               string
	}{
		{"no JSON", "POST", "/Users", "{", 400, "invalidSyntax"},
		{"no object", "POST", "/Users", "[]", 400, "invalidSyntax"},
		{"a name twice", "POST", "/Users", `{"userName":"a","USERNAME":"b"}`, 400, "invalidSyntax"},
		{"no userName", "POST", "/Users", object{"title": "x"}, 400, "invalidValue"},
		{"a wrong type", "POST", "/Users", object{"userName": "x", "active": "perhaps"}, 400, "invalidValue"},
		{"no operations", "PATCH", "/Users/" + id, object{"schemas": []string{}}, 400, "invalidSyntax"},
		{"what only we set", "PATCH", "/Users/" + id, patchWith(object{"op": "replace", "path": "id", "value": "x"}), 400, "mutability"},
		{"a path that leads nowhere", "PATCH", "/Users/" + id, patchWith(object{"op": "replace", "path": "a.b.c", "value": "x"}), 400,
			"invalidPath"},
		{"a removal without a path", "PATCH", "/Users/" + id, patchWith(object{"op": "remove"}), 400, "noTarget"},
		{"what is needed", "PATCH", "/Users/" + id, patchWith(object{"op": "remove", "path": "userName"}), 400, "invalidValue"},
		{"nobody", "PATCH", "/Users/nobody", patchWith(object{"op": "remove", "path": "title"}), 404, ""},
		{"nothing", "GET", "/Nothing", nil, 404, ""},
		{"bulk", "POST", "/Bulk", object{}, 404, ""},
		{"a filter of descriptions", "GET", "/Schemas?filter=x", nil, 403, ""},
		{"members by another part", "PATCH", "/Groups/none", patchWith(object{"op": "remove", "path": `members[display eq "x"]`}), 404, ""},
		{"too many operations", "PATCH", "/Users/" + id, patchWith(slices.Repeat([]object{{"op": "add", "path": "title", "value": "x"}},
			2001)...), 413, "tooMany"},
		{"too large", "POST", "/Users", `{"userName":"` + strings.Repeat("x", 70_000) + `"}`, 400, "invalidValue"},
	} {
		status, got, _ := p.ask(one.method, one.path, one.body)
		assert.Equal(t, one.status, status, "%s: %v", one.name, got)
		kind, _ := got["scimType"].(string)
		assert.Equal(t, one.kind, kind, one.name)
		assert.NotEmpty(t, got["detail"], one.name)
	}
	_, list, _ := p.ask("GET", "/Users", nil)
	assert.Equal(t, []string{"olle"}, names(list))
	assert.Equal(t, http.StatusUnsupportedMediaType, first(p.ask("POST", "/Users", account("x", nil), "Content-Type", "text/plain")))
}

// TestSendersSpeakForTheirOwn has a sender try to take over whoever is another provider's, in each way that there is.
func TestSendersSpeakForTheirOwn(t *testing.T) {
	t.Parallel()
	p := pushing(t, nil)
	ctx := context.Background()
	_, err := p.w.Client().AddPerson(ctx, api.SavePerson{Profile: map[string][]string{"name": {"Ida Ferry"},
		"email": {"ida@saltmere.example"}, "preferred_username": {"ida@saltmere.example"}}})
	require.NoError(t, err)
	before := p.person("Ida Ferry")
	status, got, _ := p.ask("POST", "/Users", account("ida", object{"emails": []any{object{"value": "ida@saltmere.example"}}}))
	if status == http.StatusCreated {
		made, _, _ := p.ask("GET", "/Users/"+got["id"].(string), nil)
		assert.Equal(t, http.StatusOK, made)
	} else {
		assert.Equal(t, http.StatusConflict, status, "%v", got)
	}
	p.ask("POST", "/Users", account("ida@saltmere.example", object{"emails": nil}))
	for _, user := range []string{"ida", "ida@saltmere.example"} {
		_, list, _ := p.ask("GET", "/Users?filter="+url.QueryEscape(`userName eq "`+user+`"`), nil)
		for _, r := range list["Resources"].([]any) {
			p.ask("PATCH", "/Users/"+r.(object)["id"].(string), patchWith(object{"op": "replace", "path": "active", "value": false}))
		}
	}
	after := p.person("Ida Ferry")
	assert.Equal(t, before, after, "nothing of her changed, and she is active")

	// Somebody who comes another way as well stays active, and only what this provider vouched for ends.
	own := p.make("olle", nil)
	olle := p.person("Olle Tug")
	login := "olle.tug"
	_, err = p.w.Client().PutPerson(ctx, olle.ID, api.SavePerson{Profile: olle.Profile, Login: &login})
	require.NoError(t, err)
	p.ask("PATCH", "/Users/"+own, patchWith(object{"op": "replace", "path": "active", "value": false}))
	assert.True(t, p.person("Olle Tug").Active)

	// Whoever was made inactive by hand is not brought back by a sender.
	berta := p.make("berta", nil)
	off := false
	held := p.person("Berta Tug")
	_, err = p.w.Client().PutPerson(ctx, held.ID, api.SavePerson{Profile: held.Profile, Active: &off})
	require.NoError(t, err)
	status, got, _ = p.ask("PATCH", "/Users/"+berta, patchWith(object{"op": "replace", "path": "title", "value": "Mate"}))
	assert.Equal(t, http.StatusBadRequest, status, "%v", got)
	p.ask("PATCH", "/Users/"+berta, patchWith(object{"op": "replace", "path": "active", "value": false}))
	p.ask("PATCH", "/Users/"+berta, patchWith(object{"op": "replace", "path": "active", "value": true}))
	assert.False(t, p.person("Berta Tug").Active)
}

// TestTokensOfSenders lets two count at once, until they end or are taken back, for one provider alone.
func TestTokensOfSenders(t *testing.T) {
	t.Parallel()
	p := pushing(t, nil)
	ctx, cl := context.Background(), p.w.Client()
	refused := func(token string) {
		t.Helper()
		status, got, header := (&pusher{t, p.w, p.base, token}).ask("GET", "/Users", nil)
		assert.Equal(t, http.StatusUnauthorized, status)
		assert.Contains(t, header.Get("WWW-Authenticate"), "Bearer")
		assert.NotContains(t, fmt.Sprint(got), "Tug Company", "whoever proves nothing learns nothing")
	}
	for _, token := range []string{"", "igp_", "made-up", "igp_" + strings.Repeat("x", 43), p.token + "x", p.w.Token} {
		refused(token)
	}
	others, err := cl.NewPushToken(ctx, "northquay-stevedores", 0)
	require.NoError(t, err)
	refused(others.Secret)
	elsewhere := &pusher{t, p.w, strings.Replace(p.base, "tugs", "northquay-stevedores", 1), p.token}
	assert.Equal(t, http.StatusUnauthorized, first(elsewhere.ask("GET", "/Users", nil)), "a token of another provider")
	nowhere := &pusher{t, p.w, strings.Replace(p.base, "tugs", "nobody", 1), p.token}
	assert.Equal(t, http.StatusUnauthorized, first(nowhere.ask("GET", "/Users", nil)))

	second, err := cl.NewPushToken(ctx, "tugs", 0)
	require.NoError(t, err)
	_, err = cl.NewPushToken(ctx, "tugs", 0)
	assert.ErrorContains(t, err, "two tokens that count")
	assert.Equal(t, http.StatusOK, first((&pusher{t, p.w, p.base, second.Secret}).ask("GET", "/Users", nil)))
	assert.Equal(t, http.StatusOK, first(p.ask("GET", "/Users", nil)), "both count")
	held, err := cl.Pushes(ctx, "tugs")
	require.NoError(t, err)
	for _, token := range held.Tokens {
		assert.Empty(t, token.Secret)
		if strings.HasPrefix(p.token, token.Hint) && token.Expires != nil {
			require.NoError(t, cl.DropPushToken(ctx, "tugs", token.ID))
		}
	}
	refused(p.token)

	one, err := cl.Provider(ctx, "tugs")
	require.NoError(t, err)
	one.Pushed.On = false
	_, err = cl.PutProvider(ctx, one.Provider, 0)
	require.NoError(t, err)
	refused(second.Secret)
}

// TestPushedDescriptions reads what the service says of itself (RFC 7644, section 4).
func TestPushedDescriptions(t *testing.T) {
	t.Parallel()
	p := pushing(t, nil)
	_, can, _ := p.ask("GET", "/ServiceProviderConfig", nil)
	for _, name := range []string{"patch", "filter", "sort", "etag"} {
		assert.Equal(t, true, can[name].(object)["supported"], name)
	}
	assert.Equal(t, true, can["pagination"].(object)["cursor"])
	_, types, _ := p.ask("GET", "/ResourceTypes", nil)
	assert.EqualValues(t, 2, types["totalResults"])
	_, one, _ := p.ask("GET", "/ResourceTypes/User", nil)
	assert.Equal(t, "/Users", one["endpoint"])
	_, schemas, _ := p.ask("GET", "/Schemas", nil)
	assert.EqualValues(t, 3, schemas["totalResults"])
	_, user, _ := p.ask("GET", "/Schemas/urn:ietf:params:scim:schemas:core:2.0:User", nil)
	attributes := user["attributes"].([]any)
	assert.Equal(t, "userName", attributes[0].(object)["name"])
	assert.Equal(t, "server", attributes[0].(object)["uniqueness"])
	assert.Equal(t, http.StatusNotFound, first(p.ask("GET", "/Schemas/urn:nothing", nil)))
}
