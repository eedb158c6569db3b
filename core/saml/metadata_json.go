package saml

import (
	"encoding/json"
	"time"

	"innergate/core/keys"
)

// The form in which a document is shown to programs.
type (
	documentJSON struct {
		Entities []entityJSON `json:"entities"`
		Problems []Problem    `json:"problems"`
	}
	entityJSON struct {
		EntityID    string     `json:"entityId"`
		ValidUntil  *time.Time `json:"validUntil"`
		DisplayName string     `json:"displayName"`
		Roles       []roleJSON `json:"roles"`
	}
	roleJSON struct {
		Role          RoleKind          `json:"role"`
		Endpoints     []Endpoint        `json:"endpoints"`
		Certificates  []certificateJSON `json:"certificates"`
		NameIDFormats []string          `json:"nameIdFormats"`
	}
	certificateJSON struct {
		Use       string    `json:"use"`
		SHA256    string    `json:"sha256"`
		Subject   string    `json:"subject"`
		NotBefore time.Time `json:"notBefore"`
		NotAfter  time.Time `json:"notAfter"`
	}
)

// MarshalJSON writes what was understood, lists never null.
func (d Document) MarshalJSON() ([]byte, error) {
	out := documentJSON{Entities: []entityJSON{}, Problems: append([]Problem{}, d.Problems...)}
	for _, e := range d.Entities {
		entity := entityJSON{EntityID: e.EntityID, ValidUntil: e.ValidUntil, DisplayName: e.DisplayName, Roles: []roleJSON{}}
		for _, r := range e.Roles {
			role := roleJSON{
				Role:          r.Kind,
				Endpoints:     append([]Endpoint{}, r.Endpoints...),
				Certificates:  []certificateJSON{},
				NameIDFormats: append([]string{}, r.NameIDFormats...),
			}
			for _, k := range r.Keys {
				d := keys.Describe(k.Certificate)
				role.Certificates = append(
					role.Certificates,
					certificateJSON{k.Use, d.SHA256, d.Subject, d.NotBefore.UTC(), d.NotAfter.UTC()},
				)
			}
			entity.Roles = append(entity.Roles, role)
		}
		out.Entities = append(out.Entities, entity)
	}
	return json.Marshal(out)
}
