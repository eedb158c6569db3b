package server

import (
	"net/http"
	"strconv"
	"strings"

	"innergate/api"
	"innergate/core/config"
	"innergate/core/keys"
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
				return c.s.gate.Exchange.OurMetadata(c.Context(), "", "", c.Query("signed") != "")
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
				return c.s.gate.Exchange.OurMetadata(c.Context(), "application", c.Params("slug"), c.Query("signed") != "")
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
				return c.s.gate.Exchange.OurMetadata(c.Context(), "provider", c.Params("slug"), c.Query("signed") != "")
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
					return c.s.gate.Exchange.CompareSheet(c.Context(), kind, c.Params("slug"), in.Text)
				},
			},
			route{
				Method:  post,
				Path:    base + "/exchange/handed-out",
				Summary: "Remember that the sheet was handed out",
				Role:    engineer,
				Status:  204,
				handle: func(c *call) (any, error) {
					return nil, c.s.gate.Exchange.NoteSheet(c.Context(), c.who, kind, c.Params("slug"))
				},
			},
			route{
				Method:   post,
				Path:     base + "/refresh",
				Summary:  "Look at the partner's metadata address now",
				Role:     engineer,
				Response: api.Refreshed{},
				handle: func(c *call) (any, error) {
					return c.s.gate.Watch.Refresh(c.Context(), c.who, kind, c.Params("slug"))
				},
			},
			route{
				Method:   get,
				Path:     base + "/documents",
				Summary:  "The versions of the partner's metadata, the newest first",
				Role:     viewer,
				Response: api.List[api.Document]{},
				handle: func(c *call) (any, error) {
					return c.s.gate.Watch.Documents(c.Context(), kind, c.Params("slug"))
				},
			},
			route{
				Method:  get,
				Path:    base + "/documents/{id}",
				Summary: "One version as it was received",
				Role:    viewer,
				Media:   "text/plain; charset=utf-8",
				handle: func(c *call) (any, error) {
					return c.s.gate.Watch.DocumentText(c.Context(), kind, c.Params("slug"), c.Params("id"))
				},
			},
			route{
				Method:   get,
				Path:     base + "/documents/{id}/changes",
				Summary:  "What using this version now would change",
				Role:     viewer,
				Response: api.Refreshed{},
				handle: func(c *call) (any, error) {
					return c.s.gate.Watch.DocumentChanges(c.Context(), kind, c.Params("slug"), c.Params("id"))
				},
			},
			route{
				Method:   post,
				Path:     base + "/documents/{id}/use",
				Summary:  "Apply a version that waits, or restore an older one",
				Role:     engineer,
				Response: api.Refreshed{},
				handle: func(c *call) (any, error) {
					return c.s.gate.Watch.UseDocument(c.Context(), c.who, kind, c.Params("slug"), c.Params("id"))
				},
			},
			route{
				Method:  post,
				Path:    base + "/documents/{id}/dismiss",
				Summary: "Decide against a version that waits",
				Role:    engineer,
				Status:  204,
				handle: func(c *call) (any, error) {
					return nil, c.s.gate.Watch.DismissDocument(c.Context(), c.who, kind, c.Params("slug"), c.Params("id"))
				},
			},
		)
	}
	return out
}

// keyRoutes are for the keyring.
func keyRoutes() []route {
	const viewer, engineer, owner = ground.RoleViewer, ground.RoleEngineer, ground.RoleOwner
	post, put, del, get := http.MethodPost, http.MethodPut, http.MethodDelete, http.MethodGet
	step := func(path, summary string, do func(c *call) (*api.Key, error)) route {
		return route{
			Method:   post,
			Path:     "/keys/{id}/" + path,
			Summary:  summary,
			Role:     owner,
			Response: api.Key{},
			handle:   func(c *call) (any, error) { return do(c) },
		}
	}
	switching := step("switch", "Make the published next key the active one, at once or at a time", func(c *call) (*api.Key, error) {
		in, err := body[api.SwitchKey](c)
		if err != nil {
			return nil, err
		}
		return c.s.gate.Keyring.SwitchKey(c.Context(), c.who, c.Params("id"), in.At)
	})
	switching.Request = api.SwitchKey{}
	return []route{
		{
			Method:   get,
			Path:     "/keys",
			Summary:  "Our keys, without their private parts",
			Role:     viewer,
			Response: api.List[api.Key]{},
			handle:   func(c *call) (any, error) { return c.s.gate.Keyring.Keys(c.Context()) },
		},
		{
			Method:   post,
			Path:     "/keys",
			Summary:  "Make the next key for a purpose",
			Role:     owner,
			Request:  api.NewKey{},
			Response: api.Key{},
			Status:   201,
			handle: func(c *call) (any, error) {
				in, err := body[api.NewKey](c)
				if err != nil {
					return nil, err
				}
				return c.s.gate.Keyring.MakeKey(c.Context(), c.who, in)
			},
		},
		{
			Method:   post,
			Path:     "/keys/import",
			Summary:  "Take a key that was made elsewhere as the next one: PEM, or PKCS #12 in base64",
			Role:     owner,
			Request:  api.ImportKey{},
			Response: api.Key{},
			Status:   201,
			handle: func(c *call) (any, error) {
				in, err := body[api.ImportKey](c)
				if err != nil {
					return nil, err
				}
				return c.s.gate.Keyring.ImportKey(c.Context(), c.who, in)
			},
		},
		{
			Method:  get,
			Path:    "/keys/{id}/certificate",
			Summary: "A key's certificate: form pem, der, base64 or chain",
			Role:    viewer,
			Query:   []string{"form"},
			Media:   "application/octet-stream",
			handle: func(c *call) (any, error) {
				return c.s.gate.Keyring.KeyCertificate(c.Context(), c.Params("id"), c.Query("form"))
			},
		},
		{
			Method:   put,
			Path:     "/keys/{id}/certificate",
			Summary:  "Give a key that is not published yet the certificate that an authority made for it",
			Role:     owner,
			Request:  api.CertificateText{},
			Response: api.Key{},
			handle: func(c *call) (any, error) {
				in, err := body[api.CertificateText](c)
				if err != nil {
					return nil, err
				}
				return c.s.gate.Keyring.CertifyKey(c.Context(), c.who, c.Params("id"), in.Text)
			},
		},
		{
			Method:  get,
			Path:    "/keys/{id}/request",
			Summary: "A certificate signing request for a key, in PEM",
			Role:    owner,
			Query:   []string{"commonName"},
			Media:   "application/octet-stream",
			handle: func(c *call) (any, error) {
				return c.s.gate.Keyring.KeyRequest(c.Context(), c.Params("id"), c.Query("commonName"))
			},
		},
		step("publish", "Put the next key into our metadata, beside the active one", func(c *call) (*api.Key, error) {
			return c.s.gate.Keyring.PublishKey(c.Context(), c.who, c.Params("id"))
		}),
		switching,
		step("retire", "Take a retiring key out of use; this can't be taken back", func(c *call) (*api.Key, error) {
			return c.s.gate.Keyring.RetireKey(c.Context(), c.who, c.Params("id"))
		}),
		step("undo", "Take back a key's last step", func(c *call) (*api.Key, error) {
			return c.s.gate.Keyring.UndoKey(c.Context(), c.who, c.Params("id"))
		}),
		{
			Method:  del,
			Path:    "/keys/{id}",
			Summary: "Discard a next key that nobody has learnt of",
			Role:    owner,
			Status:  204,
			handle: func(c *call) (any, error) {
				return nil, c.s.gate.Keyring.DiscardKey(c.Context(), c.who, c.Params("id"))
			},
		},
		{
			Method:  put,
			Path:    "/keys/{id}/holders/{side}/{slug}",
			Summary: "Confirm that a partner has a key's certificate",
			Role:    engineer,
			Status:  204,
			handle: func(c *call) (any, error) {
				return nil, c.s.gate.Keyring.ConfirmHolder(c.Context(), c.who, c.Params("id"), c.Params("side")+"/"+c.Params("slug"), true)
			},
		},
		{
			Method:  del,
			Path:    "/keys/{id}/holders/{side}/{slug}",
			Summary: "Take such a confirmation back",
			Role:    engineer,
			Status:  204,
			handle: func(c *call) (any, error) {
				return nil, c.s.gate.Keyring.ConfirmHolder(c.Context(), c.who, c.Params("id"), c.Params("side")+"/"+c.Params("slug"), false)
			},
		},
		{
			Method:   get,
			Path:     "/rollover",
			Summary:  "How far the replacement of a key is",
			Role:     viewer,
			Query:    []string{"purpose", "for"},
			Response: api.Rollover{},
			handle: func(c *call) (any, error) {
				return c.s.gate.Exchange.Rollover(c.Context(), c.Query("purpose", keys.PurposeSigning), c.Query("for"))
			},
		},
		{
			Method:   get,
			Path:     "/certificates",
			Summary:  "The certificates of partners that are held, those that end first in front",
			Role:     viewer,
			Query:    paged(),
			Response: api.List[api.TrustedCertificate]{},
			handle: func(c *call) (any, error) {
				return c.s.gate.Keyring.Certificates(c.Context(), page(c))
			},
		},
	}
}

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
			handle:   func(c *call) (any, error) { return c.s.gate.Sources.Sources(c.Context()) },
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
				return c.s.gate.Sources.SaveSource(c.Context(), c.who, "", in)
			},
		},
		{
			Method:   get,
			Path:     "/sources/{slug}",
			Summary:  "Show a source, and how far a reading of it is",
			Role:     viewer,
			Response: api.Source{},
			handle:   func(c *call) (any, error) { return c.s.gate.Sources.Source(c.Context(), c.Params("slug")) },
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
				return c.s.gate.Sources.SaveSource(c.Context(), c.who, c.Params("slug"), in)
			},
		},
		{
			Method:  del,
			Path:    "/sources/{slug}",
			Summary: "Delete a source from which no partner takes its metadata",
			Role:    engineer,
			Status:  204,
			handle: func(c *call) (any, error) {
				return nil, c.s.gate.Sources.DeleteSource(c.Context(), c.who, c.Params("slug"))
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
				return nil, c.s.gate.Sources.UploadSource(c.Context(), c.Params("slug"), offset, c.BodyRaw())
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
				return c.s.gate.Sources.RefreshSource(c.Context(), c.Params("slug"))
			},
		},
		{
			Method:  del,
			Path:    "/sources/{slug}/refresh",
			Summary: "Cancel a reading that is under way; what was held before stays",
			Role:    engineer,
			Status:  204,
			handle: func(c *call) (any, error) {
				return nil, c.s.gate.Sources.CancelSource(c.Context(), c.Params("slug"))
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
				return c.s.gate.Sources.SourceEntities(c.Context(), c.Params("slug"), page(c), c.Query("role"))
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
				return c.s.gate.Sources.SourceDocument(c.Context(), c.Params("slug"), strings.Clone(c.Query("entityId")))
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
				return c.s.gate.Sources.LookUp(c.Context(), c.who, c.Params("slug"), in.EntityID)
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
				return c.s.gate.Sources.Adopt(c.Context(), c.who, c.Params("slug"), in)
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
			handle:   func(c *call) (any, error) { return c.s.gate.Sources.Templates(c.Context()) },
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
				return c.s.gate.Sources.NewTemplate(c.Context(), c.who, in)
			},
		},
		{
			Method:   get,
			Path:     "/templates/{slug}",
			Summary:  "Show a template",
			Role:     viewer,
			Response: config.Template{},
			handle:   func(c *call) (any, error) { return c.s.gate.Sources.Template(c.Context(), c.Params("slug")) },
		},
		{
			Method:  del,
			Path:    "/templates/{slug}",
			Summary: "Delete a template",
			Role:    engineer,
			Status:  204,
			handle: func(c *call) (any, error) {
				return nil, c.s.gate.Sources.DeleteTemplate(c.Context(), c.who, c.Params("slug"))
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
				return c.s.gate.Sources.StartTemplate(c.Context(), c.who, c.Params("slug"), in)
			},
		},
	}
}
