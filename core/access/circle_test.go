package access_test

import (
	"fmt"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/access"
	"innergate/core/explain"
)

func TestCirclesHold(t *testing.T) {
	mira := access.Who{
		Known:    true,
		ID:       "01A",
		Username: "mvoss",
		Mail:     "Mira.Voss@saltmere.example",
		Groups:   []string{"crew", "office"},
		Network:  netip.MustParseAddr("10.20.3.4"),
	}
	nobody := access.Who{Network: netip.MustParseAddr("10.20.3.4")}
	for name, c := range map[string]struct {
		circle *access.Circle
		who    access.Who
		want   access.Verdict
	}{
		"no circle":               {nil, mira, access.Outside},
		"by group":                {&access.Circle{Groups: []string{"office"}}, mira, access.Inside},
		"in no group":             {&access.Circle{Groups: []string{"bridge"}}, mira, access.Outside},
		"by user name":            {&access.Circle{People: []string{"MVoss"}}, mira, access.Inside},
		"by mail address":         {&access.Circle{People: []string{"mira.voss@saltmere.example"}}, mira, access.Inside},
		"by ID":                   {&access.Circle{People: []string{"01A"}}, mira, access.Inside},
		"by network":              {&access.Circle{Networks: []string{"10.20.0.0/16"}}, mira, access.Inside},
		"by network, unknown":     {&access.Circle{Networks: []string{"10.20.0.0/16"}}, nobody, access.Inside},
		"from elsewhere, unknown": {&access.Circle{Networks: []string{"192.0.2.0/24"}}, nobody, access.Outside},
		"by group, unknown":       {&access.Circle{Groups: []string{"office"}}, nobody, access.Open},
		"everybody's share":       {&access.Circle{Share: 100}, mira, access.Inside},
		"a share, unknown":        {&access.Circle{Share: 10}, nobody, access.Open},
		"an exception wins over a name": {&access.Circle{People: []string{"mvoss"},
			Except: &access.Exceptions{Groups: []string{"crew"}}}, mira, access.Outside},
		"an exception wins over a share": {&access.Circle{Share: 100, Except: &access.Exceptions{People: []string{"mvoss"}}}, mira,
			access.Outside},
		"an exception by network": {&access.Circle{Groups: []string{"office"},
			Except: &access.Exceptions{Networks: []string{"10.20.3.4"}}}, mira, access.Outside},
		"excepted people, not known yet": {&access.Circle{Networks: []string{"10.20.0.0/16"},
			Except: &access.Exceptions{People: []string{"mvoss"}}}, nobody, access.Open},
		"an IPv4 address written as IPv6": {&access.Circle{Networks: []string{"10.20.0.0/16"}},
			access.Who{Network: netip.MustParseAddr("::ffff:10.20.3.4")}, access.Inside},
		"no name matches an empty one": {&access.Circle{People: []string{"x"}}, access.Who{Known: true}, access.Outside},
	} {
		got, why := c.circle.Holds(c.who, "crew-rota")
		assert.Equal(t, c.want, got, "%s: %s", name, why)
		assert.NotEmpty(t, why, name)
	}
}

func TestSharesAreStable(t *testing.T) {
	in := func(share int, slug string) map[string]bool {
		out := map[string]bool{}
		for i := range 2000 {
			id := fmt.Sprintf("01PERSON%05d", i)
			if v, _ := (&access.Circle{Share: share}).Holds(access.Who{Known: true, ID: id}, slug); v == access.Inside {
				out[id] = true
			}
		}
		return out
	}
	ten, thirty := in(10, "crew-rota"), in(30, "crew-rota")
	assert.InDelta(t, 200, len(ten), 50)
	assert.InDelta(t, 600, len(thirty), 80)
	for id := range ten {
		assert.True(t, thirty[id], "whoever is in stays in when the share grows")
	}
	other, both := in(10, "ticket-desk"), 0
	for id := range ten {
		if other[id] {
			both++
		}
	}
	assert.Less(t, both, 60, "the first are others at another application")
}

func TestCirclesThatCantBeUsed(t *testing.T) {
	for want, c := range map[string]*access.Circle{
		"is missing": nil, "nobody is in": {}, "is no network": {Networks: []string{"10.20"}}, "0 to 100": {Share: 101},
		"is empty": {Groups: []string{" "}},
	} {
		assert.ErrorContains(t, c.Check(), want)
	}
	assert.NoError(t, (&access.Circle{Share: 5, Except: &access.Exceptions{Networks: []string{"192.0.2.1"}}}).Check())
	assert.Equal(
		t, "the group crew; 5 % of all people; but not mvoss",
		(&access.Circle{Groups: []string{"crew"}, Share: 5, Except: &access.Exceptions{People: []string{"mvoss"}}}).InWords(),
	)
}

func TestReachWithCircle(t *testing.T) {
	c := &access.Circle{Groups: []string{"crew"}}
	in, out := access.Who{Known: true, Groups: []string{"crew"}}, access.Who{Known: true}
	assert.NoError(t, access.InCircle.Admits(c, in, "application", "Crew Rota", "crew-rota", false))
	assert.NoError(
		t, access.InCircle.Admits(c, access.Who{}, "application", "Crew Rota", "crew-rota", false),
		"who it is will be asked later",
	)
	assert.NoError(t, access.InCircle.Admits(c, out, "application", "Crew Rota", "crew-rota", true), "rehearsals reach it")
	var f *explain.Failure
	require.ErrorAs(t, access.InCircle.Admits(c, out, "provider", "Saltmere Staff", "saltmere-staff", false), &f)
	assert.Equal(t, explain.ReachProviderCircle, f.Code)
	require.ErrorAs(t, access.Closed.Admits(c, in, "application", "Crew Rota", "crew-rota", false), &f)
	assert.Equal(t, explain.ReachApplicationClosed, f.Code)
}

func TestRoutesChoose(t *testing.T) {
	routes := &access.Routes{Rules: []access.Route{
		{Name: "stevedores", If: access.RouteCondition{MailDomains: []string{"Northquay.example"}}, To: []string{"northquay"}},
		{
			Name: "on board",
			If:   access.RouteCondition{Networks: []string{"10.20.0.0/16"}, Applications: []string{"crew-rota"}},
			To:   []string{"staff"},
		},
		{Name: "wanted", If: access.RouteCondition{Wish: []string{"lantern"}}, To: []string{"lantern"}},
		{Name: "known", If: access.RouteCondition{Known: []string{"lantern"}}, To: []string{"lantern", "register"}},
		{Name: "nowhere", To: []string{"gone"}},
		{Name: "skippers", If: access.RouteCondition{Groups: []string{"bridge"}, Reach: []string{"everyone"}}, To: []string{"register"}},
	}}
	require.NoError(t, routes.Check())
	serve := []string{"staff", "northquay", "lantern", "register"}
	for name, c := range map[string]struct {
		facts access.RouteFacts
		to    []string
		asks  bool
	}{
		"by mail domain":         {access.RouteFacts{Identified: true, Domain: "northquay.EXAMPLE"}, []string{"northquay"}, false},
		"a subdomain is another": {access.RouteFacts{Identified: true, Domain: "x.northquay.example"}, serve, false},
		"by network": {access.RouteFacts{Application: "crew-rota", Network: netip.MustParseAddr("10.20.1.1")},
			[]string{"staff"}, true},
		"another application": {access.RouteFacts{Application: "ticket-desk", Network: netip.MustParseAddr("10.20.1.1")}, serve, true},
		"by the application":  {access.RouteFacts{Identified: true, Wish: []string{"lantern"}}, []string{"lantern"}, false},
		"by what they used before": {access.RouteFacts{Identified: true, Known: []string{"staff", "lantern"}},
			[]string{"lantern", "register"}, false},
		"by group": {access.RouteFacts{Identified: true, Groups: []string{"bridge"}, Reach: access.Everyone}, []string{"register"},
			false},
		"not for drafts": {access.RouteFacts{Identified: true, Groups: []string{"bridge"}, Reach: access.Draft}, serve, false},
		"nobody known":   {access.RouteFacts{}, serve, true},
	} {
		w := routes.Choose(c.facts, serve)
		assert.Equal(t, c.to, w.To, name)
		assert.Equal(t, c.asks, w.AsksWho, name)
		assert.NotEmpty(t, w.By, name)
	}
	w := routes.Choose(access.RouteFacts{Identified: true, Domain: "northquay.example"}, []string{"staff"})
	assert.Equal(t, []string{"staff"}, w.To)
	assert.Contains(t, w.Passed, "route 5 (nowhere): none of its providers can be used here")
	assert.Contains(
		t, w.Passed, "route 1 (stevedores): none of its providers can be used here",
		"no route leads beyond what serves the application",
	)
}

func TestRoutesThatCantBeUsed(t *testing.T) {
	for want, r := range map[string]access.Routes{
		"1 to 50 providers":     {Rules: []access.Route{{}}},
		"is no mail domain":     {Rules: []access.Route{{To: []string{"a"}, If: access.RouteCondition{MailDomains: []string{"x@y"}}}}},
		"is no network":         {Rules: []access.Route{{To: []string{"a"}, If: access.RouteCondition{Networks: []string{"x"}}}}},
		"is no reach":           {Rules: []access.Route{{To: []string{"a"}, If: access.RouteCondition{Reach: []string{"x"}}}}},
		"no time for the field": {Field: "sometimes"}, "are the most": {Rules: make([]access.Route, 501)},
		"an entry of a list is empty": {Rules: []access.Route{{To: []string{""}}}},
	} {
		assert.ErrorContains(t, r.Check(), want)
	}
	wide := access.Route{If: access.RouteCondition{MailDomains: []string{"a.example", "b.example"}}}
	assert.True(t, (&access.Route{}).Covers(&wide), "what asks for nothing covers everything")
	assert.True(t, wide.Covers(&access.Route{If: access.RouteCondition{MailDomains: []string{"a.example"}, Groups: []string{"crew"}}}))
	assert.False(t, wide.Covers(&access.Route{If: access.RouteCondition{MailDomains: []string{"c.example"}}}))
	assert.False(t, wide.Covers(&access.Route{}))
}
