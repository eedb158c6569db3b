package standin

import (
	"bytes"
	"compress/flate"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/sha512"
	"crypto/x509"
	"encoding/base64"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/core/xmlsig"
)

// Person is somebody whom a stand-in provider knows.
type Person struct {
	ID         string
	Name       string
	Role       string
	Attributes []saml.Attribute
	Claims     map[string]any // for OpenID providers
}

// Partner is what a stand-in provider holds about a service provider.
type Partner struct {
	EntityID     string
	ACS          string
	SLO          string
	Certificates []*x509.Certificate
}

// Mistakes that a stand-in provider can be told to make, with what they are in words.
var Mistakes = []struct{ Name, Words string }{
	{"", "none"},
	{
		"audience",
		"names another audience",
	}, {"recipient-slash", "adds a slash to the recipient"}, {"destination", "names another destination"},
	{
		"wrong-key",
		"signs with a certificate that nobody holds",
	}, {"unsigned", "signs nothing"}, {"response-only", "signs the response only"},
	{"expired", "its clock is an hour behind"}, {"early", "its clock is an hour ahead"}, {"nameid-format", "sends another NameID format"},
	{
		"no-nameid",
		"sends no NameID",
	}, {"issuer", "names another issuer"}, {"in-response-to", "answers another request"}, {"old-session", "uses a session from yesterday"},
	{
		"no-attributes",
		"sends no attributes",
	}, {"no-context", "answers NoAuthnContext"}, {"nameid-policy", "answers InvalidNameIDPolicy"}, {"denied", "answers RequestDenied"},
}

// Provider is a simulated SAML identity provider.
type Provider struct {
	Name, Base string
	People     []Person
	// FindPartner gives what is held about a service provider.
	FindPartner func(entityID string) (*Partner, error)
	// Starts are the applications that can be begun at the provider: name and RelayState.
	Starts   [][2]string
	Partner  string // the service provider for sign-ins begun here
	Recorder *Recorder
	Now      func() time.Time

	source      keys.Source
	keys, rogue keyPair
	next        *keyPair // announced in the metadata
	last        string
	waiting     map[string]waiting
	mu          sync.Mutex
	desk[*askedOf]
	mistake string
}

// askedOf is a request that waits for the person.
type askedOf struct {
	request  inRequest
	relay    string
	partner  *Partner
	mistaken string
}

// inRequest is read by this package's own code, not by the gate's.
type inRequest struct {
	XMLName     xml.Name
	ID          string `xml:"ID,attr"`
	Version     string `xml:"Version,attr"`
	Destination string `xml:"Destination,attr"`
	ACS         string `xml:"AssertionConsumerServiceURL,attr"`
	Binding     string `xml:"ProtocolBinding,attr"`
	Force       bool   `xml:"ForceAuthn,attr"`
	Passive     bool   `xml:"IsPassive,attr"`
	Issuer      string `xml:"urn:oasis:names:tc:SAML:2.0:assertion Issuer"`
	Policy      struct {
		Format string `xml:"Format,attr"`
	} `xml:"urn:oasis:names:tc:SAML:2.0:protocol NameIDPolicy"`
}

// NewProvider makes one with keys of its own from the source. Life is how long its certificate is good.
func NewProvider(name, base string, people []Person, life time.Duration, source keys.Source) (*Provider, error) {
	p := &Provider{Name: name, Base: base, People: people, Now: time.Now, source: source}
	var err error
	if p.keys, err = newKeyPair(source, name, time.Now(), life); err != nil {
		return nil, err
	}
	p.rogue, err = newKeyPair(source, name+" (another)", time.Now(), life)
	return p, err
}

// EntityID is the provider's.
func (p *Provider) EntityID() string { return p.Base + "/idp" }

// SetMistake tells the provider which mistake to make from now on; empty for none.
func (p *Provider) SetMistake(name string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.mistake = name
}

// Sent is the response that it sent last, as XML.
func (p *Provider) Sent() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.last
}

// signing is the key that signs now.
func (p *Provider) signing() keyPair {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.keys
}

// AnnounceKey makes a new key and puts its certificate into the metadata, beside the one that signs.
func (p *Provider) AnnounceKey() error {
	next, err := newKeyPair(p.source, p.Name+" (new)", p.Now(), 2*365*24*time.Hour)
	if err != nil {
		return err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.next = &next
	return nil
}

// ChangeKey signs with the key that was announced, and takes the old one out of the metadata.
func (p *Provider) ChangeKey() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.next != nil {
		p.keys, p.next = *p.next, nil
	}
}

// Announced tells whether a key waits to be used.
func (p *Provider) Announced() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.next != nil
}

// Metadata is the provider's metadata.
func (p *Provider) Metadata() ([]byte, error) {
	p.mu.Lock()
	descriptors := []saml.KeyDescriptor{{Use: "signing", Certificate: p.keys.cert}}
	if p.next != nil {
		descriptors = append(descriptors, saml.KeyDescriptor{Use: "signing", Certificate: p.next.cert})
	}
	p.mu.Unlock()
	zero := 0
	return saml.WriteMetadata(saml.Entity{EntityID: p.EntityID(), Roles: []saml.Role{{
		Kind: saml.RoleIDP, DisplayName: p.Name, WantAuthnRequestsSigned: true, Keys: descriptors,
		NameIDFormats: []string{saml.FormatPersistent, saml.FormatTransient},
		Endpoints: []saml.Endpoint{
			{Service: saml.ServiceArtifact, Binding: saml.BindingSOAP, Location: p.Base + "/artifact", Index: &zero, Default: true},
			{Service: saml.ServiceSSO, Binding: saml.BindingRedirect, Location: p.Base + "/sso"},
			{Service: saml.ServiceSSO, Binding: saml.BindingPost, Location: p.Base + "/sso"},
			{Service: saml.ServiceSLO, Binding: saml.BindingRedirect, Location: p.SLO()},
		},
	}}}, 30*24*time.Hour, p.Now(), nil)
}

// Handler serves the provider's pages and endpoints.
func (p *Provider) Handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /favicon.ico", noPicture)
	mux.HandleFunc("GET /metadata", func(w http.ResponseWriter, r *http.Request) {
		doc, err := p.Metadata()
		if err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		w.Header().Set("Content-Type", "application/samlmetadata+xml")
		// What counts in it are the certificates; the rest differs each time.
		tag := sha256.New()
		for _, k := range saml.ReadMetadata(doc, p.Now()).Entities[0].Roles[0].Keys {
			tag.Write(k.Certificate.Raw)
		}
		w.Header().Set("ETag", fmt.Sprintf(`"%x"`, tag.Sum(nil)[:12]))
		if r.Header.Get("If-None-Match") == w.Header().Get("ETag") {
			w.WriteHeader(http.StatusNotModified)
			return
		}
		w.Write(doc)
	})
	mux.HandleFunc("POST /artifact", p.resolve)
	mux.HandleFunc("POST /key", func(w http.ResponseWriter, r *http.Request) {
		if r.FormValue("do") == "change" {
			p.ChangeKey()
		} else if err := p.AnnounceKey(); err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		http.Redirect(w, r, "/", http.StatusSeeOther)
	})
	mux.HandleFunc("GET /{$}", p.home)
	mux.HandleFunc("POST /start", p.start)
	mux.HandleFunc("POST /mistake", func(w http.ResponseWriter, r *http.Request) {
		p.SetMistake(r.FormValue("mistake"))
		http.Redirect(w, r, "/", http.StatusSeeOther)
	})
	mux.HandleFunc("/sso", p.sso)
	mux.HandleFunc("POST /sign-in", p.signIn)
	mux.HandleFunc("/slo", p.slo)
	mux.HandleFunc("GET /sign-out", p.signOut)
	return mux
}

type providerPage struct {
	*Provider
	Handle, Refusal, Person, Chosen string
	Mistakes                        []struct{ Name, Words string }
}

func (p *Provider) home(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	chosen := p.mistake
	p.mu.Unlock()
	render(w, http.StatusOK, "provider-home.html", providerPage{Provider: p, Chosen: chosen, Mistakes: Mistakes})
}

// read undoes the binding and checks the request as this provider's own code sees it.
func (p *Provider) read(r *http.Request) (*askedOf, error) {
	a := &askedOf{}
	var doc []byte
	if r.Method == http.MethodPost {
		raw, err := base64.StdEncoding.DecodeString(r.FormValue("SAMLRequest"))
		if err != nil {
			return nil, errors.New("SAMLRequest is not base64")
		}
		doc, a.relay = raw, r.FormValue("RelayState")
	} else {
		packed, err := base64.StdEncoding.DecodeString(r.URL.Query().Get("SAMLRequest"))
		if err != nil {
			return nil, errors.New("SAMLRequest is not base64")
		}
		if doc, err = io.ReadAll(io.LimitReader(flate.NewReader(bytes.NewReader(packed)), 1<<20)); err != nil {
			return nil, errors.New("SAMLRequest is not deflated")
		}
		a.relay = r.URL.Query().Get("RelayState")
	}
	if err := p.Recorder.Keep("authn-request-to-provider.xml", doc); err != nil {
		return nil, err
	}
	if err := xml.Unmarshal(doc, &a.request); err != nil || a.request.XMLName.Local != "AuthnRequest" {
		return nil, errors.New("this is not an AuthnRequest")
	}
	var err error
	if a.partner, err = p.FindPartner(a.request.Issuer); err != nil {
		return nil, fmt.Errorf("the issuer %q is not registered: %w", a.request.Issuer, err)
	}
	switch {
	case a.request.Version != "2.0":
		return nil, errors.New("the version is not 2.0")
	case a.request.Destination != p.Base+"/sso":
		return nil, fmt.Errorf("the destination %q is not ours", a.request.Destination)
	case a.request.ACS != a.partner.ACS:
		return nil, fmt.Errorf("the ACS URL %q is not registered", a.request.ACS)
	}
	if r.Method == http.MethodGet {
		err = p.querySigned(r.URL.RawQuery, a.partner)
	}
	return a, err
}

// querySigned checks an RSA or ECDSA signature over the query with nothing but the standard library.
func (p *Provider) querySigned(raw string, partner *Partner) error {
	var signed []string
	var sig string
	for _, want := range []string{"SAMLRequest", "RelayState", "SigAlg", "Signature"} {
		for _, pair := range strings.Split(raw, "&") {
			if name, value, _ := strings.Cut(pair, "="); name == want && want == "Signature" {
				sig = value
			} else if name == want {
				signed = append(signed, pair)
			}
		}
	}
	plain, err := url.QueryUnescape(sig)
	if err != nil || sig == "" {
		return errors.New("the request is not signed")
	}
	value, err := base64.StdEncoding.DecodeString(plain)
	if err != nil {
		return errors.New("the signature is not base64")
	}
	text := []byte(strings.Join(signed, "&"))
	sum, long := sha256.Sum256(text), sha512.Sum384(text)
	for _, cert := range partner.Certificates {
		switch key := cert.PublicKey.(type) {
		case *rsa.PublicKey:
			if rsa.VerifyPKCS1v15(key, crypto.SHA256, sum[:], value) == nil {
				return nil
			}
		case *ecdsa.PublicKey:
			// XML Signature writes an ECDSA value as the two numbers, one behind the other.
			digest := sum[:]
			if key.Curve == elliptic.P384() {
				digest = long[:]
			}
			if half := len(value) / 2; half > 0 &&
				ecdsa.Verify(key, digest, new(big.Int).SetBytes(value[:half]), new(big.Int).SetBytes(value[half:])) {
				return nil
			}
		}
	}
	return errors.New("the request's signature was not made with a key that we hold")
}

func (p *Provider) sso(w http.ResponseWriter, r *http.Request) {
	a, err := p.read(r)
	if err != nil {
		render(w, http.StatusBadRequest, "provider-refusal.html", providerPage{Provider: p, Refusal: err.Error()})
		return
	}
	p.mu.Lock()
	a.mistaken = p.mistake
	p.mu.Unlock()
	old := p.desk.known(r, p.Base)
	if person := findPerson(p.People, old.person); person != nil && (!a.request.Force || a.mistaken == "old-session") {
		p.answer(w, a, person, old.at)
		return
	}
	if a.request.Passive {
		p.refuse(w, a, "Responder", "NoPassive")
		return
	}
	render(w, http.StatusOK, "provider-sign-in.html", providerPage{Provider: p, Handle: p.desk.wait(a)})
}

func (p *Provider) signIn(w http.ResponseWriter, r *http.Request) {
	a, ok := p.desk.take(r.FormValue("handle"))
	person := findPerson(p.People, r.FormValue("person"))
	if !ok || person == nil {
		render(
			w,
			http.StatusBadRequest,
			"provider-refusal.html",
			providerPage{Provider: p, Refusal: "This sign-in page is no longer good. Start again at the application."},
		)
		return
	}
	p.desk.remember(w, p.Base, person, p.Now())
	p.answer(w, a, person, p.Now())
}

// start begins a sign-in here: an unsolicited response with the application's start address as RelayState.
func (p *Provider) start(w http.ResponseWriter, r *http.Request) {
	person := findPerson(p.People, r.FormValue("person"))
	partner, err := p.FindPartner(p.Partner)
	if err != nil || person == nil {
		render(
			w,
			http.StatusBadRequest,
			"provider-refusal.html",
			providerPage{Provider: p, Refusal: "This person or the service provider is not known."},
		)
		return
	}
	p.desk.remember(w, p.Base, person, p.Now())
	p.mu.Lock()
	mistaken := p.mistake
	p.mu.Unlock()
	p.answer(w, &askedOf{partner: partner, relay: r.FormValue("application"), mistaken: mistaken}, person, p.Now())
}

func (p *Provider) refuse(w http.ResponseWriter, a *askedOf, status, substatus string) {
	made, err := saml.ErrorResponse(
		saml.EntityID(p.EntityID()), a.partner.ACS, a.request.ID, status, substatus, "simulated refusal", p.Now(),
		&xmlsig.Signer{Key: p.signing().key},
	)
	p.post(w, a, made, err)
}

func (p *Provider) answer(w http.ResponseWriter, a *askedOf, person *Person, at time.Time) {
	switch a.mistaken {
	case "no-context":
		p.refuse(w, a, "Responder", "NoAuthnContext")
		return
	case "nameid-policy":
		p.refuse(w, a, "Requester", "InvalidNameIDPolicy")
		return
	case "denied":
		p.refuse(w, a, "Responder", "RequestDenied")
		return
	}
	own := p.signing()
	signer := &xmlsig.Signer{Key: own.key, Certificate: own.cert.Raw}
	s := saml.Issued{
		Issuer: saml.EntityID(p.EntityID()), Audience: saml.EntityID(a.partner.EntityID), ACS: a.partner.ACS, InResponseTo: a.request.ID,
		Now: p.Now(),
		NameID: saml.NameID{
			Value:  person.ID + "-7c1f",
			Format: saml.FormatPersistent,
		}, AuthnInstant: at, Context: saml.ContextPassword, SessionIndex: "_" + rand(), Attributes: person.Attributes,
		SignAssertion: true, Signer: signer,
	}
	if f := a.request.Policy.Format; f == saml.FormatTransient {
		s.NameID = saml.NameID{Value: "_" + rand(), Format: f}
	}
	p.mistakes(a.mistaken, &s)
	made, err := saml.IssueResponse(s)
	p.post(w, a, made, err)
}

func (p *Provider) mistakes(name string, s *saml.Issued) {
	switch name {
	case "audience":
		s.Audience += "/metadata"
	case "recipient-slash", "destination":
		s.ACS += "/"
	case "wrong-key":
		s.Signer = &xmlsig.Signer{Key: p.rogue.key, Certificate: p.rogue.cert.Raw}
	case "unsigned":
		s.SignAssertion = false
	case "response-only":
		s.SignAssertion, s.SignResponse = false, true
	case "expired":
		s.Now, s.AuthnInstant = s.Now.Add(-time.Hour), s.AuthnInstant.Add(-time.Hour)
	case "early":
		s.Now, s.AuthnInstant = s.Now.Add(time.Hour), s.AuthnInstant.Add(time.Hour)
	case "nameid-format":
		s.NameID.Format = saml.FormatUnspecified
	case "no-nameid":
		s.NameID = saml.NameID{}
	case "issuer":
		s.Issuer += "/old"
	case "in-response-to":
		s.InResponseTo = "_" + rand()
	case "old-session":
		s.AuthnInstant = s.AuthnInstant.Add(-24 * time.Hour)
	case "no-attributes":
		s.Attributes = nil
	}
}

// post sends the browser on with the response. The form goes to the partner's true ACS, whatever the message says.
func (p *Provider) post(w http.ResponseWriter, a *askedOf, made *saml.MadeResponse, err error) {
	if err == nil {
		p.mu.Lock()
		p.last = string(made.XML)
		p.mu.Unlock()
		err = p.Recorder.Keep("response-from-provider.xml", made.XML)
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	if a.request.Binding == saml.BindingArtifact {
		w.Header().Set("Cache-Control", "no-store")
		w.Header().Set("Location", byArtifact(a.partner.ACS, p.artifact(made.XML, a.partner), a.relay))
		w.WriteHeader(http.StatusSeeOther)
		return
	}
	render(
		w,
		http.StatusOK,
		"send.html",
		map[string]string{
			"Action": a.partner.ACS,
			"Field":  "SAMLResponse",
			"Value":  base64.StdEncoding.EncodeToString(made.XML),
			"Relay":  a.relay,
			"Who":    p.Name + " (simulated provider)",
		},
	)
}
