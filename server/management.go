package server

import (
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/gate/ground"
	"innergate/gate/rehearsal"
	"innergate/gate/traces"
	"innergate/store"
)

// call is one request to the management API with the one who makes it.
type call struct {
	fiber.Ctx
	s   *Server
	who ground.Actor
}

// route is one operation of the management API. Everything about it stands here: who may call it, what it takes and
// gives.
type route struct {
	Method, Path string // Path in the form of OpenAPI, below /api/v1
	Role         string // the least role; empty for operations open to everybody
	Summary      string
	Query        []string
	Request      any // a zero value of the body's type
	Response     any // a zero value of the answer's type
	Status       int // of a good answer, default 200
	Media        string
	Upload       bool // the body is octets, not JSON
	handle       func(c *call) (any, error)
}

const pageQuery = "search,sort,after,limit"

func paged(more ...string) []string { return append(strings.Split(pageQuery, ","), more...) }

// Routes lists every operation. The OpenAPI description, the test of roles and the server are made from this one list.
func Routes() []route {
	return slices.Concat(
		mainRoutes(), metadataRoutes(), keyRoutes(), sourceRoutes(), templateRoutes(), openidRoutes(), peopleRoutes(),
		accessRoutes(), checkupRoutes(), traceRoutes(), sessionRoutes(), reachRoutes(), configRoutes(), historyRoutes(),
		moveRoutes(), handoverRoutes(), batchRoutes(),
	)
}

func mainRoutes() []route {
	const viewer, engineer, owner = ground.RoleViewer, ground.RoleEngineer, ground.RoleOwner
	post, put, del, get := http.MethodPost, http.MethodPut, http.MethodDelete, http.MethodGet
	return []route{
		{Method: get, Path: "/openapi.json", Summary: "This description", handle: openAPI, Response: map[string]any{}},
		{
			Method:   get,
			Path:     "/session",
			Summary:  "Who is asking",
			Role:     ground.RoleAssigner,
			Response: api.Me{},
			handle: func(c *call) (any, error) {
				return api.Me{Name: c.who.Name, Role: c.who.Role, Applications: c.who.Applications, CSRF: c.who.CSRF, Kind: c.who.Kind}, nil
			},
		},
		{
			Method:   post,
			Path:     "/session",
			Summary:  "Sign in with a password; sets the session cookie",
			Request:  api.SignIn{},
			Response: api.Me{},
			handle:   signIn,
		},
		{Method: del, Path: "/session", Summary: "Sign out", Role: ground.RoleAssigner, Status: 204, handle: signOut},
		{
			Method:   get,
			Path:     "/set-up",
			Summary:  "Whether the first administrator is missing",
			Response: map[string]bool{},
			handle: func(c *call) (any, error) {
				needed, err := c.s.gate.Console.SetupNeeded(c.Context())
				return map[string]bool{"needed": needed}, err
			},
		},
		{
			Method:  post,
			Path:    "/set-up",
			Summary: "Make the first administrator",
			Request: api.Setup{},
			Status:  204,
			handle: func(c *call) (any, error) {
				in, err := body[api.Setup](c)
				if err != nil {
					return nil, err
				}
				return nil, c.s.gate.Console.SetUp(c.Context(), in, c.s.address(c))
			},
		},
		{
			Method:   get,
			Path:     "/overview",
			Summary:  "Counts, findings and the newest sign-ins",
			Role:     viewer,
			Response: api.Overview{},
			handle:   overview,
		},
		{
			Method:   get,
			Path:     "/find",
			Summary:  "Search everything by name, entity ID, trace number or fingerprint",
			Role:     viewer,
			Query:    []string{"q"},
			Response: api.List[api.FoundItem]{},
			handle: func(c *call) (any, error) {
				return c.s.gate.Checkups.Find(c.Context(), c.Query("q"), ground.Allows(c.who.Role, engineer))
			},
		},

		{
			Method:   get,
			Path:     "/applications",
			Summary:  "List applications",
			Role:     viewer,
			Query:    paged("reach", "provider"),
			Response: api.List[api.Application]{},
			handle: func(c *call) (any, error) {
				return c.s.gate.Checkups.Applications(c.Context(), page(c), c.Query("reach"), c.Query("provider"))
			},
		},
		{
			Method:   post,
			Path:     "/applications",
			Summary:  "Add an application",
			Role:     engineer,
			Request:  config.Application{},
			Response: api.Application{},
			Status:   201,
			handle: func(c *call) (any, error) {
				in, err := body[config.Application](c)
				if err != nil {
					return nil, err
				}
				return c.s.gate.Configuration.SaveApplication(c.Context(), c.who, "", in, 0)
			},
		},
		{
			Method:   get,
			Path:     "/applications/{slug}",
			Summary:  "Show an application with its passage and findings",
			Role:     viewer,
			Response: api.Application{},
			handle:   func(c *call) (any, error) { return c.s.gate.Checkups.Application(c.Context(), c.Params("slug")) },
		},
		{
			Method:   put,
			Path:     "/applications/{slug}",
			Summary:  "Replace an application's configuration",
			Role:     engineer,
			Query:    []string{"revision"},
			Request:  config.Application{},
			Response: api.Application{},
			handle: func(c *call) (any, error) {
				in, err := body[config.Application](c)
				if err != nil {
					return nil, err
				}
				return c.s.gate.Configuration.SaveApplication(c.Context(), c.who, c.Params("slug"), in, revision(c))
			},
		},
		{
			Method:  del,
			Path:    "/applications/{slug}",
			Summary: "Delete an application",
			Role:    engineer,
			Status:  204,
			handle: func(c *call) (any, error) {
				return nil, c.s.gate.Configuration.DeleteApplication(c.Context(), c.who, c.Params("slug"))
			},
		},
		{
			Method:   post,
			Path:     "/applications/{slug}/reach/{reach}",
			Summary:  "Open, close or take back to draft",
			Role:     engineer,
			Response: api.Application{},
			handle: func(c *call) (any, error) {
				if err := c.s.gate.Configuration.SetReach(c.Context(), c.who, "application", c.Params("slug"),
					access.Reach(c.Params("reach"))); err != nil {
					return nil, err
				}
				return c.s.gate.Checkups.Application(c.Context(), c.Params("slug"))
			},
		},
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
				return c.s.gate.Watch.TakeApplication(c.Context(), c.who, c.Params("slug"), in)
			},
		},
		{
			Method:   get,
			Path:     "/applications/{slug}/exchange",
			Summary:  "The exchange sheet",
			Role:     viewer,
			Response: api.ExchangeSheet{},
			handle:   func(c *call) (any, error) { return c.s.gate.Exchange.ApplicationSheet(c.Context(), c.Params("slug")) },
		},

		{
			Method:   get,
			Path:     "/providers",
			Summary:  "List providers",
			Role:     viewer,
			Query:    paged("reach"),
			Response: api.List[api.Provider]{},
			handle:   func(c *call) (any, error) { return c.s.gate.Checkups.Providers(c.Context(), page(c), c.Query("reach")) },
		},
		{
			Method:   post,
			Path:     "/providers",
			Summary:  "Add a provider",
			Role:     engineer,
			Request:  config.Provider{},
			Response: api.Provider{},
			Status:   201,
			handle: func(c *call) (any, error) {
				in, err := body[config.Provider](c)
				if err != nil {
					return nil, err
				}
				return c.s.gate.Configuration.SaveProvider(c.Context(), c.who, "", in, 0)
			},
		},
		{
			Method:   get,
			Path:     "/providers/{slug}",
			Summary:  "Show a provider with its stations and findings",
			Role:     viewer,
			Response: api.Provider{},
			handle:   func(c *call) (any, error) { return c.s.gate.Checkups.Provider(c.Context(), c.Params("slug")) },
		},
		{
			Method:   put,
			Path:     "/providers/{slug}",
			Summary:  "Replace a provider's configuration",
			Role:     engineer,
			Query:    []string{"revision"},
			Request:  config.Provider{},
			Response: api.Provider{},
			handle: func(c *call) (any, error) {
				in, err := body[config.Provider](c)
				if err != nil {
					return nil, err
				}
				return c.s.gate.Configuration.SaveProvider(c.Context(), c.who, c.Params("slug"), in, revision(c))
			},
		},
		{
			Method:  del,
			Path:    "/providers/{slug}",
			Summary: "Delete a provider that no application uses",
			Role:    engineer,
			Status:  204,
			handle: func(c *call) (any, error) {
				return nil, c.s.gate.Configuration.DeleteProvider(c.Context(), c.who, c.Params("slug"))
			},
		},
		{
			Method:   post,
			Path:     "/providers/{slug}/reach/{reach}",
			Summary:  "Open, close or take back to draft",
			Role:     engineer,
			Response: api.Provider{},
			handle: func(c *call) (any, error) {
				if err := c.s.gate.Configuration.SetReach(c.Context(), c.who, "provider", c.Params("slug"),
					access.Reach(c.Params("reach"))); err != nil {
					return nil, err
				}
				return c.s.gate.Checkups.Provider(c.Context(), c.Params("slug"))
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
				return c.s.gate.Watch.TakeProvider(c.Context(), c.who, c.Params("slug"), in)
			},
		},
		{
			Method:   get,
			Path:     "/providers/{slug}/exchange",
			Summary:  "The exchange sheet",
			Role:     viewer,
			Response: api.ExchangeSheet{},
			handle:   func(c *call) (any, error) { return c.s.gate.Exchange.ProviderSheet(c.Context(), c.Params("slug")) },
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
				return c.s.gate.Rehearsal.NewRehearsal(c.Context(), c.who, in)
			},
		},
		{
			Method:   get,
			Path:     "/rehearsals/{id}",
			Summary:  "A rehearsal and its traces",
			Role:     viewer,
			Response: api.Rehearsal{},
			handle: func(c *call) (any, error) {
				r, err := c.s.gate.Rehearsal.Rehearsal(c.Context(), c.Params("id"))
				if err == nil {
					c.maskNames(r.Traces)
				}
				return r, err
			},
		},
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
			Path:     "/traces/{reference}",
			Summary:  "The whole record of one sign-in",
			Role:     viewer,
			Response: api.Trace{},
			handle: func(c *call) (any, error) {
				return c.s.gate.Traces.Trace(c.Context(), c.Params("reference"), ground.Allows(c.who.Role, ground.RoleEngineer))
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
		{
			Method:   get,
			Path:     "/journal/verify",
			Summary:  "Walk the journal's chain of hashes; has is a hash that was noted before and must be among them",
			Role:     viewer,
			Query:    []string{"has"},
			Response: api.JournalVerdict{},
			handle: func(c *call) (any, error) {
				return c.s.gate.VerifyJournal(c.Context(), c.Query("has"))
			},
		},
		{
			Method:   get,
			Path:     "/journal/export",
			Summary:  "The journal from a line on, up to 5,000 lines in their order, a JSON object in each",
			Role:     owner,
			Query:    []string{"from"},
			Media:    "application/jsonl",
			Response: []byte{},
			handle: func(c *call) (any, error) {
				from, _ := strconv.ParseInt(c.Query("from"), 10, 64)
				return c.s.gate.ExportJournal(c.Context(), from)
			},
		},
		{
			Method:   get,
			Path:     "/journal",
			Summary:  "Who changed what, the newest first",
			Role:     viewer,
			Query:    []string{"search", "after", "limit", "object"},
			Response: api.List[api.JournalEntry]{},
			handle: func(c *call) (any, error) {
				return c.s.gate.Journal(c.Context(), page(c), c.Query("object"))
			},
		},

		{
			Method:   get,
			Path:     "/administrators",
			Summary:  "List administrators",
			Role:     owner,
			Response: api.List[api.Administrator]{},
			handle:   func(c *call) (any, error) { return c.s.gate.Console.Administrators(c.Context()) },
		},
		{
			Method:   post,
			Path:     "/administrators",
			Summary:  "Add an administrator",
			Role:     owner,
			Request:  api.NewAdministrator{},
			Response: api.Administrator{},
			Status:   201,
			handle: func(c *call) (any, error) {
				in, err := body[api.NewAdministrator](c)
				if err != nil {
					return nil, err
				}
				return c.s.gate.Console.AddAdministrator(c.Context(), c.who, in)
			},
		},
		{
			Method:  put,
			Path:    "/administrators/{id}",
			Summary: "Change a role or password; ends the sessions of the one concerned",
			Role:    owner,
			Request: api.ChangeAdministrator{},
			Status:  204,
			handle: func(c *call) (any, error) {
				in, err := body[api.ChangeAdministrator](c)
				if err != nil {
					return nil, err
				}
				return nil, c.s.gate.Console.ChangeAdministrator(c.Context(), c.who, c.Params("id"), in)
			},
		},
		{
			Method:  del,
			Path:    "/administrators/{id}",
			Summary: "Remove an administrator",
			Role:    owner,
			Status:  204,
			handle: func(c *call) (any, error) {
				return nil, c.s.gate.Console.RemoveAdministrator(c.Context(), c.who, c.Params("id"))
			},
		},
		{
			Method:   get,
			Path:     "/tokens",
			Summary:  "List API tokens",
			Role:     owner,
			Response: api.List[api.Token]{},
			handle:   func(c *call) (any, error) { return c.s.gate.Console.Tokens(c.Context()) },
		},
		{
			Method:   post,
			Path:     "/tokens",
			Summary:  "Make an API token; its secret is in the answer only",
			Role:     owner,
			Request:  api.NewToken{},
			Response: api.Token{},
			Status:   201,
			handle: func(c *call) (any, error) {
				in, err := body[api.NewToken](c)
				if err != nil {
					return nil, err
				}
				return c.s.gate.Console.NewToken(c.Context(), c.who, in)
			},
		},
		{Method: del, Path: "/tokens/{id}", Summary: "Revoke an API token", Role: owner, Status: 204, handle: func(c *call) (any, error) {
			return nil, c.s.gate.Console.RevokeToken(c.Context(), c.who, c.Params("id"))
		}},
	}
}

func (s *Server) management() {
	for _, r := range Routes() {
		path := "/api/v1" + strings.NewReplacer("{", ":", "}", "").Replace(r.Path)
		s.app.Add([]string{r.Method}, path, func(c fiber.Ctx) error { return s.manage(c, r) })
	}
	s.app.Use("/api/", func(c fiber.Ctx) error {
		return &api.Problem{
			Type:   "about:blank",
			Status: http.StatusNotFound,
			Title:  "Not found",
			Code:   "not-found",
			Detail: "The management API has no such operation.",
			Remedy: "GET /api/v1/openapi.json describes every one.",
		}
	})
}

func (s *Server) manage(c fiber.Ctx, r route) error {
	c.Set("Cache-Control", "no-store")
	in := &call{Ctx: c, s: s}
	if r.Role != "" {
		who, err := s.actor(c, r.Method != http.MethodGet)
		if err != nil {
			return err
		}
		if !ground.Allows(who.Role, r.Role) {
			return &api.Problem{
				Type:   "about:blank",
				Status: http.StatusForbidden,
				Title:  "Not allowed",
				Code:   "role",
				Detail: fmt.Sprintf("This needs the role %s; yours is %s.", r.Role, who.Role),
				Remedy: "Ask an owner.",
			}
		}
		in.who = *who
		if r.Method != http.MethodGet {
			if in.who.Remark = strings.TrimSpace(strings.Clone(c.Query("remark"))); len(in.who.Remark) > 1000 {
				return &api.Problem{
					Type:   "about:blank",
					Status: http.StatusBadRequest,
					Title:  "The remark is too long",
					Code:   "remark",
					Detail: "A remark has at most 1,000 characters.",
				}
			}
		}
	} else if r.Method != http.MethodGet {
		if err := s.sameOrigin(c); err != nil {
			return err
		}
	}
	if r.Request != nil && !strings.HasPrefix(c.Get("Content-Type"), "application/json") {
		return &api.Problem{
			Type:   "about:blank",
			Status: http.StatusUnsupportedMediaType,
			Title:  "JSON is expected",
			Code:   "media-type",
			Detail: "The body must be application/json.",
		}
	}
	out, err := r.handle(in)
	if err != nil {
		return err
	}
	status := r.Status
	if status == 0 {
		status = http.StatusOK
	}
	if status == http.StatusNoContent {
		return c.SendStatus(status)
	}
	if stream, ok := out.(events); ok {
		return s.stream(c, stream)
	}
	if doc, ok := out.([]byte); ok {
		c.Set("Content-Type", r.Media)
		c.Set("X-Content-Type-Options", "nosniff")
		return c.Status(status).Send(doc)
	}
	return c.Status(status).JSON(out)
}

// actor finds who is asking: by token in the Authorization header, or by the console's cookie. A changing call by
// cookie must carry the session's CSRF value.
func (s *Server) actor(c fiber.Ctx, changing bool) (*ground.Actor, error) {
	if scheme, token, ok := strings.Cut(c.Get("Authorization"), " "); ok && strings.EqualFold(scheme, "Bearer") {
		return s.gate.Console.BearerActor(c.Context(), strings.TrimSpace(token), s.address(c))
	}
	who, err := s.gate.Console.SessionActor(c.Context(), c.Cookies(s.cookieName("console")), s.address(c))
	if err != nil || !changing {
		return who, err
	}
	if subtle.ConstantTimeCompare([]byte(c.Get("X-Innergate-CSRF")), []byte(who.CSRF)) != 1 {
		return nil, &api.Problem{
			Type:   "about:blank",
			Status: http.StatusForbidden,
			Title:  "The request did not come from the console",
			Code:   "csrf",
			Detail: "A changing call with a session cookie must carry the session's value in X-Innergate-CSRF.",
			Remedy: "Load the console again.",
		}
	}
	return who, s.sameOrigin(c)
}

func body[T any](c *call) (T, error) {
	var v T
	dec := json.NewDecoder(strings.NewReader(string(c.BodyRaw())))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&v); err != nil {
		detail := "The body is not what is expected here: " + strings.TrimPrefix(err.Error(), "json: ") + "."
		var wrong *json.UnmarshalTypeError
		if errors.As(err, &wrong) {
			detail = fmt.Sprintf("The field %s should not be a %s.", wrong.Field, wrong.Value)
		}
		return v, &api.Problem{
			Type:   "about:blank",
			Status: http.StatusBadRequest,
			Title:  "The body can't be read",
			Code:   "body",
			Detail: detail,
		}
	}
	return v, nil
}

func page(c *call) store.Page {
	limit, _ := strconv.Atoi(c.Query("limit"))
	return store.Page{Search: c.Query("search"), Sort: c.Query("sort"), After: c.Query("after"), Limit: limit}
}

func revision(c *call) int {
	n, _ := strconv.Atoi(c.Query("revision"))
	return n
}

const consoleCookieLife = 24 * time.Hour

func signIn(c *call) (any, error) {
	in, err := body[api.SignIn](c)
	if err != nil {
		return nil, err
	}
	token, me, err := c.s.gate.Console.SignInAdministrator(c.Context(), in.Name, in.Password, c.s.address(c))
	if err != nil {
		return nil, err
	}
	c.s.setCookie(c, c.s.cookieName("console"), token, consoleCookieLife)
	return me, nil
}

func signOut(c *call) (any, error) {
	c.s.dropCookie(c, c.s.cookieName("console"))
	return nil, c.s.gate.Console.SignOutAdministrator(c.Context(), c.Cookies(c.s.cookieName("console")))
}

func understand(c *call, kind, slug string) (any, error) {
	in, err := body[api.TakeIn](c)
	if err != nil {
		return nil, err
	}
	var u *api.Understood
	switch kind {
	case "application":
		u, _, err = c.s.gate.Watch.UnderstandApplication(c.Context(), slug, in)
	case "provider":
		u, _, err = c.s.gate.Watch.UnderstandProvider(c.Context(), slug, in)
	default:
		return nil, fiber.ErrNotFound
	}
	return u, err
}

// maskNames takes people's names out of lists for viewers.
func (c *call) maskNames(list []api.TraceSummary) {
	if ground.Allows(c.who.Role, ground.RoleEngineer) {
		return
	}
	for i := range list {
		if list[i].Person != "" {
			list[i].Person = "•••"
		}
	}
}

func overview(c *call) (any, error) {
	o, err := c.s.gate.Checkups.Overview(c.Context())
	if err == nil {
		c.maskNames(o.Recent)
	}
	return o, err
}

func listTraces(c *call) (any, error) {
	f := traces.Filter{
		Application: c.Query("application"),
		Provider:    c.Query("provider"),
		Outcome:     c.Query("outcome"),
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
	list, err := c.s.gate.Traces.Traces(c.Context(), page(c), f)
	if err == nil {
		c.maskNames(list.Items)
	}
	return list, err
}
