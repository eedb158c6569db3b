package management

import (
	"net/http"

	"github.com/gofiber/fiber/v3"

	"innergate/api"
	"innergate/core/explain"
	"innergate/gate/ground"
)

const samlMetadata = "application/samlmetadata+xml"

// sides are the two sides of the gate as they stand in paths and in the code.
var sides = []struct{ path, kind, noun string }{{"applications", "application", "an application"}, {"providers", "provider", "a provider"}}

// metadataRoutes are for what is exchanged with a partner: our metadata, its documents, and the sheet.
func metadataRoutes() []route {
	const viewer, engineer = ground.RoleViewer, ground.RoleEngineer
	post, get := http.MethodPost, http.MethodGet
	out := []route{
		{
			Method:  get,
			Path:    "/metadata/idp",
			Summary: "Our metadata for applications",
			Role:    viewer,
			Query:   []string{"signed"},
			Media:   samlMetadata,
			handle: func(c *call) (any, error) {
				return c.s.Gate.Exchange.OurMetadata(c.Context(), "", "", c.Query("signed") != "")
			},
		},
		{
			Method:  get,
			Path:    "/metadata/idp/{slug}",
			Summary: "Our metadata for one application",
			Role:    viewer,
			Query:   []string{"signed"},
			Media:   samlMetadata,
			handle: func(c *call) (any, error) {
				return c.s.Gate.Exchange.OurMetadata(c.Context(), "application", c.Params("slug"), c.Query("signed") != "")
			},
		},
		{
			Method:  get,
			Path:    "/metadata/sp/{slug}",
			Summary: "Our metadata for a provider",
			Role:    viewer,
			Query:   []string{"signed"},
			Media:   samlMetadata,
			handle: func(c *call) (any, error) {
				return c.s.Gate.Exchange.OurMetadata(c.Context(), "provider", c.Params("slug"), c.Query("signed") != "")
			},
		},
	}
	for _, side := range sides {
		kind, base := side.kind, "/"+side.path+"/{slug}"
		out = append(
			out,
			route{
				Method:   post,
				Path:     base + "/exchange/compare",
				Summary:  "Hold what the other side's form shows against our sheet",
				Role:     viewer,
				Request:  api.CompareSheet{},
				Response: api.ComparedSheet{},
				handle: func(c *call) (any, error) {
					in, err := body[api.CompareSheet](c)
					if err != nil {
						return nil, err
					}
					return c.s.Gate.Exchange.CompareSheet(c.Context(), kind, c.Params("slug"), in.Text)
				},
			},
			route{
				Method:  post,
				Path:    base + "/exchange/handed-out",
				Summary: "Remember that the sheet was handed out",
				Role:    engineer,
				Status:  204,
				handle: func(c *call) (any, error) {
					return nil, c.s.Gate.Exchange.NoteSheet(c.Context(), c.who, kind, c.Params("slug"))
				},
			},
			route{
				Method:   post,
				Path:     base + "/refresh",
				Summary:  "Look at the partner's metadata address now",
				Role:     engineer,
				Response: api.Refreshed{},
				handle: func(c *call) (any, error) {
					return c.s.Gate.Watch.Refresh(c.Context(), c.who, kind, c.Params("slug"))
				},
			},
			route{
				Method:   get,
				Path:     base + "/documents",
				Summary:  "The versions of the partner's metadata, the newest first",
				Role:     viewer,
				Response: api.List[api.Document]{},
				handle: func(c *call) (any, error) {
					return c.s.Gate.Watch.Documents(c.Context(), kind, c.Params("slug"))
				},
			},
			route{
				Method:  get,
				Path:    base + "/documents/{id}",
				Summary: "One version as it was received",
				Role:    viewer,
				Media:   "text/plain; charset=utf-8",
				handle: func(c *call) (any, error) {
					return c.s.Gate.Watch.DocumentText(c.Context(), kind, c.Params("slug"), c.Params("id"))
				},
			},
			route{
				Method:   get,
				Path:     base + "/documents/{id}/changes",
				Summary:  "What using this version now would change",
				Role:     viewer,
				Response: api.Refreshed{},
				handle: func(c *call) (any, error) {
					return c.s.Gate.Watch.DocumentChanges(c.Context(), kind, c.Params("slug"), c.Params("id"))
				},
			},
			route{
				Method:   post,
				Path:     base + "/documents/{id}/use",
				Summary:  "Apply a version that waits, or restore an older one",
				Role:     engineer,
				Response: api.Refreshed{},
				handle: func(c *call) (any, error) {
					return c.s.Gate.Watch.UseDocument(c.Context(), c.who, kind, c.Params("slug"), c.Params("id"))
				},
			},
			route{
				Method:  post,
				Path:    base + "/documents/{id}/dismiss",
				Summary: "Decide against a version that waits",
				Role:    engineer,
				Status:  204,
				handle: func(c *call) (any, error) {
					return nil, c.s.Gate.Watch.DismissDocument(c.Context(), c.who, kind, c.Params("slug"), c.Params("id"))
				},
			},
		)
	}
	return out
}

// takeRoutes are the operations on taking the other side's documents.
func takeRoutes() []route {
	const viewer, engineer = ground.RoleViewer, ground.RoleEngineer
	post := http.MethodPost
	return []route{
		{
			Method:   post,
			Path:     "/applications/{slug}/understand",
			Summary:  "Show what a document would change, storing nothing",
			Role:     engineer,
			Request:  api.TakeIn{},
			Response: api.Understood{},
			handle:   func(c *call) (any, error) { return understand(c, "application", c.Params("slug")) },
		},
		{
			Method:   post,
			Path:     "/applications/{slug}/take",
			Summary:  "Take the other side's metadata",
			Role:     engineer,
			Request:  api.TakeIn{},
			Response: api.Application{},
			handle: func(c *call) (any, error) {
				in, err := body[api.TakeIn](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Watch.TakeApplication(c.Context(), c.who, c.Params("slug"), in)
			},
		},
		{
			Method:   post,
			Path:     "/providers/{slug}/understand",
			Summary:  "Show what a document would change, storing nothing",
			Role:     engineer,
			Request:  api.TakeIn{},
			Response: api.Understood{},
			handle:   func(c *call) (any, error) { return understand(c, "provider", c.Params("slug")) },
		},
		{
			Method:   post,
			Path:     "/providers/{slug}/take",
			Summary:  "Take the other side's metadata",
			Role:     engineer,
			Request:  api.TakeIn{},
			Response: api.Provider{},
			handle: func(c *call) (any, error) {
				in, err := body[api.TakeIn](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Watch.TakeProvider(c.Context(), c.who, c.Params("slug"), in)
			},
		},
		{
			Method:   post,
			Path:     "/understand/{kind}",
			Summary:  "Understand a document for a new application or provider, storing nothing",
			Role:     engineer,
			Request:  api.TakeIn{},
			Response: api.Understood{},
			handle:   func(c *call) (any, error) { return understand(c, c.Params("kind"), "") },
		},
		{
			Method:   post,
			Path:     "/compare",
			Summary:  "Compare two values to the letter",
			Role:     viewer,
			Request:  api.Compare{},
			Response: explain.Difference{},
			handle: func(c *call) (any, error) {
				in, err := body[api.Compare](c)
				return explain.Compare(in.Ours, in.Theirs), err
			},
		},
	}
}

func understand(c *call, kind, slug string) (any, error) {
	in, err := body[api.TakeIn](c)
	if err != nil {
		return nil, err
	}
	var u *api.Understood
	switch kind {
	case "application":
		u, _, err = c.s.Gate.Watch.UnderstandApplication(c.Context(), slug, in)
	case "provider":
		u, _, err = c.s.Gate.Watch.UnderstandProvider(c.Context(), slug, in)
	default:
		return nil, fiber.ErrNotFound
	}
	return u, err
}
