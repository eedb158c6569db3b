// Package server is the gate's network interface on Fiber: protocol endpoints, pages for people, the management API and
// the console's files.
package server

import (
	"crypto/tls"
	"embed"
	"errors"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"runtime/debug"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/gofiber/fiber/v3/middleware/adaptor"
	"github.com/gofiber/fiber/v3/middleware/compress"
	"github.com/gofiber/fiber/v3/middleware/etag"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"innergate/api"
	"innergate/gate"
	"innergate/gate/changes"
	"innergate/gate/ground"
	"innergate/listen"
	"innergate/server/management"
	"innergate/server/visit"
	"innergate/store"

	"golang.org/x/text/language"
)

// schema serves the JSON Schema of configuration files. It says nothing about this gate.
func (s *Server) schema() {
	s.app.Get(changes.SchemaPath, func(c fiber.Ctx) error {
		c.Set("Cache-Control", "public, max-age=3600")
		return c.Type("json", "utf-8").Send(management.Schema())
	})
}

// Options is what a Server needs besides a gate.
type Options struct {
	// TrustedProxies are the networks whose X-Forwarded-For is believed.
	TrustedProxies []netip.Prefix
	Console        fs.FS
	Log            *slog.Logger
	// PublicMetrics serves /metrics with everything else; without it only the operations listener does.
	PublicMetrics bool
	// NewestCopy is when the newest of the copies was made that the service makes by itself; nil where it makes none.
	NewestCopy func() time.Time
	// OwnOperations leaves /healthz, /readyz and /metrics to a listener of their own.
	OwnOperations bool
	// Languages is a folder with files of languages that are not the gate's own; nil for none.
	Languages fs.FS
}

// Server serves one gate.
type Server struct {
	Options
	*visit.Reception
	app      *fiber.App
	registry *prometheus.Registry
	requests *prometheus.HistogramVec
	crowd    *crowd
	// offered are the languages for people, the usual one first; matcher finds among them what a browser wishes.
	offered []string
	matcher language.Matcher
}

const (
	bodyLimit     = 4 << 20
	messageLimit  = 1 << 20
	headerBuffer  = 64 << 10
	assetLifetime = 365 * 24 * time.Hour
)

// New makes a server.
func New(g *gate.Gate, o Options) *Server {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if o.Console == nil {
		o.Console = embed.FS{}
	}
	s := &Server{Options: o, Reception: &visit.Reception{Gate: g, Trusted: o.TrustedProxies}, registry: prometheus.NewRegistry(),
		crowd: &crowd{now: time.Now}}
	s.app = fiber.New(fiber.Config{
		AppName: "Inner Gate", CaseSensitive: true, StrictRouting: true, Immutable: true, BodyLimit: bodyLimit,
		ReadBufferSize: headerBuffer,
		ReadTimeout:    30 * time.Second, WriteTimeout: 60 * time.Second, IdleTimeout: 90 * time.Second, ErrorHandler: s.failed,
	})
	s.addTongues(o.Languages)
	s.observe()
	s.app.Use(s.around)
	if !o.OwnOperations {
		s.operations(s.app)
	}
	if o.PublicMetrics {
		s.metrics(s.app)
	}
	s.protocols()
	s.own()
	s.entries()
	s.tickets()
	s.portal()
	s.schema()
	s.handovers()
	s.openid()
	s.pushes()
	management.Serve(s.app, s.Reception)
	s.console()
	return s
}

// Serve serves on a listener until Shutdown.
func (s *Server) Serve(l net.Listener, t *tls.Config) error {
	l = listen.Bounded(l, listen.Limits{Trusted: s.TrustedProxies})
	if t != nil {
		l = tls.NewListener(l, t)
	}
	return s.app.Listener(listen.Plain(l, headerBuffer, false), fiber.ListenConfig{DisableStartupMessage: true})
}

// Operations is a server of its own for health and metrics.
func (s *Server) Operations() *fiber.App {
	app := fiber.New(fiber.Config{AppName: "Inner Gate operations", ReadTimeout: 10 * time.Second})
	s.operations(app)
	s.metrics(app)
	return app
}

// Shutdown stops taking connections and waits for requests under way.
func (s *Server) Shutdown(limit time.Duration) error { return s.app.ShutdownWithTimeout(limit) }

// Handler is the server as a net/http handler, for tests.
func (s *Server) Handler() http.Handler { return adaptor.FiberApp(s.app) }

func (s *Server) operations(app *fiber.App) {
	app.Get("/healthz", func(c fiber.Ctx) error { return c.SendString("ok\n") })
	app.Get("/readyz", func(c fiber.Ctx) error {
		if err := s.Gate.Store.Ready(c.Context()); err != nil {
			s.Log.Error("not ready", "error", err)
			return c.Status(http.StatusServiceUnavailable).SendString("the database can't be written\n")
		}
		return c.SendString("ready\n")
	})
}

func (s *Server) metrics(app *fiber.App) {
	app.Get("/metrics", adaptor.HTTPHandler(promhttp.HandlerFor(s.registry, promhttp.HandlerOpts{})))
}

// around sets the headers that every answer carries, times the request and logs it. It never logs a query: tokens and
// messages travel there.
func (s *Server) around(c fiber.Ctx) error {
	begin := time.Now()
	c.Set("X-Content-Type-Options", "nosniff")
	c.Set("X-Frame-Options", "DENY")
	c.Set("Referrer-Policy", "no-referrer")
	if s.Gate.Secure() {
		c.Set("Strict-Transport-Security", "max-age=31536000")
	}
	c.SetContext(ground.OneLook(c.Context()))
	err := s.guarded(c)
	if err != nil {
		if handled := s.failed(c, err); handled != nil {
			return handled
		}
	}
	route, took := c.Route().Path, time.Since(begin)
	status := c.Response().StatusCode()
	if route == "/" && c.Path() != "/" {
		route = "other"
	}
	s.requests.WithLabelValues(route, http.StatusText(status)).Observe(took.Seconds())
	if s.Log.Enabled(c.Context(), slog.LevelDebug) {
		s.Log.Debug("request", "method", c.Method(), "route", route, "status", status, "took", took.String(), "from", s.Address(c))
	}
	return nil
}

// guarded runs the handlers and turns a panic in one of them into an error of this request alone.
func (s *Server) guarded(c fiber.Ctx) (err error) {
	defer func() {
		if r := recover(); r != nil {
			s.Log.Error("a handler panicked", "route", c.Route().Path, "panic", r, "stack", string(debug.Stack()))
			err = errors.New("a handler panicked")
		}
	}()
	return c.Next()
}

// failed answers with an error: problem details for the API, a plain page elsewhere.
func (s *Server) failed(c fiber.Ctx, err error) error {
	p := &api.Problem{
		Type:   "about:blank",
		Status: http.StatusInternalServerError,
		Title:  "The gate failed",
		Detail: "Something failed inside the gate; its log says what.",
		Code:   "internal",
	}
	var own *api.Problem
	var fe *fiber.Error
	switch {
	case errors.As(err, &own):
		p = own
	case errors.As(err, &fe):
		p = &api.Problem{Type: "about:blank", Status: fe.Code, Title: http.StatusText(fe.Code), Code: "http", Detail: httpReason(fe.Code)}
	case errors.Is(err, store.ErrNotWritten):
		p = &api.Problem{
			Type:   "about:blank",
			Status: http.StatusServiceUnavailable,
			Title:  "Nothing was written",
			Detail: "The node that leads was lost while this was written, and nothing of it was.",
			Remedy: "Do it again.",
			Code:   "not-written",
		}
	default:
		s.Log.Error("request failed", "route", c.Route().Path, "error", err)
		if strings.Contains(err.Error(), "disk is full") {
			p.Status, p.Code, p.Detail = http.StatusInsufficientStorage, "disk-full", "The disk is full, so nothing was written."
		}
	}
	if strings.HasPrefix(c.Path(), "/api/") {
		c.Set("Cache-Control", "no-store")
		return c.Status(p.Status).JSON(p, "application/problem+json")
	}
	return s.page(c, p.Status, "message.html", pageData{Title: p.Title, Text: p.Detail, More: p.Remedy})
}

func httpReason(status int) string {
	switch status {
	case http.StatusNotFound:
		return "There is nothing at this address."
	case http.StatusMethodNotAllowed:
		return "This address does not take this kind of request."
	case http.StatusRequestEntityTooLarge:
		return "What was sent is larger than is accepted here."
	}
	return http.StatusText(status) + "."
}

// console serves the built console: hashed assets for long, the page itself fresh.
func (s *Server) console() {
	s.app.Get("/console", func(c fiber.Ctx) error { return c.Redirect().Status(http.StatusSeeOther).To("/console/") })
	assets := s.app.Group("/console/assets", etag.New(), compress.New(compress.Config{Level: compress.LevelBestSpeed}))
	assets.Get("/*", func(c fiber.Ctx) error {
		data, err := fs.ReadFile(s.Console, "assets/"+c.Params("*"))
		if err != nil {
			return fiber.ErrNotFound
		}
		c.Set("Cache-Control", "public, max-age=31536000, immutable")
		name := c.Params("*")
		c.Type(name[strings.LastIndexByte(name, '.')+1:])
		return c.Send(data)
	})
	s.app.Get("/console/*", func(c fiber.Ctx) error {
		data, err := fs.ReadFile(s.Console, "index.html")
		if err != nil {
			return s.page(
				c,
				http.StatusServiceUnavailable,
				"message.html",
				pageData{Title: "The console was not built", Text: "This binary was made without the console. Run make build."},
			)
		}
		c.Set("Cache-Control", "no-cache")
		c.Set(
			"Content-Security-Policy",
			"default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; connect-src 'self'; "+
				"form-action 'self'; base-uri 'none'; frame-ancestors 'none'",
		)
		return c.Type("html", "utf-8").Send(data)
	})
}
