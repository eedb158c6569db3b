package browser_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"innergate/client"
	"innergate/core/access"
	"innergate/demo"
)

// TestComparisonAndStatisticsInTheConsole finds why yesterday's sign-in fails today, and how many do.
func TestComparisonAndStatisticsInTheConsole(t *testing.T) {
	beside(t)
	w := world(t, false)
	sign := func(user string) {
		b := demo.NewWalker(nil)
		_ = b.SignIn(t.Context(), w.RotaURL+"/sign-in", user)
	}
	for _, user := range []string{"mvoss", "mvoss", "zoberg", "jhale", "sito"} {
		sign(user)
	}
	_, err := w.Client().
		SetAccess(t.Context(), "crew-rota",
			access.Policy{To: access.Everybody, Rules: []access.Rule{{Name: "closed for now", Then: access.Refuse}}})
	require.NoError(t, err)
	sign("mvoss")
	list, err := w.Client().Traces(t.Context(), client.Page{Limit: 1})
	require.NoError(t, err)
	p := newPage(t)
	p.signIn(w)
	p.open(w.URL + "/console/traces/" + list.Items[0].Reference)
	p.press("Judge it again")
	p.see("It would be refused: An access rule refuses.")
	p.press("What would be in it?")
	p.see("Taken out:")
	p.accessible()
	p.shot("tmp-judged")
	p.press("Compare")
	p.see("The first difference that matters")
	p.see("closed for now")
	p.see("Changed in between")
	p.accessible()
	p.shot("comparison")
	p.press("Traces")
	p.press("Over time")
	p.see("refused in the last day")
	p.wait(`document.querySelector(".chart canvas")`)
	p.accessible()
	p.shot("statistics")
	p.press("An access rule refuses")
	p.see(list.Items[0].Reference)
}
