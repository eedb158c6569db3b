package server_test

import (
	"io"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/server"
)

// What an open address is for decides who may bring somebody there.
const (
	reads   = "reads"   // nothing is changed by it
	partner = "partner" // a partner's or another site's page sends browsers there; the message itself is checked
	back    = "back"    // a program calls it, and proves who it is; cookies don't count
	ours    = "ours"    // only our own pages send there
)

// open is every address that the service answers to anybody. A new one is entered here, and held to what it is for.
var open = map[string]string{
	"GET /":                                 reads,
	"GET /healthz":                          reads,
	"GET /readyz":                           reads,
	"GET /config.schema.json":               reads,
	"GET /about/privacy":                    reads,
	"GET /about/terms":                      reads,
	"GET /console":                          reads,
	"GET /.well-known/openid-configuration": reads,
	"GET /.well-known/oauth-authorization-server": reads,
	"GET /oidc/keys":                               reads,
	"GET /oidc/callback/:provider/keys":            reads,
	"GET /saml/idp/metadata":                       reads,
	"GET /saml/idp/:application/metadata":          reads,
	"GET /saml/sp/:provider/metadata":              reads,
	"GET /saml/sp/:provider/acs":                   reads,
	"GET /own/:token":                              reads,
	"GET /sign-in/:id/own":                         reads,
	"GET /sign-in/:id/entry":                       reads,
	"GET /sign-in/:id/ticket":                      partner,
	"GET /sign-in/:id/ticket/none":                 partner,
	"GET /account":                                 reads,
	"GET /device":                                  reads,
	"GET /handover/:token":                         reads,
	"GET /handover/:token/certificate/:file":       reads,
	"GET /side-by-side/:token":                     reads,
	"GET /side-by-side":                            reads,
	"GET /rehearse/:token":                         reads,
	"GET /sign-out":                                reads,
	"GET /sign-out/guard/:ticket":                  partner,
	"GET /guard/:application/enter":                partner,
	"GET /start/:application":                      partner,
	"GET /saml/idp/sso":                            partner,
	"GET /saml/idp/slo":                            partner,
	"POST /saml/idp/sso/here":                      partner,
	"POST /saml/idp/slo/here":                      partner,
	"GET /saml/idp/:application/sso":               partner,
	"GET /saml/idp/:application/slo":               partner,
	"POST /saml/idp/:application/sso/here":         partner,
	"POST /saml/idp/:application/slo/here":         partner,
	"POST /saml/sp/:provider/acs/here":             partner,
	"GET /saml/sp/:provider/slo":                   partner,
	"POST /saml/sp/:provider/slo/here":             partner,
	"GET /oidc/authorize":                          partner,
	"POST /oidc/authorize/here":                    partner,
	"GET /oidc/logout":                             partner,
	"GET /oidc/callback/:provider":                 partner,
	"POST /oidc/callback/:provider/here":           partner,
	"GET /oidc/callback/:provider/signed-out":      partner,
	"POST /saml/idp/sso":                           partner,
	"POST /saml/idp/slo":                           partner,
	"POST /saml/idp/:application/sso":              partner,
	"POST /saml/idp/:application/slo":              partner,
	"POST /saml/sp/:provider/acs":                  partner,
	"POST /saml/sp/:provider/slo":                  partner,
	"POST /oidc/authorize":                         partner,
	"POST /oidc/logout":                            partner,
	"POST /oidc/callback/:provider":                partner,
	"GET /oidc/userinfo":                           back,
	"POST /oidc/userinfo":                          back,
	"OPTIONS /oidc/userinfo":                       back,
	"OPTIONS /oidc/token":                          back,
	"OPTIONS /oidc/revoke":                         back,
	"POST /oidc/token":                             back,
	"POST /oidc/par":                               back,
	"POST /oidc/introspect":                        back,
	"POST /oidc/revoke":                            back,
	"POST /oidc/device":                            back,
	"POST /oidc/register":                          back,
	"POST /oidc/callback/:provider/logout":         back,
	"POST /saml/idp/artifact":                      back,
	"GET /scim/v2/:provider/ServiceProviderConfig": back,
	"GET /scim/v2/:provider/ResourceTypes":         back,
	"GET /scim/v2/:provider/ResourceTypes/:id":     back,
	"GET /scim/v2/:provider/Schemas":               back,
	"GET /scim/v2/:provider/Schemas/:id":           back,
	"GET /scim/v2/:provider/Users":                 back,
	"GET /scim/v2/:provider/Groups":                back,
	"GET /scim/v2/:provider/Users/:id":             back,
	"GET /scim/v2/:provider/Groups/:id":            back,
	"GET /scim/v2/:provider/*":                     back,
	"POST /scim/v2/:provider/Users":                back,
	"POST /scim/v2/:provider/Groups":               back,
	"POST /scim/v2/:provider/*":                    back,
	"PUT /scim/v2/:provider/Users/:id":             back,
	"PUT /scim/v2/:provider/Groups/:id":            back,
	"PUT /scim/v2/:provider/*":                     back,
	"PATCH /scim/v2/:provider/Users/:id":           back,
	"PATCH /scim/v2/:provider/Groups/:id":          back,
	"PATCH /scim/v2/:provider/*":                   back,
	"DELETE /scim/v2/:provider/Users/:id":          back,
	"DELETE /scim/v2/:provider/Groups/:id":         back,
	"DELETE /scim/v2/:provider/*":                  back,
	"POST /sign-out":                               ours,
	"POST /rehearse/:token":                        ours,
	"POST /sign-in/:id/name":                       ours,
	"POST /sign-in/:id/choose":                     ours,
	"POST /sign-in/:id/own":                        ours,
	"POST /sign-in/:id/entry":                      ours,
	"POST /sign-in/:id/profile":                    ours,
	"POST /sign-in/:id/confirm":                    ours,
	"POST /own/:token":                             ours,
	"POST /tiles":                                  ours,
	"POST /account/credentials":                    ours,
	"POST /account/sessions":                       ours,
	"POST /account/password":                       ours,
	"POST /handover/:token":                        ours,
	"POST /handover/:token/compare":                ours,
	"POST /handover/:token/leave":                  ours,
	"POST /handover/:token/try":                    ours,
	"POST /side-by-side/:token":                    ours,
	"POST /oidc/logout/agreed":                     ours,
	"POST /device":                                 ours,
	"POST /console-sign-in/:provider":              ours,
}

// TestOpenAddresses holds every address that is open to anybody to what it is for: no other site's page gets anything done at
// those of our own pages, nothing that is sent to any of them is an error of ours, what is too large is not taken, and nobody
// gets a cookie by what is not understood.
func TestOpenAddresses(t *testing.T) {
	t.Parallel()
	w := world(t)
	assert.ElementsMatch(t, slices.Collect(maps.Keys(open)), server.New(w.Gate, server.Options{}).OpenRoutes())
	c := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	call := func(method, address, kind, body string, headers ...string) (*http.Response, string) {
		r, err := http.NewRequest(method, address, strings.NewReader(body))
		require.NoError(t, err)
		if kind != "" {
			r.Header.Set("Content-Type", kind)
		}
		for i := 0; i+1 < len(headers); i += 2 {
			r.Header.Set(headers[i], headers[i+1])
		}
		a, err := c.Do(r)
		require.NoError(t, err, "%s %.100s", method, address)
		text, err := io.ReadAll(a.Body)
		require.NoError(t, err)
		require.NoError(t, a.Body.Close())
		return a, string(text)
	}
	const form = "application/x-www-form-urlencoded"
	large := "SAMLResponse=" + strings.Repeat("A", 5<<20)
	for entry, use := range open {
		method, path, _ := strings.Cut(entry, " ")
		address := w.URL + strings.NewReplacer(":application", "crew-rota", ":provider", "saltmere-staff", ":token", "nobody",
			":ticket", "nothing", ":id", "nobody", ":file", "x.pem").Replace(path)
		if use == ours {
			for _, from := range [][]string{{"Sec-Fetch-Site", "cross-site"}, {"Sec-Fetch-Site", "same-site"},
				{"Origin", "https://elsewhere.example"}} {
				a, _ := call(method, address, form, "code=x&answer=yes", from...)
				assert.Equal(t, http.StatusForbidden, a.StatusCode, "%s with %v", entry, from)
			}
		}
		for _, junk := range []string{"", "\x00\xff%zz&=&;", "SAMLResponse=%%%&RelayState=%00", "SAMLRequest=PHg+&SAMLRequest=PHg+",
			"code=x&state=y&client_id=crew-rota&client_id=z",
			`{"redirect_uris":[null]}`, "<x:y", url.Values{"name": {strings.Repeat("é", 9000)}}.Encode()} {
			for _, kind := range []string{form, "text/xml", "application/json", "multipart/form-data; boundary=x"} {
				at := address
				if method == http.MethodGet {
					escaped := url.PathEscape(junk) // beyond what a head may have, the connection may be closed upon us
					at += "?" + escaped[:min(len(escaped), 6<<10)]
				}
				a, text := call(method, at, kind, map[bool]string{true: junk}[method == http.MethodPost])
				fault := strings.Contains(text, "Fault>") // SOAP 1.1, section 6.2, gives every fault the status 500
				assert.True(t, a.StatusCode < 500 || fault, "%s with %q as %s: %d %s", entry, junk, kind, a.StatusCode, text)
				for _, set := range a.Cookies() {
					assert.NotContains(t, set.Name, "session", "%s with %q as %s", entry, junk, kind)
				}
			}
		}
		if method == http.MethodPost {
			r, err := http.NewRequest(method, address, strings.NewReader(large))
			require.NoError(t, err)
			r.Header.Set("Content-Type", form)
			r.Close = true
			if a, err := c.Do(r); err == nil { // or the connection was closed upon it
				assert.Equal(t, http.StatusRequestEntityTooLarge, a.StatusCode, entry)
				a.Body.Close()
			}
		}
	}
}
