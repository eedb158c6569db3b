package management

import (
	"net/http"

	"innergate/api"
	"innergate/gate/ground"
)

// readingRoutes are the operations on reading people from directories.
func readingRoutes() []route {
	return []route{
		{
			Method:   http.MethodGet,
			Path:     "/providers/{slug}/readings",
			Summary:  "The newest readings of a directory's people",
			Role:     ground.RoleEngineer,
			Response: api.List[api.Reading]{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Readings.List(c.Context(), c.Params("slug")) },
		},
		{
			Method:   http.MethodPost,
			Path:     "/providers/{slug}/readings",
			Summary:  "Begin a reading of a directory's people: look what would come of it, or write",
			Role:     ground.RoleEngineer,
			Request:  api.NewReading{},
			Response: api.Reading{},
			Status:   201,
			handle: func(c *call) (any, error) {
				in, err := body[api.NewReading](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Readings.New(c.Context(), c.who, c.Params("slug"), in)
			},
		},
		{
			Method:   http.MethodGet,
			Path:     "/providers/{slug}/readings/{id}",
			Summary:  "How a reading stands",
			Role:     ground.RoleEngineer,
			Response: api.Reading{},
			handle: func(c *call) (any, error) {
				return c.s.Gate.Readings.One(c.Context(), c.Params("slug"), c.Params("id"))
			},
		},
		{
			Method:   http.MethodPost,
			Path:     "/providers/{slug}/readings/{id}/write",
			Summary:  "Write what was looked at, go on with what was stopped, or agree that so many are gone",
			Role:     ground.RoleEngineer,
			Response: api.Reading{},
			handle: func(c *call) (any, error) {
				return c.s.Gate.Readings.Write(c.Context(), c.who, c.Params("slug"), c.Params("id"))
			},
		},
		{
			Method:  http.MethodDelete,
			Path:    "/providers/{slug}/readings/{id}",
			Summary: "Cancel a reading; what was written stays",
			Role:    ground.RoleEngineer,
			Status:  204,
			handle: func(c *call) (any, error) {
				return nil, c.s.Gate.Readings.Cancel(c.Context(), c.who, c.Params("slug"), c.Params("id"))
			},
		},
	}
}
