package server_test

import (
	"context"
	"encoding/base64"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/saml"
	"innergate/core/xmlsig"
	"innergate/demo"
	"innergate/server"
)

// TestHostileMessages posts what no honest peer would to the ACS and the SSO address: each gets a plain page, never a
// failure inside.
func TestHostileMessages(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), context.Background()
	big := strings.Repeat("A", 3<<20)
	bomb := "<!DOCTYPE r [<!ENTITY a \"aaaaaaaaaa\"><!ENTITY b \"&a;&a;&a;&a;&a;&a;&a;&a;\">]><r>&b;</r>"
	deep := strings.Repeat("<a>", 5000) + strings.Repeat("</a>", 5000)
	for _, place := range []string{"/saml/sp/saltmere-staff/acs", "/saml/idp/sso", "/saml/sp/nobody/acs"} {
		param := saml.ParamResponse
		if strings.HasSuffix(place, "sso") {
			param = saml.ParamRequest
		}
		for name, form := range map[string]url.Values{
			"nothing":           {},
			"two messages":      {param: {"a", "b"}},
			"two RelayStates":   {param: {"a"}, "RelayState": {"a", "b"}},
			"not base64":        {param: {"%%%"}},
			"not XML":           {param: {saml.EncodePost([]byte("hello"))}},
			"too large":         {param: {big}},
			"entities":          {param: {saml.EncodePost([]byte(bomb))}},
			"deep":              {param: {saml.EncodePost([]byte(deep))}},
			"external entity":   {param: {saml.EncodePost([]byte(`<!DOCTYPE r [<!ENTITY x SYSTEM "file:///etc/passwd">]><r>&x;</r>`))}},
			"another message":   {param: {saml.EncodePost([]byte(`<samlp:LogoutRequest xmlns:samlp="` + saml.NSProtocol + `"/>`))}},
			"NUL in RelayState": {param: {saml.EncodePost([]byte("<a/>"))}, "RelayState": {"a\x00b"}},
			"long RelayState": {param: {saml.EncodePost([]byte(`<samlp:AuthnRequest xmlns:samlp="` + saml.NSProtocol + `"/>`))},
				"RelayState": {strings.Repeat("x", 10000)}},
		} {
			b := demo.NewWalker(nil)
			require.NoError(t, b.Post(ctx, w.URL+place, form), name)
			assert.Contains(
				t,
				[]int{http.StatusBadRequest, http.StatusNotFound, http.StatusRequestEntityTooLarge, http.StatusInternalServerError},
				b.Status,
				"%s %s",
				place,
				name,
			)
			assert.NotContains(t, b.Text, "SAMLResponse\" value", "%s %s", place, name)
			assert.NotContains(t, b.Text, "root:", "%s %s", place, name)
			if !strings.Contains(place, "nobody") {
				assert.NotEqual(t, http.StatusInternalServerError, b.Status, "%s %s: %s", place, name, b.Text)
			}
		}
	}
	answer, _ := send(t, http.DefaultClient, http.MethodPost, w.URL+"/saml/idp/sso", "", "{}")
	assert.Equal(t, http.StatusUnsupportedMediaType, answer.StatusCode)
}

// TestDocumentsThatAskForMuchCostLittle sends documents that are short and would be long once canonicalised, or that
// declare thousands of prefixes, to the addresses where strangers may post. Core holds the memory that each takes.
func TestDocumentsThatAskForMuchCostLittle(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), context.Background()
	for size, code := range map[int]string{20 << 10: "saml.unreadable", 1000: "saml.signature"} {
		doc := `<s:Envelope xmlns:s="` + saml.NSSOAP + `"><s:Body><samlp:LogoutRequest xmlns:samlp="` + saml.NSProtocol + `" xmlns:saml="` +
			saml.NSAssertion + `" xmlns:a="urn:` + strings.Repeat("a", size) + `" ID="x" Version="2.0"><saml:Issuer>` + w.Staff.EntityID() +
			`</saml:Issuer><ds:Signature xmlns:ds="` + xmlsig.NS + `"><ds:SignedInfo><ds:CanonicalizationMethod Algorithm="` +
			xmlsig.Exclusive + `"/><ds:SignatureMethod Algorithm="` + string(xmlsig.RSASHA256) +
			`"/><ds:Reference URI="#x"><ds:Transforms>` +
			`<ds:Transform Algorithm="` + xmlsig.Enveloped + `"/><ds:Transform Algorithm="` + xmlsig.Exclusive + `"/></ds:Transforms>` +
			`<ds:DigestMethod Algorithm="` + xmlsig.NSEnc + `sha256"/><ds:DigestValue>47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU=` +
			`</ds:DigestValue></ds:Reference></ds:SignedInfo><ds:SignatureValue>AAAA</ds:SignatureValue></ds:Signature>` +
			strings.Repeat("<a:x/>", 19000) + `</samlp:LogoutRequest></s:Body></s:Envelope>`
		at := time.Now()
		answer, body := send(t, http.DefaultClient, http.MethodPost, w.URL+"/saml/sp/saltmere-staff/slo", "", doc, "Content-Type",
			"text/xml")
		assert.GreaterOrEqual(t, answer.StatusCode, 400, body)
		assert.Contains(t, body, code)
		assert.Less(t, time.Since(at), 20*time.Second)
	}
	var many strings.Builder
	for d := range 62 {
		many.WriteString("<a")
		for i := range 63 {
			fmt.Fprintf(&many, ` xmlns:p%02d%02d="u"`, d, i)
		}
		many.WriteString(">")
	}
	leaf := `<a p0000:a="" p0000:b="" p0000:c="" p0000:d=""/>`
	doc := many.String() + strings.Repeat(leaf, 18000) + strings.Repeat("</a>", 62)
	location, err := saml.EncodeRedirect(w.URL+"/saml/idp/sso", saml.ParamRequest, []byte(doc), "", nil)
	require.NoError(t, err)
	b := demo.NewWalker(nil)
	at := time.Now()
	require.NoError(t, b.Get(ctx, location))
	assert.Equal(t, http.StatusBadRequest, b.Status)
	assert.Less(t, time.Since(at), 20*time.Second)
	assert.Contains(t, newest(t, w).Entries[0].Message.Raw, "xmlns:p0000")
}

// TestStrangersMessagesAreCutInTraces posts half a megabyte that nobody known made; little of it is kept.
func TestStrangersMessagesAreCutInTraces(t *testing.T) {
	t.Parallel()
	w := world(t)
	doc := `<samlp:AuthnRequest xmlns:samlp="` + saml.NSProtocol + `">` + strings.Repeat("x", 500<<10) + `</samlp:AuthnRequest>`
	b := demo.NewWalker(nil)
	require.NoError(t, b.Post(context.Background(), w.URL+"/saml/idp/sso", url.Values{saml.ParamRequest: {saml.EncodePost([]byte(doc))}}))
	m := newest(t, w).Entries[0].Message
	require.NotNil(t, m)
	assert.Equal(t, len(doc), m.Size, "its true size is told")
	assert.Less(t, len(m.Raw), 10<<10)
	assert.Contains(t, m.Raw, "cut off here")
}

// TestNothingOfWhatStrangersPostIsKept posts what fills a disk where it is kept, and looks at the records afterwards.
func TestNothingOfWhatStrangersPostIsKept(t *testing.T) {
	t.Parallel()
	w := world(t)
	kept := func() (n int) {
		ctx := t.Context()
		require.NoError(t, w.Gate.Store.Row(ctx, "SELECT (SELECT count(*) FROM sign_ins) + (SELECT count(*) FROM used_ids)").Scan(&n))
		var traces int
		require.NoError(t, w.Gate.Store.Traces.Row(ctx, "SELECT count(*) FROM traces").Scan(&traces))
		return n + traces
	}
	before := kept()
	form := url.Values{saml.ParamResponse: {strings.Repeat("A", 1<<20)}, "RelayState": {"\x00<&\xff"}}
	for range 20 {
		answer, err := http.PostForm(w.URL+"/saml/sp/saltmere-staff/acs", form)
		require.NoError(t, err)
		page, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		require.NoError(t, answer.Body.Close())
		assert.Equal(t, http.StatusOK, answer.StatusCode)
		assert.Empty(t, answer.Cookies())
		_, rest, _ := strings.Cut(string(page), `name="came" value="`)
		came, _, _ := strings.Cut(rest, `"`)
		raw, err := base64.RawURLEncoding.DecodeString(came)
		require.NoError(t, err)
		assert.Equal(t, form.Encode(), string(raw), "octet for octet")
	}
	assert.Equal(t, before, kept(), "nothing was written")
}

// TestWhatIsPostedFromElsewhereHasNoCookies posts to the address that our own page posts to, from another site.
func TestWhatIsPostedFromElsewhereHasNoCookies(t *testing.T) {
	t.Parallel()
	w := world(t)
	form := url.Values{"came": {base64.RawURLEncoding.EncodeToString([]byte("SAMLResponse=AAAA"))}}
	post := func(form url.Values, from string) (int, string) {
		r, err := http.NewRequest(http.MethodPost, w.URL+"/saml/sp/saltmere-staff/acs/here", strings.NewReader(form.Encode()))
		require.NoError(t, err)
		r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		r.Header.Set("Sec-Fetch-Site", from)
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		defer answer.Body.Close()
		page, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		return answer.StatusCode, string(page)
	}
	status, page := post(form, "cross-site")
	assert.Equal(t, http.StatusOK, status)
	assert.Contains(t, page, `action="/saml/sp/saltmere-staff/acs/here"`, "it is posted once more, from here")
	status, page = post(form, "same-origin")
	assert.Equal(t, http.StatusBadRequest, status)
	assert.NotContains(t, page, `name="came"`)
	for _, other := range []url.Values{{}, {"came": {"!"}}, {"came": {"QQ", "QQ"}}, {"came": {"QQ"}, "more": {"x"}}} {
		status, _ = post(other, "same-origin")
		assert.Equal(t, http.StatusBadRequest, status, "%v", other)
	}
	status, _ = post(url.Values{"came": {strings.Repeat("Q", 3<<20)}}, "same-origin")
	assert.Equal(t, http.StatusRequestEntityTooLarge, status)
}

// brokenFiles panics at every use.
type brokenFiles struct{}

func (brokenFiles) Open(string) (fs.File, error) { panic("made by the test") }

// TestPanicStaysInItsRequest has a handler panic: that request fails with a plain answer, and the service goes on.
func TestPanicStaysInItsRequest(t *testing.T) {
	t.Parallel()
	w := world(t)
	s := server.New(w.Gate, server.Options{Console: brokenFiles{}})
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() { _ = s.Serve(l, nil) }()
	t.Cleanup(func() { _ = s.Shutdown(time.Second) })
	for range 3 {
		answer, body := send(t, http.DefaultClient, http.MethodGet, "http://"+l.Addr().String()+"/console/", "", "")
		assert.Equal(t, http.StatusInternalServerError, answer.StatusCode)
		assert.NotContains(t, body, "made by the test")
	}
	answer, _ := send(t, http.DefaultClient, http.MethodGet, "http://"+l.Addr().String()+"/healthz", "", "")
	assert.Equal(t, http.StatusOK, answer.StatusCode)
}

// TestPathsAreExact tries other spellings of addresses.
func TestPathsAreExact(t *testing.T) {
	t.Parallel()
	w := world(t)
	for path, want := range map[string]int{
		"/healthz": 200, "/HEALTHZ": 404, "/api/v1/Applications": 404, "/API/v1/applications": 404, "/api/v1/applications/": 404,
		"//api/v1/applications": 404, "/api/v1/../v1/tokens": 404,
		"/console/assets/../index.html": 404, "/console/assets/%2e%2e/%2e%2e/go.mod": 404, "/console/assets/nothing.js": 404,
		"/saml/idp/metadata/": 404, "/start/": 404,
	} {
		r, err := http.NewRequest(http.MethodGet, w.URL+path, nil)
		require.NoError(t, err)
		client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
		answer, err := client.Do(r)
		require.NoError(t, err)
		answer.Body.Close()
		assert.Equal(t, want, answer.StatusCode, path)
	}
}

// TestLongAddressesFit sends a Redirect of 30 kB, which some applications make, and one that is too long for any.
func TestLongAddressesFit(t *testing.T) {
	t.Parallel()
	w := world(t)
	long := w.URL + "/saml/idp/sso?SAMLRequest=x&RelayState=" + strings.Repeat("a", 30000)
	answer, body := send(t, http.DefaultClient, http.MethodGet, long, "", "")
	assert.Equal(t, http.StatusBadRequest, answer.StatusCode)
	assert.Contains(t, body, "You could not be signed in")
	r, err := http.NewRequest(http.MethodGet, w.URL+"/healthz?"+strings.Repeat("a", 200000), nil)
	require.NoError(t, err)
	tooLong, err := http.DefaultClient.Do(r)
	if err == nil {
		tooLong.Body.Close()
		assert.GreaterOrEqual(t, tooLong.StatusCode, 400)
	}
}

// TestEveryAnswerCarriesItsHeaders holds pages and API to the headers that protect them.
func TestEveryAnswerCarriesItsHeaders(t *testing.T) {
	t.Parallel()
	w := world(t)
	for _, path := range []string{"/api/v1/openapi.json", "/saml/idp/sso", "/saml/idp/metadata", "/rehearse/nothing", "/nowhere"} {
		answer, _ := send(t, http.DefaultClient, http.MethodGet, w.URL+path, "", "")
		assert.Equal(t, "nosniff", answer.Header.Get("X-Content-Type-Options"), path)
		assert.Equal(t, "no-referrer", answer.Header.Get("Referrer-Policy"), path)
		assert.Equal(t, "DENY", answer.Header.Get("X-Frame-Options"), path)
		if strings.HasPrefix(answer.Header.Get("Content-Type"), "text/html") {
			policy := answer.Header.Get("Content-Security-Policy")
			assert.Contains(t, policy, "frame-ancestors 'none'", path)
			assert.NotContains(t, policy, "unsafe", path)
			assert.Equal(t, "no-store", answer.Header.Get("Cache-Control"), path)
		}
	}
}

// TestStrangersDontFillTheDisk begins and ends sign-ins with long requests, as fast as the gate takes them, from one network.
func TestStrangersDontFillTheDisk(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	w.Gate.SignIn.InFlight = 20
	junk := strings.Repeat("x", 30000)
	begun := 0
	for range 40 {
		b := w.Walker()
		require.NoError(t, b.Get(ctx, w.URL+"/oidc/authorize?"+url.Values{
			"client_id": {"cargo-ledger"}, "redirect_uri": {w.LedgerURL + "/answer"}, "response_type": {"code"}, "scope": {"openid"},
			"state": {"x"}, "code_challenge": {strings.Repeat("A", 43)}, "code_challenge_method": {"S256"},
			"claims": {`{"id_token":{"x":{"value":"` + junk + `"}}}`},
		}.Encode()))
		if b.Status != http.StatusOK {
			continue
		}
		begun++
		choose := formOf(t, w, b)
		require.NoError(t, b.Post(ctx, choose, url.Values{"provider": {"northquay-stevedores"}}))
		id := strings.Split(strings.TrimPrefix(choose, w.URL+"/sign-in/"), "/")[0]
		require.NoError(t, b.Get(ctx, w.URL+"/oidc/callback/northquay-stevedores?error=access_denied&iss="+
			url.QueryEscape(w.NorthquayURL)+"&state="+id))
	}
	assert.Equal(t, 20, begun, "ending one gives no room for another")
	var kept int64
	require.NoError(t, w.Gate.Store.Traces.Read(ctx).Raw("SELECT sum(length(entries)) FROM traces").Scan(&kept).Error)
	assert.Less(t, kept, int64(20*40<<10))
	// Whoever really signs in makes room again.
	w.Gate.SignIn.InFlight = 25
	for range 10 {
		tr, _ := through(t, w, "saltmere-staff", "mvoss")
		require.Equal(t, "signed-in", tr.Outcome, tr.Code)
	}
}

// TestStrangersDontUseUpAClient opens device codes and pushed requests in the name of a client that proves nothing, until
// no more are taken; from elsewhere they go on.
func TestStrangersDontUseUpAClient(t *testing.T) {
	t.Parallel()
	w := world(t)
	device := func(from string) int {
		return w.Gate.Grants.Device(t.Context(), "", "client_id=dockhand&scope=openid", from).Status
	}
	opened := 0
	for i := range 150 {
		if device(fmt.Sprintf("2001:db8::%x", i)) == http.StatusOK {
			opened++
		}
	}
	assert.Equal(t, 100, opened)
	assert.Equal(t, http.StatusOK, device("192.0.2.1"))
}
