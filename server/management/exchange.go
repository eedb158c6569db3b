package management

import (
	"net/http"

	"innergate/api"
	"innergate/gate/ground"
)

// handoverRoutes are the operations on handover links, from our side.
func handoverRoutes() []route {
	const engineer = ground.RoleEngineer
	post, del, get := http.MethodPost, http.MethodDelete, http.MethodGet
	var out []route
	for _, kind := range []string{"application", "provider"} {
		base := "/" + kind + "s/{slug}/handovers"
		out = append(
			out,
			route{
				Method:   get,
				Path:     base,
				Summary:  "The handover links for it, with who opened them and what was left",
				Role:     engineer,
				Response: api.List[api.Handover]{},
				handle: func(c *call) (any, error) {
					return c.s.Gate.Exchange.Handovers(c.Context(), kind, c.Params("slug"))
				},
			},
			route{
				Method:   post,
				Path:     base,
				Summary:  "Make a handover link; it is in the answer only",
				Role:     engineer,
				Request:  api.NewHandover{},
				Response: api.Handover{},
				Status:   201,
				handle: func(c *call) (any, error) {
					in, err := body[api.NewHandover](c)
					if err != nil {
						return nil, err
					}
					return c.s.Gate.Exchange.NewHandover(c.Context(), c.who, kind, c.Params("slug"), in)
				},
			},
		)
	}
	return append(
		out,
		route{
			Method:  del,
			Path:    "/handovers/{id}",
			Summary: "Revoke a handover link at once",
			Role:    engineer,
			Status:  204,
			handle: func(c *call) (any, error) {
				return nil, c.s.Gate.Exchange.RevokeHandover(c.Context(), c.who, c.Params("id"))
			},
		},
	)
}

// sheetRoutes are the operations on exchange sheets.
func sheetRoutes() []route {
	const viewer = ground.RoleViewer
	get := http.MethodGet
	return []route{
		{
			Method:   get,
			Path:     "/applications/{slug}/exchange",
			Summary:  "The exchange sheet",
			Role:     viewer,
			Response: api.ExchangeSheet{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Exchange.ApplicationSheet(c.Context(), c.Params("slug")) },
		},

		{
			Method:   get,
			Path:     "/providers/{slug}/exchange",
			Summary:  "The exchange sheet",
			Role:     viewer,
			Response: api.ExchangeSheet{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Exchange.ProviderSheet(c.Context(), c.Params("slug")) },
		},
	}
}
