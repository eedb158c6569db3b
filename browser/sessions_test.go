package browser_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/client"
)

// TestSessionsInTheConsole lists sessions, ends one, and finds the person signed out.
func TestSessionsInTheConsole(t *testing.T) {
	beside(t)
	w := world(t, false)
	visitor := newPage(t)
	visitor.open(w.RotaURL + "/sign-in")
	visitor.become("Mira Voss")
	visitor.see("Crew Rota: you are signed in")
	visitor.open(w.BerthsURL + "/")
	visitor.see("Good day, mvoss.")
	other := w.Walker()
	w.Staff.Forget()
	require.NoError(t, other.SignIn(t.Context(), w.RotaURL+"/sign-in", "tkerr"))

	p := newPage(t)
	p.signIn(w)
	p.open(w.URL + "/console/sessions")
	p.see("Mira Voss")
	p.see("Berth Board")
	p.see("Tamsin Kerr")
	p.accessible()
	p.shot("sessions")
	p.fill("Search", "Mira")
	p.wait(`document.querySelectorAll("table tbody tr").length===1`)
	p.press("End it")
	p.agree("End it")
	p.see("Nobody has a session now.")
	visitor.open(w.BerthsURL + "/")
	visitor.see("Where do you have your account?")

	people, err := w.Client().People(t.Context(), client.Page{Search: "kerr"})
	require.NoError(t, err)
	require.Len(t, people.Items, 1)
	p.open(w.URL + "/console/people/" + people.Items[0].ID)
	p.see("Tamsin Kerr")
	p.see("Went to")
	p.accessible()
	p.shot("person-sessions")
}

// TestJudgeAMessage pastes what a provider sent, as a trace shows it.
func TestJudgeAMessage(t *testing.T) {
	beside(t)
	w := world(t, false)
	ctx := t.Context()
	w.Staff.SetMistake("audience")
	b := w.Walker()
	require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	w.Staff.SetMistake("")
	list, err := w.Client().Traces(ctx, client.Page{Limit: 1})
	require.NoError(t, err)
	x, err := w.Client().Trace(ctx, list.Items[0].Reference)
	require.NoError(t, err)
	response := ""
	for _, e := range x.Entries {
		if e.Message != nil && response == "" && strings.Contains(e.Message.Raw, "Assertion ") {
			response = e.Message.Raw
		}
	}
	require.NotEmpty(t, response)
	p := newPage(t)
	p.signIn(w)
	p.open(w.URL + "/console/judge")
	p.accessible()
	p.fill("Message", response)
	p.press("Judge it")
	p.see("its signature is not in it") // it is veiled in a trace while the message might still be accepted
	_, unsigned, _ := strings.Cut(response, "<ds:Signature ")
	_, unsigned, _ = strings.Cut(unsigned, "</ds:Signature>")
	begin, _, _ := strings.Cut(response, "<ds:Signature ")
	p.fill("Message", begin+unsigned)
	p.press("Judge it")
	p.see("It would be refused")
	p.press("Every check")
	p.accessible()
	p.shot("judge")
	p.fill("Message", "no message at all")
	p.press("Judge it")
	p.wait(`document.querySelector("[role=alert]")`)
	assert.NotContains(t, eval[string](p, `document.querySelector("[role=alert]").innerText`), "undefined")
}
