package management

import (
	"net/http"
	"strconv"

	"innergate/api"
	"innergate/gate/ground"
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
			handle:   func(c *call) (any, error) { return c.s.Gate.Moves.Moves(c.Context()) },
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
				return c.s.Gate.Moves.NewMove(c.Context(), c.who, in)
			},
		},
		{
			Method:   get,
			Path:     "/moves/{slug}",
			Summary:  "A move with its waves, and the usage and readiness of each application",
			Role:     viewer,
			Response: api.Move{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Moves.Move(c.Context(), c.Params("slug")) },
		},
		{
			Method:  del,
			Path:    "/moves/{slug}",
			Summary: "End a move; what has moved stays moved",
			Role:    engineer,
			Status:  204,
			handle: func(c *call) (any, error) {
				return nil, c.s.Gate.Moves.EndMove(c.Context(), c.who, c.Params("slug"))
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
				return c.s.Gate.Moves.PlanWave(c.Context(), c.who, c.Params("slug"), number(c), in)
			},
		},
		{
			Method:   post,
			Path:     "/moves/{slug}/waves/{number}/approve",
			Summary:  "Approve a wave that somebody else planned",
			Role:     engineer,
			Response: api.Move{},
			handle: func(c *call) (any, error) {
				return c.s.Gate.Moves.ApproveWave(c.Context(), c.who, c.Params("slug"), number(c))
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
				return c.s.Gate.Moves.OpenWave(c.Context(), c.who, c.Params("slug"), number(c), in)
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
				return c.s.Gate.Moves.BackWave(c.Context(), c.who, c.Params("slug"), number(c), in)
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
				return c.s.Gate.Moves.NewTrial(c.Context(), c.who, c.Params("slug"), in)
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
				return c.s.Gate.Moves.MoveComparisons(c.Context(), c.Params("slug"), c.Query("application"))
			},
		},
		{
			Method:   get,
			Path:     "/providers/{slug}/uses",
			Summary:  "What still uses a provider, until it can be closed",
			Role:     viewer,
			Response: api.StillUses{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Moves.StillUses(c.Context(), c.Params("slug")) },
		},
	}
}
