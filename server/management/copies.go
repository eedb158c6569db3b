package management

import (
	"net/http"

	"innergate/api"
	"innergate/gate/ground"
)

// copyRoutes are the operations on copies of the records.
func copyRoutes() []route {
	const owner = ground.RoleOwner
	return []route{
		{
			Method:   http.MethodGet,
			Path:     "/copies",
			Summary:  "The copies that the service makes of its records by itself, the newest first",
			Role:     owner,
			Response: api.Copies{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Copies.Copies() },
		},
		{
			Method:   http.MethodPost,
			Path:     "/copies",
			Summary:  "Make one now",
			Role:     owner,
			Response: api.Copy{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Copies.Make(c.Context(), c.who) },
		},
		{
			Method:  http.MethodPost,
			Path:    "/copies/fetch",
			Summary: "Copy the records and send the copy; encrypted, where recipients are given",
			Role:    owner,
			Request: api.FetchCopy{},
			Media:   "application/octet-stream",
			handle: func(c *call) (any, error) {
				in, err := body[api.FetchCopy](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Copies.Fetch(c.Context(), c.who, in)
			},
		},
	}
}
