// Package guard stands in front of applications that know no federation. It has people sign in at the gate, lets
// through whom the rules admit, tells the application who comes, and takes away whatever a browser says about itself.
// An application must be reachable through the guard alone: whoever reaches it otherwise may claim to be anybody.
package guard

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	_ "embed"
	"encoding/hex"
	"errors"
	"html/template"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/paths"
	"innergate/gate"
	"innergate/gate/ground"
	"innergate/gate/guarded"
	"innergate/listen"
)

const (
	headLimit = 64 << 10
	bodyLimit = 1 << 30
	lookEvery = 2 * time.Second // at the session of a visit that lasts
	// proxySecret is the header in which a reverse proxy shows that it is the application's own.
	proxySecret = "X-Gate-Proxy-Secret"
)

// Options is what a Guard needs besides a gate.
type Options struct {
	// TrustedProxies are the networks whose X-Forwarded-For and X-Forwarded-Proto are believed, and that may ask
	// without passing the request on.
	TrustedProxies []netip.Prefix
	Log            *slog.Logger
}

// Guard serves the guarded applications of one gate, each at its own host.
type Guard struct {
	Options
	gate   *gate.Gate
	server *http.Server
	behind sync.Map // short name → *behind
	stop   context.CancelFunc
	ctx    context.Context
}

// New makes a guard.
func New(g *gate.Gate, o Options) *Guard {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	d := &Guard{Options: o, gate: g}
	d.ctx, d.stop = context.WithCancel(context.Background())
	d.server = &http.Server{
		Handler:           d,
		ReadHeaderTimeout: 10 * time.Second,
		IdleTimeout:       90 * time.Second,
		MaxHeaderBytes:    headLimit,
		ConnContext: func(ctx context.Context, c net.Conn) context.Context {
			return context.WithValue(ctx, secureKey{}, listen.Secure(c))
		},
		ErrorLog: slog.NewLogLogger(o.Log.Handler(), slog.LevelDebug),
	}
	return d
}

// Serve serves on a listener until Shutdown, with TLS where t is given.
func (d *Guard) Serve(l net.Listener, t *tls.Config) error {
	l = listen.Bounded(l, listen.Limits{Trusted: d.TrustedProxies})
	if t != nil {
		t = t.Clone()
		t.NextProtos = []string{"http/1.1"}
		l = tls.NewListener(l, t)
	}
	if err := d.server.Serve(listen.Plain(l, headLimit, true)); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

// Shutdown stops taking connections, ends visits that last, and waits for the others.
func (d *Guard) Shutdown(limit time.Duration) error {
	d.stop()
	ctx, done := context.WithTimeout(context.Background(), limit)
	defer done()
	return d.server.Shutdown(ctx)
}

type secureKey struct{}

// visit is one request at a guarded application's host.
type visit struct {
	app     *guarded.Guarded
	public  string
	secure  bool
	proxied bool // by a trusted proxy
	address string
}

// ServeHTTP answers one request.
func (d *Guard) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	r = r.WithContext(d.gate.RecentLook(r.Context()))
	if r.Header.Get("Upgrade") != "" {
		w.Header().Set("Connection", "close") // unless it becomes a WebSocket after all
	}
	v := d.visit(r)
	app, err := d.gate.Guarded.GuardedAt(r.Context(), v.public)
	switch {
	case err != nil:
		d.broken(w, r, err)
		return
	case app == nil:
		d.page(w, r, http.StatusNotFound, "Nothing is here", "No application is known at this address.", "")
		return
	}
	v.app = app
	path := r.URL.EscapedPath()
	switch {
	case r.Method == http.MethodTrace || r.Method == http.MethodConnect:
		http.Error(w, "This method is not served here.", http.StatusMethodNotAllowed)
	case !paths.PlainPath(path):
		d.refused(w, r, http.StatusBadRequest,
			explain.New(explain.GuardPathUnclear, explain.Fact("path", clip(path))).Of(app.Name).Explain())
	case strings.HasPrefix(path, guarded.GuardPath):
		d.own(w, r, v, strings.TrimPrefix(path, guarded.GuardPath))
	case app.SignOutPath != "" && path == app.SignOutPath:
		d.leave(w, r, v)
	default:
		d.through(w, r, v, path)
	}
}

func clip(text string) string { return text[:min(len(text), 200)] }

func (d *Guard) visit(r *http.Request) *visit {
	overTLS, _ := r.Context().Value(secureKey{}).(bool)
	v := &visit{secure: overTLS, address: "unknown"}
	if peer, err := netip.ParseAddrPort(r.RemoteAddr); err == nil {
		ip := peer.Addr().Unmap()
		v.proxied = slices.ContainsFunc(d.TrustedProxies, func(p netip.Prefix) bool { return p.Contains(ip) })
		v.address = ground.AddressOf(ip, r.Header.Get("X-Forwarded-For"), d.TrustedProxies).String()
	}
	if v.proxied && !overTLS {
		v.secure = r.Header.Get("X-Forwarded-Proto") == "https"
	}
	scheme, port := "http", ":80"
	if v.secure {
		scheme, port = "https", ":443"
	}
	v.public = scheme + "://" + strings.TrimSuffix(strings.ToLower(r.Host), port)
	return v
}

func (v *visit) cookieName(name string) string {
	if v.secure {
		return "__Host-ig-" + name
	}
	return "ig-" + name
}

func (v *visit) cookie(r *http.Request, name string) string {
	c, err := r.Cookie(v.cookieName(name))
	if err != nil || len(c.Value) > 200 {
		return ""
	}
	return c.Value
}

func (v *visit) setCookie(w http.ResponseWriter, name, value string, age int) {
	http.SetCookie(
		w,
		&http.Cookie{
			Name:     v.cookieName(name),
			Value:    value,
			Path:     "/",
			HttpOnly: true,
			Secure:   v.secure,
			SameSite: http.SameSiteLaxMode,
			MaxAge:   age,
		},
	)
}

// decide asks the gate about a visit to a path by a method.
func (d *Guard) decide(r *http.Request, v *visit, method, path string) (*guarded.GuardAnswer, error) {
	if decoded, err := url.PathUnescape(path); err == nil {
		path = decoded
	}
	return d.gate.Guarded.Guard(
		r.Context(),
		v.app,
		guarded.GuardVisit{Method: method, Path: path, Address: v.address, Token: v.cookie(r, "guard")},
	)
}

func (d *Guard) through(w http.ResponseWriter, r *http.Request, v *visit, path string) {
	answer, err := d.decide(r, v, r.Method, path)
	switch {
	case err != nil:
		d.broken(w, r, err)
	case answer.Result == guarded.GuardRefuse:
		d.refused(w, r, http.StatusForbidden, answer.Explanation)
	case answer.Result == guarded.GuardSignIn && !opens(r):
		w.Header().Set("Cache-Control", "no-store")
		if strings.Contains(r.Header.Get("Accept"), "text/html") {
			d.page(
				w, r, http.StatusUnauthorized, "You are not signed in any more",
				"What you sent was not passed on. Sign in in another tab, go back here, and send it again.",
				v.public+"/",
			)
			return
		}
		http.Error(w, "Nobody is signed in. Open "+v.public+"/ in a browser to sign in.", http.StatusUnauthorized)
	case answer.Result == guarded.GuardSignIn:
		d.begin(w, r, v, v.public+r.URL.RequestURI())
	case r.Header.Get("Upgrade") != "" && r.Header.Get("Origin") != "" && !strings.EqualFold(r.Header.Get("Origin"), v.public):
		http.Error(w, "Another site opened this connection.", http.StatusForbidden)
	default:
		d.pass(w, r, v, answer)
	}
}

// opens says whether a request opens a page, so that a sign-in in its place is of use.
func opens(r *http.Request) bool {
	if r.Method != http.MethodGet && r.Method != http.MethodHead || r.Header.Get("Upgrade") != "" {
		return false
	}
	if mode := r.Header.Get("Sec-Fetch-Mode"); mode != "" {
		return mode == "navigate"
	}
	return strings.Contains(r.Header.Get("Accept"), "text/html")
}

// begin sends a browser to the gate. What it keeps here shows later that the ticket is its own.
func (d *Guard) begin(w http.ResponseWriter, r *http.Request, v *visit, to string) {
	kept := v.cookie(r, "bind")
	if len(kept) < 20 {
		kept = keys.NewSecret()
	}
	v.setCookie(w, "bind", kept, 3600)
	hash := sha256.Sum256([]byte(kept))
	away(w, r, d.gate.PublicURL+"/guard/"+v.app.Slug+"/enter?"+url.Values{"to": {to}, "bind": {hex.EncodeToString(hash[:])}}.Encode())
}

func away(w http.ResponseWriter, r *http.Request, to string) {
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("Referrer-Policy", "no-referrer")
	http.Redirect(w, r, to, http.StatusSeeOther)
}

// own serves the paths that the guard keeps for itself.
func (d *Guard) own(w http.ResponseWriter, r *http.Request, v *visit, name string) {
	switch {
	case name == "enter" && r.Method == http.MethodGet && r.URL.Query().Get("ticket") == "":
		d.begin(w, r, v, v.place(wanted(r)))
	case name == "enter" && r.Method == http.MethodGet:
		token, to, err := d.gate.Guarded.EnterTicket(r.Context(), v.app, r.URL.Query().Get("ticket"), v.cookie(r, "bind"))
		var f *explain.Failure
		switch {
		case errors.As(err, &f):
			d.refused(w, r, http.StatusForbidden, f.Explain())
			return
		case err != nil:
			d.broken(w, r, err)
			return
		}
		v.setCookie(w, "guard", token, 0)
		away(w, r, v.place(to))
	case name == "check" && v.proxied && d.asksForProxy(r, v):
		d.check(w, r, v)
	default:
		d.page(w, r, http.StatusNotFound, "Nothing is here", "The gate keeps this part of the address for itself.", "")
	}
}

// wanted is where somebody wants to go on: a proxy writes it as it came, which may hold an ampersand.
func wanted(r *http.Request) string {
	if to, ok := strings.CutPrefix(r.URL.RawQuery, "to="); ok && strings.HasPrefix(to, "/") {
		return to
	}
	return r.URL.Query().Get("to")
}

// place is an address in the application, or its beginning.
func (v *visit) place(to string) string {
	if rest, ok := strings.CutPrefix(to, v.public); ok && strings.HasPrefix(rest, "/") && !strings.ContainsAny(rest, "\\\r\n\t ") {
		return to
	}
	if strings.HasPrefix(to, "/") && !strings.HasPrefix(to, "//") && !strings.ContainsAny(to, "\\\r\n\t ") {
		return v.public + to
	}
	return v.public + "/"
}

// asksForProxy says whether it is the application's own reverse proxy that asks. A browser can write any header through a
// proxy; the secret it does not know.
func (d *Guard) asksForProxy(r *http.Request, v *visit) bool {
	if r.Header.Get("X-Original-URI") == "" || len(r.Header.Values(proxySecret)) != 1 {
		return false
	}
	ok, err := d.gate.Guarded.IsProxy(r.Context(), v.app, r.Header.Get(proxySecret))
	if err != nil {
		d.Log.ErrorContext(r.Context(), "a proxy's secret could not be checked", "error", err)
	}
	return ok
}

// check answers a reverse proxy of one's own about a request that it passes on itself: 204 with the headers to set, 401
// or 403.
func (d *Guard) check(w http.ResponseWriter, r *http.Request, v *visit) {
	path, _, _ := strings.Cut(r.Header.Get("X-Original-URI"), "?")
	method := r.Header.Get("X-Original-Method")
	if method == "" || !paths.PlainPath(path) {
		http.Error(w, "X-Original-Method is missing, or X-Original-URI is not a plain path.", http.StatusForbidden)
		return
	}
	answer, err := d.decide(r, v, method, path)
	w.Header().Set("Cache-Control", "no-store")
	switch {
	case err != nil:
		d.broken(w, r, err)
	case answer.Result == guarded.GuardSignIn:
		w.WriteHeader(http.StatusUnauthorized)
	case answer.Result == guarded.GuardRefuse:
		w.Header().Set("X-Gate-Reason", string(answer.Explanation.Code))
		w.WriteHeader(http.StatusForbidden)
	default:
		for name, values := range answer.Headers {
			w.Header()[http.CanonicalHeaderKey(name)] = values
		}
		if answer.User != "" {
			out := http.Request{Header: http.Header{}}
			out.SetBasicAuth(answer.User, answer.Password)
			w.Header().Set("Authorization", out.Header.Get("Authorization"))
		}
		rest := r.Header.Clone()
		withoutOurs(rest)
		w.Header().Set("X-Gate-Cookies", strings.Join(rest.Values("Cookie"), "; "))
		w.WriteHeader(http.StatusNoContent)
	}
}

// leave signs out, at the application and wherever its way of signing out reaches.
func (d *Guard) leave(w http.ResponseWriter, r *http.Request, v *visit) {
	to, err := d.gate.Guarded.LeaveTicket(r.Context(), v.app, v.cookie(r, "guard"))
	if err != nil {
		d.broken(w, r, err)
		return
	}
	v.setCookie(w, "guard", "", -1)
	away(w, r, to)
}

func (d *Guard) broken(w http.ResponseWriter, r *http.Request, err error) {
	d.Log.ErrorContext(r.Context(), "a visit to a guarded application failed", "host", r.Host, "error", err)
	d.page(
		w, r, http.StatusInternalServerError, "Something went wrong here",
		"Please try again. If it goes on, tell the person who looks after the gate.", "",
	)
}

//go:embed page.html
var pageText string

var pageForm = template.Must(template.New("page").Parse(pageText))

func (d *Guard) refused(w http.ResponseWriter, r *http.Request, status int, e explain.Explanation) {
	d.Log.InfoContext(r.Context(), "a visit to a guarded application was refused", "host", r.Host, "code", e.Code, "cause", e.Cause)
	lang := language(r)
	d.pageIn(
		w, r, status, lang, map[string]string{"en": "This did not work", "de": "Das hat nicht geklappt"}[lang],
		explain.PersonIn(lang, e.Person), "", string(e.Code),
	)
}

func language(r *http.Request) string {
	if strings.HasPrefix(strings.ToLower(r.Header.Get("Accept-Language")), "de") {
		return "de"
	}
	return "en"
}

func (d *Guard) page(w http.ResponseWriter, r *http.Request, status int, title, text, link string) {
	d.pageIn(w, r, status, "en", title, text, link, "")
}

func (d *Guard) pageIn(w http.ResponseWriter, _ *http.Request, status int, lang, title, text, link, code string) {
	h := w.Header()
	h.Set("Content-Type", "text/html; charset=utf-8")
	h.Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; frame-ancestors 'none'; base-uri 'none'")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	if err := pageForm.Execute(w, map[string]string{"Lang": lang, "Title": title, "Text": text, "Link": link, "Code": code}); err != nil {
		d.Log.Debug("a page was not sent", "error", err)
	}
}

// identity says whether a header could tell an application who comes: the ones in use, in any spelling that some
// servers take for the same.
func identity(app *guarded.Guarded, name string) bool {
	name = spelled(name)
	return name == "authorization" && app.Pass == config.PassBasic || strings.HasPrefix(name, "x-gate-") || misleading(name) ||
		slices.ContainsFunc(app.Headers, func(own string) bool { return spelled(own) == name })
}

// misleadingNames are headers by which servers in use are told another path, another method, another client or another
// user than the request has. The gate has looked at what the request says by itself, so none of them may reach the
// application from a browser, whether or not this one reads them.
var misleadingNames = []string{
	"x-original-url", "x-original-uri", "x-original-method", "x-original-host", "x-rewrite-url", "x-override-url", "x-http-method",
	"x-http-method-override", "x-method-override", "forwarded", "x-real-ip", "x-client-ip", "client-ip", "true-client-ip",
	"x-cluster-client-ip", "x-host", "x-remote-addr", "x-remote-ip", "x-user", "x-username", "x-auth-request-user", "x-webauth-user",
	"http2-settings", "proxy",
}

func misleading(name string) bool {
	return strings.HasPrefix(name, "x-forwarded") || strings.HasPrefix(name, "remote-") || strings.HasPrefix(name, "x-remote-user") ||
		slices.Contains(misleadingNames, name)
}

// spelled writes a header's name as servers see it that put names into variables, where dashes, underscores and dots
// become one.
func spelled(name string) string {
	return strings.Map(func(r rune) rune {
		if r == '_' || r == '.' || r == ' ' {
			return '-'
		}
		return r
	}, strings.ToLower(name))
}
