package management

import (
	"net/http"

	"innergate/api"
	"innergate/core/config"
	"innergate/gate/ground"
	"innergate/gate/sessions"
)

// sessionRoutes are the operations on what browsers have at the gate.
func sessionRoutes() []route {
	const viewer, engineer, owner = ground.RoleViewer, ground.RoleEngineer, ground.RoleOwner
	put, del, get := http.MethodPut, http.MethodDelete, http.MethodGet
	return []route{
		{
			Method:   get,
			Path:     "/sessions",
			Summary:  "List sessions at the gate, the newest first; search finds by how a name begins, or an address",
			Role:     engineer,
			Query:    []string{"search", "after", "limit", "person", "provider", "application", "ended"},
			Response: api.List[api.Session]{},
			handle: func(c *call) (any, error) {
				return c.s.Gate.Sessions.Sessions(
					c.Context(),
					page(c),
					sessions.Filter{
						Person:      c.Query("person"),
						Provider:    c.Query("provider"),
						Application: c.Query("application"),
						Ended:       c.Query("ended") == "yes",
					},
				)
			},
		},
		{
			Method:  del,
			Path:    "/sessions/{id}",
			Summary: "End a session; its applications are told",
			Role:    engineer,
			Status:  204,
			handle: func(c *call) (any, error) {
				return nil, c.s.Gate.Sessions.EndSessionByID(c.Context(), c.who, c.Params("id"))
			},
		},
		{
			Method:  del,
			Path:    "/people/{id}/sessions",
			Summary: "End all sessions of a person; their applications are told",
			Role:    engineer,
			Status:  204,
			handle: func(c *call) (any, error) {
				return nil, c.s.Gate.Sessions.EndSessionsOf(c.Context(), c.who, c.Params("id"))
			},
		},
		{
			Method:   get,
			Path:     "/pages",
			Summary:  "How the pages for people look, and where they find help",
			Role:     viewer,
			Response: config.Pages{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Portal.Pages(c.Context()) },
		},
		{
			Method:   put,
			Path:     "/pages",
			Summary:  "Say how the pages for people look; it counts at once",
			Role:     owner,
			Request:  config.Pages{},
			Response: config.Pages{},
			handle: func(c *call) (any, error) {
				in, err := body[config.Pages](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Portal.SetPages(c.Context(), c.who, in)
			},
		},
		{
			Method:   get,
			Path:     "/session-limits",
			Summary:  "How long sessions last",
			Role:     viewer,
			Response: api.SessionLimits{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Sessions.SessionLimits(c.Context()) },
		},
		{
			Method:   put,
			Path:     "/session-limits",
			Summary:  "Say how long sessions last; it counts at once",
			Role:     owner,
			Request:  api.SessionLimits{},
			Response: api.SessionLimits{},
			handle: func(c *call) (any, error) {
				in, err := body[api.SessionLimits](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Sessions.SetSessionLimits(c.Context(), c.who, in)
			},
		},
	}
}
