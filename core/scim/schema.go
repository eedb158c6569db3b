// Package scim reads, compares and changes resources of SCIM 2.0 (RFC 7643, RFC 7644): people's accounts and groups, as a client of
// applications and as a service provider for those who push their people. It knows no network and no store: resources and requests
// in, resources and refusals out. What others send is hostile until it is read here: each input has a limit.
package scim

import (
	_ "embed"
	"encoding/json"
	"slices"
	"strings"
)

// The schemas and messages of the standard, by their URIs (RFC 7643, section 8; RFC 7644, section 3).
const (
	UserSchema       = "urn:ietf:params:scim:schemas:core:2.0:User"
	EnterpriseSchema = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
	GroupSchema      = "urn:ietf:params:scim:schemas:core:2.0:Group"
	ListMessage      = "urn:ietf:params:scim:api:messages:2.0:ListResponse"
	PatchMessage     = "urn:ietf:params:scim:api:messages:2.0:PatchOp"
	ErrorMessage     = "urn:ietf:params:scim:api:messages:2.0:Error"
	ConfigSchema     = "urn:ietf:params:scim:schemas:core:2.0:ServiceProviderConfig"
	TypeSchema       = "urn:ietf:params:scim:schemas:core:2.0:ResourceType"
	SchemaSchema     = "urn:ietf:params:scim:schemas:core:2.0:Schema"
)

// MediaType is the content type of every message (RFC 7644, section 8.1).
const MediaType = "application/scim+json"

// The types of attributes (RFC 7643, section 2.3).
const (
	TypeString    = "string"
	TypeBoolean   = "boolean"
	TypeDecimal   = "decimal"
	TypeInteger   = "integer"
	TypeDateTime  = "dateTime"
	TypeReference = "reference"
	TypeBinary    = "binary"
	TypeComplex   = "complex"
)

// Attribute describes an attribute (RFC 7643, section 7).
type Attribute struct {
	Name            string      `json:"name"`
	Type            string      `json:"type"`
	MultiValued     bool        `json:"multiValued"`
	Description     string      `json:"description,omitempty"`
	Required        bool        `json:"required"`
	CanonicalValues []string    `json:"canonicalValues,omitempty"`
	CaseExact       bool        `json:"caseExact"`
	Mutability      string      `json:"mutability"`
	Returned        string      `json:"returned"`
	Uniqueness      string      `json:"uniqueness"`
	ReferenceTypes  []string    `json:"referenceTypes,omitempty"`
	SubAttributes   []Attribute `json:"subAttributes,omitempty"`
}

// Sub finds a sub-attribute by its name, in whatever case.
func (a *Attribute) Sub(name string) *Attribute { return find(a.SubAttributes, name) }

// Schema is a schema with its attributes (RFC 7643, section 7).
type Schema struct {
	Schemas     []string       `json:"schemas,omitempty"`
	ID          string         `json:"id"`
	Name        string         `json:"name,omitempty"`
	Description string         `json:"description,omitempty"`
	Attributes  []Attribute    `json:"attributes"`
	Meta        map[string]any `json:"meta,omitempty"`
}

// Kind is a type of resources: its own schema and those that extend it (RFC 7643, section 6).
type Kind struct {
	Name       string // User or Group
	Endpoint   string // such as /Users
	Core       *Schema
	Extensions []*Schema
}

// common are the attributes that every resource has (RFC 7643, section 3.1).
var common = []Attribute{
	{Name: "id", Type: TypeString, CaseExact: true, Mutability: "readOnly", Returned: "always", Uniqueness: "server"},
	{Name: "externalId", Type: TypeString, CaseExact: true, Mutability: "readWrite", Returned: "default", Uniqueness: "none"},
	{
		Name: "meta", Type: TypeComplex, Mutability: "readOnly", Returned: "default", Uniqueness: "none",
		SubAttributes: []Attribute{
			{Name: "resourceType", Type: TypeString, CaseExact: true, Mutability: "readOnly", Returned: "default", Uniqueness: "none"},
			{Name: "created", Type: TypeDateTime, Mutability: "readOnly", Returned: "default", Uniqueness: "none"},
			{Name: "lastModified", Type: TypeDateTime, Mutability: "readOnly", Returned: "default", Uniqueness: "none"},
			{Name: "location", Type: TypeReference, CaseExact: true, Mutability: "readOnly", Returned: "default", Uniqueness: "none"},
			{Name: "version", Type: TypeString, CaseExact: true, Mutability: "readOnly", Returned: "default", Uniqueness: "none"},
		},
	},
}

//go:embed schemas.json
var schemasText []byte

var users, groups = standard()

// Users is the standard's own type of people's accounts.
var Users = users

// Groups is the standard's own type of groups.
var Groups = groups

func standard() (users, groups *Kind) {
	var list []*Schema
	if err := json.Unmarshal(schemasText, &list); err != nil {
		panic(err) // a file of ours
	}
	for _, s := range list {
		s.fill()
	}
	return &Kind{Name: "User", Endpoint: "/Users", Core: list[0], Extensions: []*Schema{list[1]}},
		&Kind{Name: "Group", Endpoint: "/Groups", Core: list[2]}
}

// fill gives what a schema leaves out the standard's own default (RFC 7643, section 2.2).
func (s *Schema) fill() {
	for i := range s.Attributes {
		s.Attributes[i].fill()
	}
}

func (a *Attribute) fill() {
	for field, usual := range map[*string]string{&a.Type: TypeString, &a.Mutability: "readWrite", &a.Returned: "default",
		&a.Uniqueness: "none"} {
		if *field == "" {
			*field = usual
		}
	}
	for i := range a.SubAttributes {
		a.SubAttributes[i].fill()
	}
}

// With is a type of resources extended by the schemas that somebody else describes, such as an application's own. Those that extend
// it already give way to what the other side says.
func (k *Kind) With(schemas []Schema, extensions []string) *Kind {
	out := &Kind{Name: k.Name, Endpoint: k.Endpoint, Core: k.Core}
	known := append([]*Schema(nil), k.Extensions...)
	for i := range schemas {
		s := schemas[i]
		s.fill()
		if strings.EqualFold(s.ID, k.Core.ID) {
			out.Core = &s
		} else if slices.ContainsFunc(extensions, func(e string) bool { return strings.EqualFold(e, s.ID) }) {
			known = slices.DeleteFunc(known, func(held *Schema) bool { return strings.EqualFold(held.ID, s.ID) })
			known = append(known, &s)
		}
	}
	out.Extensions = known
	return out
}

func find(list []Attribute, name string) *Attribute {
	for i := range list {
		if strings.EqualFold(list[i].Name, name) {
			return &list[i]
		}
	}
	return nil
}

// extension finds a schema that extends the type by its URI.
func (k *Kind) extension(uri string) *Schema {
	for _, s := range k.Extensions {
		if strings.EqualFold(s.ID, uri) {
			return s
		}
	}
	return nil
}

// attribute finds an attribute of the type by the schema's URI, empty for its own, and its name.
func (k *Kind) attribute(schema, name string) *Attribute {
	if schema == "" {
		if a := find(common, name); a != nil {
			return a
		}
		return find(k.Core.Attributes, name)
	}
	if s := k.extension(schema); s != nil {
		return find(s.Attributes, name)
	}
	return nil
}
