package management

import (
	"net/http"

	"innergate/api"
	"innergate/gate/checkups"
	"innergate/gate/ground"
)

// checkupRoutes are the operations on what the gate finds by itself: about the configuration, and about partners'
// hosts.
func checkupRoutes() []route {
	const viewer, engineer, owner = ground.RoleViewer, ground.RoleEngineer, ground.RoleOwner
	post, put, del, get := http.MethodPost, http.MethodPut, http.MethodDelete, http.MethodGet
	return []route{
		{
			Method:   post,
			Path:     "/checkup",
			Summary:  "Inspect the whole configuration now",
			Role:     viewer,
			Response: api.CheckupResult{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Checkups.Checkup(c.Context()) },
		},
		{
			Method:   get,
			Path:     "/findings",
			Summary:  "What the checkups found and is there still, what is broken first",
			Role:     viewer,
			Query:    []string{"severity", "kind", "slug", "code", "accepted"},
			Response: api.List[api.KeptFinding]{},
			handle: func(c *call) (any, error) {
				return c.s.Gate.Checkups.KeptFindings(
					c.Context(),
					checkups.FindingFilter{
						Severity: c.Query("severity"),
						Kind:     c.Query("kind"),
						Slug:     c.Query("slug"),
						Code:     c.Query("code"),
						Accepted: c.Query("accepted"),
					},
				)
			},
		},
		{
			Method:   post,
			Path:     "/findings/{id}/accept",
			Summary:  "Accept a finding, with a reason, until a date",
			Role:     engineer,
			Request:  api.AcceptFinding{},
			Response: api.KeptFinding{},
			handle: func(c *call) (any, error) {
				in, err := body[api.AcceptFinding](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Checkups.AcceptFinding(c.Context(), c.who, c.Params("id"), in)
			},
		},
		{
			Method:   del,
			Path:     "/findings/{id}/accept",
			Summary:  "Take an acceptance back",
			Role:     engineer,
			Response: api.KeptFinding{},
			handle: func(c *call) (any, error) {
				return c.s.Gate.Checkups.ReopenFinding(c.Context(), c.who, c.Params("id"))
			},
		},
		{
			Method:   get,
			Path:     "/findings/{id}/correction",
			Summary:  "The change that would settle a finding; nothing is changed",
			Role:     viewer,
			Response: api.Correction{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Checkups.Correction(c.Context(), c.Params("id")) },
		},
		{
			Method:  post,
			Path:    "/findings/{id}/correction",
			Summary: "Make the change that was looked at",
			Role:    engineer,
			Request: api.Correct{},
			Status:  204,
			handle: func(c *call) (any, error) {
				in, err := body[api.Correct](c)
				if err != nil {
					return nil, err
				}
				return nil, c.s.Gate.Checkups.Correct(c.Context(), c.who, c.Params("id"), in.Revision)
			},
		},
		{
			Method:   get,
			Path:     "/outside",
			Summary:  "Partners' hosts, as they were last looked at",
			Role:     viewer,
			Response: api.List[api.OutsideHost]{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Checkups.OutsideHosts(c.Context()) },
		},
		{
			Method:   post,
			Path:     "/outside/look",
			Summary:  "Look at a partner's host now",
			Role:     engineer,
			Request:  api.LookOutside{},
			Response: api.List[api.OutsideHost]{},
			handle: func(c *call) (any, error) {
				in, err := body[api.LookOutside](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Checkups.LookOutside(c.Context(), in.Origin)
			},
		},
		{
			Method:   get,
			Path:     "/notices",
			Summary:  "Whom the gate tells about new findings",
			Role:     owner,
			Response: api.NoticesView{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Checkups.Notices(c.Context()) },
		},
		{
			Method:   put,
			Path:     "/notices",
			Summary:  "Say whom the gate tells about new findings",
			Role:     owner,
			Request:  api.SaveNotices{},
			Response: api.NoticesView{},
			handle: func(c *call) (any, error) {
				in, err := body[api.SaveNotices](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Checkups.SetNotices(c.Context(), c.who, in)
			},
		},
	}
}

// overviewRoutes are the operations on the overview.
func overviewRoutes() []route {
	const viewer, engineer = ground.RoleViewer, ground.RoleEngineer
	get := http.MethodGet
	return []route{
		{
			Method:   get,
			Path:     "/overview",
			Summary:  "Counts, findings and the newest sign-ins",
			Role:     viewer,
			Response: api.Overview{},
			handle:   overview,
		},
		{
			Method:   get,
			Path:     "/find",
			Summary:  "Search everything by name, entity ID, trace number or fingerprint",
			Role:     viewer,
			Query:    []string{"q"},
			Response: api.List[api.FoundItem]{},
			handle: func(c *call) (any, error) {
				return c.s.Gate.Checkups.Find(c.Context(), c.Query("q"), ground.Allows(c.who.Role, engineer))
			},
		},
	}
}

func overview(c *call) (any, error) {
	o, err := c.s.Gate.Checkups.Overview(c.Context())
	if err == nil {
		c.maskNames(o.Recent)
	}
	return o, err
}
