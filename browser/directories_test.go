package browser_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/client"
	"innergate/standin"
)

// TestDirectoriesAndRealmsInTheConsole looks what reading a directory would bring, writes it, and reads what changed; it shows the keys of
// a realm's keytab, and lets nobody store one that opens nothing.
func TestDirectoriesAndRealmsInTheConsole(t *testing.T) {
	beside(t)
	w := world(t, false)
	p := newPage(t)
	p.signIn(w)
	p.open(w.URL + "/console/providers/harbour-office?station=trust")
	p.press("Look what would come of it")
	p.see("was looked at; nothing is written")
	p.wait(`document.querySelectorAll(".counts dt")[1]?.innerText==="5"`) // new
	list, err := w.Client().People(t.Context(), client.Page{Search: "Rufus"})
	require.NoError(t, err)
	assert.Empty(t, list.Items)
	p.press("Write it")
	p.see("was read and written")
	list, err = w.Client().People(t.Context(), client.Page{Search: "Rufus"})
	require.NoError(t, err)
	assert.Len(t, list.Items, 1)
	p.press("Read all of it")
	p.wait(`document.querySelectorAll(".counts dt")[3]?.innerText==="5"`) // as they were
	p.accessible()
	eval[any](p, `document.querySelector(".read").scrollIntoView()`)
	p.shot("directory")

	p.open(w.URL + "/console/providers/quayside-desk?station=trust")
	p.see("HTTP/localhost@QUAYSIDE.EXAMPLE")
	p.see("aes256-cts-hmac-sha1-96")
	p.accessible()
	eval[any](p, `document.querySelector(".keytabs").scrollIntoView()`)
	p.shot("realm")
	p.upload("Choose the file", "gate.keytab", "no keytab")
	p.press("Store it as the next one")
	p.see("This keytab is of no use")

	// Whoever is at a desk is asked nothing; the page of whoever is not goes on by itself.
	b := w.AtQuayside("wfell")
	require.NoError(t, b.SignIn(t.Context(), w.RotaURL+"/sign-in", ""))
	assert.Equal(t, "wfell@harbour.example", b.Inner("nameid"))
	p.open(w.StaffURL + "/quayside")
	p.press("Open it")
	p.see("NameID wfell@harbour.example")
	office := newPage(t)
	office.size(390, 844)
	office.open(w.LedgerURL + "/sign-in")
	office.see("Harbour Office")
	office.press("Harbour Office")
	office.fill("Name", "wfell")
	office.fill("Password", standin.OfficePassword)
	office.press("Sign in")
	office.see("wfell@harbour.example")
	office.open(w.URL + "/account")
	office.see("Your password at Harbour Office")
	office.accessible()
}
