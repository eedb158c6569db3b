package exchange

import (
	"fmt"
	"regexp"

	"innergate/api"
	"innergate/core/bridge"
	"innergate/core/checkup"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/keys"
	"innergate/core/people"
	"innergate/core/saml"
	"innergate/core/sheet"
	"innergate/core/words"
	"innergate/gate/keyring"
	"innergate/gate/partners"
)

// signedWith says with which algorithms a signature of ours is made: those that are set, where our key can, else its own.
func signedWith(ring *keyring.Ring, algorithm, digest string) string {
	a := ring.Algorithm(algorithm)
	text := a.Name()
	if digest != "" {
		text += " over digests by " + words.AfterLast(digest, "#")
	}
	return text + " (" + string(a) + ")"
}

// applicationNotes tell a SAML application's engineer what is signed, what is encrypted, and what logging out needs.
func applicationNotes(a *partners.Application, ring *keyring.Ring) []api.Value {
	s := a.SAML
	signed := map[string]string{"response": "the response", "both": "the response and the assertion in it"}[s.Sign]
	if signed == "" {
		signed = "the assertion"
	}
	requests := "may come unsigned"
	if s.RequireSignedRequests {
		requests = "must be signed, with the key of the certificate that we hold of you"
	}
	return []api.Value{
		note("What we sign", "", signed+", with "+signedWith(ring, s.SignatureAlgorithm, s.DigestAlgorithm)),
		note("What we encrypt", "", encryptedFor(s)),
		note("Your AuthnRequests", "", requests),
		note("What signing out needs", "", logoutNeeds(s.SLO, len(config.Parsed(s.Certificates, "signing")) > 0, s.UnsignedLogout)),
	}
}

// providerNotes tell a SAML provider's engineer what we sign, what we want signed and may get encrypted, and what logging out needs.
func providerNotes(p *partners.Provider, ring *keyring.Ring) []api.Value {
	s := p.SAML
	requests := "our AuthnRequests and logout messages, with " + signedWith(ring, s.SignatureAlgorithm, s.DigestAlgorithm)
	if s.SendUnsigned {
		requests = "our logout messages, with " + signedWith(ring, s.SignatureAlgorithm, s.DigestAlgorithm) +
			"; our AuthnRequests come unsigned"
	}
	want := "the assertion or the response, with RSA-SHA256 or ECDSA-SHA256"
	if s.WantAssertionSigned {
		want = "the assertion itself, with RSA-SHA256 or ECDSA-SHA256"
	}
	encryption := "it may be encrypted for our encryption certificate, with AES-GCM and RSA-OAEP"
	if s.AllowCBC {
		encryption += "; AES-CBC is taken under a signed response"
	}
	return []api.Value{
		note("What we sign", "", requests),
		note("What you sign", "", want),
		note("What you may encrypt", "", encryption),
		note("What signing out needs", "", logoutNeeds(s.SLO, len(config.Parsed(s.Certificates, "signing")) > 0, s.UnsignedLogout)),
	}
}

// encryptedFor says what of an assertion is encrypted, how, and for which certificate.
func encryptedFor(s *config.SAMLApplication) string {
	what := map[string]string{"assertion": "the assertion", "nameid": "the NameID"}[s.Encrypt]
	if what == "" {
		return "nothing"
	}
	content, transport := "AES-256-GCM", "RSA-OAEP (mgf1p)"
	if s.ContentEncryption != "" {
		content = words.AfterLast(s.ContentEncryption, "#")
	}
	if s.KeyTransport != "" {
		transport = words.AfterLast(s.KeyTransport, "#")
	}
	text := fmt.Sprintf("%s, with %s, the key by %s", what, content, transport)
	if held := config.Parsed(s.Certificates, "encryption"); len(held) > 0 {
		return text + ", for your certificate " + keys.Fingerprint(held[0].Raw)
	}
	return text + "; your certificate for it is not here yet"
}

// logoutNeeds says what a partner must do so that its logout messages count, and where we send ours.
func logoutNeeds(slo []saml.Endpoint, certificate, unsigned bool) string {
	text := "Sign your LogoutRequests and LogoutResponses, and name the person as you got it: the same NameID with its format, and the " +
		"SessionIndex."
	switch {
	case unsigned:
		text = "Your logout messages may come unsigned by way of the browser, and then end the session of that browser alone. Name the " +
			"person as you got it: the same NameID with its format, and the SessionIndex."
	case !certificate:
		text += " We hold no signing certificate of you, so that none of them would count: send it."
	}
	if len(slo) == 0 {
		return text + " We hold no logout address of you: you are not told of a sign-out elsewhere."
	}
	return text + " Ours go to " + slo[0].Location + ", signed."
}

// servedFormats are the NameID formats that an application really gets.
func servedFormats(a *partners.Application) []string {
	format := bridge.SubjectFormat(a.Subject.Source, a.Subject.Format)
	if a.Subject.Attribute != "" {
		format = saml.FormatTransient
	}
	if a.SAML.Encrypt == "nameid" {
		return []string{format, saml.FormatEncrypted}
	}
	return []string{format}
}

// sampleOf is a made-up person, with what an application's own providers say of people.
func sampleOf(providers []config.Provider) claims.Bag {
	profile := claims.Bag{}
	for name, values := range claims.Sample() {
		if len(providers) == 0 || checkup.Fed(name, providers) {
			profile[name] = values
		}
	}
	for _, p := range providers {
		if p.Matching != nil && len(p.Matching.Domains) > 0 && len(profile[people.Mail]) > 0 {
			profile[people.Mail] = []string{"mira.voss@" + p.Matching.Domains[0]}
			break
		}
	}
	people.NameFromParts(profile)
	return profile
}

// registered are the application's own values as they are held of it, for comparing: its form shows them beside ours.
func registered(a *partners.Application) []api.Value {
	if a.SAML == nil {
		return nil
	}
	var out []api.Value
	add := func(name, value, field string) {
		if value != "" {
			out = append(out, api.Value{Name: name, Value: value, Kind: "url", Field: field})
		}
	}
	add("Entity ID of "+a.Name+", as it is registered", a.SAML.EntityID, ownField+"entity")
	for _, e := range a.SAML.ACS {
		add("ACS of "+a.Name+", as it is registered", e.Location, ownField+"acs")
	}
	for _, e := range a.SAML.SLO {
		add("Logout address of "+a.Name+", as it is registered", e.Location, ownField+"slo")
	}
	return out
}

// ownField marks fields of the other side's own values.
const ownField = "own-"

// theirOwn and oursByLabel tell whose value a label names: an application is the service provider, and the gate its identity
// provider.
var (
	theirOwn    = regexp.MustCompile(`(?i)\bsp\b|service provider|relying|audience|\bour\b|consumer`)
	oursByLabel = regexp.MustCompile(`(?i)\bidp\b|identity provider|issuer|remote|partner`)
)

// ownMeaning tells what a label of a SAML application's form stands for: one of its own values, or one of ours.
func ownMeaning(values []api.Value, t saml.Labelled) string {
	field := saml.Meaning(t.Label)
	if field == "acs" {
		return ownField + field
	}
	if field != "entity" && field != "slo" {
		return field
	}
	own := theirOwn.MatchString(t.Label)
	for _, v := range values {
		if !own && !oursByLabel.MatchString(t.Label) && v.Field == ownField+field && sheet.SameHost(v.Value, t.Value) {
			own = true // "Entity ID" alone says nothing of whose; the host does
		}
	}
	if own {
		return ownField + field
	}
	return field
}
