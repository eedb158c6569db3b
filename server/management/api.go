package management

import (
	"bufio"
	"context"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/gofiber/fiber/v3"

	"innergate/api"
	"innergate/gate/ground"
	"innergate/listen"
	"innergate/server/visit"
	"innergate/store"
)

// call is one request to the management API with the one who makes it.
type call struct {
	fiber.Ctx
	s   *management
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
		serviceRoutes(), keyRoutes(), openidRoutes(), ldapRoutes(), readingRoutes(), accountRoutes(), pushRoutes(), traceListRoutes(),
		traceRoutes(), sessionRoutes(),
		peopleRoutes(), consoleRoutes(), nodeRoutes(), copyRoutes(),
		objectRoutes(), accessRoutes(), reachRoutes(), takeRoutes(), metadataRoutes(), sourceRoutes(), templateRoutes(), batchRoutes(),
		configRoutes(), historyRoutes(), journalRoutes(), rehearsalRoutes(), sheetRoutes(), handoverRoutes(), moveRoutes(),
		overviewRoutes(), checkupRoutes(),
	)
}

// plainFirst orders by path, so that one whose parts are given comes before one with a parameter in the same place: the first
// that fits answers.
func plainFirst(a, b route) int {
	key := func(r route) string { return strings.ReplaceAll(r.Path, "{", "~") } // behind every letter
	return strings.Compare(key(a), key(b))
}

// management is the management API.
type management struct {
	*visit.Reception
	following following
}

// serve serves the operations below /api/v1.
func (s *management) serve(app *fiber.App) {
	routes := Routes()
	slices.SortStableFunc(routes, plainFirst)
	for _, r := range routes {
		path := "/api/v1" + strings.NewReplacer("{", ":", "}", "").Replace(r.Path)
		app.Add([]string{r.Method}, path, func(c fiber.Ctx) error { return s.manage(c, r) })
	}
	app.Use("/api/", func(c fiber.Ctx) error {
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

func (s *management) manage(c fiber.Ctx, r route) error {
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
		if err := s.SameOrigin(c); err != nil {
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
	out, err := handled(in, r)
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
		return s.stream(in, stream)
	}
	if write, ok := out.(written); ok {
		return s.answer(in, write)
	}
	if f, ok := out.(*os.File); ok {
		c.Set("Content-Type", r.Media)
		c.Set("X-Content-Type-Options", "nosniff")
		return c.SendStream(f) // which closes it
	}
	if doc, ok := out.([]byte); ok {
		c.Set("Content-Type", r.Media)
		c.Set("X-Content-Type-Options", "nosniff")
		return c.Status(status).Send(doc)
	}
	return c.Status(status).JSON(out)
}

// handled does what a call asks for. What is only read ends when whoever asked has left: nobody would see it.
func handled(in *call, r route) (any, error) {
	if r.Method != http.MethodGet {
		return r.handle(in)
	}
	ctx, cancel := context.WithCancel(in.Context())
	defer cancel()
	stop := listen.WhenGone(in.RequestCtx().Conn(), cancel)
	defer stop()
	before := in.Context()
	in.SetContext(ctx)
	defer in.SetContext(before)
	out, err := r.handle(in)
	if err != nil && ctx.Err() != nil {
		return nil, &api.Problem{
			Type:   "about:blank",
			Status: http.StatusRequestTimeout,
			Title:  "Nobody waits for this any more",
			Code:   "left",
			Detail: "Whoever asked for this has left, and what it would have told was not read to its end.",
		}
	}
	if errors.Is(err, context.DeadlineExceeded) {
		return nil, &api.Problem{
			Type:   "about:blank",
			Status: http.StatusServiceUnavailable,
			Title:  "It took too long",
			Code:   "too-long",
			Detail: "What was asked for takes longer than is allowed, so that nobody else has to wait for it.",
			Remedy: "Narrow it, or ask again when less is going on.",
		}
	}
	return out, err
}

// written is an answer in JSON that is written part by part.
type written func(w *bufio.Writer) error

// answer writes such an answer. What fails in between leaves it unfinished, which whoever reads it notices.
func (s *management) answer(c *call, write written) error {
	c.Set("Content-Type", "application/json")
	return c.SendStreamWriter(func(w *bufio.Writer) {
		if err := write(w); err != nil {
			s.Gate.Log.Error("an answer could not be written to its end", "error", err)
		}
	})
}

// shown is what somebody shows to be let in: a token, or the console's cookie.
type shown struct {
	value string
	token bool
}

func (s *management) shownBy(c fiber.Ctx) shown {
	if scheme, token, ok := strings.Cut(c.Get("Authorization"), " "); ok && strings.EqualFold(scheme, "Bearer") {
		return shown{strings.Clone(strings.TrimSpace(token)), true}
	}
	return shown{strings.Clone(c.Cookies(s.CookieName("console"))), false}
}

func (s *management) actorBy(ctx context.Context, by shown, from string) (*ground.Actor, error) {
	if by.token {
		return s.Gate.Console.BearerActor(ctx, by.value, from)
	}
	return s.Gate.Console.SessionActor(ctx, by.value, from)
}

// actor finds who is asking: by token in the Authorization header, or by the console's cookie. A changing call by
// cookie must carry the session's CSRF value.
func (s *management) actor(c fiber.Ctx, changing bool) (*ground.Actor, error) {
	shown := s.shownBy(c)
	who, err := s.actorBy(c.Context(), shown, s.Address(c))
	if err != nil || !changing || shown.token {
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
	return who, s.SameOrigin(c)
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

// narrow is what a list of applications or providers is narrowed to.
func narrow(c *call) ground.Narrow {
	return ground.Narrow{Reach: c.Query("reach"), Kind: c.Query("kind")}
}

// maskedPage is page for a list of people whose names viewers see masked: they can neither search in it nor sort it by
// what is masked, since both would tell it.
func (c *call) maskedPage(sort string) (store.Page, error) {
	p := page(c)
	if c.who.Role != ground.RoleViewer {
		return p, nil
	}
	if p.Search != "" {
		return p, ground.MaskedSearch()
	}
	p.Sort = sort
	return p, nil
}

func revision(c *call) int {
	n, _ := strconv.Atoi(c.Query("revision"))
	return n
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

// Serve serves the operations of the management API.
func Serve(app *fiber.App, at *visit.Reception) { (&management{Reception: at}).serve(app) }
