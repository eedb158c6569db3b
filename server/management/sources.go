package management

import (
	"net/http"
	"strconv"
	"strings"

	"innergate/api"
	"innergate/core/config"
	"innergate/gate/ground"
	"innergate/gate/traces"
)

// sourceRoutes are for sources of metadata.
func sourceRoutes() []route {
	const viewer, engineer = ground.RoleViewer, ground.RoleEngineer
	post, put, del, get := http.MethodPost, http.MethodPut, http.MethodDelete, http.MethodGet
	return []route{
		{
			Method:   get,
			Path:     "/sources",
			Summary:  "List sources of metadata",
			Role:     viewer,
			Response: api.List[api.Source]{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Sources.Sources(c.Context()) },
		},
		{
			Method:   post,
			Path:     "/sources",
			Summary:  "Add a source",
			Role:     engineer,
			Request:  config.Source{},
			Response: api.Source{},
			Status:   201,
			handle: func(c *call) (any, error) {
				in, err := body[config.Source](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Sources.SaveSource(c.Context(), c.who, "", in)
			},
		},
		{
			Method:   get,
			Path:     "/sources/{slug}",
			Summary:  "Show a source, and how far a reading of it is",
			Role:     viewer,
			Response: api.Source{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Sources.Source(c.Context(), c.Params("slug")) },
		},
		{
			Method:   put,
			Path:     "/sources/{slug}",
			Summary:  "Replace a source's configuration",
			Role:     engineer,
			Request:  config.Source{},
			Response: api.Source{},
			handle: func(c *call) (any, error) {
				in, err := body[config.Source](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Sources.SaveSource(c.Context(), c.who, c.Params("slug"), in)
			},
		},
		{
			Method:  del,
			Path:    "/sources/{slug}",
			Summary: "Delete a source from which no partner takes its metadata",
			Role:    engineer,
			Status:  204,
			handle: func(c *call) (any, error) {
				return nil, c.s.Gate.Sources.DeleteSource(c.Context(), c.who, c.Params("slug"))
			},
		},
		{
			Method:  put,
			Path:    "/sources/{slug}/file",
			Summary: "Upload a part of a file, in order; each part as the body, at most 2 MiB",
			Role:    engineer,
			Query:   []string{"offset"},
			Status:  204,
			Upload:  true,
			handle: func(c *call) (any, error) {
				offset, err := strconv.ParseInt(c.Query("offset", "0"), 10, 64)
				if err != nil || offset < 0 {
					return nil, &api.Problem{
						Type:   "about:blank",
						Title:  "The offset is no number",
						Status: http.StatusBadRequest,
						Code:   "offset",
						Detail: "The offset says at which byte of the file the part begins.",
					}
				}
				return nil, c.s.Gate.Sources.UploadSource(c.Context(), c.Params("slug"), offset, c.BodyRaw())
			},
		},
		{
			Method:   post,
			Path:     "/sources/{slug}/refresh",
			Summary:  "Begin to read a source; the answer comes at once",
			Role:     engineer,
			Response: api.Source{},
			Status:   202,
			handle: func(c *call) (any, error) {
				return c.s.Gate.Sources.RefreshSource(c.Context(), c.Params("slug"))
			},
		},
		{
			Method:  del,
			Path:    "/sources/{slug}/refresh",
			Summary: "Cancel a reading that is under way; what was held before stays",
			Role:    engineer,
			Status:  204,
			handle: func(c *call) (any, error) {
				return nil, c.s.Gate.Sources.CancelSource(c.Context(), c.Params("slug"))
			},
		},
		{
			Method:   get,
			Path:     "/sources/{slug}/entities",
			Summary:  "List a source's entities",
			Role:     viewer,
			Query:    paged("role"),
			Response: api.List[api.SourceEntity]{},
			handle: func(c *call) (any, error) {
				return c.s.Gate.Sources.SourceEntities(c.Context(), c.Params("slug"), page(c), c.Query("role"))
			},
		},
		{
			Method:  get,
			Path:    "/sources/{slug}/entity",
			Summary: "One entity's metadata as it was read",
			Role:    viewer,
			Query:   []string{"entityId"},
			Media:   "text/plain; charset=utf-8",
			handle: func(c *call) (any, error) {
				return c.s.Gate.Sources.SourceDocument(c.Context(), c.Params("slug"), strings.Clone(c.Query("entityId")))
			},
		},
		{
			Method:   post,
			Path:     "/sources/{slug}/look-up",
			Summary:  "Ask a metadata query service for one entity",
			Role:     engineer,
			Request:  api.LookUp{},
			Response: api.SourceEntity{},
			handle: func(c *call) (any, error) {
				in, err := body[api.LookUp](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Sources.LookUp(c.Context(), c.who, c.Params("slug"), in.EntityID)
			},
		},
		{
			Method:   post,
			Path:     "/sources/{slug}/adopt",
			Summary:  "Make drafts of entities of a source",
			Role:     engineer,
			Request:  api.Adopt{},
			Response: api.List[api.Adopted]{},
			handle: func(c *call) (any, error) {
				in, err := body[api.Adopt](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Sources.Adopt(c.Context(), c.who, c.Params("slug"), in)
			},
		},
	}
}

// templateRoutes are for templates.
func templateRoutes() []route {
	const viewer, engineer = ground.RoleViewer, ground.RoleEngineer
	post, del, get := http.MethodPost, http.MethodDelete, http.MethodGet
	return []route{
		{
			Method:   get,
			Path:     "/templates",
			Summary:  "List templates, those that ship included",
			Role:     viewer,
			Response: api.List[config.Template]{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Sources.Templates(c.Context()) },
		},
		{
			Method:   post,
			Path:     "/templates",
			Summary:  "Save a connection as a template",
			Role:     engineer,
			Request:  api.NewTemplate{},
			Response: config.Template{},
			Status:   201,
			handle: func(c *call) (any, error) {
				in, err := body[api.NewTemplate](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Sources.NewTemplate(c.Context(), c.who, in)
			},
		},
		{
			Method:   get,
			Path:     "/templates/{slug}",
			Summary:  "Show a template",
			Role:     viewer,
			Response: config.Template{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Sources.Template(c.Context(), c.Params("slug")) },
		},
		{
			Method:  del,
			Path:    "/templates/{slug}",
			Summary: "Delete a template",
			Role:    engineer,
			Status:  204,
			handle: func(c *call) (any, error) {
				return nil, c.s.Gate.Sources.DeleteTemplate(c.Context(), c.who, c.Params("slug"))
			},
		},
		{
			Method:   post,
			Path:     "/templates/{slug}/start",
			Summary:  "Make a draft from a template",
			Role:     engineer,
			Request:  api.StartTemplate{},
			Response: api.Reference{},
			Status:   201,
			handle: func(c *call) (any, error) {
				in, err := body[api.StartTemplate](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Sources.StartTemplate(c.Context(), c.who, c.Params("slug"), in)
			},
		},
	}
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
			handle:   func(c *call) (any, error) { return c.s.Gate.Sources.Batches(c.Context()) },
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
				return c.s.Gate.Sources.NewBatch(c.Context(), c.who, in)
			},
		},
		{
			Method:   get,
			Path:     "/batches/{id}",
			Summary:  "A batch with its rows",
			Role:     engineer,
			Response: api.Batch{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Sources.Batch(c.Context(), c.Params("id")) },
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
				return c.s.Gate.Sources.ChangeBatch(c.Context(), c.who, c.Params("id"), in)
			},
		},
		{
			Method:   post,
			Path:     "/batches/{id}/make",
			Summary:  "Make drafts of everything that is ready, all of it or nothing",
			Role:     engineer,
			Response: api.Batch{},
			handle: func(c *call) (any, error) {
				return c.s.Gate.Sources.MakeBatch(c.Context(), c.who, c.Params("id"))
			},
		},
		{
			Method:  del,
			Path:    "/batches/{id}",
			Summary: "Forget a batch; what it made stays",
			Role:    engineer,
			Status:  204,
			handle: func(c *call) (any, error) {
				return nil, c.s.Gate.Sources.DropBatch(c.Context(), c.who, c.Params("id"))
			},
		},
		{
			Method:   get,
			Path:     "/reports/{side}",
			Summary:  "Applications or providers (side is application or provider) with owner, certificate, last sign-in and findings",
			Role:     viewer,
			Query:    append([]string{"after", "limit"}, narrow...),
			Response: api.Report{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Traces.Report(c.Context(), filter(c)) },
		},
		{
			Method:   get,
			Path:     "/reports/{side}/csv",
			Summary:  "The same, whole, for a spreadsheet",
			Role:     viewer,
			Query:    narrow,
			Media:    "text/csv; charset=utf-8",
			Response: []byte{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Traces.ReportCSV(c.Context(), filter(c)) },
		},
	}
}
