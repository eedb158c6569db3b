package server_test

import (
	"encoding/base64"
	"encoding/hex"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/jcmturner/gokrb5/v8/asn1tools"
	krbclient "github.com/jcmturner/gokrb5/v8/client"
	krbconfig "github.com/jcmturner/gokrb5/v8/config"
	"github.com/jcmturner/gokrb5/v8/spnego"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/client"
	"innergate/core/access"
	"innergate/core/config"
	"innergate/demo"
	"innergate/standin"
	"innergate/testbed"
)

const ticketed = "HTTP/localhost"

// quaysideDesk is a world whose Crew Rota is reached by a ticket, and by Saltmere Staff for whoever has none.
func quaysideDesk(t *testing.T, realm, keytab string) *demo.World {
	t.Helper()
	w := world(t)
	testbed.PierDesk(t, w, realm, keytab)
	return w
}

// simulated is a world with the simulated realm, and a browser at one of its machines.
func simulated(t *testing.T) (*demo.World, *standin.Quayside) {
	t.Helper()
	q := standin.NewQuayside("")
	keytab, err := q.Keytab(ticketed)
	require.NoError(t, err)
	return quaysideDesk(t, q.Realm, keytab), q
}

func atDesk(w *demo.World, q *standin.Quayside, person string) *demo.Walker {
	b := w.Walker()
	b.Ticket = func(service string) (string, error) { return q.Show(person, service) }
	return b
}

// TestPeopleSignInByTicket signs somebody in who holds a ticket, with nothing asked, and says how strong that was.
func TestPeopleSignInByTicket(t *testing.T) {
	t.Parallel()
	w, q := simulated(t)
	b := atDesk(w, q, "dpike")
	require.NoError(t, b.SignIn(t.Context(), w.RotaURL+"/sign-in", ""))
	assert.Equal(t, "dpike", b.Inner("nameid"), b.Text)
	x := newest(t, w)
	assert.Equal(t, "signed-in", x.Outcome)
	checks, said := map[string]bool{}, ""
	for _, e := range x.Entries {
		if e.Check != nil {
			checks[e.Check.Name] = e.Check.OK
		}
		if e.Message != nil {
			said += e.Message.Raw
		}
	}
	for _, name := range []string{"service", "encryption", "key", "ticket", "time", "authenticator", "checksum", "clock", "realm", "person",
		"replay"} {
		assert.True(t, checks["kerberos."+name], name)
	}
	assert.Contains(t, said, "urn:oasis:names:tc:SAML:2.0:ac:classes:Kerberos")
	// The same person again.
	b = atDesk(w, q, "dpike")
	require.NoError(t, b.SignIn(t.Context(), w.RotaURL+"/sign-in", ""))
	list, err := w.Client().People(t.Context(), client.Page{Search: "dpike"})
	require.NoError(t, err)
	assert.Len(t, list.Items, 1)
}

// TestNobodyOutsideIsAskedForATicket sees that a browser is asked only where a route leads there: by network, or by what it took the
// last time.
func TestNobodyOutsideIsAskedForATicket(t *testing.T) {
	t.Parallel()
	w, q := simulated(t)
	asked := 0
	begin := func(b *demo.Walker) *demo.Walker {
		show := b.Ticket
		b.Ticket = func(service string) (string, error) {
			asked++
			return show(service)
		}
		require.NoError(t, b.SignIn(t.Context(), w.RotaURL+"/sign-in", "mvoss"))
		return b
	}
	b := begin(atDesk(w, q, "dpike"))
	assert.Equal(t, 1, asked)
	testbed.PierNetwork(t, w, "192.0.2.0/24")
	before := asked
	assert.Equal(t, "mvoss", begin(atDesk(w, q, "dpike")).Inner("nameid"))
	_, err := w.Client().SetRoutes(t.Context(), access.Routes{Rules: []access.Route{}})
	require.NoError(t, err)
	assert.Equal(t, "mvoss", begin(atDesk(w, q, "dpike")).Inner("nameid"), "without a route")
	assert.Equal(t, before, asked)
	_, err = w.Client().SetRoutes(t.Context(), access.Routes{Rules: []access.Route{{
		If: access.RouteCondition{Last: []string{"pier-desk"}}, To: []string{"pier-desk"}},
	}})
	require.NoError(t, err)
	assert.Equal(t, "mvoss", begin(atDesk(w, q, "dpike")).Inner("nameid"), "a browser that never had success")
	assert.Equal(t, before, asked)
	require.NoError(t, b.Get(t.Context(), w.URL+"/sign-out"))
	require.NoError(t, b.Submit(t.Context(), nil))
	assert.Equal(t, "dpike", begin(b).Inner("nameid"), "the browser had success: %s", b.Text)
}

// TestWhoeverHasNoTicketGoesOn makes each mistake that browsers, machines and realms make. Nobody stands at the end of a road; the trace
// and the provider's page say what was wrong. In a rehearsal it is said at once.
func TestWhoeverHasNoTicketGoesOn(t *testing.T) {
	t.Parallel()
	w, q := simulated(t)
	for mistake, code := range map[string]string{
		"": "kerberos.no-ticket", standin.QuaysideNTLM: "kerberos.ntlm", standin.QuaysideClock: "kerberos.clock",
		standin.QuaysideOther: "kerberos.other-service", standin.QuaysideForeign: "kerberos.realm",
		standin.QuaysideMachine: "kerberos.no-person", standin.QuaysideRenewed: "kerberos.key-version",
	} {
		person := "dpike"
		if mistake == "" {
			person = ""
		}
		q.Make(mistake)
		b := atDesk(w, q, person)
		require.NoError(t, b.SignIn(t.Context(), w.RotaURL+"/sign-in", "mvoss"))
		assert.Equal(t, "mvoss", b.Inner("nameid"), "%s: %s", mistake, b.Text)
		said := ""
		for _, e := range newest(t, w).Entries {
			if d := e.Decision; d != nil && d.About == "ticket" {
				said = d.By
			}
		}
		assert.Contains(t, said, code+": ", mistake)
		q.Make(mistake)
		made, err := w.Client().NewRehearsal(t.Context(), api.NewRehearsal{Application: "crew-rota", Provider: "pier-desk", Flow: "sp"})
		require.NoError(t, err)
		b = atDesk(w, q, person)
		require.NoError(t, b.Rehearse(t.Context(), made.Link, ""))
		x := newest(t, w)
		assert.Equal(t, code, x.Code, mistake)
		assert.Equal(t, "refused", x.Outcome)
		q.Make("")
		if mistake == standin.QuaysideRenewed { // the next keytab counts beside the one that was
			fresh, err := q.Keytab(ticketed)
			require.NoError(t, err)
			_, err = w.Client().KeepSecret(t.Context(), "pier-desk", api.TheirSecret{Value: fresh})
			require.NoError(t, err)
			b = atDesk(w, q, "dpike")
			require.NoError(t, b.SignIn(t.Context(), w.RotaURL+"/sign-in", ""))
			assert.Equal(t, "dpike", b.Inner("nameid"), b.Text)
		}
	}
	p, err := w.Client().Provider(t.Context(), "pier-desk")
	require.NoError(t, err)
	found := false
	for _, f := range p.Findings {
		found = found || f.Code == "seen.ticket-refused"
	}
	assert.True(t, found, "%+v", p.Findings)
	require.Len(t, p.Secrets, 2)
	assert.Equal(t, ticketed, p.Secrets[0].Keytab[0].Service)
	assert.Equal(t, 1, p.Secrets[0].Keytab[0].Version)
	assert.Empty(t, p.Secrets[0].Hint)
}

// TestATicketIsTheOnlyWay explains it where there is no other.
func TestATicketIsTheOnlyWay(t *testing.T) {
	t.Parallel()
	w, q := simulated(t)
	c := w.Client()
	a, err := c.Application(t.Context(), "crew-rota")
	require.NoError(t, err)
	a.Providers = []string{"pier-desk"}
	_, err = c.PutApplication(t.Context(), a.Application, a.Revision)
	require.NoError(t, err)
	b := atDesk(w, q, "")
	require.NoError(t, b.SignIn(t.Context(), w.RotaURL+"/sign-in", ""))
	assert.Contains(t, b.Text, "Your computer did not say who you are")
	assert.Equal(t, "kerberos.no-ticket", newest(t, w).Code)
}

// TestTicketsCountOnce shows one ticket in several sign-ins, one after the other and all at one time: one of them comes in.
func TestTicketsCountOnce(t *testing.T) {
	t.Parallel()
	w, q := simulated(t)
	shown, err := q.Show("dpike", ticketed)
	require.NoError(t, err)
	var in atomic.Int32
	var wait sync.WaitGroup
	for range 8 {
		wait.Go(func() {
			b := w.Walker()
			b.Ticket = func(string) (string, error) { return shown, nil }
			if b.SignIn(t.Context(), w.RotaURL+"/sign-in", "") == nil && b.Inner("nameid") == "dpike" {
				in.Add(1)
			}
		})
	}
	wait.Wait()
	assert.EqualValues(t, 1, in.Load(), "at one time")
	b := w.Walker()
	b.Ticket = func(string) (string, error) { return shown, nil }
	require.NoError(t, b.SignIn(t.Context(), w.RotaURL+"/sign-in", ""))
	assert.Empty(t, b.Inner("nameid"))
	assert.Equal(t, "kerberos.replayed", newest(t, w).Code)
	// Without the sign-in that it was asked for in, a ticket is of no use.
	r, err := http.NewRequest(http.MethodGet, w.URL+"/sign-in/01HZZZZZZZZZZZZZZZZZZZZZZZ/ticket", nil)
	require.NoError(t, err)
	r.Header.Set("Authorization", "Negotiate "+shown)
	answer, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	answer.Body.Close()
	assert.Empty(t, answer.Header.Get("WWW-Authenticate"))
	assert.GreaterOrEqual(t, answer.StatusCode, 400)
}

// TestKeytabsAreLookedAt refuses keytabs of which nothing comes when they are entered, with the reason, and shows none of their keys.
func TestKeytabsAreLookedAt(t *testing.T) {
	t.Parallel()
	w, q := simulated(t)
	other, err := q.Keytab("HTTP/other.example")
	require.NoError(t, err)
	foreign := standin.NewQuayside("")
	foreign.Realm = "NORTHQUAY.EXAMPLE"
	foreignTab, err := foreign.Keytab(ticketed)
	require.NoError(t, err)
	for text, want := range map[string]string{
		"": "no keytab", "!": "of no use", "aGVsbG8=": "no keytab", other: "another service", foreignTab: "none of the realms",
		base64.StdEncoding.EncodeToString(make([]byte, 65<<10)): "more than 64 KiB",
	} {
		_, err := w.Client().KeepSecret(t.Context(), "pier-desk", api.TheirSecret{Value: text})
		require.Error(t, err)
		assert.Contains(t, err.Error(), want)
	}
}

// TestARealRealm signs in with tickets of MIT Kerberos, by curl and by the library, with a key version behind and with the right one.
func TestARealRealm(t *testing.T) {
	t.Parallel()
	k := testbed.NewKDC(t)
	old := k.Keytab(t, ticketed)
	w := quaysideDesk(t, testbed.Realm, base64.StdEncoding.EncodeToString(old))
	k.SignIn(t, "ada")
	body := curls(t, w, k)
	assert.Contains(t, body, "SAMLResponse", "curl was signed in")
	assert.Equal(t, "signed-in", newest(t, w).Outcome)

	cfg, err := krbconfig.Load(k.Config())
	require.NoError(t, err)
	person := krbclient.NewWithPassword("ada", testbed.Realm, testbed.KDCPassword, cfg, krbclient.DisablePAFXFAST(true))
	require.NoError(t, person.Login())
	show := func(service string) (string, error) { return tokenOf(person, service) }
	b := w.Walker()
	b.Ticket = show
	require.NoError(t, b.SignIn(t.Context(), w.RotaURL+"/sign-in", ""))
	assert.Equal(t, "ada", b.Inner("nameid"), b.Text)

	fresh := k.Keytab(t, ticketed) // the keytab that the gate has is now one version behind
	person = krbclient.NewWithPassword("ada", testbed.Realm, testbed.KDCPassword, cfg, krbclient.DisablePAFXFAST(true))
	require.NoError(t, person.Login())
	b = w.Walker()
	b.Ticket = show
	require.NoError(t, b.SignIn(t.Context(), w.RotaURL+"/sign-in", "mvoss"))
	assert.Equal(t, "mvoss", b.Inner("nameid"), "by another way: %s", b.Text)
	said := false
	for _, e := range newest(t, w).Entries {
		said = said || e.Decision != nil && strings.HasPrefix(e.Decision.By, "kerberos.key-version: ")
	}
	assert.True(t, said)
	_, err = w.Client().KeepSecret(t.Context(), "pier-desk", api.TheirSecret{Value: base64.StdEncoding.EncodeToString(fresh)})
	require.NoError(t, err)
	b = w.Walker()
	b.Ticket = show
	require.NoError(t, b.SignIn(t.Context(), w.RotaURL+"/sign-in", ""))
	assert.Equal(t, "ada", b.Inner("nameid"), b.Text)
}

// curls has curl show the ticket at the gate's address, in a sign-in that a browser began.
func curls(t *testing.T, w *demo.World, k *testbed.KDC) string {
	t.Helper()
	b := w.Walker()
	require.NoError(t, b.Get(t.Context(), w.RotaURL+"/sign-in"))
	require.Equal(t, http.StatusUnauthorized, b.Status)
	at, err := url.Parse(b.Address.String())
	require.NoError(t, err)
	var cookies []string
	for _, c := range b.HTTP.Jar.Cookies(at) {
		cookies = append(cookies, c.Name+"="+c.Value)
	}
	heads := filepath.Join(t.TempDir(), "heads")
	c := exec.Command("curl", "-s", "--negotiate", "-u", ":", "-D", heads, "-b", strings.Join(cookies, "; "), b.Address.String())
	c.Env = k.Env
	out, err := c.CombinedOutput()
	require.NoError(t, err, string(out))
	said, err := os.ReadFile(heads)
	require.NoError(t, err)
	assert.Regexp(t, `Www-Authenticate: Negotiate o[A-Za-z0-9+/=]{100,}`, string(said), "the gate proved who it is")
	return string(out)
}

// tokenOf is what somebody shows to a service, by the library's own client.
func tokenOf(person *krbclient.Client, service string) (string, error) {
	ticket, key, err := person.GetServiceTicket(service)
	if err != nil {
		return "", err
	}
	token, err := spnego.NewNegTokenInitKRB5(person, ticket, key)
	if err != nil {
		return "", err
	}
	octets, err := token.Marshal()
	if err != nil {
		return "", err
	}
	oid, err := hex.DecodeString("06062b0601050502")
	return base64.StdEncoding.EncodeToString(asn1tools.AddASNAppTag(append(oid, octets...), 0)), err
}

// TestARealmsNameIsEnoughToBegin takes a realm's name, the configuration of its machines, or a keytab, and writes the sheet for its
// administrator.
func TestARealmsNameIsEnoughToBegin(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	c := w.Client()
	q := standin.NewQuayside("")
	keytab, err := q.Keytab(ticketed)
	require.NoError(t, err)
	for text, realm := range map[string]string{
		"SALTMERE.EXAMPLE": "SALTMERE.EXAMPLE", "[libdefaults]\n default_realm = SALTMERE.EXAMPLE\n": "SALTMERE.EXAMPLE",
		keytab: "QUAYSIDE.EXAMPLE",
	} {
		u, err := c.Understand(ctx, "provider", "", api.TakeIn{Text: text})
		require.NoError(t, err, text)
		require.NotNil(t, u.Provider, text)
		assert.Equal(t, config.KindKerberos, u.Provider.Kind)
		assert.Equal(t, []string{realm}, u.Provider.Kerberos.Realms)
		assert.NotEmpty(t, u.Provider.Mapping)
	}
	_, err = c.Understand(ctx, "provider", "quayside-desk", api.TakeIn{Text: "nothing of the kind"})
	require.ErrorContains(t, err, "neither a realm")
	other, err := q.Keytab("HTTP/other.example")
	require.NoError(t, err)
	_, err = c.Understand(ctx, "provider", "quayside-desk", api.TakeIn{Text: other})
	require.ErrorContains(t, err, "another service")
	sheet, err := c.Exchange(ctx, "providers", "quayside-desk")
	require.NoError(t, err)
	for _, said := range []string{"HTTP/localhost@QUAYSIDE.EXAMPLE", "ktadd -k gate.keytab", "setspn -Q HTTP/localhost",
		"AuthServerAllowlist"} {
		assert.Contains(t, sheet.Markdown, said)
	}
}
