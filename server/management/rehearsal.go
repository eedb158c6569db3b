package management

import (
	"net/http"

	"innergate/api"
	"innergate/core/explain"
	"innergate/gate/ground"
	"innergate/gate/rehearsal"
)

// rehearsalRoutes are the operations on rehearsals, and what is tried without effect on anybody.
func rehearsalRoutes() []route {
	const viewer, engineer = ground.RoleViewer, ground.RoleEngineer
	post, get := http.MethodPost, http.MethodGet
	return []route{
		{
			Method:   post,
			Path:     "/rehearsals",
			Summary:  "Order a rehearsal; its link is in the answer only",
			Role:     engineer,
			Request:  api.NewRehearsal{},
			Response: api.Rehearsal{},
			Status:   201,
			handle: func(c *call) (any, error) {
				in, err := body[api.NewRehearsal](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Rehearsal.NewRehearsal(c.Context(), c.who, in)
			},
		},
		{
			Method:   get,
			Path:     "/rehearsals/{id}",
			Summary:  "A rehearsal and its traces",
			Role:     viewer,
			Response: api.Rehearsal{},
			handle: func(c *call) (any, error) {
				r, err := c.s.Gate.Rehearsal.Rehearsal(c.Context(), c.Params("id"))
				if err == nil {
					c.maskNames(r.Traces)
				}
				return r, err
			},
		},
		{
			Method:   get,
			Path:     "/explanations",
			Summary:  "The catalogue of failures",
			Role:     viewer,
			Response: api.List[explain.Explanation]{},
			handle: func(c *call) (any, error) {
				return api.List[explain.Explanation]{Items: explain.All()}, nil
			},
		},
		{
			Method:   post,
			Path:     "/decode",
			Summary:  "Make a message readable; nothing in it is verified",
			Role:     viewer,
			Request:  api.Decode{},
			Response: api.Decoded{},
			handle: func(c *call) (any, error) {
				in, err := body[api.Decode](c)
				if err != nil {
					return nil, err
				}
				return rehearsal.DecodeAnything(in.Text)
			},
		},
	}
}
