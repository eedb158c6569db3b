package server

import (
	"net/http"

	"innergate/api"
	"innergate/core/access"
	"innergate/gate/ground"
)

// reachRoutes are the operations on whom applications and providers serve, and on the ways by which people sign in.
func reachRoutes() []route {
	const viewer, engineer = ground.RoleViewer, ground.RoleEngineer
	post, put, get := http.MethodPost, http.MethodPut, http.MethodGet
	out := []route{
		{
			Method:   get,
			Path:     "/routes",
			Summary:  "The routes, in order",
			Role:     viewer,
			Response: access.Routes{},
			handle:   func(c *call) (any, error) { return c.s.gate.Partners.Routes(c.Context()) },
		},
		{
			Method:   put,
			Path:     "/routes",
			Summary:  "Replace the routes; they act at once",
			Role:     engineer,
			Request:  access.Routes{},
			Response: access.Routes{},
			handle: func(c *call) (any, error) {
				in, err := body[access.Routes](c)
				if err != nil {
					return nil, err
				}
				return c.s.gate.Configuration.SetRoutes(c.Context(), c.who, in)
			},
		},
		{
			Method:   post,
			Path:     "/routes/ask",
			Summary:  "Where somebody would go, why, and what they would see",
			Role:     engineer,
			Request:  api.RouteQuestion{},
			Response: api.RouteAnswer{},
			handle: func(c *call) (any, error) {
				in, err := body[api.RouteQuestion](c)
				if err != nil {
					return nil, err
				}
				return c.s.gate.SignIn.ExplainRoute(c.Context(), in)
			},
		},
	}
	out = append(
		out,
		route{
			Method:   get,
			Path:     "/applications/{slug}/guard",
			Summary:  "How a guarded application stands behind the gate",
			Role:     viewer,
			Response: api.GuardView{},
			handle: func(c *call) (any, error) {
				return c.s.gate.Guarded.GuardView(c.Context(), c.Params("slug"))
			},
		},
		route{
			Method:   post,
			Path:     "/applications/{slug}/guard/try",
			Summary:  "Which path rule decides, and what that means; nothing is changed",
			Role:     engineer,
			Request:  api.TryPath{},
			Response: api.TriedPath{},
			handle: func(c *call) (any, error) {
				in, err := body[api.TryPath](c)
				if err != nil {
					return nil, err
				}
				return c.s.gate.Guarded.TryPath(c.Context(), c.Params("slug"), in)
			},
		},
	)
	out = append(
		out,
		route{
			Method:  put,
			Path:    "/applications/{slug}/guard/password",
			Summary: "Store the password for basic credentials; it is never shown again",
			Role:    engineer,
			Request: api.GuardPassword{},
			Status:  204,
			handle: func(c *call) (any, error) {
				in, err := body[api.GuardPassword](c)
				if err != nil {
					return nil, err
				}
				return nil, c.s.gate.Guarded.SetGuardPassword(c.Context(), c.who, c.Params("slug"), in)
			},
		},
	)
	for _, kind := range []string{"application", "provider"} {
		base := "/" + kind + "s/{slug}/reach"
		out = append(
			out,
			route{
				Method:   get,
				Path:     base,
				Summary:  "How the reach was changed, the newest first",
				Role:     viewer,
				Response: api.List[api.ReachStep]{},
				handle: func(c *call) (any, error) {
					return c.s.gate.Configuration.ReachHistory(c.Context(), kind, c.Params("slug"))
				},
			},
			route{
				Method:   put,
				Path:     base,
				Summary:  "Say whom it serves, for good or for some time; it acts at once",
				Role:     engineer,
				Request:  api.ReachChange{},
				Response: api.ReachChanged{},
				handle: func(c *call) (any, error) {
					in, err := body[api.ReachChange](c)
					if err != nil {
						return nil, err
					}
					return c.s.gate.Configuration.ChangeReach(c.Context(), c.who, kind, c.Params("slug"), in)
				},
			},
			route{
				Method:   post,
				Path:     base + "-preview",
				Summary:  "Whom a change of the reach would touch; nothing is changed",
				Role:     engineer,
				Request:  api.ReachChange{},
				Response: api.ReachPreview{},
				handle: func(c *call) (any, error) {
					in, err := body[api.ReachChange](c)
					if err != nil {
						return nil, err
					}
					return c.s.gate.Configuration.PreviewReach(c.Context(), kind, c.Params("slug"), in)
				},
			},
			route{
				Method:  post,
				Path:    base + "-undo",
				Summary: "Take the newest change of the reach back",
				Role:    engineer,
				Status:  204,
				handle: func(c *call) (any, error) {
					return nil, c.s.gate.Configuration.UndoReach(c.Context(), c.who, kind, c.Params("slug"))
				},
			},
		)
	}
	return out
}
