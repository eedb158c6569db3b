package management

import (
	"context"
	"net/http"
	"strconv"
	"strings"
	"time"

	"innergate/api"
	"innergate/gate/ground"
	"innergate/gate/traces"
)

// traceRoutes are the operations on what sign-ins left behind: comparing, counting and keeping.
func traceRoutes() []route {
	const viewer, engineer, owner = ground.RoleViewer, ground.RoleEngineer, ground.RoleOwner
	post, put, get := http.MethodPost, http.MethodPut, http.MethodGet
	return []route{
		{
			Method:   get,
			Path:     "/traces/{reference}/compare",
			Summary:  "Two traces side by side, the elder first; without another reference, the newest good sign-in before it",
			Role:     viewer,
			Query:    []string{"with"},
			Response: api.TraceComparison{},
			handle: func(c *call) (any, error) {
				return c.s.Gate.Rehearsal.CompareTraces(
					c.Context(), c.Params("reference"), c.Query("with"), ground.Allows(c.who.Role, ground.RoleEngineer),
				)
			},
		},
		{
			Method: get,
			Path:   "/rehearsals/{id}/events",
			Summary: "What comes to a rehearsal's trace, as it comes, until its sign-in has ended (server-sent events: begin, trace " +
				"with FollowedTrace, end)",
			Role:     viewer,
			Media:    "text/event-stream",
			Response: []byte{},
			handle: func(c *call) (any, error) {
				id, personal := strings.Clone(c.Params("id")), ground.Allows(c.who.Role, ground.RoleEngineer)
				if _, err := c.s.Gate.Rehearsal.Rehearsal(c.Context(), id); err != nil {
					return nil, err
				}
				g := c.s.Gate
				return events(func(ctx context.Context, send func(string, any) error) error {
					return g.Rehearsal.FollowRehearsal(ctx, id, personal, send)
				}), nil
			},
		},
		{
			Method:   post,
			Path:     "/bundles",
			Summary:  "What a bundle for support would hold, as JSON",
			Role:     viewer,
			Request:  api.BundleQuestion{},
			Response: api.Bundle{},
			handle: func(c *call) (any, error) {
				in, err := body[api.BundleQuestion](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Checkups.Bundle(c.Context(), c.who, in)
			},
		},
		{
			Method:   post,
			Path:     "/bundles/file",
			Summary:  "A bundle for support as one HTML file that is read without the gate",
			Role:     viewer,
			Request:  api.BundleQuestion{},
			Response: []byte{},
			Media:    "text/html; charset=utf-8",
			handle: func(c *call) (any, error) {
				in, err := body[api.BundleQuestion](c)
				if err != nil {
					return nil, err
				}
				b, err := c.s.Gate.Checkups.Bundle(c.Context(), c.who, in)
				if err != nil {
					return nil, err
				}
				c.Set("Content-Disposition", `attachment; filename="innergate-bundle.html"`)
				return bundlePage(b)
			},
		},
		{
			Method:   post,
			Path:     "/judge",
			Summary:  "Hold a SAML response against the configuration, open or draft, at a chosen time, without a browser",
			Role:     engineer,
			Request:  api.Judge{},
			Response: api.Judged{},
			handle: func(c *call) (any, error) {
				in, err := body[api.Judge](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Rehearsal.Judge(c.Context(), in)
			},
		},
		{
			Method:   get,
			Path:     "/statistics",
			Summary:  "Sign-ins of the last days, counted",
			Role:     viewer,
			Query:    []string{"days", "application", "provider"},
			Response: api.Statistics{},
			handle: func(c *call) (any, error) {
				days, err := strconv.Atoi(c.Query("days", "7"))
				if err != nil {
					return nil, &api.Problem{
						Type:   "about:blank",
						Status: http.StatusBadRequest,
						Title:  "The number of days can't be read",
						Code:   "days",
						Detail: "The query's days is no number from 1 to 366.",
					}
				}
				return c.s.Gate.Traces.Statistics(c.Context(), days, c.Query("application"), c.Query("provider"))
			},
		},
		{
			Method:   get,
			Path:     "/trace-retention",
			Summary:  "How long traces are kept",
			Role:     viewer,
			Response: api.TraceRetention{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Traces.TraceRetention(c.Context()) },
		},
		{
			Method:   put,
			Path:     "/trace-retention",
			Summary:  "Say how long traces are kept",
			Role:     owner,
			Request:  api.TraceRetention{},
			Response: api.TraceRetention{},
			handle: func(c *call) (any, error) {
				in, err := body[api.TraceRetention](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Traces.SetTraceRetention(c.Context(), c.who, in)
			},
		},
	}
}

// traceListRoutes are the operations on traces.
func traceListRoutes() []route {
	const viewer = ground.RoleViewer
	get := http.MethodGet
	return []route{
		{
			Method:  get,
			Path:    "/traces",
			Summary: "List traces, the newest first",
			Role:    viewer,
			Query: []string{
				"search",
				"after",
				"limit",
				"application",
				"provider",
				"outcome",
				"flow",
				"code",
				"rehearsal",
				"person",
				"from",
				"until",
			},
			Response: api.List[api.TraceSummary]{},
			handle:   listTraces,
		},
		{
			Method:   get,
			Path:     "/traces/{reference}/refused-there",
			Summary:  "What to compare where the application refused what it was sent, and what its message means",
			Role:     viewer,
			Query:    []string{"message"},
			Response: api.RefusedThere{},
			handle: func(c *call) (any, error) {
				return c.s.Gate.Traces.Refused(c.Context(), c.Params("reference"), c.Query("message"),
					ground.Allows(c.who.Role, ground.RoleEngineer))
			},
		},
		{
			Method:   get,
			Path:     "/traces/{reference}",
			Summary:  "The whole record of one sign-in",
			Role:     viewer,
			Response: api.Trace{},
			handle: func(c *call) (any, error) {
				return c.s.Gate.Traces.Trace(c.Context(), c.Params("reference"), ground.Allows(c.who.Role, ground.RoleEngineer))
			},
		},
	}
}

func listTraces(c *call) (any, error) {
	f := traces.Filter{
		Application: c.Query("application"),
		Provider:    c.Query("provider"),
		Outcome:     c.Query("outcome"),
		Flow:        c.Query("flow"),
		Code:        c.Query("code"),
		Rehearsal:   c.Query("rehearsal"),
		Person:      c.Query("person"),
		Names:       ground.Allows(c.who.Role, ground.RoleEngineer),
	}
	for name, into := range map[string]*time.Time{"from": &f.From, "until": &f.Until} {
		if err := timeQuery(c, name, into); err != nil {
			return nil, err
		}
	}
	list, err := c.s.Gate.Traces.Traces(c.Context(), page(c), f)
	if err == nil {
		c.maskNames(list.Items)
	}
	return list, err
}
