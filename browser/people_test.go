package browser_test

import (
	"encoding/json"
	"regexp"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/webauthn"
	"github.com/chromedp/chromedp"
	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/client"
	"innergate/demo"
)

// TestMappingByHandAndBySuggestion does what a newcomer is asked to: lower-case the mail, keep only ferry groups, send
// them as roles; then lets the gate propose the rest from a real sign-in, and looks at what would become of it before
// saving.
func TestMappingByHandAndBySuggestion(t *testing.T) {
	beside(t)
	w := world(t, false)
	b := demo.NewWalker(nil)
	require.NoError(t, b.SignIn(t.Context(), w.RotaURL+"/sign-in", "mvoss"))
	p := newPage(t)
	p.signIn(w)
	began := time.Now()
	p.open(w.URL + "/console/applications/crew-rota?station=mapping-out")
	p.see("Mapping out: what Crew Rota receives")
	// Rule 2 is mail from email: small letters. The roles come from a rule set here; a rule of our own takes its place.
	p.fill("Add a step to rule 2", "lower: small letters")
	p.wait(`document.querySelector('[aria-label="Step 1 of rule 2: lower"]')`)
	p.click(`[aria-label="Take rule 4 away"]`)
	p.press("Add a rule")
	p.fill("Name of rule 4", "roles")
	p.fill("Sources of rule 4", "groups")
	p.fill("Add a step to rule 4", "keep: values that fit")
	p.shot("mapping")
	p.wait(`document.querySelector(".makes .mono")`) // what the newest real sign-in would give
	p.fill("Preview with", "a profile that I type")
	p.fill("The profile", "email = Mira.Voss@Saltmere.example\npreferred_username = mvoss\ngroups = ferry-crew\ngroups = staff")
	p.see("mira.voss@saltmere.example")
	p.press("All that would become of it")
	p.see("What changes against what is live")
	p.see("mira.voss@saltmere.example")
	p.shot("tmp-preview")
	p.saved()
	assert.Less(t, time.Since(began), 2*time.Minute)
	a, err := w.Client().Application(t.Context(), "crew-rota")
	require.NoError(t, err)
	require.Len(t, a.Mapping, 4)
	assert.Equal(t, "roles", a.Mapping[3].Set)
	b = demo.NewWalker(nil)
	require.NoError(t, b.SignIn(t.Context(), w.RotaURL+"/sign-in", "mvoss"))
	assert.Contains(t, b.Text, "ferry-purser")
	assert.NotContains(t, b.Text, "staff,")

	// The provider's side: what the newest sign-in brought, and nothing maps yet.
	provider, err := w.Client().Provider(t.Context(), "saltmere-staff")
	require.NoError(t, err)
	held := provider.Provider
	held.Mapping = held.Mapping[:1]
	_, err = w.Client().PutProvider(t.Context(), held, provider.Revision)
	require.NoError(t, err)
	p.open(w.URL + "/console/providers/saltmere-staff?station=mapping-in")
	p.see("Mapping in: what Saltmere Staff sends")
	p.press("Propose rules")
	p.see("Nothing is added unasked")
	p.see("a standard name for the mail address")
	p.shot("proposal")
	p.press("Take all that is new")
	p.saved()
	provider, err = w.Client().Provider(t.Context(), "saltmere-staff")
	require.NoError(t, err)
	assert.Len(t, provider.Mapping, 6)
	p.accessible()
}

// TestAccessInTheConsole closes an application to all but those assigned, assigns, asks why, and sees it happen.
func TestAccessInTheConsole(t *testing.T) {
	beside(t)
	w := world(t, false)
	for _, who := range []string{"mvoss", "lquill"} {
		require.NoError(t, demo.NewWalker(nil).SignIn(t.Context(), w.RotaURL+"/sign-in", who))
	}
	p := newPage(t)
	p.signIn(w)
	p.open(w.URL + "/console/applications/crew-rota?station=access")
	p.see("Who can get in, and why?")
	p.fill("Who may come in", "people and groups that are assigned")
	p.saved()
	p.see("Nobody is assigned, so nobody gets in.")
	p.fill("Group", "Crew")
	p.fill("Roles", "rota-editor")
	p.press("Assign")
	p.see("assigned through the group crew")
	p.see("rota-editor")
	p.shot("access")
	p.search("Person", "Lorna", "Lorna Quill")
	p.press("Ask")
	p.see("not assigned, neither by name nor through a group")
	p.accessible()

	// A clerk is refused, with a reason that says what to do; a purser gets in.
	refused := newPage(t)
	refused.size(390, 844)
	refused.open(w.RotaURL + "/sign-in")
	refused.become("Lorna Quill")
	refused.see("You have no access to this application")
	refused.shot("refused-access-phone")
	b := demo.NewWalker(nil)
	require.NoError(t, b.SignIn(t.Context(), w.RotaURL+"/sign-in", "mvoss"))
	assert.Contains(t, b.Text, "you are signed in")

	// A rule on top: with a second factor only.
	p.press("Add a rule")
	p.fill("What rule 1 does", "ask for a second factor")
	p.fill("Value 1 of rule 1", "crew")
	p.saved()
	p.see("Ask for a second factor from whoever is in crew.")
	b = demo.NewWalker(nil)
	_ = b.SignIn(t.Context(), w.RotaURL+"/sign-in", "mvoss")
	assert.Contains(t, b.Text, "second factor")
}

// TestPeopleInTheConsole adds, finds, changes and deactivates people, imports a file with bad lines, and compares
// accounts.
func TestPeopleInTheConsole(t *testing.T) {
	beside(t)
	w := world(t, false)
	require.NoError(t, demo.NewWalker(nil).SignIn(t.Context(), w.RotaURL+"/sign-in", "zoberg"))
	p := newPage(t)
	p.signIn(w)
	p.open(w.URL + "/console/people")
	p.see("Zoë Öberg")
	p.press("Add a person")
	p.see("A new person")
	p.wait(`[...document.querySelectorAll("label")].some(l => l.innerText.startsWith("full name"))`)
	p.fill("full name", "Berit Sund")
	p.fill("mail address", "berit.sund@saltmere.example")
	p.press("Add")
	p.see("Linked to no provider yet.")
	p.open(w.URL + "/console/people?search=oberg")
	p.see("Zoë Öberg")
	p.shot("people")
	p.press("Zoë Öberg")
	p.wait(`[...document.querySelectorAll("input")].some(e => e.value === "zoe.oberg@saltmere.example")`)
	p.see("Given by providers: Crew")
	p.shot("person")
	p.accessible()
	list, err := w.Client().People(t.Context(), client.Page{Search: "zoë"})
	require.NoError(t, err)
	require.Len(t, list.Items, 1)

	p.open(w.URL + "/console/people-settings")
	p.see("Import")
	p.upload("File with people", "crew.csv", "preferred_username,name,email\nkshaw,Kit Shaw,kit.shaw@saltmere.example\nbad,Bad,no mail\n")
	p.fill("People are known by", "user name")
	p.press("Check the file")
	p.see("Line 3:")
	p.see("Nothing is written while a line is bad.")
	p.shot("tmp-import")
	p.upload("File with people", "crew.csv", "preferred_username,name,email\nkshaw,Kit Shaw,kit.shaw@saltmere.example\n")
	p.press("Check the file")
	p.see("1 would be created")
	p.press("Write it")
	p.see("1 created")

	// All that are shown are put into a group at once.
	p.open(w.URL + "/console/people")
	p.see("Kit Shaw")
	p.act(`document.querySelector('[aria-label="Choose all that are shown"],[aria-label="Choose all that are shown"] input')`, "e.click()")
	p.see("chosen")
	p.fill("Group to join or leave", "Bridge")
	p.press("Join it")
	p.see("are in bridge")
	p.accessible()
	p.open(w.URL + "/console/groups")
	p.see("Skippers.")
	p.shot("tmp-groups")
	p.open(w.URL + "/console/rule-sets")
	p.see("Ferry roles")
	p.press("Ferry roles")
	p.see("What the provider sends becomes the person's profile.")
	p.shot("tmp-rule-sets")
	p.accessible()

	p.open(w.URL + "/console/applications/crew-rota?station=mapping-out")
	p.press("The person's identifier (NameID)")
	p.fill("Profile value", "email")
	p.press("Who would become another user?")
	p.see("1 would become another user there")
	p.press("Compare with the application's own accounts")
	p.fill("Its list of accounts", "Zoe.Oberg@saltmere.example\nnobody@saltmere.example\n")
	p.press("Compare")
	p.see("only in upper and lower case")
	p.see("nobody@saltmere.example")
	p.shot("tmp-accounts")
	got, err := w.Client().CheckAccounts(t.Context(), "crew-rota", api.AccountCheck{Subject: mustApp(t, w).Subject, Accounts: "zoberg\n"})
	require.NoError(t, err)
	assert.Equal(t, 1, got.Matching)
}

func mustApp(t *testing.T, w *demo.World) *api.Application {
	t.Helper()
	a, err := w.Client().Application(t.Context(), "crew-rota")
	require.NoError(t, err)
	return a
}

// TestSecondFactorIsSetUpInTheBrowser signs a skipper of the agency in at the gate's own directory, on a phone.
func TestSecondFactorIsSetUpInTheBrowser(t *testing.T) {
	beside(t)
	w := world(t, true)
	p := newPage(t)
	p.size(390, 844)
	p.open(w.LedgerURL + "/sign-in")
	p.press("Harbour Register")
	p.wait(`document.querySelector("input[type=password]")`) // the page before has the same heading
	p.accessible()
	p.shot("own-phone")
	p.label("Name", "runa.holt")
	p.label("Password", "wrong password")
	p.press("Sign in")
	p.see("Name or password is wrong.")
	p.label("Password", w.AgencyPassword())
	p.press("Sign in")
	p.see("Set up a second factor")
	p.accessible()
	p.shot("enrol-phone")
	secret := eval[string](p, `document.querySelector(".ref").innerText.replaceAll(" ", "")`)
	code, err := totp.GenerateCode(secret, time.Now())
	require.NoError(t, err)
	p.label("Code", code)
	p.press("Go on")
	p.see("Your recovery codes")
	p.accessible()
	p.shot("tmp-codes-phone")
	p.press("I have kept them")
	p.see("Runa Holt")

	// A newcomer through a provider that asks.
	provider, err := w.Client().Provider(t.Context(), "northquay-stevedores")
	require.NoError(t, err)
	held := provider.Provider
	held.Admission, held.Keep = "ask", map[string]string{"name": "first", "email": "local"}
	_, err = w.Client().PutProvider(t.Context(), held, 0)
	require.NoError(t, err)
	n := newPage(t)
	n.size(390, 844)
	n.open(w.LedgerURL + "/sign-in")
	n.press("Northquay Stevedores")
	n.become("Lene Ås")
	n.see("Is this right?")
	n.accessible()
	n.shot("ask-phone")
	n.label("Full name", "Lene Ås of the Crane")
	n.label("Mail address", "lene@post.example")
	n.press("It is right, go on")
	n.see("Is this your mail address?")
	n.accessible()
	n.shot("tmp-code-phone")
	letters := w.Mailbox.Letters("lene@post.example")
	require.Len(t, letters, 1)
	n.label("Code", regexp.MustCompile(`\d{3} \d{3}`).FindString(letters[0].Text))
	n.press("Go on")
	n.see("Lene Ås of the Crane")
	n.see("lene@post.example")
	n.open(w.StaffURL + "/mailbox")
	n.see("Your code for Cargo Ledger")
	n.shot("tmp-mailbox")
}

// authenticator gives a page a device that makes and shows passkeys.
func (p *page) authenticator() webauthn.AuthenticatorID {
	p.t.Helper()
	_, err := chromedp.Call(p.ctx, webauthn.Enable, webauthn.EnableParams{})
	require.NoError(p.t, err)
	made, err := chromedp.Call(
		p.ctx,
		webauthn.AddVirtualAuthenticator,
		webauthn.AddVirtualAuthenticatorParams{Options: &webauthn.VirtualAuthenticatorOptions{
			Protocol: webauthn.AuthenticatorProtocolCtap2, Transport: webauthn.AuthenticatorTransportInternal, HasResidentKey: true,
			HasUserVerification: true, IsUserVerified: true, AutomaticPresenceSimulation: true}},
	)
	require.NoError(p.t, err)
	return made.AuthenticatorID
}

// TestPasskeys sets a passkey up in place of an authenticator, signs in with nothing else, with it as the second
// factor, and not with one that was taken away.
func TestPasskeys(t *testing.T) {
	beside(t)
	w := world(t, true)
	p := newPage(t)
	p.size(390, 844)
	device := p.authenticator()
	begin := func() {
		_, err := chromedp.Call(p.ctx, network.ClearBrowserCookies, cdp.Empty{}) // a session would ask nothing
		require.NoError(t, err)
		p.open(w.LedgerURL + "/sign-in")
		p.press("Harbour Register")
		p.wait(`document.querySelector("input[type=password]")`)
	}
	password := func() {
		p.label("Name", "runa.holt")
		p.label("Password", w.AgencyPassword())
		p.press("Sign in")
	}
	begin()
	p.accessible()
	p.shot("tmp-own-passkey")
	p.press("Sign in with a passkey")
	p.see("Your browser gave no passkey")
	password()
	p.see("Set up a second factor")
	p.accessible()
	p.press("Set up a passkey instead")
	p.see("Your recovery codes")
	p.press("I have kept them")
	p.see("Runa Holt")

	begin()
	p.press("Sign in with a passkey")
	p.see("Runa Holt")
	assert.Contains(t, newest(t, w), "passkey")

	begin()
	password()
	p.see("Your second factor")
	p.accessible()
	p.shot("passkey-phone")
	p.press("Use your passkey")
	p.see("Runa Holt")

	// A device on which nobody enters a PIN or shows a finger is no way in without a password.
	_, err := chromedp.Call(p.ctx, webauthn.SetUserVerified, webauthn.SetUserVerifiedParams{AuthenticatorID: device})
	require.NoError(t, err)
	begin()
	p.press("Sign in with a passkey")
	p.see("Your browser gave no passkey")

	_, err = chromedp.Call(p.ctx, webauthn.SetUserVerified, webauthn.SetUserVerifiedParams{AuthenticatorID: device, IsUserVerified: true})
	require.NoError(t, err)
	list, err := w.Client().People(t.Context(), client.Page{Search: "Runa"})
	require.NoError(t, err)
	who, err := w.Client().Person(t.Context(), list.Items[0].ID)
	require.NoError(t, err)
	for _, c := range who.Credentials {
		if c.Kind == "passkey" {
			require.NoError(t, w.Client().Do(t.Context(), "DELETE", "/people/"+who.ID+"/credentials/"+c.ID, nil, nil))
		}
	}
	begin()
	p.press("Sign in with a passkey")
	p.see("This passkey could not be taken")
	p.accessible()
}

// newest is the newest trace as text.
func newest(t *testing.T, w *demo.World) string {
	t.Helper()
	list, err := w.Client().Traces(t.Context(), client.Page{Limit: 1})
	require.NoError(t, err)
	full, err := w.Client().Trace(t.Context(), list.Items[0].Reference)
	require.NoError(t, err)
	b, err := json.Marshal(full)
	require.NoError(t, err)
	return string(b)
}

// TestMailIsSetInTheConsole has the owner say how mail is sent, and send a test; then link a sign-in that found nobody.
func TestMailIsSetInTheConsole(t *testing.T) {
	beside(t)
	w := world(t, false)
	p := newPage(t)
	p.signIn(w)
	p.open(w.URL + "/console/settings")
	p.see("Codes for new mail addresses go out this way.")
	p.fill("Send a test to", "fenna@saltmere.example")
	p.press("Send")
	p.see("The mail server took a mail for fenna@saltmere.example")
	require.Len(t, w.Mailbox.Letters("fenna@saltmere.example"), 1)
	p.fill("Encryption", "STARTTLS")
	p.press("Save")
	require.Eventually(t, func() bool {
		m, err := w.Client().MailSettings(t.Context())
		return err == nil && m.Encryption == "starttls"
	}, patience, 20*time.Millisecond)
	p.fill("Send a test to", "fenna@saltmere.example")
	p.press("Send")
	p.see("did not take it")
	p.accessible()
	p.shot("tmp-settings")

	provider, err := w.Client().Provider(t.Context(), "saltmere-staff")
	require.NoError(t, err)
	held := provider.Provider
	held.Admission = "refuse"
	_, err = w.Client().PutProvider(t.Context(), held, 0)
	require.NoError(t, err)
	b := demo.NewWalker(nil)
	_ = b.SignIn(t.Context(), w.RotaURL+"/sign-in", "ivale")
	list, err := w.Client().Traces(t.Context(), client.Page{Limit: 1})
	require.NoError(t, err)
	require.Equal(t, "match.stranger", list.Items[0].Code)
	made, err := w.Client().
		AddPerson(t.Context(), api.SavePerson{Profile: map[string][]string{"name": {"Iris Vale"}}, Login: ptr("iris.vale")})
	require.NoError(t, err)
	p.open(w.URL + "/console/people/" + made.ID)
	p.fill("Link a sign-in that found nobody", list.Items[0].Reference)
	p.press("Link")
	p.see("Saltmere Staff")
	p.accessible()
	p.shot("tmp-person-link")
	p.open(w.URL + "/console/providers/harbour-register")
	p.see("as the second factor, or alone")
	p.accessible()
	p.shot("tmp-directory")
}

func ptr[T any](v T) *T { return &v }

// TestRefusalInGerman shows somebody whose browser speaks German why they could not be signed in, on a phone.
func TestRefusalInGerman(t *testing.T) {
	beside(t)
	w := world(t, false)
	p := newPage(t)
	p.size(390, 844)
	_, err := chromedp.Call(
		p.ctx,
		emulation.SetUserAgentOverride,
		emulation.SetUserAgentOverrideParams{UserAgent: "Mozilla/5.0 (test)", AcceptLanguage: "de-DE,de"},
	)
	require.NoError(t, err)
	w.Staff.SetMistake("audience")
	p.open(w.RotaURL + "/sign-in")
	p.become("Mira Voss")
	p.see("Sie konnten bei Crew Rota nicht angemeldet werden")
	p.see("nicht einig")
	p.accessible()
	p.shot("refused-german")
	p.open(w.LedgerURL + "/sign-in")
	p.press("Harbour Register")
	p.see("Mit einem Passkey anmelden")
	p.accessible()
	p.shot("tmp-own-german")
}
