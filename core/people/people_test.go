package people_test

import (
	"encoding/json"
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/claims"
	"innergate/core/explain"
	"innergate/core/people"
)

func code(err error) string {
	var f *explain.Failure
	if errors.As(err, &f) {
		return string(f.Code)
	}
	return ""
}

func TestKeysOfWhatLooksAlike(t *testing.T) {
	for _, same := range [][]string{
		{"mira.voss@saltmere.example", "Mira.Voss@SALTMERE.example", " mira.voss@saltmere.example ",
			"mira.vоss@saltmere.example" /* Cyrillic о */, "ｍira.voss@saltmere.example", "mira.voss\u200b@saltmere.example"},
		{"zoë", "zoe\u0308"}, {"strasse", "STRASSE"}, {"straße", "STRASSE"},
	} {
		for _, v := range same {
			assert.Equal(t, people.Key(same[0]), people.Key(v), "%q", v)
		}
	}
	for _, other := range [][2]string{{"zoe", "zoë"}, {"mvoss", "mvos"}, {"rn", "m"}, {"伊藤", "伊東"}} {
		assert.NotEqual(t, people.Key(other[0]), people.Key(other[1]))
	}
	assert.Equal(t, "only in upper and lower case", people.Difference("a", "A"))
	assert.Equal(t, "only in spaces", people.Difference("a", " a"))
	assert.Equal(t, "in letters that look alike", people.Difference("a", "а"))
}

func TestMatchingAsksInOrderAndWithinItsTrust(t *testing.T) {
	var m people.Matching
	require.NoError(
		t,
		json.Unmarshal(
			[]byte(
				`{"by":["external_id",{"username":"email.before(\"@\")"},"email"],"domains":["northquay.example"],`+
					`"scopes":["northquay.example"],"unscoped":true}`,
			),
			&m,
		),
	)
	require.NoError(t, m.Check())
	again, err := json.Marshal(m)
	require.NoError(t, err)
	assert.Contains(t, string(again), `["external_id",{"username":"email.before(\"@\")"},"email"]`)

	q, err := m.Questions(claims.Bag{"email": {"Ivo.Tamm@northquay.example"}, "email_verified": {"true"}})
	require.NoError(t, err)
	require.Len(t, q, 2, "what has no value is not asked")
	assert.Equal(t, people.Question{Field: "preferred_username", Value: "Ivo.Tamm", Key: "ivo.tamm"}, q[0])
	assert.Equal(t, "ivo.tamm@northquay.example", q[1].Key)
	assert.Nil(t, q[1].Refused)

	for want, profile := range map[string]claims.Bag{
		"match.foreign-domain":  {"email": {"mira.voss@saltmere.example"}, "email_verified": {"true"}},
		"match.mail-unverified": {"email": {"ivo.tamm@northquay.example"}},
		"match.foreign-scope":   {"external_id": {"70012@saltmere.example"}},
	} {
		q, err := m.Questions(profile)
		require.NoError(t, err)
		last := q[len(q)-1]
		require.NotNil(t, last.Refused, want)
		assert.Equal(t, want, string(last.Refused.Code))
		_, err = last.Judge([]people.Candidate{{ID: "1", Value: last.Value}})
		assert.Equal(t, want, code(err), "whoever has the value is protected by a refusal")
		nobody, err := last.Judge(nil)
		assert.NoError(t, err)
		assert.Nil(t, nobody)
	}
	bound := people.Matching{By: []people.Way{{By: "username"}}, Scopes: []string{"northquay.example"}}
	q, err = bound.Questions(claims.Bag{"preferred_username": {"mvoss"}})
	require.NoError(t, err)
	assert.Equal(t, explain.MatchForeignScope, q[0].Refused.Code, "a value without a scope needs to be allowed")
	q, err = bound.Questions(claims.Bag{"preferred_username": {"mira.voss@northquay.example"}})
	require.NoError(t, err)
	assert.Equal(t, "preferred_username", q[0].Field, "a user name that looks like an address is no mail address")
}

func TestJudgingNeverGuesses(t *testing.T) {
	q := people.Question{Field: "email", Value: "c.dunn@saltmere.example", Key: "c.dunn@saltmere.example"}
	one, err := q.Judge([]people.Candidate{{ID: "1", Value: "c.dunn@saltmere.example"}})
	require.NoError(t, err)
	assert.Equal(t, "1", one.ID)
	_, err = q.Judge([]people.Candidate{{ID: "1", Value: "c.dunn@saltmere.example"}, {ID: "2", Value: "C.Dunn@saltmere.example"}})
	assert.Equal(t, "match.several", code(err), "two who differ in case are two")
	_, err = q.Judge([]people.Candidate{{ID: "2", Value: "C.Dunn@saltmere.example"}})
	assert.Equal(t, "match.differs", code(err))
	_, err = q.Judge([]people.Candidate{{ID: "2", Value: "с.dunn@saltmere.example"}}) // Cyrillic
	assert.Equal(t, "match.differs", code(err))
	_, err = q.Judge([]people.Candidate{{ID: "1", Value: "c.dunn@saltmere.example", Linked: true}})
	assert.Equal(t, "match.already-linked", code(err))
}

func TestMatchingThatCantBeUsed(t *testing.T) {
	for says, m := range map[string]people.Matching{
		"name the domains":     {By: []people.Way{{By: "email"}}},
		"name the scopes":      {By: []people.Way{{By: "username"}}},
		"can't be found by":    {By: []people.Way{{By: "shoe_size"}}},
		"is no domain":         {Domains: []string{"*.saltmere.example"}},
		"the expression can't": {By: []people.Way{{By: "username", Expr: "uid +"}}, Unscoped: true},
	} {
		assert.ErrorContains(t, m.Check(), says)
	}
}

func TestProfilesAreMergedByTheirRules(t *testing.T) {
	s := people.Settings{Types: []string{"staff"}, Attributes: []people.Attribute{{Name: "shift", Session: true}}}
	held := people.Held{
		Profile: claims.Bag{
			"name":         {"Mira V."},
			"email":        {"old@saltmere.example"},
			"phone_number": {"1"},
			"title":        {"Purser"},
			"nickname":     {"Mi"},
		},
		Sources: map[string]string{
			"name":         people.ByHand,
			"email":        "staff",
			"phone_number": people.ByHand,
			"title":        "staff",
			"nickname":     "other",
		},
	}
	got := s.Merge(
		held,
		claims.Bag{"name": {"Mira Voss"}, "email": {"new@saltmere.example"}, "phone_number": {"2"}, "shift": {"night"}},
		[]string{"name", "email", "phone_number", "title", "nickname", "shift"},
		"staff",
		map[string]string{"name": people.LocalWins, "email": people.FirstStays},
	)
	assert.Equal(
		t,
		claims.Bag{"name": {"Mira V."}, "email": {"old@saltmere.example"}, "phone_number": {"2"}, "nickname": {"Mi"}},
		got.Profile,
	)
	assert.Equal(t, []string{"phone_number", "title"}, got.Changed, "what this provider gave and no longer sends is gone; another's stays")
	assert.Equal(t, []string{"night"}, got.Whole["shift"])
	assert.NotContains(t, got.Profile, "shift", "what is for the session only is not kept")
	assert.Equal(t, []string{"old@saltmere.example"}, held.Profile["email"], "what is held is not touched")
	assert.Equal(t, []string{"Purser"}, held.Profile["title"])
}

func TestGrants(t *testing.T) {
	list := []people.Grant{
		{Attribute: "groups", Value: "ferry-crew", Groups: []string{"crew"}, Type: "staff"},
		{If: `"quay-lead" in values("groups") && email.endsWith("@northquay.example")`, Groups: []string{"leads", "crew"}, Type: "partner"},
		{Groups: []string{"all"}},
	}
	require.NoError(t, people.CheckGrants(list))
	groups, kind, by, err := people.Granted(list, claims.Bag{"groups": {"ferry-crew", "quay-lead"}, "email": {"ivo@northquay.example"}})
	require.NoError(t, err)
	assert.Equal(t, []string{"crew", "leads", "all"}, groups)
	assert.Equal(t, "staff", kind)
	assert.Equal(t, []string{"grant 1", "grant 2", "grant 3"}, by)
	groups, kind, _, err = people.Granted(list, claims.Bag{})
	require.NoError(t, err)
	assert.Equal(t, []string{"all"}, groups)
	assert.Empty(t, kind)
	for _, bad := range []people.Grant{{}, {Attribute: "groups", Groups: []string{"x"}}, {If: "1", Groups: []string{"x"}},
		{If: "true", Attribute: "a", Value: "b", Type: "c"}} {
		assert.Error(t, people.CheckGrants([]people.Grant{bad}))
	}
}

func TestProfilesAreChecked(t *testing.T) {
	s := people.Settings{
		Types: []string{"staff"},
		Attributes: []people.Attribute{
			{Name: "email", Type: "mail"},
			{Name: "since", Type: "date"},
			{Name: "berths", Type: "number"},
			{Name: "swims", Type: "yes-no"},
		},
	}
	require.NoError(t, s.Check())
	assert.NoError(
		t,
		s.CheckProfile(
			claims.Bag{"email": {"zoë@saltmere.example"}, "since": {"2026-11-23"}, "berths": {"4.5"}, "swims": {"true"}, "name": {"伊藤 咲良"}},
		),
	)
	for name, value := range map[string]string{"email": "no mail", "since": "yesterday", "berths": "many", "swims": "maybe",
		"name": "a\x00b", "bad name": "x", "memberships": "crew"} {
		assert.Error(t, s.CheckValues(name, []string{value}), name)
	}
	for _, bad := range []people.Settings{{}, {Types: []string{"Staff"}}, {Types: []string{"a", "a"}},
		{Types: []string{"a"}, Attributes: []people.Attribute{{Name: "x", Editable: true}}},
		{Types: []string{"a"}, Attributes: []people.Attribute{{Name: "person_type"}}}} {
		assert.Error(t, bad.Check())
	}
	require.NoError(t, people.DefaultSettings().Check())
}
