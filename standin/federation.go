package standin

import (
	"encoding/xml"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/core/xmlsig"
	"innergate/core/xmltree"
)

// Federation is a simulated federation: it publishes the signed metadata of its members, all in one document and one by
// one (Metadata Query Protocol).
type Federation struct {
	Name    string
	Members []Member
	Now     func() time.Time
	keys    keyPair
}

// Member is an entity of a federation.
type Member struct {
	EntityID, Name string
	Kind           saml.RoleKind
}

// NewFederation makes one with a key of its own from the source.
func NewFederation(name string, members []Member, source keys.Source) (*Federation, error) {
	f := &Federation{Name: name, Members: members, Now: time.Now}
	var err error
	f.keys, err = newKeyPair(source, name, time.Now(), 5*365*24*time.Hour)
	return f, err
}

// Certificate is the one whose key signs the metadata, in PEM.
func (f *Federation) Certificate() string { return string(keys.EncodeCertificate(f.keys.cert.Raw)) }

func (m Member) entity() saml.Entity {
	zero := 0
	r := saml.Role{Kind: m.Kind, DisplayName: m.Name, NameIDFormats: []string{saml.FormatPersistent}}
	if m.Kind == saml.RoleIDP {
		r.Endpoints = []saml.Endpoint{{Service: saml.ServiceSSO, Binding: saml.BindingRedirect, Location: m.EntityID + "/sso"}}
	} else {
		r.Endpoints = []saml.Endpoint{{Service: saml.ServiceACS, Binding: saml.BindingPost, Location: m.EntityID + "/acs", Index: &zero,
			Default: true}}
	}
	return saml.Entity{EntityID: m.EntityID, Roles: []saml.Role{r}}
}

// document is the whole federation's metadata, good for a week.
func (f *Federation) document() ([]byte, error) {
	var b strings.Builder
	until := f.Now().Add(7 * 24 * time.Hour).UTC().Format(time.RFC3339)
	var name strings.Builder
	if err := xml.EscapeText(&name, []byte(f.Name)); err != nil {
		return nil, err
	}
	fmt.Fprintf(
		&b, `<md:EntitiesDescriptor xmlns:md="%s" ID="_all" Name="%s" validUntil="%s" cacheDuration="PT1H">`,
		saml.NSMetadata, name.String(), until,
	)
	for _, m := range f.Members {
		doc, err := saml.WriteMetadata(m.entity(), 0, f.Now(), nil)
		if err != nil {
			return nil, err
		}
		b.Write(doc[strings.Index(string(doc), "<md:"):])
	}
	b.WriteString("</md:EntitiesDescriptor>")
	root, err := xmltree.Parse([]byte(b.String()), xmltree.Limits{})
	if err != nil {
		return nil, err
	}
	if err := (&xmlsig.Signer{Key: f.keys.key, Certificate: f.keys.cert.Raw}).Sign(root, nil); err != nil {
		return nil, err
	}
	return root.Bytes(), nil
}

// Handler serves the metadata: everything at /all.xml, one entity at /entities/ and its ID.
func (f *Federation) Handler() http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var doc []byte
		var err error
		if wanted, ok := strings.CutPrefix(r.URL.EscapedPath(), "/entities/"); ok {
			id, unescapeErr := url.PathUnescape(wanted)
			for _, m := range f.Members {
				if m.EntityID == id && unescapeErr == nil {
					doc, err = saml.WriteMetadata(m.entity(), 7*24*time.Hour, f.Now(), &xmlsig.Signer{Key: f.keys.key})
				}
			}
		} else if r.URL.Path == "/all.xml" {
			doc, err = f.document()
		}
		switch {
		case err != nil:
			http.Error(w, err.Error(), http.StatusInternalServerError)
		case doc == nil:
			http.NotFound(w, r)
		default:
			w.Header().Set("Content-Type", "application/samlmetadata+xml")
			w.Write(doc)
		}
	})
}
