package browser_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/client"
)

// TestAccountsInTheConsole looks at the accounts of an application, approves one, sets right what was changed there, and reads what went
// between the two; on the provider's page it makes a token with which people are pushed.
func TestAccountsInTheConsole(t *testing.T) {
	beside(t)
	w := world(t, false)
	p := newPage(t)
	p.signIn(w)
	p.open(w.URL + "/console/applications/cargo-ledger?station=accounts")
	p.see("Accounts: who has one at Cargo Ledger")
	p.see("title is “Weighmaster” there, and should be “skipper”.")
	p.see("weighbridge")
	p.accessible()
	eval[any](p, `document.querySelector(".states").scrollIntoView({block:"center"})`)
	p.shot("accounts")
	p.press("Set right")
	p.wait(`!document.body.innerText.includes("Weighmaster")`)
	assert.Equal(t, "skipper", w.LedgerAccounts.Find("eskil.brae")["title"])
	p.press("Try it")
	p.see("Cargo Ledger answers, and takes the token.")
	p.press("Approve all 2")
	p.press("Approve all")
	p.wait(`document.querySelectorAll("tbody .tag.sound").length===3`)
	assert.Equal(t, "Runa Holt", w.LedgerAccounts.Find("runa.holt")["displayName"])
	p.press("Compare now")
	p.see("Compared just now")
	p.press("Eskil Brae")
	p.see("What it should be")
	p.see("To make it")
	p.accessible()
	p.shot("account")

	// What the rules make of somebody, beside them; a new rule is shown as it is typed.
	p.open(w.URL + "/console/applications/cargo-ledger?station=accounts")
	p.press("Values of an account")
	p.fill("Preview with", "a person known here")
	p.search("Person", "Eskil", "Eskil Brae")
	p.see("eskil.brae@agency.example")
	p.press("Add a rule")
	p.fill("Name of rule 8", "nickName")
	p.fill("Sources of rule 8", "given_name")
	p.press("All that would become of it")
	p.see("Eskil Brae has one: assigned by name.")
	p.wait(`[...document.querySelectorAll(".result tr")].some(r=>/nickName.*Eskil/s.test(r.innerText))`)
	p.accessible()

	// One whose accounts are not kept yet: its address is entered, and nothing is asked without a token.
	p.open(w.URL + "/console/applications/crew-rota?station=mapping-out")
	p.press("Keep them in step")
	p.press("Keep its accounts in step")
	p.fill("Base address of its SCIM service", "https://rota.saltmere.example/scim/v2/Users")
	p.press("Save")
	p.press("Put https://rota.saltmere.example/scim/v2 into accounts.address")
	p.press("Save")
	p.see("not sending")
	p.see("None is stored, so that nothing can be asked.")
	p.press("Try it")
	p.see("The gate has nothing with which to prove itself to Crew Rota.")
	p.accessible()

	p.open(w.URL + "/console/providers/northquay-stevedores?station=provider-trust")
	p.see("Pushed people")
	p.press("Make a token")
	p.see("The token, shown this once")
	held, err := w.Client().Pushes(t.Context(), "northquay-stevedores")
	require.NoError(t, err)
	assert.Len(t, held.Tokens, 2)
	p.accessible()
	list, err := w.Client().AccountList(t.Context(), "cargo-ledger", client.Page{Filters: map[string]string{"state": "approval"}})
	require.NoError(t, err)
	assert.Empty(t, list.Items)
}
