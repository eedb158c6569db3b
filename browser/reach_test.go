package browser_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/client"
	"innergate/core/access"
)

// TestReachAndRoutesInTheConsole takes an application to a circle and back, sets a route, and asks where somebody would
// go.
func TestReachAndRoutesInTheConsole(t *testing.T) {
	beside(t)
	w := world(t, false)
	ctx, c := t.Context(), w.Client()
	for _, user := range []string{"mvoss", "tkerr", "zoberg"} {
		b := w.Walker()
		require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", user))
		w.Staff.Forget()
	}
	p := newPage(t)
	p.signIn(w)
	p.open(w.URL + "/console/applications/crew-rota?station=access")
	p.press("Open for a circle")
	p.fill("Groups", "office")
	p.fill("But not the people", "lquill")
	p.press("Show whom it touches")
	p.see("Can’t use it any more: 2")
	p.accessible()
	p.shot("reach")
	p.press("Do it now")
	p.see("the groups office")
	p.see("changed it from everyone to circle")
	a, err := c.Application(ctx, "crew-rota")
	require.NoError(t, err)
	assert.Equal(t, access.InCircle, a.Reach)
	assert.Equal(t, []string{"office"}, a.Circle.Groups)
	p.press("Take it back")
	p.see("(taken back)")
	a, err = c.Application(ctx, "crew-rota")
	require.NoError(t, err)
	assert.Equal(t, access.Everyone, a.Reach)

	p.open(w.URL + "/console/routes")
	p.press("Add a route")
	p.fill("Name of route 2", "stevedores")
	p.fill("Value 1 of route 2", "northquay.example")
	p.fill("Providers of route 2", "northquay-stevedores")
	p.fill("Application", "Cargo Ledger")
	p.fill("They enter", "ivo.tamm@northquay.example")
	p.press("Ask")
	p.see("To northquay-stevedores.")
	p.accessible()
	p.shot("routes")
	p.press("Save: it acts at once")
	p.wait(`!document.querySelector("button.is-loading")`)
	for routes := (*access.Routes)(nil); routes == nil || len(routes.Rules) < 2; {
		routes, err = c.Routes(ctx)
		require.NoError(t, err)
	}
	n := newPage(t)
	n.size(390, 844)
	n.open(w.LedgerURL + "/sign-in")
	n.see("Or tell who you are")
	n.accessible()
	n.shot("choose-phone")
	n.label("Or tell who you are: mail address or name", "ivo.tamm@northquay.example")
	n.press("Go on")
	n.see("choose who you are")
	assert.Contains(t, eval[string](n, "location.href"), w.NorthquayURL)
}

// TestGuardedApplicationInTheConsole looks at Berth Board's page, tries a path, adds one and a tile, and connects a
// plain link.
func TestGuardedApplicationInTheConsole(t *testing.T) {
	beside(t)
	w := world(t, false)
	ctx, c := t.Context(), w.Client()
	p := newPage(t)
	p.signIn(w)
	p.open(w.URL + "/console/applications/berth-board?station=application-trust")
	p.see("Guarded application")
	p.press("Paths and connections")
	p.fill("Try a path", "/harbour-master/plan")
	p.press("Ask")
	p.see("People of office may come here.")
	p.accessible()
	p.shot("guarded")
	p.press("Add a path")
	p.fill("Path 4", "/archive")
	p.fill("What path 4 needs", "refuse")
	p.saved()
	require.Eventually(t, func() bool {
		a, err := c.Application(ctx, "berth-board")
		return err == nil && len(a.Guarded.Paths) == 4
	}, patience, 20*time.Millisecond)
	p.open(w.URL + "/console/applications/berth-board/exchange")
	p.see("For the engineer of Berth Board")
	p.see("X-Berth-User")
	p.accessible()
	p.shot("guarded-sheet")

	p.open(w.URL + "/console/applications/new")
	p.fill("Name", "Tide Tables")
	p.fill("It speaks", "no protocol: a plain link")
	p.press("Make the draft")
	p.fill("Address that the link leads to", "https://tides.example/")
	p.see("address held")
	p.accessible()
	list, err := c.Applications(ctx, client.Page{})
	require.NoError(t, err)
	assert.Len(t, list.Items, 5)
}
