package server

import (
	"net/http"
	"strconv"

	"innergate/api"
	"innergate/gate/ground"
	"innergate/gate/traces"
)

// moveRoutes are the operations on moves between providers.
func moveRoutes() []route {
	const viewer, engineer = ground.RoleViewer, ground.RoleEngineer
	post, put, del, get := http.MethodPost, http.MethodPut, http.MethodDelete, http.MethodGet
	number := func(c *call) int {
		n, _ := strconv.Atoi(c.Params("number"))
		return n
	}
	return []route{
		{
			Method:   get,
			Path:     "/moves",
			Summary:  "List moves, the newest first",
			Role:     viewer,
			Response: api.List[api.MoveLine]{},
			handle:   func(c *call) (any, error) { return c.s.gate.Moves.Moves(c.Context()) },
		},
		{
			Method:   post,
			Path:     "/moves",
			Summary:  "Plan a move of applications from one provider to another; nothing changes yet",
			Role:     engineer,
			Request:  api.NewMove{},
			Response: api.Move{},
			Status:   201,
			handle: func(c *call) (any, error) {
				in, err := body[api.NewMove](c)
				if err != nil {
					return nil, err
				}
				return c.s.gate.Moves.NewMove(c.Context(), c.who, in)
			},
		},
		{
			Method:   get,
			Path:     "/moves/{slug}",
			Summary:  "A move with its waves, and the usage and readiness of each application",
			Role:     viewer,
			Response: api.Move{},
			handle:   func(c *call) (any, error) { return c.s.gate.Moves.Move(c.Context(), c.Params("slug")) },
		},
		{
			Method:  del,
			Path:    "/moves/{slug}",
			Summary: "End a move; what has moved stays moved",
			Role:    engineer,
			Status:  204,
			handle: func(c *call) (any, error) {
				return nil, c.s.gate.Moves.EndMove(c.Context(), c.who, c.Params("slug"))
			},
		},
		{
			Method:   put,
			Path:     "/moves/{slug}/waves/{number}",
			Summary:  "Say which applications are in a wave, when it opens, and what it bears",
			Role:     engineer,
			Request:  api.PlanWave{},
			Response: api.Move{},
			handle: func(c *call) (any, error) {
				in, err := body[api.PlanWave](c)
				if err != nil {
					return nil, err
				}
				return c.s.gate.Moves.PlanWave(c.Context(), c.who, c.Params("slug"), number(c), in)
			},
		},
		{
			Method:   post,
			Path:     "/moves/{slug}/waves/{number}/approve",
			Summary:  "Approve a wave that somebody else planned",
			Role:     engineer,
			Response: api.Move{},
			handle: func(c *call) (any, error) {
				return c.s.gate.Moves.ApproveWave(c.Context(), c.who, c.Params("slug"), number(c))
			},
		},
		{
			Method:   post,
			Path:     "/moves/{slug}/waves/{number}/open",
			Summary:  "Open a wave at once",
			Role:     engineer,
			Request:  api.OpenWave{},
			Response: api.Move{},
			handle: func(c *call) (any, error) {
				in, err := body[api.OpenWave](c)
				if err != nil {
					return nil, err
				}
				return c.s.gate.Moves.OpenWave(c.Context(), c.who, c.Params("slug"), number(c), in)
			},
		},
		{
			Method:   post,
			Path:     "/moves/{slug}/waves/{number}/back",
			Summary:  "Take a wave back at once",
			Role:     engineer,
			Request:  api.BackWave{},
			Response: api.Move{},
			handle: func(c *call) (any, error) {
				in, err := body[api.BackWave](c)
				if err != nil {
					return nil, err
				}
				return c.s.gate.Moves.BackWave(c.Context(), c.who, c.Params("slug"), number(c), in)
			},
		},
		{
			Method:   post,
			Path:     "/moves/{slug}/trials",
			Summary:  "Make a link by which people sign in both ways; nothing reaches the application",
			Role:     engineer,
			Request:  api.NewTrial{},
			Response: api.Trial{},
			Status:   201,
			handle: func(c *call) (any, error) {
				in, err := body[api.NewTrial](c)
				if err != nil {
					return nil, err
				}
				return c.s.gate.Moves.NewTrial(c.Context(), c.who, c.Params("slug"), in)
			},
		},
		{
			Method:   get,
			Path:     "/moves/{slug}/comparisons",
			Summary:  "What came of signing in both ways, those that differ first",
			Role:     engineer,
			Query:    []string{"application"},
			Response: api.List[api.MoveComparison]{},
			handle: func(c *call) (any, error) {
				return c.s.gate.Moves.MoveComparisons(c.Context(), c.Params("slug"), c.Query("application"))
			},
		},
		{
			Method:   get,
			Path:     "/providers/{slug}/uses",
			Summary:  "What still uses a provider, until it can be closed",
			Role:     viewer,
			Response: api.StillUses{},
			handle:   func(c *call) (any, error) { return c.s.gate.Moves.StillUses(c.Context(), c.Params("slug")) },
		},
	}
}

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
					return c.s.gate.Exchange.Handovers(c.Context(), kind, c.Params("slug"))
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
					return c.s.gate.Exchange.NewHandover(c.Context(), c.who, kind, c.Params("slug"), in)
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
				return nil, c.s.gate.Exchange.RevokeHandover(c.Context(), c.who, c.Params("id"))
			},
		},
	)
}

// batchRoutes are the operations on many partners at once, and on reports about all of them.
func batchRoutes() []route {
	const viewer, engineer = ground.RoleViewer, ground.RoleEngineer
	post, put, del, get := http.MethodPost, http.MethodPut, http.MethodDelete, http.MethodGet
	narrow := []string{"search", "kind", "provider", "owner", "reach", "tag", "expires", "unused", "findings", "sort"}
	filter := func(c *call) traces.ReportFilter {
		n := func(name string) int {
			v, _ := strconv.Atoi(c.Query(name))
			return v
		}
		return traces.ReportFilter{
			Side:     c.Params("side"),
			Search:   c.Query("search"),
			Kind:     c.Query("kind"),
			Provider: c.Query("provider"),
			Owner:    c.Query("owner"),
			Reach:    c.Query("reach"),
			Tag:      c.Query("tag"),
			Expires:  n("expires"),
			Unused:   n("unused"),
			Findings: c.Query("findings") != "",
			Sort:     c.Query("sort"),
			Offset:   n("after"),
			Limit:    n("limit"),
		}
	}
	return []route{
		{
			Method:   get,
			Path:     "/batches",
			Summary:  "The newest batches of partners",
			Role:     engineer,
			Response: api.List[api.BatchLine]{},
			handle:   func(c *call) (any, error) { return c.s.gate.Sources.Batches(c.Context()) },
		},
		{
			Method:   post,
			Path:     "/batches",
			Summary:  "Take many partners at once: they are understood and sorted, and nothing is made yet",
			Role:     engineer,
			Request:  api.NewBatch{},
			Response: api.Batch{},
			Status:   201,
			handle: func(c *call) (any, error) {
				in, err := body[api.NewBatch](c)
				if err != nil {
					return nil, err
				}
				return c.s.gate.Sources.NewBatch(c.Context(), c.who, in)
			},
		},
		{
			Method:   get,
			Path:     "/batches/{id}",
			Summary:  "A batch with its rows",
			Role:     engineer,
			Response: api.Batch{},
			handle:   func(c *call) (any, error) { return c.s.gate.Sources.Batch(c.Context(), c.Params("id")) },
		},
		{
			Method:   put,
			Path:     "/batches/{id}",
			Summary:  "Enter what is missing; what is concerned is looked at anew",
			Role:     engineer,
			Request:  api.ChangeBatch{},
			Response: api.Batch{},
			handle: func(c *call) (any, error) {
				in, err := body[api.ChangeBatch](c)
				if err != nil {
					return nil, err
				}
				return c.s.gate.Sources.ChangeBatch(c.Context(), c.who, c.Params("id"), in)
			},
		},
		{
			Method:   post,
			Path:     "/batches/{id}/make",
			Summary:  "Make drafts of everything that is ready, all of it or nothing",
			Role:     engineer,
			Response: api.Batch{},
			handle: func(c *call) (any, error) {
				return c.s.gate.Sources.MakeBatch(c.Context(), c.who, c.Params("id"))
			},
		},
		{
			Method:  del,
			Path:    "/batches/{id}",
			Summary: "Forget a batch; what it made stays",
			Role:    engineer,
			Status:  204,
			handle: func(c *call) (any, error) {
				return nil, c.s.gate.Sources.DropBatch(c.Context(), c.who, c.Params("id"))
			},
		},
		{
			Method:   get,
			Path:     "/reports/{side}",
			Summary:  "Applications or providers (side is application or provider) with owner, certificate, last sign-in and findings",
			Role:     viewer,
			Query:    append([]string{"after", "limit"}, narrow...),
			Response: api.Report{},
			handle:   func(c *call) (any, error) { return c.s.gate.Traces.Report(c.Context(), filter(c)) },
		},
		{
			Method:   get,
			Path:     "/reports/{side}/csv",
			Summary:  "The same, whole, for a spreadsheet",
			Role:     viewer,
			Query:    narrow,
			Media:    "text/csv; charset=utf-8",
			Response: []byte{},
			handle:   func(c *call) (any, error) { return c.s.gate.Traces.ReportCSV(c.Context(), filter(c)) },
		},
	}
}
