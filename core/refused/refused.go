// Package refused helps where an application refuses what it was sent, which the gate can't see: it lays out what the answer
// said beside what is registered of the application, and knows what the usual messages of applications mean (SAML Profiles,
// section 4.1.4.3; OpenID Connect Core 1.0, section 3.1.3.7).
package refused

import (
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"regexp"
	"slices"
	"strings"
	"time"

	"innergate/core/config"
	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/core/xmlsig"
	"innergate/core/xmltree"
)

// Line is one thing to compare: what the answer said, what is registered of the application, and where it stands in its settings.
type Line struct {
	Name       string `json:"name"`
	Sent       string `json:"sent"`
	Registered string `json:"registered,omitempty"`
	Look       string `json:"look"`
	Personal   bool   `json:"personal,omitempty"`
}

// Message is what an application usually says, and what it means.
type Message struct {
	Says  string `json:"says"`
	Means string `json:"means"`
	// Compare names the lines that settle it.
	Compare []string `json:"compare"`
	// Fits is set where what the application said is one of these.
	Fits bool `json:"fits,omitempty"`
}

// Compare lays out what an application was sent in a sign-in beside what is registered of it. Without an answer in the entries
// there is nothing.
func Compare(entries []trace.Entry, a *config.Application) []Line {
	for _, e := range slices.Backward(entries) {
		m := e.Message
		if m == nil || m.From != trace.Gate || m.To != trace.Application {
			continue
		}
		switch {
		case a.SAML != nil && m.Name == "Response":
			return samlLines(m, a)
		case a.OIDC != nil && m.Opened != "":
			return openidLines(m.Opened, a)
		}
	}
	return nil
}

func samlLines(m *trace.Message, a *config.Application) []Line {
	root, err := xmltree.Parse([]byte(m.Raw), xmltree.Limits{})
	if err != nil {
		return nil
	}
	assertion := root.First(saml.NSAssertion, "Assertion")
	if m.Opened != "" {
		if opened, err := xmltree.Parse([]byte(m.Opened), xmltree.Limits{}); err == nil {
			assertion = opened
		}
	}
	if assertion == nil {
		return nil
	}
	var acs []string
	for _, e := range a.SAML.ACS {
		acs = append(acs, e.Location)
	}
	lines := []Line{
		{Name: "Issuer", Sent: text(assertion, "Issuer"), Look: "IdP entity ID, also called identity provider identifier"},
		{Name: "Audience", Sent: deep(assertion, "Audience"), Registered: a.SAML.EntityID, Look: "SP entity ID, also called audience"},
		{Name: "Recipient", Sent: recipient(assertion), Registered: strings.Join(acs, ", "), Look: "ACS URL, also called return address"},
		{Name: "InResponseTo", Sent: orNone(root.Value("InResponseTo")),
			Look: "whether it takes sign-ins that it did not begin itself; none stands in those"},
		{Name: "Signing certificate", Sent: certificate(root, assertion), Look: "the IdP's certificate, by its SHA-256 fingerprint"},
		{Name: "Signature", Sent: algorithm(root, assertion), Look: "which signature it demands: of the response, the assertion or both"},
		{Name: "Encryption", Sent: encryption(root, assertion), Look: "whether it demands encryption, and for which certificate"},
		{
			Name: "Time", Look: "the clock of its server",
			Sent: deepValue(assertion, "Conditions", "NotBefore") + " to " + deepValue(assertion, "Conditions", "NotOnOrAfter"),
		},
		{Name: "Context", Sent: deep(assertion, "AuthnContextClassRef"), Look: "the strength of sign-in that it demands"},
	}
	if name := find(assertion, "NameID"); name != nil {
		lines = append(lines,
			Line{Name: "NameID", Sent: strings.TrimSpace(name.Text()), Look: "the account there that has this identifier", Personal: true},
			Line{Name: "NameID format", Sent: orNone(name.Value("Format")), Look: "the format that it wants"})
	}
	return append(lines, Line{Name: "Attributes", Sent: attributes(assertion), Look: "the names that its attribute mapping reads"})
}

func openidLines(opened string, a *config.Application) []Line {
	// A token is shown as two objects: its head, and what it claims.
	var head, claims map[string]any
	if d := json.NewDecoder(strings.NewReader(opened)); d.Decode(&head) != nil || d.Decode(&claims) != nil {
		return nil
	}
	alg, _ := head["alg"].(string)
	said := func(name string) string {
		if v, ok := claims[name]; ok {
			b, err := json.Marshal(v)
			if err == nil {
				return strings.Trim(string(b), `"`)
			}
		}
		return "none"
	}
	moment := func(name string) string {
		if n, ok := claims[name].(float64); ok {
			return time.Unix(int64(n), 0).UTC().Format(time.RFC3339)
		}
		return "none"
	}
	return []Line{
		{Name: "iss", Sent: said("iss"), Look: "issuer, also called authority"},
		{Name: "aud", Sent: said("aud"), Registered: a.OIDC.ClientID, Look: "client ID"},
		{Name: "sub", Sent: said("sub"), Look: "the account there that has this identifier", Personal: true},
		{Name: "nonce", Sent: said("nonce"), Look: "whether it keeps the nonce of its own request until the answer comes"},
		{Name: "exp", Sent: moment("exp"), Look: "the clock of its server"},
		{Name: "alg", Sent: alg, Registered: a.OIDC.Algorithm, Look: "the algorithm of ID tokens that it expects"},
		{Name: "acr", Sent: said("acr"), Look: "the strength of sign-in that it demands"},
		{Name: "claims", Sent: strings.Join(names(claims), ", "), Look: "the claims that it reads; most are told by UserInfo"},
	}
}

func names(claims map[string]any) []string {
	var out []string
	for n := range claims {
		out = append(out, n)
	}
	slices.Sort(out)
	return out
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

// find is the first element of a name at any depth.
func find(e *xmltree.Element, local string) (found *xmltree.Element) {
	e.Walk(func(x *xmltree.Element) bool {
		if found == nil && x.Is(saml.NSAssertion, local) {
			found = x
		}
		return true
	})
	return found
}

func text(e *xmltree.Element, local string) string {
	if x := e.First(saml.NSAssertion, local); x != nil {
		return strings.TrimSpace(x.Text())
	}
	return "none"
}

func deep(e *xmltree.Element, local string) string {
	if x := find(e, local); x != nil {
		return strings.TrimSpace(x.Text())
	}
	return "none"
}

func deepValue(e *xmltree.Element, local, attribute string) string {
	if x := find(e, local); x != nil {
		return orNone(x.Value(attribute))
	}
	return "none"
}

func recipient(assertion *xmltree.Element) string {
	return deepValue(assertion, "SubjectConfirmationData", "Recipient")
}

func attributes(assertion *xmltree.Element) string {
	var list []string
	assertion.Walk(func(x *xmltree.Element) bool {
		if x.Is(saml.NSAssertion, "Attribute") {
			list = append(list, x.Value("Name"))
		}
		return true
	})
	return orNone(strings.Join(list, ", "))
}

// signed are the parts that carry a signature, with their Signature elements.
func signed(root, assertion *xmltree.Element) (parts []string, signatures []*xmltree.Element) {
	for _, p := range []struct {
		name string
		e    *xmltree.Element
	}{{"the response", root}, {"the assertion", assertion}} {
		if s := p.e.First(xmlsig.NS, "Signature"); s != nil {
			parts, signatures = append(parts, p.name), append(signatures, s)
		}
	}
	return parts, signatures
}

func algorithm(root, assertion *xmltree.Element) string {
	parts, signatures := signed(root, assertion)
	if len(parts) == 0 {
		return "none"
	}
	method := ""
	signatures[0].Walk(func(x *xmltree.Element) bool {
		if x.Is(xmlsig.NS, "SignatureMethod") {
			method = xmlsig.Algorithm(x.Value("Algorithm")).Name()
		}
		return true
	})
	return strings.Join(parts, " and ") + ", with " + method
}

func certificate(root, assertion *xmltree.Element) string {
	_, signatures := signed(root, assertion)
	for _, s := range signatures {
		found := ""
		s.Walk(func(x *xmltree.Element) bool {
			if !x.Is(xmlsig.NS, "X509Certificate") {
				return true
			}
			der, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(x.Text()), ""))
			if err == nil {
				if cert, err := x509.ParseCertificate(der); err == nil {
					found = keys.Fingerprint(cert.Raw)
				}
			}
			return true
		})
		if found != "" {
			return found
		}
	}
	return "none"
}

func encryption(root, assertion *xmltree.Element) string {
	switch {
	case root.First(saml.NSAssertion, "EncryptedAssertion") != nil:
		return "the assertion is encrypted"
	case find(assertion, "EncryptedID") != nil:
		return "the NameID is encrypted"
	}
	return "nothing is encrypted"
}

// usual are the messages that applications give, by what they hold.
type usual struct {
	words *regexp.Regexp
	Message
}

func says(pattern, words, means string, compare ...string) usual {
	return usual{regexp.MustCompile(`(?i)` + pattern), Message{Says: words, Means: means, Compare: compare}}
}

var usualSAML = []usual{
	says(`signature|not signed|digest|certificate|thumbprint|fingerprint`,
		"invalid signature, signature validation failed, unknown certificate",
		"It holds another certificate of ours, or wants another part signed.", "Signing certificate", "Signature"),
	says(`audience`, "audience mismatch, the assertion is not for this service provider",
		"Its own entity ID is not the one that is registered here.", "Audience"),
	says(`recipient|destination|acs|return address|consumer`, "wrong recipient, destination does not match",
		"It expects the answer at another address than the one that is registered here, often with or without a slash, port or https.",
		"Recipient"),
	says(`issuer|unknown idp|identity provider`, "unknown issuer, identity provider not found",
		"Our entity ID is entered there otherwise.", "Issuer"),
	says(`inresponseto|unsolicited|no request|relay ?state|session (was )?lost|state`, "unsolicited response, InResponseTo does not match",
		"It takes only sign-ins that it began itself, or it has lost its own request: another host name, a cookie that the browser "+
			"did not send back, several servers without a common session store.", "InResponseTo"),
	says(`notbefore|notonorafter|not yet valid|expired|time|clock|skew`, "assertion expired, not yet valid",
		"Its clock is off, or the answer lay about for minutes.", "Time"),
	says(`user|account|not found|no such|unknown person|does not exist|provision`, "user not found, no such account",
		"It knows nobody by the identifier that it got: the account is missing there, or it wants another identifier.",
		"NameID", "NameID format", "Attributes"),
	says(`name ?id`, "missing or unsupported NameID", "It wants the identifier in another format.", "NameID format", "NameID"),
	says(`attribute|missing|role|group|claim|e-?mail`, "required attribute missing, no role",
		"It reads the attribute under another name, or the person has no value for it.", "Attributes"),
	says(`encrypt|decrypt|key`, "could not decrypt, encrypted assertion expected",
		"It wants an encrypted assertion and gets none, or the certificate that we encrypt to is not its current one.", "Encryption"),
	says(`authn ?context|requested context`, "authentication context not met", "It demands another strength of sign-in.", "Context"),
}

var usualOpenID = []usual{
	says(`issuer|iss\b|authority`, "invalid issuer", "The issuer is entered there otherwise; a slash at the end counts.", "iss"),
	says(`audience|aud\b|client`, "invalid audience", "It has another client ID than the one that is registered here.", "aud"),
	says(`nonce|state`, "nonce or state mismatch",
		"It has lost its own request: a cookie that did not come back, or several servers without a common session store.", "nonce"),
	says(`expired|iat|exp\b|clock|time`, "token expired, issued in the future", "Its clock is off.", "exp"),
	says(`kid|jwks|key|signature|alg`, "key not found, invalid signature, unexpected algorithm",
		"It did not fetch our key set since the keys changed, can't reach it, or expects another algorithm.", "alg"),
	says(`user|account|not found|no such|does not exist|sub\b`, "user not found",
		"It knows nobody by the identifier or claim that it looks for.", "sub", "claims"),
	says(`claim|email|missing|profile|role|group|scope`, "claim missing",
		"It did not ask for the scope, reads only the ID token where claims come with UserInfo, or the person has no value.", "claims"),
	says(`acr|mfa`, "insufficient authentication", "It demands another strength of sign-in.", "acr"),
}

// Messages are the usual messages of applications of a kind; those that fit what one said come first.
func Messages(openid bool, said string) []Message {
	table := usualSAML
	if openid {
		table = usualOpenID
	}
	out := []Message{}
	for _, u := range table {
		m := u.Message
		m.Fits = said != "" && u.words.MatchString(said)
		out = append(out, m)
	}
	slices.SortStableFunc(out, func(a, b Message) int {
		switch {
		case a.Fits == b.Fits:
			return 0
		case a.Fits:
			return -1
		}
		return 1
	})
	return out
}
