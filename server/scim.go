package server

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"strings"

	"github.com/gofiber/fiber/v3"

	"innergate/core/scim"
	"innergate/gate/pushed"
)

// pushes lays out the service to which providers push their people (RFC 7644).
func (s *Server) pushes() {
	const base = "/scim/v2/:provider"
	type handler = func(c fiber.Ctx, from *pushed.Sender) (scim.Resource, int, error)
	for _, r := range []struct {
		method, path string
		do           handler
	}{
		{http.MethodGet, "/ServiceProviderConfig", s.pushAbilities},
		{http.MethodGet, "/ResourceTypes", s.pushTypes},
		{http.MethodGet, "/ResourceTypes/:id", s.pushTypes},
		{http.MethodGet, "/Schemas", s.pushSchemas},
		{http.MethodGet, "/Schemas/:id", s.pushSchemas},
		{http.MethodGet, "/Users", func(c fiber.Ctx, from *pushed.Sender) (scim.Resource, int, error) {
			r, err := s.Gate.Pushed.Users(c.Context(), from, pushQuery(c))
			return r, http.StatusOK, err
		}},
		{http.MethodGet, "/Groups", func(c fiber.Ctx, from *pushed.Sender) (scim.Resource, int, error) {
			r, err := s.Gate.Pushed.Groups(c.Context(), from, pushQuery(c))
			return r, http.StatusOK, err
		}},
		{http.MethodPost, "/Users", made(s.Gate.Pushed.MakeUser)},
		{http.MethodPost, "/Groups", made(s.Gate.Pushed.MakeGroup)},
		{http.MethodGet, "/Users/:id", func(c fiber.Ctx, from *pushed.Sender) (scim.Resource, int, error) {
			r, err := s.Gate.Pushed.User(c.Context(), from, c.Params("id"))
			return only(c, scim.Users, r, err)
		}},
		{http.MethodGet, "/Groups/:id", func(c fiber.Ctx, from *pushed.Sender) (scim.Resource, int, error) {
			q := pushQuery(c)
			wanted := !strings.Contains(strings.Join(q.Excluded, ","), "members")
			r, err := s.Gate.Pushed.Group(c.Context(), from, c.Params("id"), wanted)
			return only(c, scim.Groups, r, err)
		}},
		{http.MethodPut, "/Users/:id", changed(s.Gate.Pushed.PutUser)},
		{http.MethodPut, "/Groups/:id", changed(s.Gate.Pushed.PutGroup)},
		{http.MethodPatch, "/Users/:id", changed(s.Gate.Pushed.PatchUser)},
		{http.MethodPatch, "/Groups/:id", changed(s.Gate.Pushed.PatchGroup)},
		{http.MethodDelete, "/Users/:id", func(c fiber.Ctx, from *pushed.Sender) (scim.Resource, int, error) {
			return nil, http.StatusNoContent, s.Gate.Pushed.DropUser(c.Context(), from, c.Params("id"), c.Get("If-Match"))
		}},
		{http.MethodDelete, "/Groups/:id", func(c fiber.Ctx, from *pushed.Sender) (scim.Resource, int, error) {
			return nil, http.StatusNoContent, s.Gate.Pushed.DropGroup(c.Context(), from, c.Params("id"), c.Get("If-Match"))
		}},
	} {
		s.app.Add([]string{r.method}, base+r.path, func(c fiber.Ctx) error { return s.pushed(c, r.do) })
	}
	every := []string{http.MethodGet, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete}
	s.app.Add(every, base+"/*", func(c fiber.Ctx) error {
		return s.pushed(c, func(fiber.Ctx, *pushed.Sender) (scim.Resource, int, error) {
			return nil, 0, &scim.Error{Status: http.StatusNotFound, Detail: "There is nothing here; users and groups are."}
		})
	})
}

// pushed has a sender prove who it is, and answers it as the protocol wants.
func (s *Server) pushed(c fiber.Ctx, do func(fiber.Ctx, *pushed.Sender) (scim.Resource, int, error)) error {
	c.Set("Cache-Control", "no-store")
	from, err := s.Gate.Pushed.Sender(c.Context(), c.Params("provider"), c.Get("Authorization"))
	if err != nil {
		return s.pushRefused(c, err)
	}
	r, status, err := do(c, from)
	if err != nil {
		return s.pushRefused(c, err)
	}
	if r == nil {
		return c.SendStatus(status)
	}
	if v := r.Version(); v != "" {
		c.Set("ETag", v)
		if c.Method() == http.MethodGet && c.Get("If-None-Match") == v {
			return c.SendStatus(http.StatusNotModified)
		}
	}
	if status == http.StatusCreated {
		meta, _ := r["meta"].(map[string]any)
		location, _ := meta["location"].(string)
		c.Set("Location", location)
	}
	return sendPush(c, status, r)
}

func sendPush(c fiber.Ctx, status int, v any) error {
	data, err := json.Marshal(v)
	if err != nil {
		return err
	}
	c.Set("Content-Type", scim.MediaType)
	return c.Status(status).Send(data)
}

// pushRefused answers with an error of the protocol. What went wrong here is not told.
func (s *Server) pushRefused(c fiber.Ctx, err error) error {
	var told *scim.Error
	if !errors.As(err, &told) {
		s.Log.ErrorContext(c.Context(), "what was pushed could not be taken", "error", err)
		told = &scim.Error{Status: http.StatusInternalServerError, Detail: "Something went wrong here. Please try again."}
	}
	if told.Status == http.StatusUnauthorized {
		c.Set("WWW-Authenticate", `Bearer realm="Inner Gate"`)
	}
	return sendPush(c, told.Status, told)
}

// pushBody reads the body of a request.
func pushBody(c fiber.Ctx) (scim.Resource, error) {
	kind, _, _ := strings.Cut(strings.ToLower(c.Get("Content-Type")), ";")
	if kind != scim.MediaType && kind != "application/json" {
		return nil, &scim.Error{Status: http.StatusUnsupportedMediaType, Detail: "The body must be " + scim.MediaType + "."}
	}
	r, refused := scim.Read(c.Body())
	if refused != nil {
		return nil, refused
	}
	return r, nil
}

// made is a handler that makes a resource.
func made(
	do func(ctx context.Context, from *pushed.Sender, in scim.Resource) (scim.Resource, error),
) func(fiber.Ctx, *pushed.Sender) (scim.Resource, int, error) {
	return func(c fiber.Ctx, from *pushed.Sender) (scim.Resource, int, error) {
		in, err := pushBody(c)
		if err != nil {
			return nil, 0, err
		}
		r, err := do(c.Context(), from, in)
		return r, http.StatusCreated, err
	}
}

// changed is a handler that changes one.
func changed(
	do func(ctx context.Context, from *pushed.Sender, id, match string, in scim.Resource) (scim.Resource, error),
) func(fiber.Ctx, *pushed.Sender) (scim.Resource, int, error) {
	return func(c fiber.Ctx, from *pushed.Sender) (scim.Resource, int, error) {
		in, err := pushBody(c)
		if err != nil {
			return nil, 0, err
		}
		r, err := do(c.Context(), from, c.Params("id"), c.Get("If-Match"), in)
		return r, http.StatusOK, err
	}
}

// only leaves of a resource what is asked for.
func only(c fiber.Ctx, k *scim.Kind, r scim.Resource, err error) (scim.Resource, int, error) {
	if err != nil {
		return nil, 0, err
	}
	q := pushQuery(c)
	r, refused := k.Only(r, q.Attributes, q.Excluded)
	if refused != nil {
		return nil, 0, refused
	}
	return r, http.StatusOK, nil
}

// pushQuery reads what a list is asked for.
func pushQuery(c fiber.Ctx) pushed.Query {
	names := func(name string) []string {
		var out []string
		for _, n := range strings.Split(c.Query(name), ",") {
			if n = strings.TrimSpace(n); n != "" && len(out) < 100 {
				out = append(out, n)
			}
		}
		return out
	}
	return pushed.Query{Filter: c.Query("filter"), SortBy: c.Query("sortBy"), SortOrder: c.Query("sortOrder"), Start: c.Query("startIndex"),
		Count: c.Query("count"), Cursor: c.Query("cursor"), HasCursor: c.RequestCtx().QueryArgs().Has("cursor"),
		Attributes: names("attributes"), Excluded: names("excludedAttributes")}
}

// pushAbilities says what the service can do (RFC 7643, section 5; RFC 9865, section 4).
func (s *Server) pushAbilities(_ fiber.Ctx, from *pushed.Sender) (scim.Resource, int, error) {
	yes, no := map[string]any{"supported": true}, map[string]any{"supported": false}
	return scim.Resource{
		"schemas": []any{scim.ConfigSchema}, "patch": yes, "etag": yes, "sort": yes, "changePassword": no,
		"bulk":   map[string]any{"supported": false, "maxOperations": 0, "maxPayloadSize": 0},
		"filter": map[string]any{"supported": true, "maxResults": pushed.MostPage},
		"pagination": map[string]any{"cursor": true, "index": true, "defaultPaginationMethod": "index", "defaultPageSize": pushed.UsualPage,
			"maxPageSize": pushed.MostPage},
		"authenticationSchemes": []any{map[string]any{"type": "oauthbearertoken", "name": "Bearer token",
			"description": "A token that the gate made for this provider", "primary": true}},
		"meta": map[string]any{"resourceType": "ServiceProviderConfig", "location": from.Base + "/ServiceProviderConfig"},
	}, http.StatusOK, nil
}

// pushTypes says which types of resources there are (RFC 7643, section 6).
func (s *Server) pushTypes(c fiber.Ctx, from *pushed.Sender) (scim.Resource, int, error) {
	var list []scim.Resource
	for _, k := range []*scim.Kind{scim.Users, scim.Groups} {
		extensions := []any{}
		for _, e := range k.Extensions {
			extensions = append(extensions, map[string]any{"schema": e.ID, "required": false})
		}
		list = append(list, scim.Resource{"schemas": []any{scim.TypeSchema}, "id": k.Name, "name": k.Name, "endpoint": k.Endpoint,
			"schema": k.Core.ID, "schemaExtensions": extensions,
			"meta": map[string]any{"resourceType": "ResourceType", "location": from.Base + "/ResourceTypes/" + k.Name}})
	}
	return described(c, list)
}

// pushSchemas shows the schemas (RFC 7643, section 7).
func (s *Server) pushSchemas(c fiber.Ctx, from *pushed.Sender) (scim.Resource, int, error) {
	var list []scim.Resource
	for _, schema := range append([]*scim.Schema{scim.Users.Core, scim.Groups.Core}, scim.Users.Extensions...) {
		data, err := json.Marshal(schema)
		if err != nil {
			return nil, 0, err
		}
		var one scim.Resource
		if err := json.Unmarshal(data, &one); err != nil {
			return nil, 0, err
		}
		one["schemas"] = []any{scim.SchemaSchema}
		one["meta"] = map[string]any{"resourceType": "Schema", "location": from.Base + "/Schemas/" + schema.ID}
		list = append(list, one)
	}
	return described(c, list)
}

// described is a list of descriptions, or the one that is asked for.
func described(c fiber.Ctx, list []scim.Resource) (scim.Resource, int, error) {
	if c.Query("filter") != "" { // RFC 7644, section 4
		return nil, 0, &scim.Error{Status: http.StatusForbidden, Detail: "Descriptions are not filtered."}
	}
	items := []any{}
	for _, one := range list {
		if id := c.Params("id"); id != "" && strings.EqualFold(one.ID(), id) {
			return one, http.StatusOK, nil
		}
		items = append(items, map[string]any(one))
	}
	if c.Params("id") != "" {
		return nil, 0, &scim.Error{Status: http.StatusNotFound, Detail: "There is no such description."}
	}
	return scim.Resource{"schemas": []any{scim.ListMessage}, "totalResults": len(items), "itemsPerPage": len(items), "startIndex": 1,
		"Resources": items}, http.StatusOK, nil
}
