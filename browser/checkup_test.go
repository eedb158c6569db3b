package browser_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestCheckupInTheConsole has an engineer find what is wrong, correct one thing, accept another, and look at partners'
// hosts.
func TestCheckupInTheConsole(t *testing.T) {
	beside(t)
	w := world(t, false)
	c := w.Client()
	held, err := c.Provider(t.Context(), "saltmere-staff")
	require.NoError(t, err)
	p0 := held.Provider
	p0.SAML.AllowSHA1, p0.SAML.AllowCBC = true, true
	_, err = c.PutProvider(t.Context(), p0, 0)
	require.NoError(t, err)
	p := newPage(t)
	p.signIn(w)
	p.press("Checkup")
	p.press("Inspect everything now")
	p.see("objects were inspected")
	p.see("SHA-1 is allowed for Saltmere Staff")
	p.see(w.StaffURL)
	p.accessible()
	p.shot("checkup")
	p.click(`[data-finding="option.sha1"] button`)
	p.see("Signatures with SHA-1 are refused from now on.")
	p.see("saml.allowSha1")
	p.shot("tmp-correct")
	p.press("Make this change")
	p.wait(`!document.querySelector('[data-finding="option.sha1"]')`)
	p.click(`[data-finding="option.cbc"] button:last-child`)
	p.fill("Why", "the vendor changes over in May")
	p.press("Accept")
	p.wait(`!document.querySelector('[data-finding="option.cbc"]')`)
	p.fill("Shown", "accepted findings")
	p.see("the vendor changes over in May")
	p.accessible()
	held, err = c.Provider(t.Context(), "saltmere-staff")
	require.NoError(t, err)
	assert.Equal(t, []bool{false, true}, []bool{held.SAML.AllowSHA1, held.SAML.AllowCBC})
	p.fill("Mail addresses", "fenna@saltmere.example")
	p.press("Save")
	p.wait(`!document.querySelector(".notices button").classList.contains("is-loading")`)
	n, err := c.Notices(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []string{"fenna@saltmere.example"}, n.Mail)
}
