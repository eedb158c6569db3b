package saml

import (
	"crypto/x509"
	"encoding/json"
	"time"
)

// Services that endpoints are for (SAML Metadata, sections 2.4.2 to 2.4.4).
const (
	ServiceSSO      = "SingleSignOnService"
	ServiceACS      = "AssertionConsumerService"
	ServiceSLO      = "SingleLogoutService"
	ServiceArtifact = "ArtifactResolutionService"
)

// Endpoint is an address at which a role takes messages. In JSON its binding has the short name, where there is one.
type Endpoint struct {
	Service          string `json:"service"`
	Binding          string `json:"binding"`
	Location         string `json:"location"`
	ResponseLocation string `json:"responseLocation,omitempty"`
	Index            *int   `json:"index" jsonschema:"oneof_type=integer;null"`
	Default          bool   `json:"default"`
}

type endpointJSON Endpoint

// MarshalJSON writes the binding's short name.
func (e Endpoint) MarshalJSON() ([]byte, error) {
	e.Binding = BindingName(e.Binding)
	return json.Marshal(endpointJSON(e))
}

// UnmarshalJSON reads short names and URIs alike.
func (e *Endpoint) UnmarshalJSON(data []byte) error {
	if err := json.Unmarshal(data, (*endpointJSON)(e)); err != nil {
		return err
	}
	e.Binding = BindingURI(e.Binding)
	return nil
}

// BindingURI turns a short name into its URI; anything else stays as it is.
func BindingURI(name string) string {
	for _, uri := range []string{BindingRedirect, BindingPost, BindingArtifact, BindingSOAP} {
		if name == BindingName(uri) {
			return uri
		}
	}
	return name
}

// DefaultEndpoint picks from a list the one marked as default, else the first that is not marked otherwise (SAML
// Metadata, section 2.2.3), among those with the binding if there are any.
func DefaultEndpoint(list []Endpoint, binding string) *Endpoint {
	var first, firstAny *Endpoint
	for i := range list {
		e := &list[i]
		if e.Binding == binding && e.Default {
			return e
		}
		if e.Binding == binding && first == nil {
			first = e
		}
		if firstAny == nil || e.Default && !firstAny.Default {
			firstAny = e
		}
	}
	if first != nil {
		return first
	}
	return firstAny
}

// KeyDescriptor is one certificate of a role. Use is signing, encryption or empty for both.
type KeyDescriptor struct {
	Use         string
	Certificate *x509.Certificate
}

// RequestedAttribute is an attribute that a service provider wants.
type RequestedAttribute struct {
	Name         string `json:"name"`
	NameFormat   string `json:"nameFormat,omitempty"`
	FriendlyName string `json:"friendlyName,omitempty"`
	Required     bool   `json:"required,omitempty"`
}

// RoleKind is idp or sp.
type RoleKind string

// The roles that are read.
const (
	RoleIDP RoleKind = "idp"
	RoleSP  RoleKind = "sp"
)

// Role is one role descriptor of an entity.
type Role struct {
	Kind                    RoleKind
	DisplayName             string
	Endpoints               []Endpoint
	Keys                    []KeyDescriptor
	NameIDFormats           []string
	WantAuthnRequestsSigned bool
	AuthnRequestsSigned     bool
	WantAssertionsSigned    bool
	RequestedAttributes     []RequestedAttribute
	AttributeSets           []int // indexes of AttributeConsumingServices
	EncryptionMethods       []string
	SigningMethods          []string
}

// Certificates returns the certificates meant for a use, those for any use included, each key once.
func (r *Role) Certificates(use string) []*x509.Certificate {
	var out []*x509.Certificate
	for _, k := range r.Keys {
		if k.Use != "" && k.Use != use {
			continue
		}
		known := false
		for _, c := range out {
			known = known || c.Equal(k.Certificate)
		}
		if !known {
			out = append(out, k.Certificate)
		}
	}
	return out
}

// Service returns the role's endpoints of a service.
func (r *Role) Service(name string) []Endpoint {
	var out []Endpoint
	for _, e := range r.Endpoints {
		if e.Service == name {
			out = append(out, e)
		}
	}
	return out
}

// Entity is one EntityDescriptor.
type Entity struct {
	EntityID      string
	ValidUntil    *time.Time
	CacheDuration time.Duration
	Categories    []string // values of entity attributes
	DisplayName   string
	Description   string
	Organization  string
	Contact       string
	Signed        bool
	Roles         []Role
}

// Role returns the entity's first role of a kind, or nil.
func (e *Entity) Role(kind RoleKind) *Role {
	for i := range e.Roles {
		if e.Roles[i].Kind == kind {
			return &e.Roles[i]
		}
	}
	return nil
}

// Problem is something wrong with metadata. Codes are stable.
type Problem struct {
	Code    string `json:"code"`
	Message string `json:"message"`
	// Fatal problems leave nothing to use.
	Fatal bool `json:"-"`
}

// Document is what was understood of a metadata document.
type Document struct {
	Entities []Entity
	Problems []Problem
	// Signed is set where the root carries a signature that fits the content; whose it is, is not known yet.
	Signed        bool
	CacheDuration time.Duration
	// Tidied is set where the text was not a document as it stood, such as one copied from a browser.
	Tidied bool
	// NeedsEntityID is set for a role that was cut out of its entity.
	NeedsEntityID bool
}

// Usable reports whether there is any entity with a role in the document.
func (d *Document) Usable() bool {
	for i := range d.Entities {
		if len(d.Entities[i].Roles) > 0 {
			return true
		}
	}
	return false
}
