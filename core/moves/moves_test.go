package moves_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"innergate/core/claims"
	"innergate/core/moves"
)

func TestCompare(t *testing.T) {
	mira := moves.Given{
		Person:  "p1",
		Subject: "mvoss",
		Source:  "profile",
		Claims:  claims.Bag{"mail": {"mira@saltmere.example"}, "roles": {"crew", "bridge"}},
	}
	with := func(change func(*moves.Given)) moves.Given {
		g := moves.Given{
			Person:  mira.Person,
			Subject: mira.Subject,
			Source:  mira.Source,
			Claims:  claims.Bag{"mail": {"mira@saltmere.example"}, "roles": {"crew", "bridge"}},
		}
		change(&g)
		return g
	}
	for name, c := range map[string]struct {
		is   moves.Given
		want []string
	}{
		"the same":                {with(func(*moves.Given) {}), nil},
		"values in another order": {with(func(g *moves.Given) { g.Claims["roles"] = []string{"bridge", "crew"} }), nil},
		"another identifier": {with(func(g *moves.Given) {
			g.Subject = "mira.voss"
		}), []string{"subject was mvoss, and is mira.voss"}},
		"letters count": {with(func(g *moves.Given) {
			g.Subject = "MVOSS"
		}), []string{"subject was mvoss, and is MVOSS"}},
		"a claim less": {with(func(g *moves.Given) {
			delete(g.Claims, "roles")
		}), []string{"roles was crew, bridge, and is nothing"}},
		"a claim more": {with(func(g *moves.Given) {
			g.Claims["phone"] = []string{"1"}
		}), []string{"phone was nothing, and is 1"}},
		"a value less": {with(func(g *moves.Given) {
			g.Claims["roles"] = []string{"crew"}
		}), []string{"roles was crew, bridge, and is crew"}},
		"random, same person": {with(func(g *moves.Given) { g.Source, g.Subject = "pairwise", "x" }), nil},
		"random, another person": {with(func(g *moves.Given) {
			g.Source, g.Person = "pairwise", "p2"
		}), []string{"subject was that of the person as known here, and is a new one: this is somebody else here"}},
		"random, nobody": {with(func(g *moves.Given) {
			g.Source, g.Person = "public", ""
		}), []string{"subject was that of the person as known here, and is a new one: this is somebody else here"}},
		"transient ones are never the same": {with(func(g *moves.Given) { g.Source, g.Subject, g.Person = "transient", "y", "p2" }), nil},
	} {
		t.Run(name, func(t *testing.T) {
			var got []string
			for _, d := range moves.Compare(mira, c.is) {
				got = append(got, d.String())
			}
			assert.Equal(t, c.want, got)
		})
	}
}

func TestLimits(t *testing.T) {
	l := moves.Limits{Failures: 2, Differences: 0}
	assert.Empty(t, l.Over(moves.Count{SignedIn: 9, Failed: 2}), "as many as may be borne")
	assert.Equal(
		t, "3 sign-ins failed, against 9 that came out well; 2 at most were to be borne",
		l.Over(moves.Count{SignedIn: 9, Failed: 3}),
	)
	assert.Equal(t, "something differs for 1 person; 0 at most were to be borne", l.Over(moves.Count{Differed: 1}))
}

func TestReadiness(t *testing.T) {
	a := moves.Side{
		Name: "Saltmere Staff",
		Open: true,
		Sets: map[string]string{"preferred_username": "uid", "email": "mail", "groups": "memberOf"},
	}
	b := moves.Side{Name: "Northquay", Open: true, Admits: true, Sets: map[string]string{"preferred_username": "sub", "email": "email"}}
	mapping := claims.Mapping{
		{Set: "mail", From: claims.Names{"email"}, Required: true},
		{Set: "roles", From: claims.Names{"groups"}},
		{Set: "own", From: claims.Names{"memberships"}},
	}
	needs := moves.Needs(mapping, "profile", "preferred_username", a, b)
	assert.Equal(t, []moves.Need{
		{Attribute: "preferred_username", As: []string{"subject"}, Required: true, From: "uid", To: "sub"},
		{Attribute: "email", As: []string{"mail"}, Required: true, From: "mail", To: "email"},
		{Attribute: "groups", As: []string{"roles"}, From: "memberOf"},
	}, needs, "what the gate itself knows is not asked of a provider")

	v := moves.Judge(needs, moves.People{All: 3, Linked: 3}, "profile", nil, a, b)
	assert.Equal(t, moves.Look, v.State)
	assert.Contains(t, v.Why[0], "gives no groups")
	assert.Contains(t, v.Why[1], "by preferred_username, which Northquay sends as well")

	pairwise := moves.Needs(mapping[:1], "pairwise", "", a, b)
	assert.Equal(
		t,
		moves.Verdict{State: moves.Ready, Why: []string{}},
		moves.Judge(pairwise, moves.People{All: 3, Linked: 1, Found: 2}, "pairwise", nil, a, b),
	)

	v = moves.Judge(pairwise, moves.People{All: 3, Linked: 1, Strangers: 2}, "pairwise", nil, a, b)
	assert.Equal(t, moves.Look, v.State)
	assert.Contains(t, v.Why[0], "2 people of 3 would be somebody new")

	b.Admits = false
	assert.Equal(
		t, moves.Blocked, moves.Judge(pairwise, moves.People{All: 3, Strangers: 1}, "pairwise", nil, a, b).State,
		"refused, where nobody new is admitted",
	)

	delete(b.Sets, "email")
	v = moves.Judge(moves.Needs(mapping[:1], "pairwise", "", a, b), moves.People{}, "pairwise", nil, a, b)
	assert.Equal(t, moves.Blocked, v.State)
	assert.Contains(t, v.Why[0], "Northquay gives no email, which the application can't do without")

	b.Open = false
	assert.Equal(t, moves.Blocked, moves.Judge(nil, moves.People{}, "pairwise", nil, a, b).State)
}
