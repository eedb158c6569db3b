package standin

import (
	"bytes"
	"compress/flate"
	"crypto"
	crand "crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"innergate/core/saml"
	"innergate/core/xmlsig"
	"innergate/core/xmltree"
)

// inLogout is a logout message as a stand-in's own code reads it.
type inLogout struct {
	XMLName      xml.Name
	ID           string   `xml:"ID,attr"`
	Destination  string   `xml:"Destination,attr"`
	InResponseTo string   `xml:"InResponseTo,attr"`
	Issuer       string   `xml:"urn:oasis:names:tc:SAML:2.0:assertion Issuer"`
	NameID       string   `xml:"urn:oasis:names:tc:SAML:2.0:assertion NameID"`
	Sessions     []string `xml:"urn:oasis:names:tc:SAML:2.0:protocol SessionIndex"`
	Status       struct {
		Code struct {
			Value string `xml:"Value,attr"`
			Sub   struct {
				Value string `xml:"Value,attr"`
			} `xml:"StatusCode"`
		} `xml:"StatusCode"`
		Message string `xml:"StatusMessage"`
	} `xml:"urn:oasis:names:tc:SAML:2.0:protocol Status"`

	relay, binding string
	doc            []byte
}

// partial tells that somebody else could not be told.
func (in *inLogout) partial() bool {
	return strings.HasSuffix(in.Status.Code.Sub.Value, ":PartialLogout")
}

// readLogout undoes the binding of a logout message, checks its signature and to whom it is addressed.
func readLogout(r *http.Request, location, issuer string, trusted []*x509.Certificate) (*inLogout, error) {
	in := &inLogout{binding: saml.BindingPost}
	var doc []byte
	var err error
	switch {
	case r.Method == http.MethodGet:
		q := r.URL.Query()
		in.binding, in.relay = saml.BindingRedirect, q.Get("RelayState")
		var packed []byte
		if packed, err = base64.StdEncoding.DecodeString(q.Get("SAMLRequest") + q.Get("SAMLResponse")); err == nil {
			doc, err = io.ReadAll(io.LimitReader(flate.NewReader(bytes.NewReader(packed)), 1<<20))
		}
		if err == nil {
			err = queryBy(r.URL.RawQuery, trusted)
		}
	case strings.HasPrefix(r.Header.Get("Content-Type"), "text/xml"):
		in.binding = saml.BindingSOAP
		var envelope struct {
			Body struct {
				Inner []byte `xml:",innerxml"`
			} `xml:"Body"`
		}
		if doc, err = io.ReadAll(io.LimitReader(r.Body, 1<<20)); err == nil {
			err = xml.Unmarshal(doc, &envelope)
		}
		doc = envelope.Body.Inner
	default:
		in.relay = r.FormValue("RelayState")
		doc, err = base64.StdEncoding.DecodeString(r.FormValue("SAMLRequest") + r.FormValue("SAMLResponse"))
	}
	if err != nil {
		return nil, fmt.Errorf("the logout message can't be read: %w", err)
	}
	if in.binding != saml.BindingRedirect {
		root, err := xmltree.Parse(doc, xmltree.Limits{})
		if err != nil {
			return nil, err
		}
		var keys []crypto.PublicKey
		for _, c := range trusted {
			keys = append(keys, c.PublicKey)
		}
		if _, err := xmlsig.Verify(root, root.First(saml.NSAssertion, "Issuer"), keys, xmlsig.Policy{}); err != nil {
			return nil, err
		}
	}
	if err := xml.Unmarshal(doc, in); err != nil {
		return nil, err
	}
	in.doc = doc
	switch {
	case in.Issuer != issuer:
		return nil, fmt.Errorf("the issuer %q is not our partner", in.Issuer)
	case in.Destination != "" && in.Destination != location:
		return nil, fmt.Errorf("the destination %q is not ours", in.Destination)
	}
	return in, nil
}

// queryBy checks an RSA signature with SHA-256 over the query.
func queryBy(raw string, trusted []*x509.Certificate) error {
	text, rest, ok := strings.Cut(raw, "&Signature=")
	sig, err := url.QueryUnescape(rest)
	if !ok || err != nil {
		return errors.New("the query is not signed")
	}
	value, err := base64.StdEncoding.DecodeString(sig)
	if err != nil {
		return err
	}
	for _, c := range trusted {
		if c.CheckSignature(x509.SHA256WithRSA, []byte(text), value) == nil {
			return nil
		}
	}
	return errors.New("the query's signature was not made with a key that we hold")
}

// signedQuery makes an address with a logout message, signed.
func signedQuery(location, param string, doc []byte, relay string, key crypto.Signer) (string, error) {
	var packed bytes.Buffer
	z, err := flate.NewWriter(&packed, 6)
	if err != nil {
		return "", err
	}
	if _, err := z.Write(doc); err != nil {
		return "", err
	}
	if err := z.Close(); err != nil {
		return "", err
	}
	query := param + "=" + url.QueryEscape(base64.StdEncoding.EncodeToString(packed.Bytes()))
	if relay != "" {
		query += "&RelayState=" + url.QueryEscape(relay)
	}
	query += "&SigAlg=" + url.QueryEscape(string(xmlsig.RSASHA256))
	sum := sha256.Sum256([]byte(query))
	sig, err := key.Sign(crand.Reader, sum[:], crypto.SHA256)
	return location + "?" + query + "&Signature=" + url.QueryEscape(base64.StdEncoding.EncodeToString(sig)), err
}

func escaped(s string) string {
	var b strings.Builder
	xml.EscapeText(&b, []byte(s)) // a Builder does not fail
	return b.String()
}

func logoutRequest(issuer, destination, nameID, format string, sessions []string, now time.Time) (id string, doc []byte) {
	id = "_" + rand()
	var b strings.Builder
	fmt.Fprintf(
		&b,
		`<samlp:LogoutRequest xmlns:samlp="%s" xmlns:saml="%s" ID="%s" Version="2.0" IssueInstant="%s" `+
			`Destination="%s"><saml:Issuer>%s</saml:Issuer><saml:NameID Format="%s">%s</saml:NameID>`,
		saml.NSProtocol,
		saml.NSAssertion,
		id,
		now.UTC().Format(time.RFC3339),
		destination,
		escaped(issuer),
		format,
		escaped(nameID),
	)
	for _, s := range sessions {
		fmt.Fprintf(&b, `<samlp:SessionIndex>%s</samlp:SessionIndex>`, escaped(s))
	}
	b.WriteString(`</samlp:LogoutRequest>`)
	return id, []byte(b.String())
}

func logoutAnswer(issuer, destination, inResponseTo string, now time.Time) []byte {
	return fmt.Appendf(
		nil,
		`<samlp:LogoutResponse xmlns:samlp="%s" xmlns:saml="%s" ID="_%s" Version="2.0" IssueInstant="%s" Destination="%s" `+
			`InResponseTo="%s"><saml:Issuer>%s</saml:Issuer><samlp:Status><samlp:StatusCode `+
			`Value="urn:oasis:names:tc:SAML:2.0:status:Success"/></samlp:Status></samlp:LogoutResponse>`,
		saml.NSProtocol,
		saml.NSAssertion,
		rand(),
		now.UTC().Format(time.RFC3339),
		destination,
		inResponseTo,
		escaped(issuer),
	)
}

// held is somebody's session at an application.
type held struct {
	nameID, format, index string
}

// begin keeps a session of a browser.
func (a *Application) begin(w http.ResponseWriter, got *Received) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.sessions == nil || len(a.sessions) > deskRoom {
		a.sessions = map[string]held{}
	}
	id := rand()
	a.sessions[id] = held{got.NameID, got.Format, got.SessionIndex}
	http.SetCookie(
		w,
		&http.Cookie{
			Name:     a.cookie(),
			Value:    id,
			Path:     "/",
			HttpOnly: true,
			Secure:   strings.HasPrefix(a.Base, "https:"),
			SameSite: http.SameSiteLaxMode,
		},
	)
}

func (a *Application) cookie() string {
	name := "standin-" + slug(a.Name)
	if u, err := url.Parse(a.Base); err == nil {
		name += "-" + u.Port()
	}
	return name
}

// session is the session of a browser, if there is one.
func (a *Application) session(r *http.Request) (id string, h held, ok bool) {
	c, err := r.Cookie(a.cookie())
	if err != nil {
		return "", held{}, false
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	h, ok = a.sessions[c.Value]
	return c.Value, h, ok
}

// Sessions lists who is signed in at the application, by NameID.
func (a *Application) Sessions() []string {
	a.mu.Lock()
	defer a.mu.Unlock()
	var out []string
	for _, h := range a.sessions {
		out = append(out, h.nameID)
	}
	slices.Sort(out)
	return out
}

// SLO is the application's single logout service.
func (a *Application) SLO() string { return a.Base + "/slo" }

func (a *Application) slo(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 2<<20)
	refuse := func(err error) {
		render(w, http.StatusForbidden, "application-refusal.html", applicationPage{Application: a, Refusal: err.Error()})
	}
	idp, err := a.IDP()
	if err != nil {
		refuse(err)
		return
	}
	in, err := readLogout(r, a.SLO(), idp.EntityID, idp.Certificates)
	var named []byte
	if err == nil {
		named, err = a.decrypted(in.doc, "EncryptedID")
	}
	if err == nil {
		err = xml.Unmarshal(named, in)
	}
	if err != nil {
		refuse(err)
		return
	}
	if in.XMLName.Local == "LogoutResponse" {
		a.mu.Lock()
		_, ours := a.sent[in.InResponseTo]
		delete(a.sent, in.InResponseTo)
		a.mu.Unlock()
		if !ours || !strings.HasSuffix(in.Status.Code.Value, ":Success") {
			refuse(fmt.Errorf("the identity provider did not sign us out: %s", in.Status.Message))
			return
		}
		words := "The identity provider has signed you out everywhere."
		if in.partial() {
			words = "The identity provider has signed you out, but not everywhere. " + in.Status.Message
		}
		render(w, http.StatusOK, "application-out.html", applicationPage{Application: a, Refusal: words})
		return
	}
	a.mu.Lock()
	for id, h := range a.sessions {
		if h.nameID == in.NameID && (len(in.Sessions) == 0 || slices.Contains(in.Sessions, h.index)) {
			delete(a.sessions, id)
		}
	}
	a.mu.Unlock()
	answer := logoutAnswer(a.EntityID(), idp.SLO, in.ID, a.Now())
	if in.binding == saml.BindingSOAP {
		w.Header().Set("Content-Type", "text/xml")
		fmt.Fprintf(w, `<soap:Envelope xmlns:soap="%s"><soap:Body>%s</soap:Body></soap:Envelope>`, saml.NSSOAP, answer)
		return
	}
	location, err := signedQuery(idp.SLO, "SAMLResponse", answer, in.relay, a.keys.key)
	if err != nil {
		refuse(err)
		return
	}
	http.Redirect(w, r, location, http.StatusFound)
}

// signOut begins a sign-out at the application.
func (a *Application) signOut(w http.ResponseWriter, r *http.Request) {
	idp, err := a.IDP()
	id, h, ok := a.session(r)
	if err != nil || !ok {
		render(w, http.StatusOK, "application-home.html", applicationPage{Application: a})
		return
	}
	request, doc := logoutRequest(a.EntityID(), idp.SLO, h.nameID, h.format, []string{h.index}, a.Now())
	a.mu.Lock()
	delete(a.sessions, id)
	a.sent[request] = a.Now()
	a.mu.Unlock()
	location, err := signedQuery(idp.SLO, "SAMLRequest", doc, "signed out at "+a.Name, a.keys.key)
	if a.Habits().UnsignedLogout {
		location, _, _ = strings.Cut(location, "&SigAlg=")
	}
	if err != nil {
		render(w, http.StatusInternalServerError, "application-refusal.html", applicationPage{Application: a, Refusal: err.Error()})
		return
	}
	http.Redirect(w, r, location, http.StatusFound)
}

// SLO is the provider's single logout service.
func (p *Provider) SLO() string { return p.Base + "/slo" }

// slo takes logout messages of the service provider.
func (p *Provider) slo(w http.ResponseWriter, r *http.Request) {
	refuse := func(err error) {
		render(w, http.StatusBadRequest, "provider-refusal.html", providerPage{Provider: p, Refusal: err.Error()})
	}
	partner, err := p.FindPartner(p.Partner)
	if err != nil {
		refuse(err)
		return
	}
	in, err := readLogout(r, p.SLO(), partner.EntityID, partner.Certificates)
	if err != nil {
		refuse(err)
		return
	}
	if in.XMLName.Local == "LogoutResponse" {
		words := "The service provider has signed you out everywhere."
		if in.partial() {
			words = "The service provider has signed you out, but not everywhere. " + in.Status.Message
		}
		render(w, http.StatusOK, "provider-out.html", providerPage{Provider: p, Refusal: words})
		return
	}
	p.desk.leave(r, p.Base)
	location, err := signedQuery(
		partner.SLO, "SAMLResponse", logoutAnswer(p.EntityID(), partner.SLO, in.ID, p.Now()), in.relay, p.signing().key,
	)
	if err != nil {
		refuse(err)
		return
	}
	http.Redirect(w, r, location, http.StatusFound)
}

// signOut begins a sign-out at the provider: its own session ends, and the service provider is told.
func (p *Provider) signOut(w http.ResponseWriter, r *http.Request) {
	person := p.desk.known(r, p.Base).person
	p.desk.leave(r, p.Base)
	partner, err := p.FindPartner(p.Partner)
	if err != nil || person == "" {
		render(w, http.StatusOK, "provider-out.html", providerPage{Provider: p, Refusal: "Nobody was signed in here."})
		return
	}
	_, doc := logoutRequest(p.EntityID(), partner.SLO, person+"-7c1f", saml.FormatPersistent, nil, p.Now())
	location, err := signedQuery(partner.SLO, "SAMLRequest", doc, "", p.signing().key)
	if err != nil {
		render(w, http.StatusInternalServerError, "provider-refusal.html", providerPage{Provider: p, Refusal: err.Error()})
		return
	}
	http.Redirect(w, r, location, http.StatusSeeOther)
}

// Signer signs as the provider does.
func (p *Provider) Signer() *xmlsig.Signer {
	own := p.signing()
	return &xmlsig.Signer{Key: own.key, Certificate: own.cert.Raw}
}
