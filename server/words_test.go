package server_test

import (
	"crypto"
	"html"
	"net/url"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/core/saml"
	"innergate/core/xmltree"
	"innergate/demo"
)

var (
	signatureText  = regexp.MustCompile(`(?s)<ds:Signature .*?</ds:Signature>`)
	responseField  = regexp.MustCompile(`name="SAMLResponse" value="([^"]*)"`)
	relayField     = regexp.MustCompile(`name="RelayState" value="([^"]*)"`)
	audiences      = regexp.MustCompile(`(?s)<saml:AudienceRestriction>.*?</saml:AudienceRestriction>`)
	subjects       = regexp.MustCompile(`(?s)<saml:Subject>.*?</saml:Subject>`)
	ends           = regexp.MustCompile(`NotOnOrAfter="[^"]*"`)
	recipients     = regexp.MustCompile(` Recipient="[^"]*"`)
	assertionStart = regexp.MustCompile(`(<saml:Assertion [^>]*IssueInstant=")[^"]*"`)
)

// answered lets somebody sign in at the provider up to its answer, has the answer written otherwise and signed again by the
// provider, brings it to the gate, and shows the trace.
func answered(t *testing.T, w *demo.World, digest crypto.Hash, rewrite func(string) string) *api.Trace {
	t.Helper()
	b := atProvider(t, w, "mvoss")
	doc, err := saml.DecodePost(saml.ParamResponse, html.UnescapeString(responseField.FindStringSubmatch(b.Text)[1]), "", "")
	require.NoError(t, err)
	text := rewrite(signatureText.ReplaceAllString(string(doc.XML), ""))
	root, err := xmltree.Parse([]byte(text), xmltree.Limits{})
	require.NoError(t, err, text)
	signer := w.Staff.Signer()
	signer.Digest = digest
	assertion := root.First(saml.NSAssertion, "Assertion")
	require.NoError(t, signer.Sign(assertion, assertion.First(saml.NSAssertion, "Issuer")))
	require.NoError(t, b.Post(t.Context(), w.URL+"/saml/sp/saltmere-staff/acs", url.Values{
		saml.ParamResponse: {saml.EncodePost(root.Bytes())},
		"RelayState":       {html.UnescapeString(relayField.FindStringSubmatch(b.Text)[1])},
	}))
	require.NoError(t, b.Onward(t.Context()))
	return newest(t, w)
}

// TestWordsThatMustNotMislead has the provider send what is wrong in one way each, signed by the right key, and reads the
// explanation: its code, what stands in its sentences, and that no two equal values are shown as a difference.
func TestWordsThatMustNotMislead(t *testing.T) {
	t.Parallel()
	w := world(t)
	require.Equal(t, "signed-in", answered(t, w, 0, func(s string) string { return s }).Outcome, "rewritten by itself it is good")
	for _, c := range []struct {
		name    string
		digest  crypto.Hash
		rewrite func(string) string
		code    string
		says    string // in the cause or the evidence
		never   string // nowhere in the cause
	}{
		{
			"two subjects", 0, func(s string) string {
				one := subjects.FindString(s)
				return strings.Replace(s, one, one+one, 1)
			}, "saml.structure", "2 Subjects", "names no subject",
		},
		{
			"an unknown condition with a type", 0, func(s string) string {
				own := `<saml:Condition xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" xmlns:x="urn:x" xsi:type="x:HighTide"/>`
				return strings.Replace(s, audiences.FindString(s), audiences.FindString(s)+own, 1)
			}, "saml.condition-unknown", "x:HighTide", "",
		},
		{
			"a time without a zone", 0, func(s string) string {
				return assertionStart.ReplaceAllString(s, `${1}2026-11-29T12:00:00"`)
			}, "saml.structure", `"2026-11-29T12:00:00" is not a time with a zone`, "no proper",
		},
		{
			"an end beyond all measure", 0, func(s string) string {
				return ends.ReplaceAllString(s, `NotOnOrAfter="9999-12-31T23:59:59Z"`)
			}, "saml.lifetime", "years", "h0m0s",
		},
		{
			"no recipient", 0, func(s string) string { return recipients.ReplaceAllString(s, "") },
			"saml.confirmation", "names no Recipient", "the recipient .",
		},
		{
			"a SHA-1 digest under an RSA-SHA256 signature", crypto.SHA1, func(s string) string { return s },
			"saml.signature-sha1", "digest", "",
		},
	} {
		x := answered(t, w, c.digest, c.rewrite)
		require.NotNil(t, x.Explanation, c.name)
		assert.Equal(t, c.code, string(x.Explanation.Code), c.name)
		said := x.Explanation.Cause
		for _, e := range x.Explanation.Evidence {
			said += " | " + e.Label + ": " + e.Expected + " / " + e.Got
			assert.False(t, e.Expected != "" && e.Expected == e.Got, "%s: equal values as a difference: %s", c.name, e.Got)
		}
		assert.Contains(t, said, c.says, c.name)
		if c.never != "" {
			assert.NotContains(t, said, c.never, c.name)
		}
		assert.NotContains(t, said, "{", "%s: a place was left open", c.name)
	}
}

// TestSizesAreNamedWithTheirSide posts what is too large, and two answers at once: both say how much came, and whose it is.
func TestSizesAreNamedWithTheirSide(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	b := atProvider(t, w, "mvoss")
	relay := html.UnescapeString(relayField.FindStringSubmatch(b.Text)[1])
	large := saml.EncodePost([]byte("<x>" + strings.Repeat("tide ", saml.MaxMessage/5) + "</x>"))
	require.NoError(t, b.Post(ctx, w.URL+"/saml/sp/saltmere-staff/acs", url.Values{saml.ParamResponse: {large}, "RelayState": {relay}}))
	require.NoError(t, b.Onward(ctx))
	x := newest(t, w)
	require.NotNil(t, x.Explanation)
	assert.Equal(t, "saml.too-large", string(x.Explanation.Code))
	assert.Equal(t, "theirs", string(x.Explanation.Side))
	assert.Contains(t, x.Explanation.Cause, "Saltmere Staff has 1025 KiB; 1024 KiB are the most")

	b = atProvider(t, w, "mvoss")
	one := html.UnescapeString(responseField.FindStringSubmatch(b.Text)[1])
	require.NoError(t, b.Post(ctx, w.URL+"/saml/sp/saltmere-staff/acs", url.Values{saml.ParamResponse: {one, one}}))
	x = newest(t, w)
	require.NotNil(t, x.Explanation)
	assert.Equal(t, "saml.unreadable", string(x.Explanation.Code))
	assert.Contains(t, x.Explanation.Cause, "2 SAMLResponses")
}
