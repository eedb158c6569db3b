package scim_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/scim"
)

// mira is an account with something of everything.
const mira = `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User","urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"],
	"id":"2819","externalId":"p1","userName":"MVoss","active":true,"title":"Tour Guide","userType":"Employee",
	"name":{"familyName":"Voss","givenName":"Mira"},
	"emails":[{"value":"mira@saltmere.example","type":"work","primary":true},{"value":"mira@home.example","type":"home"}],
	"meta":{"resourceType":"User","lastModified":"2026-05-13T04:42:34Z","version":"W/\"a1\""},
	"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User":{"department":"Ferries","manager":{"value":"77"}}}`

func read(t testing.TB, text string) scim.Resource {
	t.Helper()
	r, err := scim.Read([]byte(text))
	require.Nil(t, err)
	return r
}

func account(t testing.TB, text string) scim.Resource {
	t.Helper()
	r, err := scim.Users.Whole(read(t, text))
	require.Nil(t, err)
	return r
}

// TestFilters holds filters over an account, among them those of RFC 7644, figure 2.
func TestFilters(t *testing.T) {
	t.Parallel()
	held := account(t, mira)
	for text, want := range map[string]bool{
		`userName eq "mvoss"`:     true, // it is not case-exact
		`USERNAME EQ "mvoss"`:     true,
		`externalId eq "P1"`:      false, // it is case-exact
		`externalId eq "p1"`:      true,
		`name.familyName co "os"`: true,
		`userName sw "M"`:         true,
		`urn:ietf:params:scim:schemas:core:2.0:User:userName sw "M"`: true,
		`title pr`:    true,
		`nickName pr`: false,
		`meta.lastModified gt "2026-05-13T04:42:33Z"`:                                        true,
		`meta.lastModified ge "2026-05-13T06:42:34+02:00"`:                                   true,
		`meta.lastModified lt "2026-05-13T04:42:34Z"`:                                        false,
		`title pr and userType eq "Employee"`:                                                true,
		`nickName pr or userType eq "Intern"`:                                                false,
		`userType eq "Employee" and (emails co "example" or emails.value co "nowhere")`:      true,
		`userType ne "Employee" and not (emails co "example")`:                               false,
		`not (userName eq "other")`:                                                          true,
		`emails[type eq "work" and value co "@saltmere.example"]`:                            true,
		`emails[type eq "home" and value co "@saltmere.example"]`:                            false, // of one and the same value
		`emails[type eq "home"] or phoneNumbers[type eq "work"]`:                             true,
		`emails.type eq "home"`:                                                              true,
		`active eq true`:                                                                     true,
		`active eq "False"`:                                                                  false,
		`nickName eq null`:                                                                   true,
		`title eq null`:                                                                      false,
		`userName ne "x"`:                                                                    true,
		`title eq "Tour \u0047uide"`:                                                         true, // escapes count
		`userName eq "a" and userName eq "b" or title pr`:                                    true, // and binds closer
		`urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:department eq "ferries"`: true,
		`urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:manager.value eq "77"`:   true,
	} {
		f, err := scim.Users.Filter(text)
		if assert.Nil(t, err, text) {
			assert.Equal(t, want, f.Holds(held), text)
			again, err := scim.Users.Filter(f.String())
			if assert.Nil(t, err, "the canonical form of %s is %s", text, f) {
				assert.Equal(t, want, again.Holds(held), f.String())
				assert.Equal(t, f.String(), again.String())
			}
		}
	}
}

// TestFiltersRefused holds what is no filter, or one that nobody has a use for.
func TestFiltersRefused(t *testing.T) {
	t.Parallel()
	for text, says := range map[string]string{
		``:                              "is no filter",
		`userName`:                      "is no filter",
		`userName eq`:                   "is no filter",
		`userName like "x"`:             "is no filter",
		`nothing eq "x"`:                "There is no attribute",
		`name.nothing eq "x"`:           "has no part",
		`urn:example:other:name eq "x"`: "is not known here",
		`active gt true`:                "what is greater",
		`active eq "perhaps"`:           "of another type",
		`userName eq 5`:                 "of another type",
		`name eq "x"`:                   "has parts",
		`userName[value eq "x"]`:        "has one value",
		`emails[emails[value pr]]`:      "is no filter",
		`emails[nothing eq "x"]`:        "has no part",
		`title eq "\x"`:                 "is no filter",
		strings.Repeat("(", 11) + `title pr` + strings.Repeat(")", 11):                  "more than 10 deep",
		`title eq "` + strings.Repeat("a", 2100) + `"`:                                  "2048 are the most",
		strings.Repeat("not (", 12) + "title pr" + strings.Repeat(")", 12):              "more than 10 deep",
		`emails[` + strings.Repeat("(", 10) + `type pr` + strings.Repeat(")", 10) + `]`: "more than 10 deep",
	} {
		_, err := scim.Users.Filter(text)
		if assert.NotNil(t, err, text) {
			assert.Equal(t, scim.InvalidFilter, err.Type, text)
			assert.Equal(t, http.StatusBadRequest, err.Status)
			assert.Contains(t, err.Detail, says, text)
		}
	}
}

// TestFilterBombs holds the worst that fits the limits to a time.
func TestFilterBombs(t *testing.T) {
	t.Parallel()
	for _, text := range []string{
		strings.TrimSuffix(strings.Repeat(`title pr or `, 170), " or "),
		strings.Repeat("(", 10) + strings.TrimSuffix(strings.Repeat(`title eq "a" and `, 110), " and ") + strings.Repeat(")", 10),
		`title eq "` + strings.Repeat(`\\`, 1000) + `"`,
		strings.Repeat("a", 2048),
		strings.Repeat("a.", 1024),
		strings.Repeat("urn:", 512),
	} {
		began := time.Now()
		_, _ = scim.Users.Filter(text)
		assert.Less(t, time.Since(began), 2*time.Second, "%.40s…", text)
	}
}

// patched applies a PATCH to an account.
func patched(t *testing.T, k *scim.Kind, held scim.Resource, text string) (scim.Resource, []scim.Remark, *scim.Error) {
	t.Helper()
	ops, remarks, err := k.Patch(read(t, text))
	if err != nil {
		return nil, nil, err
	}
	out, more, err := k.Apply(held, ops)
	return out, append(remarks, more...), err
}

func patch(ops string) string {
	return `{"schemas":["` + scim.PatchMessage + `"],"Operations":[` + ops + `]}`
}

// TestPatches holds the operations of RFC 7644, section 3.5.2.
func TestPatches(t *testing.T) {
	t.Parallel()
	const home = `{"value":"mira@home.example","type":"home"}`
	for _, one := range []struct{ name, ops, path, want string }{
		{"add a value", `{"op":"add","path":"nickName","value":"Mi"}`, "nickName", `["Mi"]`},
		{"add to a list", `{"op":"add","path":"emails","value":[{"value":"m@x.example","type":"other"}]}`, "emails.value",
			`["mira@saltmere.example","mira@home.example","m@x.example"]`},
		{"add what is there", `{"op":"add","path":"emails","value":[` + home + `]}`, "emails.value",
			`["mira@saltmere.example","mira@home.example"]`},
		{"add without a path", `{"op":"add","value":{"emails":[{"value":"b@x.example"}],"nickName":"Babs"}}`, "nickName", `["Babs"]`},
		{"a new preferred one", `{"op":"add","path":"emails","value":[{"value":"n@x.example","type":"other","primary":true}]}`,
			`emails[primary eq true].value`, `["n@x.example"]`},
		{"replace a value", `{"op":"replace","path":"title","value":"Purser"}`, "title", `["Purser"]`},
		{"replace a part", `{"op":"replace","path":"name.givenName","value":"Mi"}`, "name.familyName", `["Voss"]`},
		{"replace parts", `{"op":"replace","path":"name","value":{"givenName":"Mi"}}`, "name.familyName", `["Voss"]`},
		{"replace a list", `{"op":"replace","path":"emails","value":[` + home + `]}`, "emails.value", `["mira@home.example"]`},
		{"replace one of a list", `{"op":"replace","path":"emails[type eq \"work\"].value","value":"new@x.example"}`, "emails.value",
			`["new@x.example","mira@home.example"]`},
		{"replace one value whole", `{"op":"replace","path":"emails[type eq \"work\"]","value":{"type":"work","value":"w@x.example"}}`,
			`emails[type eq "work"].value`, `["w@x.example"]`},
		{"remove a value", `{"op":"remove","path":"title"}`, "title", `null`},
		{"remove one of a list", `{"op":"remove","path":"emails[type eq \"work\"]"}`, "emails.value", `["mira@home.example"]`},
		{"remove a part of a list", `{"op":"remove","path":"emails[type eq \"home\"].type"}`, "emails.type", `["work"]`},
		{"of an extension",
			`{"op":"replace","path":"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:department","value":"Quay"}`,
			"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:department", `["Quay"]`},
		{"of an extension, whole",
			`{"op":"add","path":"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User","value":{"costCenter":"9"}}`,
			"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:department", `["Ferries"]`},
		{"of an extension, without a path",
			`{"op":"replace","value":{"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User":{"department":"Quay"}}}`,
			"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:department", `["Quay"]`},
		{"several in their order", `{"op":"remove","path":"emails"},{"op":"add","path":"emails","value":[` + home + `]}`, "emails.type",
			`["home"]`},
		{"replace by nothing", `{"op":"replace","path":"title","value":null}`, "title", `null`},
	} {
		held := account(t, mira)
		before, _ := json.Marshal(held)
		out, remarks, err := patched(t, scim.Users, held, patch(one.ops))
		if !assert.Nil(t, err, one.name) {
			continue
		}
		assert.Empty(t, remarks, one.name)
		p, err := scim.Users.Path(one.path)
		require.Nil(t, err)
		got, _ := json.Marshal(p.Values(out))
		assert.JSONEq(t, one.want, string(got), one.name)
		after, _ := json.Marshal(held)
		assert.JSONEq(t, string(before), string(after), "%s: what was there is left alone", one.name)
	}
}

// TestPatchesRefused holds what a PATCH can't do, and that nothing is changed by one that fails.
func TestPatchesRefused(t *testing.T) {
	t.Parallel()
	for ops, want := range map[string]string{
		`{"op":"replace","path":"id","value":"x"}`:                  scim.Mutability,
		`{"op":"add","path":"groups","value":[{"value":"g"}]}`:      scim.Mutability,
		`{"op":"remove","path":"userName"}`:                         scim.InvalidValue,
		`{"op":"replace","path":"active","value":"perhaps"}`:        scim.InvalidValue,
		`{"op":"replace","path":"name","value":"x"}`:                scim.InvalidValue,
		`{"op":"replace","path":"nothing","value":"x"}`:             scim.InvalidPath,
		`{"op":"replace","path":"emails[type eq","value":"x"}`:      scim.InvalidPath,
		`{"op":"replace","path":"urn:example:other:x","value":"x"}`: scim.InvalidPath,
		`{"op":"remove"}`:                                             scim.NoTarget,
		`{"op":"move","path":"title","value":"x"}`:                    scim.InvalidSyntax,
		`{"op":"add","value":"x"}`:                                    scim.InvalidValue,
		`{"op":"replace","path":"title[value eq \"x\"]","value":"x"}`: scim.InvalidPath,
		`{"op":"replace","path":"` + strings.Repeat("a", 600) + `"}`:  scim.InvalidPath,
		strings.Repeat(`{"op":"add","path":"title","value":"x"},`, 2000) + `{"op":"remove","path":"title"}`: scim.TooMany,
	} {
		_, _, err := patched(t, scim.Users, account(t, mira), patch(ops))
		if assert.NotNil(t, err, "%.80s", ops) {
			assert.Equal(t, want, err.Type, "%.80s: %s", ops, err.Detail)
		}
	}
	_, _, err := scim.Users.Patch(read(t, `{"schemas":["x"]}`))
	assert.Equal(t, scim.InvalidSyntax, err.Type)
}

// TestHugePatches holds the cost of a PATCH whose paths are as many and as long as can be, and reads the usual ones by the thousand.
func TestHugePatches(t *testing.T) {
	t.Parallel()
	costly := `{"op":"remove","path":"emails[type eq \"` + strings.Repeat("a", 400) + `\" and primary eq true]"},`
	began := time.Now()
	_, _, err := patched(t, scim.Users, account(t, mira), patch(strings.TrimSuffix(strings.Repeat(costly, 2000), ",")))
	require.NotNil(t, err)
	assert.Equal(t, scim.TooMany, err.Type)
	assert.Less(t, time.Since(began), 5*time.Second)
	var ops []string
	for i := range 2000 {
		ops = append(ops, fmt.Sprintf(`{"op":"remove","path":"members[value eq \"member-%024d\"]"}`, i))
	}
	began = time.Now()
	_, _, err = scim.Groups.Patch(read(t, patch(strings.Join(ops, ","))))
	require.Nil(t, err)
	assert.Less(t, time.Since(began), time.Second)
	for _, text := range []string{"title", "NAME.givenname", `emails[type eq "work"].value`, `emails[type eq "work"]`} {
		p, err := scim.Users.Path(text)
		require.Nil(t, err, text)
		same, err := scim.Users.Path("urn:ietf:params:scim:schemas:core:2.0:User:" + text) // by the library
		require.Nil(t, err, text)
		assert.Equal(t, same.String(), p.String())
	}
}

// TestHabits holds what usual senders write otherwise than the standard has it: it is taken without harm, with a remark.
func TestHabits(t *testing.T) {
	t.Parallel()
	for _, one := range []struct{ name, ops, path, want, remark string }{
		{"the operation in capitals", `{"op":"Replace","path":"title","value":"x"}`, "title", `["x"]`, "op"},
		{"truth as a text", `{"op":"replace","path":"active","value":"False"}`, "active", `[false]`, "boolean"},
		{"no path, truth as a text", `{"op":"Replace","value":{"active":"False"}}`, "active", `[false]`, "boolean"},
		{"no path, paths in the value", `{"op":"add","value":{"name.givenName":"Mi","emails[type eq \"work\"].value":"w@x.example"}}`,
			"name.givenName", `["Mi"]`, "no-path"},
		{"replace of one of a list that has none", `{"op":"replace","path":"phoneNumbers[type eq \"mobile\"].value","value":"+44"}`,
			"phoneNumbers.type", `["mobile"]`, "made"},
		{"attributes in another case", `{"op":"replace","value":{"displayname":"M V"}}`, "displayName", `["M V"]`, ""},
		{"one value as a list", `{"op":"replace","path":"title","value":[{"value":"x"}]}`, "title", `["x"]`, "wrapped"},
		{"a list as one value", `{"op":"add","path":"emails","value":{"value":"o@x.example","type":"other"}}`,
			`emails[type eq "other"].value`, `["o@x.example"]`, "single"},
		{"a removal by value", `{"op":"remove","path":"emails","value":[{"value":"mira@home.example"}]}`, "emails.type", `["work"]`,
			"remove-value"},
		{"a manager as a text",
			`{"op":"add","path":"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:manager","value":"78"}`,
			"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:manager.value", `["78"]`, "plain"},
		{"a removal of what is not there", `{"op":"remove","path":"emails[type eq \"other\"]"}`, "emails.type", `["work","home"]`,
			"nothing-there"},
		{"a number for a text", `{"op":"replace","path":"title","value":7}`, "title", `["7"]`, "number"},
		{"an attribute that nobody knows", `{"op":"replace","value":{"shoeSize":"44","title":"x"}}`, "title", `["x"]`, "unknown"},
		{"an empty text for nothing", `{"op":"replace","path":"title","value":""}`, "title", `null`, ""},
	} {
		out, remarks, err := patched(t, scim.Users, account(t, mira), patch(one.ops))
		if !assert.Nil(t, err, one.name) {
			continue
		}
		p, err := scim.Users.Path(one.path)
		require.Nil(t, err)
		got, _ := json.Marshal(p.Values(out))
		assert.JSONEq(t, one.want, string(got), one.name)
		if one.remark != "" {
			var codes []string
			for _, r := range remarks {
				codes = append(codes, r.Code)
			}
			assert.Contains(t, codes, one.remark, one.name)
		}
	}
	taken, remarks, err := scim.Users.Take(read(t, `{"UserName":"x","ACTIVE":"true","Emails":[{"Value":"a@b.example"}],"id":"forged",
		"groups":[{"value":"g"}],"meta":{},"odd":1}`))
	require.Nil(t, err)
	assert.Equal(t, scim.Resource{"userName": "x", "active": true, "emails": []any{map[string]any{"value": "a@b.example"}}}, taken,
		"what the service provider alone sets is left out")
	assert.NotEmpty(t, remarks)
}

// TestManyMembers holds members in thousands, added, removed and named twice.
func TestManyMembers(t *testing.T) {
	t.Parallel()
	var members []string
	for i := range 5000 {
		members = append(members, fmt.Sprintf(`{"value":"u%d"}`, i))
	}
	all := strings.Join(members, ",")
	held := scim.Resource{"displayName": "Crew"}
	out, _, err := patched(t, scim.Groups, held, patch(`{"op":"add","path":"members","value":[`+all+`]},`+
		`{"op":"add","path":"members","value":[`+all+`]},{"op":"remove","path":"members[value eq \"u17\"]"},`+
		`{"op":"remove","path":"members","value":[{"value":"u18"},{"value":"nobody"}]}`))
	require.Nil(t, err)
	assert.Len(t, out["members"], 4998)
}

// TestReadLimits holds what is no message, or too much of one.
func TestReadLimits(t *testing.T) {
	t.Parallel()
	for _, text := range []string{``, `[]`, `"x"`, `{"a":1,"A":2}`, `{"a":1}{"b":2}`, `{"a":`, strings.Repeat(`{"a":`, 20) + "1" +
		strings.Repeat("}", 20), `{"a":` + strings.Repeat("[", 10000) + strings.Repeat("]", 10000) + `}`} {
		_, err := scim.Read([]byte(text))
		if assert.NotNil(t, err, "%.40s", text) {
			assert.Equal(t, scim.InvalidSyntax, err.Type, "%.40s", text)
		}
	}
	_, err := scim.Read([]byte(`{"a":"` + strings.Repeat("a", scim.MaxMessage) + `"}`))
	assert.Equal(t, http.StatusRequestEntityTooLarge, err.Status)
	_, _, err = scim.Users.Take(read(t, `{"userName":"x","emails":[`+strings.TrimSuffix(strings.Repeat(`{"value":"a"},`, 1001), ",")+`]}`))
	assert.Equal(t, scim.InvalidValue, err.Type)
}

// TestWanted holds what a mapping wants against what is there, and the requests that make them one.
func TestWanted(t *testing.T) {
	t.Parallel()
	const dept = scim.EnterpriseSchema + ":department"
	names := []string{"userName", "name.givenName", "emails[type eq \"work\"].value", "title", dept, "roles", "active"}
	targets, wrong := scim.Users.Targets(names, map[string][]string{"userName": {"mvoss"}, "name.givenName": {"Mira"},
		"emails[type eq \"work\"].value": {"mira@new.example"}, dept: {"Quay"}, "roles": {"purser", "clerk"}, "active": {"true"}})
	require.Empty(t, wrong)
	made := scim.Users.New(targets)
	text, _ := json.Marshal(made)
	assert.JSONEq(t, `{"schemas":["`+scim.UserSchema+`","`+scim.EnterpriseSchema+`"],"userName":"mvoss","name":{"givenName":"Mira"},
		"emails":[{"type":"work","value":"mira@new.example"}],"roles":[{"value":"purser"},{"value":"clerk"}],"active":true,
		"`+scim.EnterpriseSchema+`":{"department":"Quay"}}`, string(text))
	assert.Empty(t, scim.Differences(targets, made, nil), "what was made is as it should be")

	held := account(t, mira)
	var paths []string
	list := scim.Differences(targets, held, nil)
	for _, d := range list {
		paths = append(paths, d.Path)
	}
	assert.Equal(t, []string{`emails[type eq "work"].value`, "title", dept, "roles"}, paths,
		"userName differs in its case only; what the mapping makes nothing for must not be there")
	for how, out := range map[string]scim.Resource{"put": scim.Users.Merged(targets, held)} {
		assert.Empty(t, scim.Differences(targets, out, nil), how)
		assert.Equal(t, "mira@home.example", out["emails"].([]any)[1].(map[string]any)["value"], "the rest is left alone")
		assert.Nil(t, out["meta"])
	}
	ops, remarks, err := scim.Users.Patch(scim.Changing(list, held))
	require.Nil(t, err)
	assert.Empty(t, remarks, "ours keeps to the standard")
	out, _, err := scim.Users.Apply(held, ops)
	require.Nil(t, err)
	assert.Empty(t, scim.Differences(targets, out, nil))
	assert.Len(t, out["emails"], 2)
	assert.Equal(t, []string{"roles"}, scim.Unkept(targets, func() scim.Resource { r := made.Clone(); delete(r, "roles"); return r }()))
	assert.Empty(t, scim.Differences(targets, func() scim.Resource { r := made.Clone(); delete(r, "roles"); return r }(),
		[]string{"roles"}), "what the other side does not keep is not asked for again and again")

	_, wrong = scim.Users.Targets([]string{"nothing", "id", "active", "userName"}, map[string][]string{"nothing": {"x"}, "id": {"x"},
		"active": {"perhaps"}, "userName": {"a", "b"}})
	assert.Len(t, wrong, 4)
}

// TestOtherSchemas holds attributes of an application's own schema, with their types.
func TestOtherSchemas(t *testing.T) {
	t.Parallel()
	const own = "urn:example:cargo:2.0:User"
	k := scim.Users.With([]scim.Schema{{ID: own, Attributes: []scim.Attribute{{Name: "deck", Type: scim.TypeInteger},
		{Name: "badge", Type: scim.TypeBoolean}}}, {ID: "urn:example:not-of-users"}}, []string{own})
	targets, wrong := k.Targets([]string{own + ":deck", own + ":badge"}, map[string][]string{own + ":deck": {"7"}, own +
		":badge": {"true"}})
	require.Empty(t, wrong)
	assert.Equal(t, map[string]any{"deck": 7.0, "badge": true}, k.New(targets)[own])
	_, wrong = k.Targets([]string{own + ":deck"}, map[string][]string{own + ":deck": {"aft"}})
	assert.Len(t, wrong, 1)
	_, err := scim.Users.Path(own + ":deck")
	assert.NotNil(t, err, "the standard's own type is left alone")
}

// TestServiceProviders holds what is read of a service provider.
func TestServiceProviders(t *testing.T) {
	t.Parallel()
	a := scim.ReadAbilities(read(t, `{"patch":{"supported":true},"bulk":{"supported":false},"filter":{"supported":true,"maxResults":200},
		"etag":{"supported":true},"pagination":{"cursor":true},"authenticationSchemes":[{"type":"oauthbearertoken"}]}`))
	assert.Equal(t, scim.Abilities{Patch: true, Filter: true, ETag: true, Cursor: true, MaxResults: 200,
		Ways: []string{"oauthbearertoken"}}, a)
	assert.Equal(t, scim.Abilities{}, scim.ReadAbilities(scim.Resource{"patch": "yes", "filter": []any{}}))
	p, err := scim.ReadPage([]byte(`{"totalResults":3,"startIndex":2,"nextCursor":"c","Resources":[{"id":"1"}]}`))
	require.Nil(t, err)
	assert.Equal(t, &scim.Page{Total: 3, Start: 2, Next: "c", Items: []scim.Resource{{"id": "1"}}}, p)
	for _, text := range []string{`{}`, `{"totalResults":"3"}`, `{"totalResults":1,"Resources":["x"]}`, `<html>`} {
		_, err := scim.ReadPage([]byte(text))
		assert.NotNil(t, err, text)
	}
	refused := scim.ReadError(409, []byte(`{"schemas":[],"status":"409","scimType":"uniqueness","detail":"taken"}`))
	assert.Equal(t, &scim.Error{Status: 409, Type: scim.Uniqueness, Detail: "taken"}, refused)
	assert.Equal(t, &scim.Error{Status: 502}, scim.ReadError(502, []byte(`<html>`)))
	text, _ := json.Marshal(refused)
	assert.JSONEq(t, `{"schemas":["`+scim.ErrorMessage+`"],"status":"409","scimType":"uniqueness","detail":"taken"}`, string(text))
}

// TestOnly holds attributes that are asked for, or are not wanted (RFC 7644, section 3.9).
func TestOnly(t *testing.T) {
	t.Parallel()
	held := account(t, mira)
	for _, one := range []struct {
		attributes, excluded []string
		want                 string
	}{
		{[]string{"userName"}, nil, `{"id":"2819","userName":"MVoss"}`},
		{[]string{"USERNAME", "name.givenName", "nothing"}, nil, `{"id":"2819","userName":"MVoss","name":{"givenName":"Mira"}}`},
		{[]string{"emails.value"}, nil, `{"id":"2819","emails":[{"value":"mira@saltmere.example"},{"value":"mira@home.example"}]}`},
		{[]string{scim.EnterpriseSchema + ":department"}, nil, `{"id":"2819","` + scim.EnterpriseSchema + `":{"department":"Ferries"}}`},
		{nil, []string{"id", "emails", "name", "meta", "title", "userType", scim.EnterpriseSchema}, `{"id":"2819","externalId":"p1",
			"userName":"MVoss","active":true}`},
	} {
		out, err := scim.Users.Only(held, one.attributes, one.excluded)
		require.Nil(t, err)
		text, _ := json.Marshal(out)
		assert.JSONEq(t, one.want, string(text))
	}
}

// FuzzMessages throws bytes at everything that reads what others send.
func FuzzMessages(f *testing.F) {
	f.Add(mira, `emails[type eq "work"]`)
	f.Add(patch(`{"op":"replace","path":"emails[type eq \"work\"].value","value":"x"}`), `userName eq "x" and not (title pr)`)
	f.Fuzz(func(t *testing.T, message, filter string) {
		r, err := scim.Read([]byte(message))
		if err != nil {
			return
		}
		held, err := scim.Users.Whole(r)
		if err == nil {
			if f, err := scim.Users.Filter(filter); err == nil {
				f.Holds(held)
				_ = f.String()
			}
		}
		if ops, _, err := scim.Users.Patch(r); err == nil {
			_, _, _ = scim.Users.Apply(scim.Resource{"userName": "x"}, ops)
		}
		scim.ReadAbilities(r)
	})
}

// TestWhatRulesCanSet lists the paths of the standard and of an application's own schema; each leads to one place.
func TestWhatRulesCanSet(t *testing.T) {
	t.Parallel()
	deck := scim.Schema{ID: "urn:example:2.0:User", Attributes: []scim.Attribute{{Name: "deck"}, {Name: "berth", Mutability: "readOnly"}}}
	kind := scim.Users.With([]scim.Schema{deck}, []string{deck.ID})
	list := kind.Settable()
	for _, want := range []string{"externalId", "userName", "name.givenName", `emails[type eq "work"].value`,
		`phoneNumbers[type eq "work"].value`, `addresses[type eq "work"].locality`, "title", scim.EnterpriseSchema + ":department",
		"urn:example:2.0:User:deck"} {
		assert.Contains(t, list, want)
	}
	for _, none := range []string{"id", "meta.version", "groups.value", "password", "active", "urn:example:2.0:User:berth",
		`emails[type eq "work"].primary`, "emails.value"} {
		assert.NotContains(t, list, none)
	}
	seen := map[string]bool{}
	for _, name := range list {
		assert.False(t, seen[name], name)
		seen[name] = true
		targets, wrong := kind.Targets([]string{name}, map[string][]string{name: {"x"}})
		if len(wrong) == 0 { // numbers and times take no such text
			require.Len(t, targets, 1, name)
			assert.NotEmpty(t, targets[0].Path.Values(kind.New(targets)), name)
		}
	}
}
