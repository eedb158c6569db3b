package server_test

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/client"
	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/demo"
	"innergate/testbed"
)

// atRegister brings a browser to the page of the gate's own directory.
func atRegister(t testing.TB, w *demo.World) *demo.Walker {
	t.Helper()
	b, ctx := w.Walker(), context.Background()
	require.NoError(t, b.Get(ctx, w.LedgerURL+"/sign-in"))
	require.NoError(t, b.Onward(ctx))
	require.NoError(t, b.Submit(ctx, url.Values{"provider": {"harbour-register"}}))
	require.NoError(t, b.Onward(ctx))
	require.Contains(t, b.Text, "Sign in to Cargo Ledger")
	return b
}

func TestTheGatesOwnPeople(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	now := time.Now()
	secret, codes, err := atRegister(t, w).SignInHere(ctx, "Runa.Holt", w.AgencyPassword(), "", now)
	require.NoError(t, err)
	require.Len(t, codes, 10)

	// The code that set the factor up counts once; so does every later one.
	b := atRegister(t, w)
	_, _, err = b.SignInHere(ctx, "runa.holt", w.AgencyPassword(), secret, now)
	require.NoError(t, err)
	assert.Contains(t, b.Text, "The code is wrong, or was used already.")
	_, _, err = atRegister(t, w).SignInHere(ctx, "runa.holt", w.AgencyPassword(), secret, now.Add(30*time.Second))
	require.NoError(t, err)

	// A recovery code counts once, in any spelling.
	for i, says := range []string{"Runa Holt", "used already"} {
		b = atRegister(t, w)
		require.NoError(t, b.Submit(ctx, url.Values{"name": {"runa.holt"}, "password": {w.AgencyPassword()}}))
		require.NoError(t, b.Submit(ctx, url.Values{"code": {strings.ToLower(strings.ReplaceAll(codes[3], "-", " "))}}))
		require.NoError(t, b.Onward(ctx))
		assert.Contains(t, b.Text, says, i)
	}
	p, err := w.Client().Person(ctx, known(t, w, "Runa")[0].ID)
	require.NoError(t, err)
	kinds := map[string]int{}
	for _, c := range p.Credentials {
		kinds[c.Kind] = c.Left
	}
	assert.Equal(t, map[string]int{"password": 0, "totp": 0, "recovery": 9}, kinds)

	// The back button leads nowhere, and another browser can't take the sign-in over.
	b = atRegister(t, w)
	other := w.Walker()
	require.NoError(t, other.Get(ctx, b.Address.String()))
	assert.Contains(t, other.Text, "could not be signed in")
	assert.NotContains(t, other.Text, "Password")

	// Deactivated, nobody comes in with the right password either.
	off := false
	_, err = w.Client().PutPerson(ctx, p.ID, api.SavePerson{Profile: p.Profile, Active: &off})
	require.NoError(t, err)
	b = atRegister(t, w)
	require.NoError(t, b.Submit(ctx, url.Values{"name": {"runa.holt"}, "password": {w.AgencyPassword()}}))
	assert.Contains(t, b.Text, "switched off")
}

func TestPasswordsAreNotGuessed(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	for _, name := range []string{"eskil.brae", "nobody.here"} {
		b := atRegister(t, w)
		require.NoError(t, b.Submit(ctx, url.Values{"name": {name}, "password": {"not the password"}}))
		assert.Contains(t, b.Text, "Name or password is wrong.", "a name that is known and one that is not get the same answer")
	}
	// Five wrong entries end a sign-in, ten the quarter of an hour, whatever browser they come from.
	b := atRegister(t, w)
	for range 5 {
		_ = b.Submit(ctx, url.Values{"name": {"eskil.brae"}, "password": {"not the password"}})
	}
	assert.Contains(t, b.Text, "could not be signed in")
	for range 2 {
		b = atRegister(t, w)
		for range 4 {
			_ = b.Submit(ctx, url.Values{"name": {"eskil.brae"}, "password": {"not the password"}})
		}
	}
	b = atRegister(t, w)
	require.NoError(t, b.Submit(ctx, url.Values{"name": {"eskil.brae"}, "password": {w.AgencyPassword()}}))
	assert.Contains(t, b.Text, "too many wrong tries", "not even the right password comes through now")
	b = atRegister(t, w)
	_, _, err := b.SignInHere(ctx, "runa.holt", w.AgencyPassword(), "", time.Now())
	require.NoError(t, err)
	assert.Contains(t, b.Text, "Runa Holt", "others are not locked out")

	// Another site can't have a browser post the form.
	b = atRegister(t, w)
	answer, err := http.PostForm(b.Address.String(), url.Values{"name": {"runa.holt"}, "password": {w.AgencyPassword()}})
	require.NoError(t, err)
	answer.Body.Close()
	assert.NotEqual(t, http.StatusSeeOther, answer.StatusCode, "without the browser's own cookie nothing happens")
}

func TestPasswordsComeFromElsewhereAndByLink(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	set(t, w, "harbour-register", func(p *config.Provider) { p.Directory.SecondFactor = "offered" })
	sum := sha256.Sum256([]byte("an old password" + "salt1234"))
	text := "external_id,name,login,password_hash\na1,Ada Lowe,ada.lowe,{SSHA256}" + base64.StdEncoding.EncodeToString(
		append(sum[:], "salt1234"...),
	) + "\na2,Bo Ness,bo.ness,{SHA}plain\n"
	job, err := w.Client().NewImport(ctx, api.NewImport{Form: "csv", SkipBad: true})
	require.NoError(t, err)
	_, err = w.Client().SendImport(ctx, job.ID, 0, []byte(text))
	require.NoError(t, err)
	for _, act := range []func(context.Context, string) (*api.Import, error){w.Client().CheckImport, w.Client().WriteImport} {
		_, err = act(ctx, job.ID)
		require.NoError(t, err)
		require.Eventually(
			t,
			func() bool { job, err = w.Client().Import(ctx, job.ID); return err == nil && job.State != "running" },
			testbed.Patience,
			10*time.Millisecond,
		)
	}
	require.Len(t, job.Problems, 1)
	assert.Contains(t, job.Problems[0].Message, "of a scheme that is not taken")
	for range 2 { // the second time with the renewed hash
		b := atRegister(t, w)
		_, _, err = b.SignInHere(ctx, "ada.lowe", "an old password", "", time.Now())
		require.NoError(t, err)
		assert.Contains(t, b.Text, "Ada Lowe")
	}
	id := known(t, w, "Ada")[0].ID

	var link api.PersonLinkMade
	require.NoError(t, w.Client().Do(ctx, "POST", "/people/"+id+"/password-link", nil, &link))
	b := w.Walker()
	require.NoError(t, b.Get(ctx, link.Link))
	require.NoError(t, b.Submit(ctx, url.Values{"password": {"too short"}, "again": {"too short"}}))
	assert.Contains(t, b.Text, "fewer than 12 characters")
	require.NoError(t, b.Submit(ctx, url.Values{"password": {"spring tide at noon"}, "again": {"spring tide at noon"}}))
	assert.Contains(t, b.Text, "Your password is set")
	require.NoError(t, b.Get(ctx, link.Link))
	assert.Contains(t, b.Text, "used already", "a link works once")
	b = atRegister(t, w)
	require.NoError(t, b.Submit(ctx, url.Values{"name": {"ada.lowe"}, "password": {"an old password"}}))
	assert.Contains(t, b.Text, "Name or password is wrong.")
	assert.Error(t, client.New(w.URL, "").Do(ctx, "POST", "/people/"+id+"/password-link", nil, nil))
}

// TestASecondFactorAtTheGateForAnothersSignIn has a rule ask for more than the provider proves.
func TestASecondFactorAtTheGateForAnothersSignIn(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	secret, _, err := atRegister(t, w).SignInHere(ctx, "runa.holt", w.AgencyPassword(), "", time.Now())
	require.NoError(t, err)
	// The agency's skipper is known to the company's provider as well.
	id := known(t, w, "Runa")[0].ID
	p, err := w.Client().Person(ctx, id)
	require.NoError(t, err)
	p.Profile["preferred_username"] = []string{"gfell"}
	_, err = w.Client().PutPerson(ctx, id, api.SavePerson{Profile: p.Profile})
	require.NoError(t, err)
	_, err = w.Client().SetAccess(ctx, "crew-rota", access.Policy{To: access.Everybody, Rules: []access.Rule{{Then: access.Stronger}}})
	require.NoError(t, err)
	_, code := signsIn(t, w, "mvoss")
	assert.Equal(t, "access.stronger-impossible", code)
	b := w.Walker()
	_ = b.SignIn(ctx, w.RotaURL+"/sign-in", "gfell")
	require.Contains(t, b.Text, "Your second factor")
	require.NoError(t, submitCode(ctx, b, secret, time.Now().Add(30*time.Second)))
	assert.Contains(t, b.Text, "you are signed in")
}

// submitCode enters the code that an authenticator shows.
func submitCode(ctx context.Context, b *demo.Walker, secret string, now time.Time) error {
	code, err := totp.GenerateCode(secret, now)
	if err != nil {
		return err
	}
	if err := b.Submit(ctx, url.Values{"code": {code}}); err != nil {
		return err
	}
	return b.Onward(ctx)
}

func TestNewcomersConfirmTheirProfile(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	set(t, w, "saltmere-staff", func(p *config.Provider) { p.Admission, p.Keep = "ask", map[string]string{"name": "first"} })
	come := func(user string) *demo.Walker {
		b := w.Walker()
		require.NoError(t, b.Get(ctx, w.RotaURL+"/sign-in"))
		require.NoError(t, b.Onward(ctx))
		require.NoError(t, b.Submit(ctx, url.Values{"person": {user}}))
		require.NoError(t, b.Onward(ctx))
		return b
	}
	b := come("zoberg")
	require.Contains(t, b.Text, "Is this right?")
	assert.Contains(t, b.Text, "zoe.oberg@saltmere.example")
	assert.Empty(t, known(t, w, "Zoë"), "nothing is kept before the answer")
	require.NoError(t, b.Submit(ctx, url.Values{"answer": {"no"}}))
	assert.Contains(t, b.Text, "Nothing was kept of you")
	assert.Empty(t, known(t, w, "Zoë"))

	b = come("zoberg")
	require.NoError(t, b.Submit(ctx, url.Values{"answer": {"yes"}, "name": {""}}))
	assert.Contains(t, b.Text, "Please enter your name")
	require.NoError(
		t,
		b.Submit(
			ctx,
			url.Values{
				"answer":             {"yes"},
				"name":               {"Zoë of the Bow"},
				"phone_number":       {"+44 1632 960007"},
				"email":              {"mira.voss@saltmere.example"},
				"groups":             {"ferry-bridge"},
				"preferred_username": {"mvoss"},
				"person_type":        {"staff"},
			},
		),
	)
	require.NoError(t, b.Onward(ctx))
	require.Contains(t, b.Text, "you are signed in")
	list := known(t, w, "Zoë of")
	require.Len(t, list, 1)
	p, err := w.Client().Person(ctx, list[0].ID)
	require.NoError(t, err)
	assert.Equal(t, []string{"+44 1632 960007"}, p.Profile["phone_number"])
	assert.Equal(t, []string{"zoe.oberg@saltmere.example"}, p.Profile["email"], "what may not be edited is not")
	assert.Equal(t, []string{"zoberg"}, p.Profile["preferred_username"])
	assert.Equal(t, []string{"staff", "ferry-crew"}, p.Profile["groups"])
	b = come("zoberg")
	assert.Contains(t, b.Text, "you are signed in", "known people are not asked again")
}

// TestNewcomersProveTheirMailAddress has somebody whom the provider gives no mail address enter one, which counts once
// the code that was sent there was entered.
func TestNewcomersProveTheirMailAddress(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	set(t, w, "saltmere-staff", func(p *config.Provider) { p.Admission = "ask" })
	come := func(address string) *demo.Walker {
		b := w.Walker()
		require.NoError(t, b.Get(ctx, w.RotaURL+"/sign-in"))
		require.NoError(t, b.Onward(ctx))
		require.NoError(t, b.Submit(ctx, url.Values{"person": {"ivale"}}))
		require.NoError(t, b.Onward(ctx))
		require.Contains(t, b.Text, "Is this right?")
		assert.NotContains(t, b.Text, `name="name"`, "what the provider overwrites at the next sign-in can't be edited")
		require.NoError(t, b.Submit(ctx, url.Values{"answer": {"yes"}, "email": {address}}))
		return b
	}
	code := func(address string) string {
		letters := w.Mailbox.Letters(address)
		require.NotEmpty(t, letters)
		assert.Contains(t, letters[0].Text, "Crew Rota")
		return regexp.MustCompile(`\d{3} \d{3}`).FindString(letters[0].Text)
	}
	b := come("no address")
	assert.Contains(t, b.Text, "is no mail address")
	assert.Empty(t, w.Mailbox.Letters(""))

	b = come("iris.vale@post.example")
	require.Contains(t, b.Text, "Is this your mail address?")
	first := code("iris.vale@post.example")
	require.NoError(t, b.Submit(ctx, url.Values{"answer": {"again"}}))
	require.NoError(t, b.Submit(ctx, url.Values{"answer": {"code"}, "code": {first}}))
	assert.Contains(t, b.Text, "This is not the code that was sent", "an older code does not count")
	require.NoError(t, b.Submit(ctx, url.Values{"answer": {"yes"}, "email": {"iris.vale@post.example"}}))
	assert.Contains(t, b.Text, "This is not the code that was sent", "the page's own field is no way around the code")
	assert.Empty(t, known(t, w, "Iris"))
	require.NoError(t, b.Submit(ctx, url.Values{"answer": {"code"}, "code": {code("iris.vale@post.example")}}))
	require.NoError(t, b.Onward(ctx))
	require.Contains(t, b.Text, "you are signed in")
	p, err := w.Client().Person(ctx, known(t, w, "Iris")[0].ID)
	require.NoError(t, err)
	assert.Equal(t, []string{"iris.vale@post.example"}, p.Profile["email"])
	assert.Equal(t, []string{"true"}, p.Profile["email_verified"])

	// Somebody's address is not taken over by proving it once more: the person is not new then.
	require.NoError(t, w.Client().DeletePerson(ctx, p.ID))
	_, err = w.Client().AddPerson(ctx, api.SavePerson{Profile: claims.Bag{"name": {"Another"}, "email": {"Iris.Vale@post.example"}}})
	require.NoError(t, err)
	b = come("iris.vale@post.example")
	require.NoError(t, b.Submit(ctx, url.Values{"answer": {"code"}, "code": {code("iris.vale@post.example")}}))
	assert.Contains(t, b.Text, "Somebody here has this mail address already")
	assert.Empty(t, known(t, w, "Vale"))

	// Another address can be chosen; three codes are the most in one sign-in, five wrong ones end it.
	b = come("iris.wrong@post.example")
	require.NoError(t, b.Submit(ctx, url.Values{"answer": {"other"}}))
	require.Contains(t, b.Text, "Is this right?")
	require.NoError(t, b.Submit(ctx, url.Values{"answer": {"yes"}, "email": {"iris.v@post.example"}}))
	require.NoError(t, b.Submit(ctx, url.Values{"answer": {"again"}}))
	require.NoError(t, b.Submit(ctx, url.Values{"answer": {"again"}}))
	assert.Contains(t, b.Text, "No more codes are sent in this sign-in")
	assert.Len(t, w.Mailbox.Letters("iris.v@post.example"), 2)
	for range 5 {
		_ = b.Submit(ctx, url.Values{"answer": {"code"}, "code": {"x"}})
	}
	assert.Contains(t, b.Text, "wrong too often")

	// A server that refuses is told to the person, who can try another address; without a server the address can't be
	// entered.
	w.Mailbox.Refuse = "no such mailbox"
	b = come("iris.none@post.example")
	assert.Contains(t, b.Text, "The code could not be sent")
	assert.Contains(t, b.Text, "Is this right?")
	_, err = w.Client().SetMail(ctx, api.SaveMail{})
	require.NoError(t, err)
	b = w.Walker()
	require.NoError(t, b.Get(ctx, w.RotaURL+"/sign-in"))
	require.NoError(t, b.Onward(ctx))
	require.NoError(t, b.Submit(ctx, url.Values{"person": {"ivale"}}))
	require.NoError(t, b.Onward(ctx))
	assert.NotContains(t, b.Text, `name="email"`)
}

func TestMailSettings(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	c := w.Client()
	held, err := c.MailSettings(ctx)
	require.NoError(t, err)
	w.Mailbox.Username, w.Mailbox.Password = "gate", "harbour light"
	in := api.SaveMail{Mail: held.Mail, Password: ptr("harbour light")}
	in.Username = "gate"
	held, err = c.SetMail(ctx, in)
	require.NoError(t, err)
	assert.True(t, held.HasPassword)
	require.NoError(t, c.TestMail(ctx, "fenna@saltmere.example"))
	require.Len(t, w.Mailbox.Letters("fenna@saltmere.example"), 1)
	assert.Contains(t, w.Mailbox.Letters("")[0].From, "gate@saltmere.example")

	in.Password = nil
	_, err = c.SetMail(ctx, in)
	require.NoError(t, err)
	require.NoError(t, c.TestMail(ctx, "fenna@saltmere.example"), "the password stays where none is given")
	in.Server = "localhost:1"
	held, err = c.SetMail(ctx, in)
	require.NoError(t, err)
	assert.False(t, held.HasPassword, "a password never goes to another server than it was entered for")
	problem := &api.Problem{}
	require.ErrorAs(t, c.TestMail(ctx, "fenna@saltmere.example"), &problem)
	assert.Equal(t, "mail-password", problem.Code)
	in.Password = ptr("another")
	_, err = c.SetMail(ctx, in)
	require.NoError(t, err)
	require.ErrorAs(t, c.TestMail(ctx, "fenna@saltmere.example"), &problem)
	assert.Equal(t, "mail-failed", problem.Code)

	for words, change := range map[string]func(*config.Mail){
		"host and port":      func(m *config.Mail) { m.Server = "mail.saltmere.example" },
		"could be read":      func(m *config.Mail) { m.Server = "mail.saltmere.example:25" },
		"is no mail address": func(m *config.Mail) { m.From = "the gate" },
		"encryption":         func(m *config.Mail) { m.Encryption = "perhaps" },
	} {
		bad := in
		change(&bad.Mail)
		_, err = c.SetMail(ctx, bad)
		require.ErrorAs(t, err, &problem, words)
		assert.Contains(t, mustText(problem), words)
	}
	assert.Error(t, c.TestMail(ctx, "a@b.example\r\nBcc: c@d.example"))
	engineer, err := c.NewToken(ctx, api.NewToken{Name: "e", Role: "engineer", Days: 1})
	require.NoError(t, err)
	lower := client.New(w.URL, engineer.Secret)
	for _, err := range []error{lower.TestMail(ctx, "x@y.example"), second(lower.SetMail(ctx, in)), second(lower.MailSettings(ctx))} {
		require.ErrorAs(t, err, &problem)
		assert.Equal(t, http.StatusForbidden, problem.Status)
	}
	journal, err := c.Journal(ctx, client.Page{Limit: 20})
	require.NoError(t, err)
	assert.NotContains(t, mustText(journal), "harbour light")
}

func ptr[T any](v T) *T { return &v }

func second[T any](_ T, err error) error { return err }

func mustText(v any) string {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err)
	}
	return string(b)
}

// TestPagesSpeakTheBrowsersLanguage has pages answer in German where the browser asks for it, and in English otherwise.
func TestPagesSpeakTheBrowsersLanguage(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	for wish, says := range map[string][2]string{"de-CH,de;q=0.9,en;q=0.5": {"de", "Bei Cargo Ledger anmelden"},
		"en-GB,de;q=0.3": {"en", "Sign in to Cargo Ledger"}, "fr": {"en", "Sign in to Cargo Ledger"},
		"": {"en", "Sign in to Cargo Ledger"}, strings.Repeat("de,", 400): {"en", "Sign in to Cargo Ledger"}} {
		b := w.Walker()
		b.Language = wish
		require.NoError(t, b.Get(ctx, w.LedgerURL+"/sign-in"))
		require.NoError(t, b.Onward(ctx))
		assert.Contains(t, b.Text, says[1], wish)
		assert.Contains(t, b.Text, `<html lang="`+says[0]+`">`, wish)
		if says[0] == "de" {
			require.NoError(t, b.Submit(ctx, url.Values{"provider": {"harbour-register"}}))
			require.NoError(t, b.Onward(ctx))
			require.NoError(t, b.Submit(ctx, url.Values{"name": {"runa.holt"}, "password": {"falsch"}}))
			assert.Contains(t, b.Text, "Name oder Passwort ist falsch.")
			other := w.Walker()
			other.Language = wish
			require.NoError(t, other.Get(ctx, b.Address.String()))
			assert.Contains(t, other.Text, "Sie konnten bei Cargo Ledger nicht angemeldet werden")
			assert.Contains(t, other.Text, "anderen Browser")
		}
	}
}
