package server

import (
	"net/http"
	"strconv"
	"time"

	"innergate/api"
	"innergate/core/config"
	"innergate/gate/changes"
	"innergate/gate/ground"
)

// historyRoutes are the operations on revisions, and on changes that are proposed.
func historyRoutes() []route {
	const viewer, engineer, owner = ground.RoleViewer, ground.RoleEngineer, ground.RoleOwner
	post, put, get := http.MethodPost, http.MethodPut, http.MethodGet
	return []route{
		{
			Method:   get,
			Path:     "/history",
			Summary:  "Revisions, the newest first: of everything, of a kind, or of one object",
			Role:     engineer,
			Query:    []string{"kind", "slug", "search", "from", "until", "after", "limit"},
			Response: api.List[api.Revision]{},
			handle: func(c *call) (any, error) {
				f := changes.HistoryFilter{Kind: c.Query("kind"), Slug: c.Query("slug"), Owner: ground.Allows(c.who.Role, owner)}
				for name, into := range map[string]*time.Time{"from": &f.From, "until": &f.Until} {
					if err := timeQuery(c, name, into); err != nil {
						return nil, err
					}
				}
				return c.s.gate.Changes.History(c.Context(), page(c), f)
			},
		},
		{
			Method:   get,
			Path:     "/history/revision",
			Summary:  "One revision, held against another one or, with against=0, the newest",
			Role:     engineer,
			Query:    []string{"kind", "slug", "number", "against"},
			Response: api.RevisionView{},
			handle: func(c *call) (any, error) {
				number, _ := strconv.Atoi(c.Query("number"))
				against, _ := strconv.Atoi(c.Query("against"))
				return c.s.gate.Changes.Revision(c.Context(), c.who, c.Query("kind"), c.Query("slug"), number, against)
			},
		},
		{
			Method:   post,
			Path:     "/history/restore",
			Summary:  "Bring one object back to a revision, or the whole configuration to a time, or only tell what that would do",
			Role:     engineer,
			Request:  api.Restore{},
			Response: api.ConfigResult{},
			handle: func(c *call) (any, error) {
				in, err := body[api.Restore](c)
				if err != nil {
					return nil, err
				}
				return c.s.gate.Changes.Restore(c.Context(), c.who, in)
			},
		},
		{
			Method:   get,
			Path:     "/proposals",
			Summary:  "Changes that are proposed, the newest first; state=waiting for those that nobody has decided about",
			Role:     viewer,
			Query:    []string{"kind", "slug", "state", "after", "limit"},
			Response: api.List[api.Proposal]{},
			handle: func(c *call) (any, error) {
				return c.s.gate.Changes.Proposals(c.Context(), page(c), c.Query("kind"), c.Query("slug"), c.Query("state"))
			},
		},
		{
			Method:   post,
			Path:     "/proposals",
			Summary:  "Propose a change; nothing acts on it until it is applied",
			Role:     engineer,
			Request:  api.NewProposal{},
			Response: api.Proposal{},
			Status:   201,
			handle: func(c *call) (any, error) {
				in, err := body[api.NewProposal](c)
				if err != nil {
					return nil, err
				}
				return c.s.gate.Changes.Propose(c.Context(), c.who, in)
			},
		},
		{
			Method:   get,
			Path:     "/proposals/{id}",
			Summary:  "One proposal, with what it would change and what people would feel",
			Role:     viewer,
			Response: api.Proposal{},
			handle:   func(c *call) (any, error) { return c.s.gate.Changes.Proposal(c.Context(), c.Params("id")) },
		},
		{
			Method:   put,
			Path:     "/proposals/{id}",
			Summary:  "Replace what is proposed; it has to be approved anew",
			Role:     engineer,
			Request:  api.NewProposal{},
			Response: api.Proposal{},
			handle: func(c *call) (any, error) {
				in, err := body[api.NewProposal](c)
				if err != nil {
					return nil, err
				}
				return c.s.gate.Changes.ChangeProposal(c.Context(), c.who, c.Params("id"), in)
			},
		},
		{
			Method:   post,
			Path:     "/proposals/{id}/approve",
			Summary:  "Approve what somebody else proposed",
			Role:     engineer,
			Response: api.Proposal{},
			handle: func(c *call) (any, error) {
				return c.s.gate.Changes.ApproveProposal(c.Context(), c.who, c.Params("id"))
			},
		},
		{
			Method:   post,
			Path:     "/proposals/{id}/apply",
			Summary:  "Make the change now, or in a window",
			Role:     engineer,
			Request:  api.ApplyProposal{},
			Response: api.Proposal{},
			handle: func(c *call) (any, error) {
				in, err := body[api.ApplyProposal](c)
				if err != nil {
					return nil, err
				}
				return c.s.gate.Changes.ApplyProposal(c.Context(), c.who, c.Params("id"), in)
			},
		},
		{
			Method:   post,
			Path:     "/proposals/{id}/withdraw",
			Summary:  "End a proposal without making the change",
			Role:     engineer,
			Request:  api.WithdrawProposal{},
			Response: api.Proposal{},
			handle: func(c *call) (any, error) {
				in, err := body[api.WithdrawProposal](c)
				if err != nil {
					return nil, err
				}
				return c.s.gate.Changes.WithdrawProposal(c.Context(), c.who, c.Params("id"), in.Note)
			},
		},
		{
			Method:   get,
			Path:     "/review",
			Summary:  "Which changes need a second person",
			Role:     viewer,
			Response: config.Review{},
			handle:   func(c *call) (any, error) { return c.s.gate.Changes.Review(c.Context()) },
		},
		{
			Method:   put,
			Path:     "/review",
			Summary:  "Say which changes need a second person",
			Role:     owner,
			Request:  config.Review{},
			Response: config.Review{},
			handle: func(c *call) (any, error) {
				in, err := body[config.Review](c)
				if err != nil {
					return nil, err
				}
				return c.s.gate.Changes.SetReview(c.Context(), c.who, in)
			},
		},
	}
}

// timeQuery reads a time of the query, if it is there.
func timeQuery(c *call, name string, into *time.Time) error {
	text := c.Query(name)
	if text == "" {
		return nil
	}
	at, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return &api.Problem{
			Type:   "about:blank",
			Status: http.StatusBadRequest,
			Title:  "A time can't be read",
			Code:   "time",
			Detail: "The query's " + name + " is no time such as 2026-11-23T09:30:00Z.",
		}
	}
	*into = at
	return nil
}
