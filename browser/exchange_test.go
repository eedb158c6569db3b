package browser_test

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/client"
	"innergate/core/config"
	"innergate/core/keys"
)

// TestKeyIsReplacedInTheConsole goes through the whole procedure by pressing its buttons, while somebody signs in all
// the time.
func TestKeyIsReplacedInTheConsole(t *testing.T) {
	beside(t)
	w := world(t, false)
	ctx := context.Background()
	var done, failed atomic.Int64
	stop := make(chan struct{})
	var running sync.WaitGroup
	running.Go(func() {
		for {
			select {
			case <-stop:
				return
			default:
			}
			b := w.Walker()
			if err := b.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"); err != nil || b.Inner("nameid") != "mvoss" {
				failed.Add(1)
			}
			done.Add(1)
		}
	})
	p := newPage(t)
	p.signIn(w)
	p.press("Keyring")
	p.see("What ends when")
	p.fill("Kind", "P-256")
	p.press("Make the next key")
	p.press("Publish it beside the active one")
	p.see("0 of 2")
	p.press("Switch now")
	p.see("Not known to have the next certificate: Crew Rota, Saltmere Staff")
	p.accessible()
	p.shot("switch-refused")
	p.press("Leave it")
	require.NoError(t, w.Fetch())
	p.see("Everybody has it")
	p.accessible()
	p.shot("keyring")
	p.press("Switch now")
	p.see("Go back to the old key")
	p.press("Go back to the old key")
	p.press("Switch now")
	p.see("Retire the old key")
	p.press("Retire the old key")
	p.press("Retire it")
	p.see("Retired keys")
	p.see("Make the next key")
	before := done.Load()
	require.Eventually(t, func() bool { return done.Load() > before+3 }, patience, 10*time.Millisecond)
	close(stop)
	running.Wait()
	assert.Zero(t, failed.Load(), "of %d sign-ins", done.Load())
	r, err := w.Client().Rollover(ctx, keys.PurposeSigning, "")
	require.NoError(t, err)
	assert.Equal(t, "p-256", r.Active.Kind)
}

// TestAPartnersChangeIsDecidedInTheConsole has Saltmere Staff announce a certificate.
func TestAPartnersChangeIsDecidedInTheConsole(t *testing.T) {
	beside(t)
	w := world(t, false)
	require.NoError(t, w.Staff.AnnounceKey())
	p := newPage(t)
	p.signIn(w)
	p.open(w.URL + "/console/providers/saltmere-staff")
	p.see("Its metadata address")
	p.press("Refresh now")
	p.see("A change waits for your decision")
	p.see("certificate for signing")
	eval[bool](p, `(document.querySelector(".waiting").scrollIntoView({block:"center"}),true)`)
	p.accessible()
	p.shot("metadata-change")
	p.press("Apply it")
	p.see("It is in force from now on")
	p.press("Versions of its metadata")
	p.wait(`document.querySelector("details[open] table")?.innerText.includes("used")`)
	x, err := w.Client().Provider(context.Background(), "saltmere-staff")
	require.NoError(t, err)
	assert.Len(t, x.SAML.Certificates, 2)
}

// TestSourceIsUploadedSearchedAndPicked drops nothing: it chooses a file of many entities, watches it being read, and
// makes drafts.
func TestSourceIsUploadedSearchedAndPicked(t *testing.T) {
	beside(t)
	w := world(t, false)
	var b strings.Builder
	b.WriteString(`<EntitiesDescriptor xmlns="urn:oasis:names:tc:SAML:2.0:metadata" Name="harbours.example">`)
	names := []string{"Amberport", "Birchmouth", "Coldhaven", "Dunmere", "Eastquay"}
	for i := range 400 {
		fmt.Fprintf(
			&b,
			`<EntityDescriptor entityID="https://port-%03d.harbours.example/saml"><SPSSODescriptor `+
				`protocolSupportEnumeration="urn:oasis:names:tc:SAML:2.0:protocol"><Extensions><u:UIInfo `+
				`xmlns:u="urn:oasis:names:tc:SAML:metadata:ui"><u:DisplayName xml:lang="en">%s `+
				`%d</u:DisplayName></u:UIInfo></Extensions><AssertionConsumerService index="0" `+
				`Binding="urn:oasis:names:tc:SAML:2.0:bindings:HTTP-POST" `+
				`Location="https://port-%03d.harbours.example/acs"/></SPSSODescriptor></EntityDescriptor>`,
			i,
			names[i%5],
			i/5+1,
			i,
		)
	}
	b.WriteString("</EntitiesDescriptor>")
	p := newPage(t)
	p.signIn(w)
	p.press("Sources")
	p.see("Harbours of the Quiet Coast")
	p.fill("What it is", "A file of many entities")
	p.fill("Name", "Old harbour list")
	p.wait(`document.querySelector("form.add input[type=file]")`)
	eval[bool](
		p,
		`(()=>{const d=new DataTransfer();d.items.add(new File([`+quote(
			b.String(),
		)+`],"all.xml"));const i=document.querySelector("form.add input[type=file]");i.files=d.files;i.dispatchEvent(new `+
			`Event("change",{bubbles:true}));return true})()`,
	)
	p.press("Add and read it")
	p.see("400 entities")
	p.fill("Search by name or entity ID", "Dunmere 1")
	p.see("Dunmere 10")
	p.wait(`document.querySelectorAll("table tbody tr").length<15`)
	for i := range 2 {
		p.act(fmt.Sprintf(`document.querySelectorAll("tbody input[type=checkbox]")[%d]`, i), "e.click()")
		p.see(fmt.Sprintf("%d chosen", i+1))
	}
	p.accessible()
	p.shot("source")
	p.press("Add as applications")
	p.see("a draft was made")
	list, err := w.Client().Applications(context.Background(), client.Page{Search: "dunmere"})
	require.NoError(t, err)
	assert.Len(t, list.Items, 2)
}

func TestTemplateIsStartedInTheConsole(t *testing.T) {
	beside(t)
	w := world(t, false)
	p := newPage(t)
	p.signIn(w)
	p.open(w.URL + "/console/templates")
	p.press("Number inside the addresses")
	p.fill("Name", "Harbour App")
	p.fill("host", "app.harbours.example")
	p.press("Make the draft")
	p.see("it is missing")
	p.fill("number", "10042")
	p.accessible()
	p.shot("templates")
	p.press("Make the draft")
	p.see("Connect Harbour App")
	p.open(w.URL + "/console/applications/harbour-app/exchange")
	p.see("Enter " + w.URL + "/saml/idp")
}

// TestTheirFormIsComparedOnTheSheet pastes what another product's form shows, with one slash too many.
func TestTheirFormIsComparedOnTheSheet(t *testing.T) {
	beside(t)
	w := world(t, false)
	require.NoError(t, w.Fetch())
	p := newPage(t)
	p.signIn(w)
	p.open(w.URL + "/console/applications/crew-rota/exchange")
	p.see("metadata, fetched")
	p.fill("What their form or file shows", "Issuer: "+w.URL+"/saml/idp/\nLogin URL: "+w.URL+"/saml/idp/sso")
	p.press("Compare all of it")
	p.wait(`document.querySelector(".differs")?.innerText.includes("IdP entity ID")`)
	p.see("trailing slash")
	p.accessible()
	p.shot("exchange")
}

// TestACutOutRoleAndALooseCertificate: what an engineer gets in a mail.
func TestACutOutRoleAndALooseCertificate(t *testing.T) {
	beside(t)
	w := world(t, false)
	doc, err := w.Desk.Metadata()
	require.NoError(t, err)
	text := string(doc)
	cut := text[strings.Index(text, "<md:SPSSODescriptor"):strings.Index(text, "</md:EntityDescriptor>")]
	p := newPage(t)
	p.signIn(w)
	p.open(w.URL + "/console/applications/new")
	p.drop("cut.xml", cut)
	p.see("The entity ID stood on the part that was cut off")
	p.fill("Entity ID", w.Desk.EntityID())
	p.press("Go on")
	p.see("This was understood")
	p.accessible()
	p.press("Make the draft from it")
	p.wait(`/\/console\/applications\/(?!new)/.test(location.pathname)`)
	list, err := w.Client().Applications(context.Background(), client.Page{Search: w.Desk.EntityID()})
	require.NoError(t, err)
	require.Len(t, list.Items, 1)

	// A certificate dropped on a provider is trusted beside the one that is held.
	key, err := w.Client().MakeKey(context.Background(), api.NewKey{Purpose: keys.PurposeSigning})
	require.NoError(t, err)
	p.open(w.URL + "/console/providers/saltmere-staff")
	p.drop("new.pem", key.PEM)
	p.see("This is a certificate alone")
	p.press("Take it")
	p.wait(`!document.querySelector(".got")`)
	x, err := w.Client().Provider(context.Background(), "saltmere-staff")
	require.NoError(t, err)
	assert.Len(t, x.SAML.Certificates, 2)
	assert.Equal(t, config.Certificate{Use: "signing", PEM: x.SAML.Certificates[1].PEM}, x.SAML.Certificates[1])
}
