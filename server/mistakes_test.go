package server_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/client"
	"innergate/core/access"
	"innergate/core/config"
	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/demo"
)

// mistake is one that somebody makes: in the configuration, which a finding shows beforehand, or at a sign-in, which
// the trace explains.
type mistake struct {
	name string
	make func(t *testing.T, w *demo.World)
	// sign signs somebody in afterwards; nil where nobody has to.
	sign func(t *testing.T, w *demo.World) *demo.Walker
	// code is what the trace must say, evidence what must stand in its explanation.
	code, evidence string
	// finding is what the checkup must find, in the configuration alone.
	finding string
}

func rota(user string) func(*testing.T, *demo.World) *demo.Walker {
	return func(t *testing.T, w *demo.World) *demo.Walker {
		b := w.Walker()
		_ = b.SignIn(t.Context(), w.RotaURL+"/sign-in", user) // it may end anywhere
		return b
	}
}

func ledger(provider, user string) func(*testing.T, *demo.World) *demo.Walker {
	return func(t *testing.T, w *demo.World) *demo.Walker { _, b := through(t, w, provider, user); return b }
}

func app(f func(*config.Application)) func(*testing.T, *demo.World) {
	return func(t *testing.T, w *demo.World) { change(t, w, f) }
}

func staff(f func(*config.Provider)) func(*testing.T, *demo.World) {
	return func(t *testing.T, w *demo.World) { changeProvider(t, w, f) }
}

func north(f func(*config.Provider)) func(*testing.T, *demo.World) {
	return func(t *testing.T, w *demo.World) { set(t, w, "northquay-stevedores", f) }
}

func makes(name string) func(*testing.T, *demo.World) {
	return func(_ *testing.T, w *demo.World) { w.Staff.SetMistake(name) }
}

func northMakes(name string) func(*testing.T, *demo.World) {
	return func(_ *testing.T, w *demo.World) { w.Northquay.SetMistake(name) }
}

func acs(from, to string) func(*testing.T, *demo.World) {
	return app(func(a *config.Application) {
		a.SAML.ACS[0].Location = strings.Replace(a.SAML.ACS[0].Location, from, to, 1)
		a.SAML.Metadata = nil
	})
}

// mistakes follow the list of what once cost somebody an afternoon. Shapes of documents, pasted values, lost sessions
// and doubled people have tests of their own: TestCorpus, TestTakeTheirs, TestOffers, TestAnswerBelongsToItsBrowser and
// TestMatchingNeverGuesses.
var mistakes = []mistake{
	{"ACS URL with a slash too many", acs("/acs", "/acs/"), rota("mvoss"), "saml.acs-unregistered", "/acs/", ""},
	{"ACS URL with https", acs("http://", "https://"), rota("mvoss"), "saml.acs-unregistered", "https://", ""},
	{"ACS URL with another port", acs("127.0.0.1:", "127.0.0.1:1"), rota("mvoss"), "saml.acs-unregistered", "127.0.0.1:1", ""},
	{"ACS URL in capitals", acs("/acs", "/ACS"), rota("mvoss"), "saml.acs-unregistered", "/ACS", ""},
	{
		"another entity ID",
		app(func(a *config.Application) { a.SAML.EntityID += "/sp" }),
		rota("mvoss"),
		"saml.application-unknown",
		"/saml",
		"",
	},
	{"our entity ID for theirs", func(t *testing.T, w *demo.World) {
		change(t, w, func(a *config.Application) { a.SAML.EntityID = w.URL + "/saml/idp" })
	}, nil, "", "", "application.our-entity-id"},
	{"our entity ID for the provider's", func(t *testing.T, w *demo.World) {
		changeProvider(t, w, func(p *config.Provider) { p.SAML.EntityID = w.URL + "/saml/sp" })
	}, nil, "", "", "provider.our-entity-id"},
	{"the other side entered another audience", makes("audience"), rota("mvoss"), "saml.audience-mismatch", "/metadata", ""},
	{"signed by another certificate", makes("wrong-key"), rota("mvoss"), "saml.signature-wrong-key", "", ""},
	{"another NameID format", makes("nameid-format"), rota("mvoss"), "saml.nameid-format", "unspecified", ""},
	{"NameID empty", makes("no-nameid"), rota("mvoss"), "saml.nameid-missing", "", ""},
	{
		"identifier expected in an attribute",
		staff(func(p *config.Provider) { p.SAML.SubjectFrom = "employeeNumber" }),
		rota("mvoss"),
		"map.required-missing",
		"employeeNumber",
		"",
	},
	{
		"expired client secret",
		northMakes("client-expired"),
		ledger("northquay-stevedores", "lene.aas"),
		"oidc.client-secret-expired",
		"",
		"",
	},
	{"client limited to testers", northMakes("client-testers"), ledger("northquay-stevedores", "lene.aas"), "oidc.client-inactive", "", ""},
	{"consent refused", northMakes("denied"), ledger("northquay-stevedores", "lene.aas"), "oidc.denied", "access_denied", ""},
	{"redirect URI not registered here", func(t *testing.T, w *demo.World) {
		held, err := w.Client().Application(t.Context(), "cargo-ledger")
		require.NoError(t, err)
		a := held.Application
		a.OIDC.RedirectURIs[0] += "/"
		_, err = w.Client().PutApplication(t.Context(), a, 0)
		require.NoError(t, err)
	}, ledger("saltmere-staff", "mvoss"), "oidc.redirect-unregistered", "/answer/", ""},
	{"a mandatory claim does not come", makes("no-attributes"), rota("mvoss"), "map.required-missing", "preferred_username", ""},
	{
		"no mail, because its scope is not asked for",
		north(func(p *config.Provider) { p.OIDC.Scopes = []string{"openid", "profile"} }),
		nil,
		"",
		"",
		"scope.not-asked",
	},
	{
		"not assigned",
		app(func(a *config.Application) { a.Access = access.Policy{To: access.Assigned} }),
		rota("mvoss"),
		"access.not-assigned",
		"Mira Voss",
		"access.nobody-assigned",
	},
	{
		"application still a draft",
		app(func(a *config.Application) { a.Reach = access.Draft }),
		rota("mvoss"),
		"reach.application-draft",
		"",
		"",
	},
	{
		"provider still a draft",
		staff(func(p *config.Provider) { p.Reach = access.Draft }),
		rota("mvoss"),
		"reach.provider-draft",
		"",
		"provider.draft",
	},
	{"a clock an hour behind", makes("expired"), rota("mvoss"), "saml.expired", "", ""},
	{"a clock an hour ahead", makes("early"), rota("mvoss"), "saml.not-yet-valid", "", ""},
	{
		"unsolicited where it is not allowed",
		staff(func(p *config.Provider) { p.SAML.AllowUnsolicited = false }),
		func(t *testing.T, w *demo.World) *demo.Walker {
			b := w.Walker()
			require.NoError(
				t,
				b.Post(
					t.Context(),
					w.StaffURL+"/start",
					map[string][]string{"person": {"mvoss"}, "application": {w.URL + "/start/crew-rota"}},
				),
			)
			require.NoError(t, b.Onward(t.Context()))
			return b
		},
		"saml.unsolicited",
		"",
		"",
	},
	{"nobody matches", staff(func(p *config.Provider) { p.Admission = "refuse" }), rota("mvoss"), "match.stranger", "mvoss", ""},
	{"nothing signed", makes("unsigned"), rota("mvoss"), "saml.signature-missing", "", ""},
	{"the response signed, the assertion wanted", func(t *testing.T, w *demo.World) {
		changeProvider(t, w, func(p *config.Provider) { p.SAML.WantAssertionSigned = true })
		w.Staff.SetMistake("response-only")
	}, rota("mvoss"), "saml.signature-on-response-only", "", ""},
	{"SHA-1 allowed", staff(func(p *config.Provider) { p.SAML.AllowSHA1 = true }), nil, "", "", "option.sha1"},
	{"no such key in the key set", northMakes("wrong-key"), ledger("northquay-stevedores", "lene.aas"), "jwt.signature", "", ""},
	{"another algorithm", northMakes("unsigned"), ledger("northquay-stevedores", "lene.aas"), "jwt.algorithm", "none", ""},
	{"first sign-in without a name", staff(func(p *config.Provider) { p.Mapping = p.Mapping[:2] }), nil, "", "", "mapping.no-name"},
	{
		"first sign-in without a mail address",
		staff(func(p *config.Provider) { p.Mapping = append(p.Mapping[:1], p.Mapping[2:]...) }),
		nil,
		"",
		"",
		"mapping.no-mail",
	},
	{
		"first sign-in without a group",
		staff(func(p *config.Provider) { p.Grants, p.Mapping = nil, p.Mapping[:5] }),
		nil,
		"",
		"",
		"mapping.no-group",
	},
	{"a deep link of somebody else", func(*testing.T, *demo.World) {}, func(t *testing.T, w *demo.World) *demo.Walker {
		b := w.Walker()
		require.NoError(t, b.Get(t.Context(), w.URL+"/start/crew-rota?to=https://evil.example/"))
		return b
	}, "relay.refused", "https://evil.example/", ""},
	{"RelayState too long", func(*testing.T, *demo.World) {}, func(t *testing.T, w *demo.World) *demo.Walker {
		b := w.Walker()
		require.NoError(t, b.Get(t.Context(), w.RotaURL+"/sign-in?to="+strings.Repeat("x", 5000)))
		return b
	}, "relay.too-long", "4096", ""},
	{"NoAuthnContext", makes("no-context"), rota("mvoss"), "saml.status-no-context", "", ""},
	{"InvalidNameIDPolicy", makes("nameid-policy"), rota("mvoss"), "saml.status-nameid-policy", "persistent", ""},
	{"RequestDenied", makes("denied"), rota("mvoss"), "saml.status-denied", "", ""},
	{"our public URL changed", func(t *testing.T, w *demo.World) {
		require.NoError(t, w.Client().NoteSheet(t.Context(), "applications", "crew-rota"))
		was := w.Gate.PublicURL
		w.Gate.PublicURL = "http://gate.elsewhere.example"
		t.Cleanup(func() { w.Gate.PublicURL = was })
	}, nil, "", "http://gate.elsewhere.example", "handed-out.stale"},
	{"a plain sign-out address for the SLO address", func(t *testing.T, w *demo.World) {
		changeProvider(t, w, func(p *config.Provider) { p.SAML.SignOutURL = w.StaffURL + "/slo" })
	}, nil, "", "/slo", "logout.other-kind"},
	{
		"the end session endpoint for the plain address",
		north(func(p *config.Provider) { p.OIDC.SignOutURL = p.OIDC.EndSessionEndpoint }),
		nil,
		"",
		"/logout",
		"logout.other-kind",
	},
	{"a private window that was none", makes("old-session"), func(t *testing.T, w *demo.World) *demo.Walker {
		r, err := w.Client().NewRehearsal(t.Context(), api.NewRehearsal{Application: "crew-rota", Flow: "sp"})
		require.NoError(t, err)
		b := w.Walker()
		require.NoError(t, b.Rehearse(t.Context(), r.Link, "mvoss"))
		return b
	}, "saml.authn-old", "", ""},
	{"a certificate that ends soon", func(t *testing.T, w *demo.World) {
		cert := endingIn(t, 6*24*time.Hour)
		changeProvider(t, w, func(p *config.Provider) { p.SAML.Certificates = []config.Certificate{{PEM: cert}} })
	}, rota("mvoss"), "saml.signature-wrong-key", "", "certificate.ends-soon"},
	{"a certificate that has ended, where dates count", func(t *testing.T, w *demo.World) {
		cert := endingIn(t, -24*time.Hour)
		changeProvider(t, w, func(p *config.Provider) {
			p.SAML.Certificates, p.SAML.EnforceCertificateDates = append(p.SAML.Certificates, config.Certificate{PEM: cert}), true
		})
	}, nil, "", "", "certificate.expired"},
	{
		"NameID promises a mail address",
		app(func(a *config.Application) { a.Subject.Format = saml.FormatEmail }),
		nil,
		"",
		"",
		"subject.not-a-mail",
	},
}

// TestEveryMistakeExplainsItself makes each of them for real. The trace names the cause with its evidence, remedy and
// who must act; the person gets plain words, a reference number and no evidence; a finding stands where the
// configuration shows it.
func TestEveryMistakeExplainsItself(t *testing.T) {
	t.Parallel()
	for _, m := range mistakes {
		t.Run(m.name, func(t *testing.T) {
			t.Parallel()
			w := world(t)
			m.make(t, w)
			if m.finding != "" {
				_, err := w.Client().Checkup(t.Context())
				require.NoError(t, err)
				f := found(t, w, m.finding, true)
				assert.NotEmpty(t, f.Title)
				assert.NotEmpty(t, f.Detail+f.Remedy)
				if m.code == "" {
					assert.Contains(t, mustText(f), m.evidence)
				}
			}
			if m.sign == nil {
				return
			}
			b := m.sign(t, w)
			x := refusedTrace(t, w, m.code)
			require.NotNil(t, x.Explanation)
			assert.Contains(t, mustText(x.Explanation), m.evidence)
			assert.NotEmpty(t, x.Explanation.Remedy)
			assert.NotEmpty(t, x.Explanation.Side)
			assert.NotContains(t, x.Explanation.Cause+x.Explanation.Remedy, "{")
			if strings.Contains(b.Text, "Inner Gate") {
				assert.Contains(t, b.Text, x.Reference)
				assert.NotContains(t, b.Text, "SHA-256")
			}
		})
	}
}

// refusedTrace is the newest trace that was refused with this code.
func refusedTrace(t *testing.T, w *demo.World, code string) *api.Trace {
	t.Helper()
	list, err := w.Client().Traces(t.Context(), client.Page{Limit: 10})
	require.NoError(t, err)
	var codes []string
	for _, x := range list.Items {
		if codes = append(codes, x.Code); x.Code == code {
			full, err := w.Client().Trace(t.Context(), x.Reference)
			require.NoError(t, err)
			return full
		}
	}
	require.Contains(t, codes, code)
	return nil
}

// endingIn is a certificate of a new key that ends in some time, or ended some time ago.
func endingIn(t *testing.T, life time.Duration) string {
	t.Helper()
	key, err := keys.Generate(keys.P256)
	require.NoError(t, err)
	der, err := keys.SelfSigned(key, "Saltmere Staff", time.Now().Add(-400*24*time.Hour), 400*24*time.Hour+life)
	require.NoError(t, err)
	return string(keys.EncodeCertificate(der))
}
