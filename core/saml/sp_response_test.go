package saml_test

import (
	"crypto/rsa"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/internal/judge"
	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/core/xmlsig"
)

func TestResponseIsAccepted(t *testing.T) {
	for _, c := range []struct {
		name             string
		assertion, whole bool
	}{{"assertion signed", true, false}, {"response signed", false, true}, {"both signed", true, true}} {
		t.Run(c.name, func(t *testing.T) {
			a, entries, err := accept(mint(t, issued(), nil, c.assertion, c.whole, provider(t)), rules(t))
			require.NoError(t, err)
			assert.Equal(t, saml.NameID{Value: "mvoss", Format: saml.FormatPersistent}, *a.NameID)
			assert.Equal(t, []string{"ferry-crew", "ferry-purser"}, a.Attributes[1].Values)
			assert.Equal(t, saml.ContextPassword, a.Context)
			assert.Equal(t, "_session", a.SessionIndex)
			assert.Equal(t, provider(t).cert, a.Certificate)
			for _, e := range entries {
				assert.True(t, e.Check.OK, e.Check.Name)
				assert.NotEmpty(t, e.Check.Section)
			}
			assert.Greater(t, len(entries), 10)
		})
	}
}

func TestResponseWithAnyKeyKind(t *testing.T) {
	p := keyPair(t, "p256", keys.P256)
	r := rules(t)
	r.Trust.Certificates = append(r.Trust.Certificates, p.cert)
	a, _, err := accept(mint(t, issued(), nil, true, false, p), r)
	require.NoError(t, err)
	assert.Equal(t, p.cert, a.Certificate)
}

// TestResponseMeaning holds each rule of SAML Profiles 4.1.4 and Core 2.5 against a response that breaks it and is
// signed by the right key.
func TestResponseMeaning(t *testing.T) {
	at := func(d time.Duration) string { return now.Add(d).Format("2006-01-02T15:04:05.000Z") }
	end := `NotOnOrAfter="` + at(5*time.Minute) + `" Recipient`
	confirmation := `<saml:SubjectConfirmation Method="urn:oasis:names:tc:SAML:2.0:cm:bearer">`
	audience := `<saml:AudienceRestriction><saml:Audience>` + string(gateID) + `</saml:Audience></saml:AudienceRestriction>`
	cases := []struct {
		name   string
		change func(string) string
		rules  func(*saml.ResponseRules)
		code   string
	}{
		{"version 1.1", replace(`Version="2.0"`, `Version="1.1"`), nil, "saml.version"},
		{"a time with a comma", replace(at(5*time.Minute), strings.Replace(at(5*time.Minute), ".", ",", 1)), nil, "saml.structure"},
		{"a NameID of blanks", replace(">mvoss</saml:NameID>", "> \u2003</saml:NameID>"), nil, "saml.nameid-missing"},
		{"a NameID with a line end", replace(">mvoss</saml:NameID>", ">mvoss&#10;</saml:NameID>"), nil, "saml.value-refused"},
		{"destination of another", replace(`Destination="`+gateACS, `Destination="`+gateACS+`/`), nil, "saml.destination-mismatch"},
		{
			"issuer of the response",
			replace(`<saml:Issuer>`+string(idpID), `<saml:Issuer>https://evil.example`),
			nil,
			"saml.provider-unknown",
		},
		{"issuer of the assertion", func(s string) string {
			i := strings.LastIndex(s, "<saml:Issuer>")
			return s[:i] + strings.Replace(s[i:], string(idpID), string(idpID)+"/", 1)
		}, nil, "saml.provider-unknown"},
		{"no issuer in the assertion", func(s string) string {
			i := strings.LastIndex(s, "<saml:Issuer>")
			return s[:i] + strings.Replace(s[i:], "<saml:Issuer>"+string(idpID)+"</saml:Issuer>", "", 1)
		}, nil, "saml.structure"},
		{"status", replace("status:Success", "status:Responder"), nil, "saml.status"},
		{
			"no status",
			replace(`<samlp:Status><samlp:StatusCode Value="urn:oasis:names:tc:SAML:2.0:status:Success"/></samlp:Status>`, ""),
			nil,
			"saml.structure",
		},
		{
			"audience of another",
			replace("<saml:Audience>"+string(gateID), "<saml:Audience>https://gate.saltmere.example/saml/sp/"),
			nil,
			"saml.audience-mismatch",
		},
		{
			"second restriction for another",
			replace(audience, audience+`<saml:AudienceRestriction><saml:Audience>urn:other</saml:Audience></saml:AudienceRestriction>`),
			nil,
			"saml.audience-mismatch",
		},
		{"no audience", replace(audience, ""), nil, "saml.audience-missing"},
		{"empty restriction", replace(audience, "<saml:AudienceRestriction/>"), nil, "saml.audience-mismatch"},
		{
			"audience hidden by a comment",
			replace("<saml:Audience>"+string(gateID), "<saml:Audience>"+string(gateID)+"<!-- -->.evil.example"),
			nil,
			"saml.value-refused",
		},
		{
			"recipient of another",
			replace(`Recipient="`+gateACS, `Recipient="https://gate.saltmere.example/saml/sp/other/acs`),
			nil,
			"saml.recipient-mismatch",
		},
		{"no recipient", replace(` Recipient="`+gateACS+`"`, ""), nil, "saml.confirmation"},
		{"expired", nil, func(r *saml.ResponseRules) { r.Now = now.Add(7 * time.Minute) }, "saml.expired"},
		{"not yet valid", nil, func(r *saml.ResponseRules) { r.Now = now.Add(-10 * time.Minute) }, "saml.not-yet-valid"},
		{"confirmation without end", replace(end, "Recipient"), nil, "saml.no-end"},
		{"confirmation with NotBefore", replace(end, `NotBefore="`+at(0)+`" `+end), nil, "saml.confirmation"},
		{"time without zone", replace(end, strings.Replace(end, "Z", "", 1)), nil, "saml.structure"},
		{"time that is none", replace(end, `NotOnOrAfter="never" Recipient`), nil, "saml.structure"},
		{"lifetime of a year", func(s string) string {
			return strings.ReplaceAll(s, at(5*time.Minute), at(365*24*time.Hour))
		}, nil, "saml.lifetime"},
		{"other confirmation method", replace("cm:bearer", "cm:holder-of-key"), nil, "saml.confirmation"},
		{"no confirmation data", func(s string) string {
			i := strings.Index(s, "<saml:SubjectConfirmationData")
			return s[:i] + s[i+strings.Index(s[i:], "/>")+2:]
		}, nil, "saml.confirmation"},
		{"no subject", func(s string) string {
			return s[:strings.Index(s, "<saml:Subject>")] + s[strings.Index(s, "</saml:Subject>")+len("</saml:Subject>"):]
		}, nil, "saml.nameid-missing"},
		{"no NameID", replace(`<saml:NameID Format="`+saml.FormatPersistent+`">mvoss</saml:NameID>`, ""), nil, "saml.nameid-missing"},
		{"empty NameID", replace(">mvoss<", "><"), nil, "saml.nameid-missing"},
		{"two NameIDs", replace(confirmation, "<saml:NameID>other</saml:NameID>"+confirmation), nil, "saml.structure"},
		{"comment in NameID", replace(">mvoss<", ">admin<!-- x -->mvoss<"), nil, "saml.value-refused"},
		{"instruction in NameID", replace(">mvoss<", ">admin<?x y?>mvoss<"), nil, "saml.value-refused"},
		{"element in NameID", replace(">mvoss<", "><saml:Name>mvoss</saml:Name><"), nil, "saml.value-refused"},
		{"NameID too long", replace(">mvoss<", ">"+strings.Repeat("m", 1025)+"<"), nil, "saml.value-refused"},
		{"control character in NameID", replace(">mvoss<", ">mvoss\u007f<"), nil, "saml.value-refused"},
		{"comment in attribute value", replace(">Mira<", ">Mi<!-- x -->ra<"), nil, "saml.value-refused"},
		{"attribute value too long", replace(">Mira<", ">"+strings.Repeat("m", 70000)+"<"), nil, "saml.value-refused"},
		{"attribute without name", replace(`Name="memberOf"`, ``), nil, "saml.structure"},
		{"NameID format", nil, func(r *saml.ResponseRules) { r.NameIDFormat = saml.FormatEmail }, "saml.nameid-format"},
		{"unknown condition", replace(audience, audience+`<x:Weather xmlns:x="urn:x"/>`), nil, "saml.condition-unknown"},
		{"abstract condition", replace(audience, audience+`<saml:Condition/>`), nil, "saml.condition-unknown"},
		{"must not be passed on", replace(audience, audience+`<saml:ProxyRestriction Count="0"/>`), nil, "saml.proxy-restricted"},
		{"no AuthnStatement", func(s string) string {
			i, j := strings.Index(s, "<saml:AuthnStatement"), strings.Index(s, "</saml:AuthnStatement>")
			return s[:i] + s[j+len("</saml:AuthnStatement>"):]
		}, nil, "saml.authn-missing"},
		{
			"old AuthnInstant after ForceAuthn",
			replace(`AuthnInstant="`+at(-2*time.Second), `AuthnInstant="`+at(-time.Hour)),
			func(r *saml.ResponseRules) { r.FreshSince = now.Add(-10 * time.Second) },
			"saml.authn-old",
		},
		{"AuthnInstant ahead", replace(`AuthnInstant="`+at(-2*time.Second), `AuthnInstant="`+at(time.Hour)), nil, "saml.not-yet-valid"},
		{"session over", replace(`SessionIndex=`, `SessionNotOnOrAfter="`+at(-time.Hour)+`" SessionIndex=`), nil, "saml.session-over"},
		{"weaker context", nil, func(r *saml.ResponseRules) {
			r.RequestedContext = &saml.RequestedContext{
				Comparison: "exact",
				Classes:    []string{"urn:oasis:names:tc:SAML:2.0:ac:classes:X509"},
			}
		}, "saml.context-not-proven"},
		{"answers another browser", nil, func(r *saml.ResponseRules) { r.RequestID = "_other" }, "saml.in-response-mismatch"},
		{
			"answers a question nobody asked",
			nil,
			func(r *saml.ResponseRules) { r.RequestID, r.AllowUnsolicited = "", true },
			"saml.in-response-mismatch",
		},
		{
			"response and confirmation disagree",
			replace(`<saml:SubjectConfirmationData InResponseTo="`+question, `<saml:SubjectConfirmationData InResponseTo="_other`),
			nil,
			"saml.in-response-mismatch",
		},
		{
			"only the response answers",
			replace(`<saml:SubjectConfirmationData InResponseTo="`+question+`"`, `<saml:SubjectConfirmationData`),
			nil,
			"saml.in-response-mismatch",
		},
		{"only the confirmation answers", replace(`InResponseTo="`+question+`" `, ""), nil, "saml.in-response-mismatch"},
		{"certificate out of date", nil, func(r *saml.ResponseRules) {
			r.Trust.EnforceDates, r.Now = true, now.Add(366*24*time.Hour)
		}, "saml.certificate-expired"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			r := rules(t)
			if c.rules != nil {
				c.rules(&r)
			}
			_, _, err := accept(mint(t, issued(), c.change, true, false, provider(t)), r)
			requireCode(t, err, c.code)
		})
	}
}

// TestASignedResponseSaysForWhomItIs takes the Destination out of a posted response that is signed by itself (SAML
// Bindings, section 3.5.5.2), and of one whose assertion alone is.
func TestASignedResponseSaysForWhomItIs(t *testing.T) {
	without := replace(` Destination="`+gateACS+`"`, "")
	_, _, err := accept(mint(t, issued(), without, false, true, provider(t)), rules(t))
	assert.ErrorContains(t, err, "saml.destination-missing")
	_, _, err = accept(mint(t, issued(), without, true, false, provider(t)), rules(t))
	assert.NoError(t, err)
}

// TestAnAssertionIsRememberedUntilItsLastConfirmationEnds has a second bearer confirmation that ends later.
func TestAnAssertionIsRememberedUntilItsLastConfirmationEnds(t *testing.T) {
	a, _, err := accept(mint(t, issued(), nil, true, false, provider(t)), rules(t))
	require.NoError(t, err)
	later := now.Add(40 * time.Minute).UTC().Format(time.RFC3339)
	b, _, err := accept(mint(t, issued(), replace("</saml:SubjectConfirmation>", `</saml:SubjectConfirmation><saml:SubjectConfirmation `+
		`Method="urn:oasis:names:tc:SAML:2.0:cm:bearer"><saml:SubjectConfirmationData Recipient="`+gateACS+`" NotOnOrAfter="`+later+
		`"/></saml:SubjectConfirmation>`), true, false, provider(t)), rules(t))
	require.NoError(t, err)
	assert.True(t, b.NotOnOrAfter.After(a.NotOnOrAfter.Add(30*time.Minute)), "%s, %s", a.NotOnOrAfter, b.NotOnOrAfter)
}

func TestUnsolicitedResponse(t *testing.T) {
	s := issued()
	s.InResponseTo = ""
	doc := mint(t, s, nil, true, false, provider(t))
	r := rules(t)
	r.RequestID = ""
	_, _, err := accept(doc, r)
	requireCode(t, err, "saml.unsolicited")
	r.AllowUnsolicited = true
	_, _, err = accept(doc, r)
	require.NoError(t, err)
	r.RequestID = question
	_, _, err = accept(doc, r)
	requireCode(t, err, "saml.in-response-mismatch")
}

func TestResponseSignatureRules(t *testing.T) {
	_, _, err := accept(mint(t, issued(), nil, false, false, provider(t)), rules(t))
	requireCode(t, err, "saml.signature-missing")
	r := rules(t)
	r.WantAssertionSigned = true
	_, _, err = accept(mint(t, issued(), nil, false, true, provider(t)), r)
	requireCode(t, err, "saml.signature-on-response-only")
	_, _, err = accept(mint(t, issued(), nil, true, false, stranger(t)), rules(t))
	requireCode(t, err, "saml.signature-wrong-key")
	r = rules(t)
	r.Trust.Certificates = nil
	_, _, err = accept(mint(t, issued(), nil, true, false, provider(t)), r)
	requireCode(t, err, "saml.signature-no-key")
	// A signature that is there is verified, though the other one would do.
	good := mint(t, issued(), nil, true, false, provider(t))
	both := mint(t, issued(), nil, true, true, provider(t))
	_, _, err = accept(strings.Replace(both, "status:Success", "status:Succes", 1), rules(t))
	requireCode(t, err, "saml.signature-altered")
	_, _, err = accept(strings.Replace(good, ">Mira<", ">Mara<", 1), rules(t))
	requireCode(t, err, "saml.signature-altered")
}

// TestWrapping moves the signed assertion about and puts a forged one where a careless reader would find it.
func TestWrapping(t *testing.T) {
	good := mint(t, issued(), nil, true, false, provider(t))
	from, to := strings.Index(good, "<saml:Assertion"), strings.Index(good, "</saml:Assertion>")+len("</saml:Assertion>")
	signed := good[from:to]
	sigFrom, sigTo := strings.Index(signed, "<ds:Signature"), strings.Index(signed, "</ds:Signature>")+len("</ds:Signature>")
	signature := signed[sigFrom:sigTo]
	bare := signed[:sigFrom] + signed[sigTo:]
	forged := strings.Replace(bare, ">mvoss<", ">admin<", 1)
	otherID := func(s string) string { return strings.Replace(s, `ID="_`, `ID="_evil`, 1) }
	withSignature := func(assertion, sig string) string {
		return strings.Replace(assertion, "<saml:Subject>", sig+"<saml:Subject>", 1)
	}
	put := func(s string) string { return good[:from] + s + good[to:] }
	object := func(inner string) string {
		return strings.Replace(signature, "</ds:Signature>", "<ds:Object>"+inner+"</ds:Object></ds:Signature>", 1)
	}
	cases := map[string]string{
		"forged before":                  put(otherID(forged) + signed),
		"forged after":                   put(signed + otherID(forged)),
		"forged before with the same ID": put(forged + signed),
		"forged after with the same ID":  put(signed + forged),
		"forged around, signed in its advice": put(
			strings.Replace(otherID(forged), "</saml:Conditions>", "</saml:Conditions><saml:Advice>"+signed+"</saml:Advice>", 1),
		),
		"forged around with the signature": put(strings.Replace(
			withSignature(otherID(forged), signature), "</saml:Conditions>",
			"</saml:Conditions><saml:Advice>"+bare+"</saml:Advice>", 1,
		)),
		"signed in the signature's Object": put(withSignature(otherID(forged), object(bare))),
		"signed in Object, same ID":        put(withSignature(forged, object(bare))),
		"signed in Extensions": strings.Replace(
			put(otherID(forged)), "<samlp:Status>", "<samlp:Extensions>"+signed+"</samlp:Extensions><samlp:Status>", 1,
		),
		"signed in StatusDetail": strings.Replace(
			put(otherID(forged)), "</samlp:Status>",
			"<samlp:StatusDetail>"+signed+"</samlp:StatusDetail></samlp:Status>", 1,
		),
		"signed in a wrapper beside":                put("<x:Wrap xmlns:x='urn:x'>" + signed + "</x:Wrap>" + otherID(forged)),
		"forged in a wrapper":                       put(signed + "<x:Wrap xmlns:x='urn:x'>" + otherID(forged) + "</x:Wrap>"),
		"signed inside the forged one's attributes": put(strings.Replace(otherID(forged), ">Mira<", ">"+signed+"<", 1)),
		"forged inside the signed one": put(
			strings.Replace(signed, "</saml:Conditions>", "</saml:Conditions><saml:Advice>"+otherID(forged)+"</saml:Advice>", 1),
		),
		"signature moved to the response":         strings.Replace(put(forged), "<samlp:Status>", signature+"<samlp:Status>", 1),
		"detached signature beside the assertion": put(forged + signature),
		"enveloping signature":                    put(object(signed)),
		"two signatures, the first forged":        put(withSignature(forged, strings.Replace(signature, "#_", "#_x", 1)+signature)),
		"duplicate ID on another element": put(
			strings.Replace(signed, "</saml:Assertion>", "</saml:Assertion>", 1) + `<x:y xmlns:x="urn:x" ID="` + idOf(signed) + `"/>`,
		),
		"duplicate ID by Id": put(signed + `<x:y xmlns:x="urn:x" Id="` + idOf(signed) + `"/>`),
		"a second subject": put(strings.Replace(
			signed,
			"<saml:Conditions",
			strings.Replace(
				signed[strings.Index(signed, "<saml:Subject>"):strings.Index(signed, "</saml:Subject>")+len("</saml:Subject>")],
				"mvoss", "admin", 1,
			)+"<saml:Conditions",
			1,
		)),
		"encrypted assertion beside": put(signed + "<saml:EncryptedAssertion/>"),
		"no assertion":               put(""),
	}
	for name, doc := range cases {
		t.Run(name, func(t *testing.T) {
			a, _, err := accept(doc, rules(t))
			require.Error(t, err)
			assert.Nil(t, a)
		})
	}
}

func idOf(assertion string) string {
	s := assertion[strings.Index(assertion, ` ID="`)+5:]
	return s[:strings.IndexByte(s, '"')]
}

func encrypted(t testing.TB, s saml.Issued, x xmlsig.Encrypter, signAssertion, signResponse bool) string {
	t.Helper()
	p := provider(t)
	s.Signer = &xmlsig.Signer{Key: p.key}
	s.SignAssertion, s.SignResponse = signAssertion, signResponse
	x.Key = ours(t).cert.PublicKey.(*rsa.PublicKey)
	s.EncryptAssertion = &x
	made, err := saml.IssueResponse(s)
	require.NoError(t, err)
	assert.NotContains(t, string(made.XML), "mvoss")
	return string(made.XML)
}

func TestEncryptedAssertion(t *testing.T) {
	for _, c := range []struct{ assertion, whole bool }{{true, false}, {false, true}, {true, true}} {
		a, _, err := accept(encrypted(t, issued(), xmlsig.Encrypter{}, c.assertion, c.whole), rules(t))
		require.NoError(t, err)
		assert.Equal(t, "mvoss", a.NameID.Value)
		assert.Contains(t, a.Opened, "mvoss")
	}
	// Encryption proves nothing about the sender.
	_, _, err := accept(encrypted(t, issued(), xmlsig.Encrypter{}, false, false), rules(t))
	requireCode(t, err, "saml.signature-missing")
	// CBC only where allowed, and only under a signed response.
	cbc := xmlsig.Encrypter{Content: xmlsig.AES256CBC}
	r := rules(t)
	_, _, err = accept(encrypted(t, issued(), cbc, true, true), r)
	requireCode(t, err, "saml.encryption-algorithm")
	r.AllowCBC = true
	_, _, err = accept(encrypted(t, issued(), cbc, true, false), r)
	requireCode(t, err, "saml.encryption-unsigned")
	_, _, err = accept(encrypted(t, issued(), cbc, true, true), r)
	require.NoError(t, err)
	// With another key there is one answer only.
	r = rules(t)
	r.DecryptionKeys = []*rsa.PrivateKey{stranger(t).key.(*rsa.PrivateKey)}
	_, _, err = accept(encrypted(t, issued(), xmlsig.Encrypter{}, true, false), r)
	requireCode(t, err, "saml.decryption-failed")
}

func TestEncryptedNameID(t *testing.T) {
	s := issued()
	s.EncryptNameID = &xmlsig.Encrypter{Key: ours(t).cert.PublicKey.(*rsa.PublicKey)}
	doc := mint(t, s, nil, true, false, provider(t))
	assert.NotContains(t, doc, "mvoss")
	a, _, err := accept(doc, rules(t))
	require.NoError(t, err)
	assert.Equal(t, saml.NameID{Value: "mvoss", Format: saml.FormatPersistent}, *a.NameID)
}

func TestStatusIsExplained(t *testing.T) {
	for substatus, code := range map[string]string{"NoPassive": "saml.status-no-passive", "NoAuthnContext": "saml.status-no-context",
		"InvalidNameIDPolicy": "saml.status-nameid-policy", "RequestDenied": "saml.status-denied", "AuthnFailed": "saml.status",
		"": "saml.status"} {
		made, err := saml.ErrorResponse(
			idpID, gateACS, question, "Responder", substatus, "not today", now, &xmlsig.Signer{Key: provider(t).key},
		)
		require.NoError(t, err)
		_, _, err = accept(string(made.XML), rules(t))
		requireCode(t, err, code)
	}
}

func TestResponseByRedirectIsRefused(t *testing.T) {
	_, err := saml.OpenResponse(&saml.Received{Binding: saml.BindingRedirect, XML: []byte("<x/>")})
	requireCode(t, err, "saml.response-binding")
}

func FuzzResponse(f *testing.F) {
	f.Add([]byte(mint(f, issued(), nil, true, true, provider(f))))
	f.Add([]byte(encrypted(f, issued(), xmlsig.Encrypter{}, true, true)))
	r := rules(f)
	genuine := map[string]bool{"mvoss": true}
	f.Fuzz(func(t *testing.T, doc []byte) {
		judge.Frugal(t, len(doc), func() {
			if a, _, err := accept(string(doc), r); err == nil && !genuine[a.NameID.Value] {
				t.Fatalf("a forged subject was accepted: %q", a.NameID.Value)
			}
		})
	})
}
