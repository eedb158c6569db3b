package standin

import (
	"bytes"
	"crypto"
	"encoding/base64"
	"encoding/binary"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"time"

	"innergate/core/saml"
	"innergate/core/xmlsig"
	"innergate/core/xmltree"
)

// soapIn is a SOAP envelope as this package's own code reads it.
type soapIn struct {
	XMLName xml.Name `xml:"http://schemas.xmlsoap.org/soap/envelope/ Envelope"`
	Body    struct {
		Inner []byte `xml:",innerxml"`
	} `xml:"http://schemas.xmlsoap.org/soap/envelope/ Body"`
}

type resolveIn struct {
	XMLName  xml.Name
	ID       string `xml:"ID,attr"`
	Issuer   string `xml:"urn:oasis:names:tc:SAML:2.0:assertion Issuer"`
	Artifact string `xml:"urn:oasis:names:tc:SAML:2.0:protocol Artifact"`
}

// waiting is a response that waits to be fetched.
type waiting struct {
	doc     []byte
	partner *Partner
	until   time.Time
}

// artifact lets a response wait and returns its artifact.
func (p *Provider) artifact(doc []byte, partner *Partner) string {
	a := saml.NewArtifact(saml.EntityID(p.EntityID()), 0)
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.waiting == nil || len(p.waiting) > 10000 {
		p.waiting = map[string]waiting{}
	}
	p.waiting[a.String()] = waiting{doc, partner, p.Now().Add(time.Minute)}
	return a.String()
}

// resolve answers an ArtifactResolve: to the addressee, signed by a key that is held for it, once.
func (p *Provider) resolve(w http.ResponseWriter, r *http.Request) {
	doc, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 1<<20))
	var in soapIn
	var ask resolveIn
	if err == nil {
		err = xml.Unmarshal(doc, &in)
	}
	if err == nil {
		err = xml.Unmarshal(in.Body.Inner, &ask)
	}
	if err != nil || ask.XMLName.Local != "ArtifactResolve" {
		http.Error(w, "this is not an ArtifactResolve", http.StatusBadRequest)
		return
	}
	if err := p.Recorder.Keep("artifact-resolve-to-provider.xml", doc); err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	p.mu.Lock()
	held, ok := p.waiting[ask.Artifact]
	p.mu.Unlock()
	var content []byte
	if ok && held.partner.EntityID == ask.Issuer && p.Now().Before(held.until) && signedEnvelope(doc, held.partner) == nil {
		p.mu.Lock()
		if _, still := p.waiting[ask.Artifact]; still {
			delete(p.waiting, ask.Artifact)
			content = held.doc
		}
		p.mu.Unlock()
	}
	out, err := saml.NewArtifactResponse(saml.EntityID(p.EntityID()), ask.ID, content, p.Now(), &xmlsig.Signer{Key: p.signing().key})
	if err == nil {
		err = p.Recorder.Keep("artifact-response-from-provider.xml", out)
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "text/xml; charset=utf-8")
	w.Write(out)
}

func signedEnvelope(doc []byte, partner *Partner) error {
	root, err := xmltree.Parse(doc, xmltree.Limits{})
	if err != nil {
		return err
	}
	e := root.First(saml.NSSOAP, "Body").First(saml.NSProtocol, "ArtifactResolve")
	if e == nil {
		return errors.New("there is no ArtifactResolve")
	}
	var trusted []crypto.PublicKey
	for _, c := range partner.Certificates {
		trusted = append(trusted, c.PublicKey)
	}
	_, err = xmlsig.Verify(e, e.First(saml.NSAssertion, "Issuer"), trusted, xmlsig.Policy{})
	return err
}

// fetch resolves an artifact at the identity provider and gives the response behind it.
func (a *Application) fetch(text string) ([]byte, error) {
	idp, err := a.IDP()
	if err != nil {
		return nil, err
	}
	raw, err := base64.StdEncoding.DecodeString(text)
	if err != nil || len(raw) != 44 || binary.BigEndian.Uint16(raw) != 4 {
		return nil, errors.New("this is not an artifact")
	}
	if idp.Artifact == "" {
		return nil, errors.New("it is not known where the identity provider resolves artifacts")
	}
	id, doc, err := saml.NewArtifactResolve(saml.EntityID(a.EntityID()), idp.Artifact, text, a.Now(), &xmlsig.Signer{Key: a.keys.key})
	if err != nil {
		return nil, err
	}
	if err := a.Recorder.Keep("artifact-resolve-from-application.xml", doc); err != nil {
		return nil, err
	}
	client := http.Client{Timeout: 10 * time.Second, Transport: a.Transport}
	answer, err := client.Post(idp.Artifact, "text/xml; charset=utf-8", bytes.NewReader(doc))
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	got, err := io.ReadAll(io.LimitReader(answer.Body, 2<<20))
	if err != nil {
		return nil, err
	}
	if err := a.Recorder.Keep("artifact-response-to-application.xml", got); err != nil {
		return nil, err
	}
	root, err := xmltree.Parse(got, xmltree.Limits{})
	if err != nil || answer.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("the artifact was not resolved: %s", answer.Status)
	}
	r := root.First(saml.NSSOAP, "Body").First(saml.NSProtocol, "ArtifactResponse")
	if r == nil || r.Value("InResponseTo") != id {
		return nil, errors.New("the answer is not to our ArtifactResolve")
	}
	var trusted []crypto.PublicKey
	for _, c := range idp.Certificates {
		trusted = append(trusted, c.PublicKey)
	}
	if _, err := xmlsig.Verify(r, r.First(saml.NSAssertion, "Issuer"), trusted, xmlsig.Policy{}); err != nil {
		return nil, err
	}
	inner := r.First(saml.NSProtocol, "Response")
	if inner == nil {
		return nil, errors.New("nothing was behind the artifact")
	}
	return inner.Bytes(), nil
}

// byArtifact is the address to which an artifact sends the browser.
func byArtifact(acs, artifact, relay string) string {
	query := url.Values{saml.ParamArtifact: {artifact}}
	if relay != "" {
		query.Set("RelayState", relay)
	}
	return acs + "?" + query.Encode()
}
