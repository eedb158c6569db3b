package server_test

import (
	"encoding/base64"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/client"
	"innergate/core/access"
	"innergate/core/config"
	"innergate/core/explain"
)

// TestResponsesAreJudgedWithoutABrowser replays a refused response against what is set since, and judges pasted ones at
// chosen times, by what is open and by a draft.
func TestResponsesAreJudgedWithoutABrowser(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	c := w.Client()
	held, err := c.Provider(ctx, "saltmere-staff")
	require.NoError(t, err)
	right := held.Provider
	wrong := held.Provider
	saml := *wrong.SAML
	saml.EntityID = "https://another.saltmere.example/idp"
	wrong.SAML = &saml
	_, code := signsIn(t, w, "mvoss")
	require.Empty(t, code)
	good := newestReference(t, w)

	// The good one again, by what is set: it would go well, and would send the same; nobody is touched, and nothing is
	// used up.
	r, err := c.Judge(ctx, api.Judge{Trace: good})
	require.NoError(t, err)
	assert.True(t, r.Good, mustText(r.Explanation))
	assert.Equal(t, "saltmere-staff", r.Provider)
	assert.Greater(t, len(r.Entries), 8)
	require.NotNil(t, r.Then)
	assert.Contains(t, r.Then.Sent, "mira.voss@saltmere.example")
	again, err := c.Judge(ctx, api.Judge{Trace: good})
	require.NoError(t, err)
	assert.True(t, again.Good, "judging uses nothing up")

	// By a draft with a wrong value it would be refused, and the difference is shown.
	r, err = c.Judge(ctx, api.Judge{Trace: good, DraftProvider: &wrong})
	require.NoError(t, err)
	require.NotNil(t, r.Explanation)
	assert.False(t, r.Good)
	assert.Equal(t, explain.SAMLProviderUnknown, r.Explanation.Code)
	assert.Contains(t, mustText(r.Explanation), "https://another.saltmere.example/idp")

	// And the reverse: refused by what was set then, it would go well now.
	_, err = c.PutProvider(ctx, wrong, 0)
	require.NoError(t, err)
	r, err = c.Judge(ctx, api.Judge{Trace: good})
	require.NoError(t, err)
	assert.False(t, r.Good)
	_, err = c.PutProvider(ctx, right, 0)
	require.NoError(t, err)
	r, err = c.Judge(ctx, api.Judge{Trace: good})
	require.NoError(t, err)
	assert.True(t, r.Good)

	// Access counts as well.
	_, err = c.SetAccess(
		ctx,
		"crew-rota",
		access.Policy{To: access.Everybody, Rules: []access.Rule{{Name: "closed for now", Then: access.Refuse}}},
	)
	require.NoError(t, err)
	r, err = c.Judge(ctx, api.Judge{Trace: good})
	require.NoError(t, err)
	require.NotNil(t, r.Explanation)
	assert.Equal(t, explain.AccessRefused, r.Explanation.Code)
	assert.Contains(t, mustText(r.Explanation), "closed for now")
	_, err = c.SetAccess(ctx, "crew-rota", access.Policy{To: access.Everybody})
	require.NoError(t, err)

	// Pasted, in each form, at its time and an hour later.
	full, err := c.Trace(ctx, good)
	require.NoError(t, err)
	var raw string
	var at time.Time
	row, err := w.Gate.Rehearsal.Judge(ctx, api.Judge{Trace: good})
	require.NoError(t, err)
	at = row.At
	raw = w.Staff.Sent()
	require.NotEmpty(t, raw, "the stand-in tells what it sent last: %s", full.Reference)
	for what, message := range map[string]string{"XML": raw, "base64": base64.StdEncoding.EncodeToString([]byte(raw)),
		"a form": "RelayState=x&SAMLResponse=" + url.QueryEscape(base64.StdEncoding.EncodeToString([]byte(raw))) + "&more=y"} {
		r, err = c.Judge(ctx, api.Judge{Message: message, At: &at, Application: "crew-rota"})
		require.NoError(t, err, what)
		assert.True(t, r.Good, "%s: %s", what, mustText(r.Explanation))
	}
	later := at.Add(time.Hour)
	r, err = c.Judge(ctx, api.Judge{Message: raw, At: &later})
	require.NoError(t, err)
	assert.Equal(t, explain.SAMLExpired, r.Explanation.Code)
	r, err = c.Judge(ctx, api.Judge{Message: strings.Replace(raw, "Voss", "Boss", 1), At: &at})
	require.NoError(t, err)
	assert.Contains(t, r.Explanation.Code, "signature", "one letter was changed")
	r, err = c.Judge(ctx, api.Judge{Message: "<x/>"})
	require.NoError(t, err)
	assert.Equal(t, explain.SAMLNotAResponse, r.Explanation.Code)

	for code, q := range map[string]api.Judge{"not-decodable": {Message: "no message!"},
		"provider-unknown": {Message: strings.ReplaceAll(raw, w.Staff.EntityID(), "urn:somebody")},
		"not-saml":         {Message: raw, Provider: "northquay-stevedores"}, "not-found": {Trace: "ABCD-EFGH"}} {
		_, err := c.Judge(ctx, q)
		refused(t, err, code, "")
	}
	viewer, err := c.NewToken(ctx, api.NewToken{Name: "v", Role: "viewer", Days: 1})
	require.NoError(t, err)
	_, err = client.New(w.URL, viewer.Secret).Judge(ctx, api.Judge{Trace: good})
	refused(t, err, "role", "engineer")
}

// TestRequestsAndTokensAreJudged pastes what the other messages of a sign-in look like.
func TestRequestsAndTokensAreJudged(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	c := w.Client()
	judge := func(q api.Judge) *api.Judged {
		t.Helper()
		r, err := c.Judge(ctx, q)
		require.NoError(t, err)
		return r
	}
	// An application's request, as it stands in a browser's address line, now and an hour later.
	follow := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	answer, err := follow.Get(w.RotaURL + "/sign-in")
	require.NoError(t, err)
	answer.Body.Close()
	asked := answer.Header.Get("Location")
	r := judge(api.Judge{Message: asked})
	assert.Equal(t, []any{"AuthnRequest", true, "crew-rota"}, []any{r.Kind, r.Good, r.Application}, mustText(r.Explanation))
	later := time.Now().Add(time.Hour)
	assert.Equal(t, explain.SAMLRequestOld, judge(api.Judge{Message: asked, At: &later}).Explanation.Code)
	change(t, w, func(a *config.Application) { a.SAML.ACS[0].Location += "/" })
	assert.Equal(t, explain.SAMLACSUnregistered, judge(api.Judge{Message: asked}).Explanation.Code)
	assert.Contains(
		t, judge(api.Judge{Message: strings.Replace(asked, "SigAlg=", "RelayState=x&SigAlg=", 1)}).Explanation.Code,
		"saml.query-signature", "something was added to what was signed",
	)

	// A client's.
	address, err := w.Ledger.Request()
	require.NoError(t, err)
	r = judge(api.Judge{Message: address})
	assert.Equal(t, []any{"authentication request", true, "cargo-ledger"}, []any{r.Kind, r.Good, r.Application}, mustText(r.Explanation))
	assert.Equal(
		t, explain.OIDCRedirectUnregistered,
		judge(api.Judge{Message: strings.Replace(address, "answer", "answer%2F", 1)}).Explanation.Code,
	)
	assert.Equal(
		t, explain.OIDCClientUnknown,
		judge(api.Judge{Message: strings.Replace(address, "client_id=cargo-ledger", "client_id=another", 1)}).Explanation.Code,
	)

	// A provider's answers: an error, a code, and one in another's name.
	base := w.URL + "/oidc/callback/northquay-stevedores?"
	iss := "&iss=" + url.QueryEscape(w.NorthquayURL)
	r = judge(api.Judge{Message: base + "error=access_denied&state=x" + iss})
	assert.Equal(
		t,
		[]string{"authentication response", "northquay-stevedores", "oidc.denied"},
		[]string{r.Kind, r.Provider, string(r.Explanation.Code)},
	)
	assert.True(t, judge(api.Judge{Message: base + "code=abc&state=x" + iss}).Good)
	assert.Equal(t, explain.OIDCAnswerIssuer,
		judge(api.Judge{Message: base + "code=abc&state=x&iss=https://evil.example"}).Explanation.Code)

	// An ID token of a provider: what would become of the person.
	token, err := w.Northquay.IDTokenFor("saltmere-gate", "lene.aas")
	require.NoError(t, err)
	r = judge(api.Judge{Message: token, Application: "cargo-ledger"})
	require.True(t, r.Good, mustText(r.Explanation))
	assert.Equal(t, []string{"ID token", "northquay-stevedores"}, []string{r.Kind, r.Provider})
	require.NotNil(t, r.Then)
	assert.Equal(t, []string{"lene.aas@northquay.example"}, r.Then.Profile["preferred_username"])
	assert.Equal(t, explain.OIDCExpired, judge(api.Judge{Message: token, At: &later}).Explanation.Code)
	foreign, err := w.Northquay.IDTokenFor("another", "lene.aas")
	require.NoError(t, err)
	assert.Equal(t, explain.OIDCAudience, judge(api.Judge{Message: foreign}).Explanation.Code)
	assert.Equal(t, explain.JWTSignature, judge(api.Judge{Message: token[:len(token)-6] + "AAAAAA"}).Explanation.Code)
	_, err = c.Judge(ctx, api.Judge{Message: token, Provider: "saltmere-staff"})
	refused(t, err, "not-openid", "")
}
