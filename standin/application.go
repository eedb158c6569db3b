package standin

import (
	"bytes"
	"compress/flate"
	"crypto"
	crand "crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"encoding/xml"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/core/xmlsig"
	"innergate/core/xmltree"
)

func rand() string {
	var b [16]byte
	crand.Read(b[:])
	return hex.EncodeToString(b[:])
}

// Application is a simulated SAML application.
type Application struct {
	Name, Base string
	// IDP gives what the application holds about its identity provider: the gate.
	IDP      func() (*IDP, error)
	Recorder *Recorder
	Now      func() time.Time
	// SPInitiatedOnly refuses unsolicited responses.
	SPInitiatedOnly bool
	// Format is the NameID format that its metadata lists and its requests ask for; empty for none in particular.
	Format string
	// Artifact has it ask for its answers by artifact.
	Artifact bool
	// Transport reaches the identity provider's back channel; nil for the usual one.
	Transport http.RoundTripper

	// BackChannelLogout has its metadata list a single logout service by SOAP as well.
	BackChannelLogout bool

	keys     keyPair
	mu       sync.Mutex
	habits   ApplicationHabits
	sent     map[string]time.Time // requests that wait for an answer
	used     map[string]bool
	sessions map[string]held // by the browser's cookie
}

// IDP is what an application holds about its identity provider.
type IDP struct {
	EntityID     string
	SSO          string
	SLO          string
	Artifact     string
	Certificates []*x509.Certificate
}

// Received is what the application learnt about the person.
type Received struct {
	NameID     string
	Format     string
	Attributes []saml.Attribute
	RelayState string
	Solicited  bool
	Context    string
	// SessionIndex is the identity provider's name for the session.
	SessionIndex string
}

// NewApplication makes one with keys of its own from the source.
func NewApplication(name, base string, source keys.Source) (*Application, error) {
	a := &Application{Name: name, Base: base, Now: time.Now, sent: map[string]time.Time{}, used: map[string]bool{}}
	var err error
	a.keys, err = newKeyPair(source, name, time.Now(), 2*365*24*time.Hour)
	return a, err
}

// EntityID is the application's.
func (a *Application) EntityID() string { return a.Base + "/saml" }

// ACS is the application's assertion consumer service.
func (a *Application) ACS() string { return a.Base + "/acs" }

// Metadata is the application's metadata.
func (a *Application) Metadata() ([]byte, error) {
	zero, one := 0, 1
	endpoints := []saml.Endpoint{{Service: saml.ServiceACS, Binding: saml.BindingPost, Location: a.ACS(), Index: &zero, Default: true}}
	if a.Artifact {
		endpoints = append(
			endpoints,
			saml.Endpoint{Service: saml.ServiceACS, Binding: saml.BindingArtifact, Location: a.ACS(), Index: &one},
		)
	}
	endpoints = append(endpoints, saml.Endpoint{Service: saml.ServiceSLO, Binding: saml.BindingRedirect, Location: a.SLO()})
	if a.BackChannelLogout {
		endpoints = append(endpoints, saml.Endpoint{Service: saml.ServiceSLO, Binding: saml.BindingSOAP, Location: a.SLO()})
	}
	return saml.WriteMetadata(saml.Entity{EntityID: a.EntityID(), Roles: []saml.Role{{
		Kind: saml.RoleSP, DisplayName: a.Name, AuthnRequestsSigned: true, WantAssertionsSigned: true,
		Keys:          []saml.KeyDescriptor{{Use: "signing", Certificate: a.keys.cert}, {Use: "encryption", Certificate: a.keys.cert}},
		NameIDFormats: formats(a.Format),
		Endpoints:     endpoints,
	}}}, 30*24*time.Hour, a.Now(), nil)
}

func formats(asked string) []string {
	if asked == "" {
		return []string{saml.FormatUnspecified}
	}
	return []string{asked}
}

// Handler serves the application's pages and endpoints.
func (a *Application) Handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /favicon.ico", noPicture)
	mux.HandleFunc("GET /metadata", func(w http.ResponseWriter, r *http.Request) {
		doc, err := a.Metadata()
		if err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		w.Header().Set("Content-Type", "application/samlmetadata+xml")
		w.Write(doc)
	})
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, r *http.Request) {
		page := applicationPage{Application: a}
		if _, h, ok := a.session(r); ok {
			page.Person = h.nameID
		}
		render(w, http.StatusOK, "application-home.html", page)
	})
	mux.HandleFunc("/slo", a.slo)
	mux.HandleFunc("GET /sign-out", a.signOut)
	mux.HandleFunc("GET /sign-in", a.signIn)
	mux.HandleFunc("POST /acs", a.acs)
	mux.HandleFunc("GET /acs", a.acs)
	return mux
}

type applicationPage struct {
	*Application
	Got     *Received
	Refusal string
	Person  string
}

// signIn begins at the application: a signed AuthnRequest by HTTP-Redirect. With ?fresh=1 it demands that the person is
// asked.
func (a *Application) signIn(w http.ResponseWriter, r *http.Request) {
	location, err := a.request(r.URL.Query().Get("to"), r.URL.Query().Get("fresh") != "")
	if err != nil {
		render(w, http.StatusBadGateway, "application-refusal.html", applicationPage{Application: a, Refusal: err.Error()})
		return
	}
	http.Redirect(w, r, location, http.StatusFound)
}

func (a *Application) request(relay string, fresh bool) (string, error) {
	idp, err := a.IDP()
	if err != nil {
		return "", fmt.Errorf("the identity provider's metadata is not there: %w", err)
	}
	id := "_" + rand()
	policy := ""
	if a.Format != "" {
		policy = `<samlp:NameIDPolicy AllowCreate="true" Format="` + a.Format + `"/>`
	}
	if class := a.Habits().Context; class != "" {
		policy += `<samlp:RequestedAuthnContext Comparison="exact"><saml:AuthnContextClassRef>` + escaped(class) +
			`</saml:AuthnContextClassRef></samlp:RequestedAuthnContext>`
	}
	doc := fmt.Sprintf(
		`<samlp:AuthnRequest xmlns:samlp="%s" xmlns:saml="%s" ID="%s" Version="2.0" IssueInstant="%s" Destination="%s" `+
			`AssertionConsumerServiceURL="%s" ProtocolBinding="%s"%s><saml:Issuer>%s</saml:Issuer>%s</samlp:AuthnRequest>`,
		saml.NSProtocol,
		saml.NSAssertion,
		id,
		a.Now().UTC().Format(time.RFC3339),
		idp.SSO,
		a.ACS(),
		map[bool]string{true: saml.BindingArtifact, false: saml.BindingPost}[a.Artifact],
		map[bool]string{true: ` ForceAuthn="true"`}[fresh],
		a.EntityID(),
		policy,
	)
	if err := a.Recorder.Keep("authn-request-from-application.xml", []byte(doc)); err != nil {
		return "", err
	}
	var packed bytes.Buffer
	z, err := flate.NewWriter(&packed, 6)
	if err != nil {
		return "", err
	}
	if _, err := z.Write([]byte(doc)); err != nil {
		return "", err
	}
	if err := z.Close(); err != nil {
		return "", err
	}
	query := "SAMLRequest=" + url.QueryEscape(base64.StdEncoding.EncodeToString(packed.Bytes()))
	if relay != "" {
		query += "&RelayState=" + url.QueryEscape(relay)
	}
	query += "&SigAlg=" + url.QueryEscape(string(xmlsig.RSASHA256))
	sum := sha256.Sum256([]byte(query))
	sig, err := a.keys.key.Sign(crand.Reader, sum[:], crypto.SHA256)
	if err != nil {
		return "", err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if len(a.sent) > 20000 {
		a.sent = map[string]time.Time{}
	}
	a.sent[id] = a.Now()
	return idp.SSO + "?" + query + "&Signature=" + url.QueryEscape(base64.StdEncoding.EncodeToString(sig)), nil
}

// inResponse is read by this package's own code, not by the gate's.
type inResponse struct {
	XMLName      xml.Name
	Destination  string `xml:"Destination,attr"`
	InResponseTo string `xml:"InResponseTo,attr"`
	Issuer       string `xml:"urn:oasis:names:tc:SAML:2.0:assertion Issuer"`
	Status       struct {
		Code struct {
			Value string `xml:"Value,attr"`
			Sub   struct {
				Value string `xml:"Value,attr"`
			} `xml:"StatusCode"`
		} `xml:"StatusCode"`
		Message string `xml:"StatusMessage"`
	} `xml:"urn:oasis:names:tc:SAML:2.0:protocol Status"`
	Assertions []inAssertion `xml:"urn:oasis:names:tc:SAML:2.0:assertion Assertion"`
}

type inAssertion struct {
	ID      string `xml:"ID,attr"`
	Issuer  string `xml:"urn:oasis:names:tc:SAML:2.0:assertion Issuer"`
	Subject struct {
		NameID struct {
			Format string `xml:"Format,attr"`
			Value  string `xml:",chardata"`
		} `xml:"NameID"`
		Confirmation struct {
			Method string `xml:"Method,attr"`
			Data   struct {
				InResponseTo string    `xml:"InResponseTo,attr"`
				NotOnOrAfter time.Time `xml:"NotOnOrAfter,attr"`
				Recipient    string    `xml:"Recipient,attr"`
			} `xml:"SubjectConfirmationData"`
		} `xml:"SubjectConfirmation"`
	} `xml:"Subject"`
	Conditions struct {
		NotBefore    time.Time `xml:"NotBefore,attr"`
		NotOnOrAfter time.Time `xml:"NotOnOrAfter,attr"`
		Audience     []string  `xml:"AudienceRestriction>Audience"`
	} `xml:"Conditions"`
	Authn struct {
		Index   string `xml:"SessionIndex,attr"`
		Context string `xml:"AuthnContext>AuthnContextClassRef"`
	} `xml:"AuthnStatement"`
	Attributes []struct {
		Name     string   `xml:"Name,attr"`
		Friendly string   `xml:"FriendlyName,attr"`
		Values   []string `xml:"AttributeValue"`
	} `xml:"AttributeStatement>Attribute"`
}

func (a *Application) acs(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 2<<20)
	var doc []byte
	var err error
	if artifact := r.FormValue(saml.ParamArtifact); artifact != "" {
		doc, err = a.fetch(artifact)
	} else {
		doc, err = base64.StdEncoding.DecodeString(r.FormValue("SAMLResponse"))
	}
	var got *Received
	if err == nil {
		err = a.Recorder.Keep("response-to-application.xml", doc)
	}
	if err == nil {
		got, err = a.check(doc)
	}
	if err != nil {
		render(w, http.StatusForbidden, "application-refusal.html", applicationPage{Application: a, Refusal: err.Error()})
		return
	}
	got.RelayState = r.FormValue("RelayState")
	a.begin(w, got)
	render(w, http.StatusOK, "application-received.html", applicationPage{Application: a, Got: got})
}

// check holds a response against the application's own rules.
func (a *Application) check(doc []byte) (*Received, error) {
	idp, err := a.IDP()
	if err != nil {
		return nil, err
	}
	received := doc
	doc, err = a.opened(doc)
	if err != nil {
		return nil, err
	}
	named, err := a.decrypted(doc, "EncryptedID")
	if err != nil {
		return nil, err
	}
	var in inResponse
	if err := xml.Unmarshal(named, &in); err != nil || in.XMLName.Local != "Response" {
		return nil, errors.New("this is not a Response")
	}
	if code := in.Status.Code; !strings.HasSuffix(code.Value, ":Success") {
		return nil, fmt.Errorf("the identity provider answered %s %s: %s", last(code.Value), last(code.Sub.Value), in.Status.Message)
	}
	if len(in.Assertions) != 1 {
		return nil, fmt.Errorf("there are %d assertions", len(in.Assertions))
	}
	x, now := in.Assertions[0], a.Now()
	c := x.Subject.Confirmation
	switch {
	case in.Destination != a.ACS() || c.Data.Recipient != a.ACS():
		return nil, errors.New("the response is not addressed to us")
	case in.Issuer != idp.EntityID || x.Issuer != idp.EntityID:
		return nil, fmt.Errorf("the issuer %q is not our identity provider", x.Issuer)
	case len(x.Conditions.Audience) != 1 || x.Conditions.Audience[0] != a.EntityID():
		return nil, fmt.Errorf("the audience %q is not us", x.Conditions.Audience)
	case !now.Before(x.Conditions.NotOnOrAfter) || !now.Before(c.Data.NotOnOrAfter) || now.Before(x.Conditions.NotBefore):
		return nil, errors.New("the assertion is not in time")
	case !strings.HasSuffix(c.Method, ":bearer"):
		return nil, errors.New("there is no bearer confirmation")
	case c.Data.InResponseTo != in.InResponseTo:
		return nil, errors.New("response and confirmation answer different requests")
	}
	if err := signedBy(received, doc, x.ID, idp); err != nil {
		return nil, err
	}
	if err := a.once(in.InResponseTo, x.ID); err != nil {
		return nil, err
	}
	got := &Received{
		NameID:       x.Subject.NameID.Value,
		Format:       x.Subject.NameID.Format,
		Solicited:    in.InResponseTo != "",
		Context:      last(x.Authn.Context),
		SessionIndex: x.Authn.Index,
	}
	for _, attr := range x.Attributes {
		got.Attributes = append(got.Attributes, saml.Attribute{Name: attr.Name, FriendlyName: attr.Friendly, Values: attr.Values})
	}
	return got, nil
}

func last(uri string) string { return uri[strings.LastIndexByte(uri, ':')+1:] }

// opened puts the decrypted assertion in the place of the encrypted one.
func (a *Application) opened(doc []byte) ([]byte, error) {
	return a.decrypted(doc, "EncryptedAssertion")
}

// decrypted puts what is encrypted in place of the first element of a name that holds it.
func (a *Application) decrypted(doc []byte, name string) ([]byte, error) {
	begin, end := []byte("<saml:"+name+">"), []byte("</saml:"+name+">")
	from, to := bytes.Index(doc, begin), bytes.Index(doc, end)
	if from < 0 || to < from {
		return doc, nil
	}
	root, err := xmltree.Parse(doc, xmltree.Limits{})
	if err != nil {
		return nil, err
	}
	var holder *xmltree.Element
	root.Walk(func(e *xmltree.Element) bool {
		if holder == nil && e.Is(saml.NSAssertion, name) {
			holder = e
		}
		return true
	})
	plain, err := xmlsig.Decrypt(holder, []*rsa.PrivateKey{a.keys.key.(*rsa.PrivateKey)}, false)
	if err != nil {
		return nil, err
	}
	out := append([]byte{}, doc[:from]...)
	return append(append(out, plain...), doc[to+len(end):]...), nil
}

// signedBy wants the assertion, or the whole response as it was received, signed by the identity provider.
func signedBy(received, opened []byte, assertion string, idp *IDP) error {
	root, err := xmltree.Parse(opened, xmltree.Limits{})
	if err != nil {
		return err
	}
	var trusted []crypto.PublicKey
	for _, c := range idp.Certificates {
		trusted = append(trusted, c.PublicKey)
	}
	e := root.First(saml.NSAssertion, "Assertion")
	if e == nil || e.Value("ID") != assertion {
		return errors.New("the assertion can't be found again")
	}
	if !xmlsig.Signed(e) {
		if e, err = xmltree.Parse(received, xmltree.Limits{}); err != nil {
			return err
		}
	}
	_, err = xmlsig.Verify(e, e.First(saml.NSAssertion, "Issuer"), trusted, xmlsig.Policy{})
	return err
}

// once sees that a request is answered and an assertion used once only.
func (a *Application) once(request, assertion string) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	if request == "" && a.SPInitiatedOnly {
		return errors.New("we take no unsolicited responses")
	}
	if request != "" {
		if _, ok := a.sent[request]; !ok {
			return errors.New("we did not send the request that is answered")
		}
		delete(a.sent, request)
	}
	if a.used[assertion] {
		return errors.New("the assertion was used before")
	}
	if len(a.used) > 100000 {
		a.used = map[string]bool{}
	}
	a.used[assertion] = true
	return nil
}

// Signer signs as the application does.
func (a *Application) Signer() *xmlsig.Signer {
	return &xmlsig.Signer{Key: a.keys.key, Certificate: a.keys.cert.Raw}
}
