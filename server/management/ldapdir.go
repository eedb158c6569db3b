package management

import (
	"net/http"

	"innergate/api"
	"innergate/gate/ground"
)

// ldapRoutes are the operations on directories of others.
func ldapRoutes() []route {
	return []route{
		{
			Method:   http.MethodPost,
			Path:     "/providers/{slug}/try-directory",
			Summary:  "Try a directory, and one person by name, without signing anybody in",
			Role:     ground.RoleEngineer,
			Request:  api.TryDirectory{},
			Response: api.TriedDirectory{},
			handle: func(c *call) (any, error) {
				in, err := body[api.TryDirectory](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.LDAP.Try(c.Context(), c.who, c.Params("slug"), in.Name)
			},
		},
	}
}
