package config

import (
	"encoding/base64"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"innergate/core/keys"
)

// Kinds of applications that speak neither SAML nor OpenID Connect.
const (
	KindGuarded = "guarded" // the gate stands in front of it
	KindLink    = "link"    // a plain address
)

// KindPortal stands for the gate's own page of tiles.
const KindPortal = "portal"

// How identity is passed on to a guarded application.
const (
	PassNothing = "none"
	PassHeaders = "headers" // each value that the mapping out sets becomes a header of that name
	PassToken   = "jwt"     // one header with a signed token
	PassBasic   = "basic"   // HTTP basic credentials: username from the mapping, the password kept sealed
)

// GuardedApplication is what is held of an application that knows no federation.
type GuardedApplication struct {
	// PublicURL is where people reach it: scheme, host and port, which lead to the gate's guard. Upstreams are its
	// inner addresses.
	PublicURL string   `json:"publicUrl,omitempty"`
	Upstreams []string `json:"upstreams,omitempty"`
	// Pass is none, headers (the default), jwt or basic.
	Pass string `json:"pass,omitempty"`
	// TokenHeader is the header of the signed token; empty for X-Gate-Identity.
	TokenHeader string `json:"tokenHeader,omitempty"`
	// Paths are rules by path, the first that fits decides; what none fits is for people who are signed in.
	Paths []PathRule `json:"paths,omitempty"`
	// SignOutPath is a path of the application at which people are signed out.
	SignOutPath string `json:"signOutPath,omitempty"`
	// HealthPath is asked of each upstream every ten seconds; without it only connections tell.
	HealthPath string `json:"healthPath,omitempty"`
	// KeepHost hands the public host name on; otherwise the upstream sees its own.
	KeepHost bool `json:"keepHost,omitempty"`
	// TimeoutSeconds is how long the upstream may take until it begins to answer; 0 for 60.
	TimeoutSeconds int `json:"timeoutSeconds,omitempty"`
	// Trust are certificates, in PEM, that the upstream's TLS certificate must lead to, in place of the system's.
	Trust []Certificate `json:"trust,omitempty"`
}

// PathRule says what a path needs.
type PathRule struct {
	// Path is the beginning of a path, at a border: /admin fits /admin and /admin/users, and not /administrators.
	Path    string   `json:"path"`
	Methods []string `json:"methods,omitempty"` // empty for all
	// Then is open (nobody has to sign in), signed-in, groups (one of Groups), rules (those of the rule set Use
	// decide), or refuse.
	Then   string   `json:"then"`
	Groups []string `json:"groups,omitempty"`
	Use    string   `json:"use,omitempty"`
}

// What a path rule can say.
const (
	PathOpen     = "open"
	PathSignedIn = "signed-in"
	PathGroups   = "groups"
	PathRules    = "rules"
	PathRefuse   = "refuse"
)

// TokenHeaderName is the header of the signed token.
func (g *GuardedApplication) TokenHeaderName() string {
	if g.TokenHeader != "" {
		return g.TokenHeader
	}
	return "X-Gate-Identity"
}

// Tile is one picture of an application on a person's page.
type Tile struct {
	Name        string `json:"name,omitempty"` // empty for the application's
	Description string `json:"description,omitempty"`
	To          string `json:"to,omitempty"` // a deep link
	// Picture is a data: address of a PNG, JPEG, GIF or WebP of at most 32 KiB.
	Picture string `json:"picture,omitempty"`
	// Groups are the gate's groups whose people see it; empty for everybody who may use the application.
	Groups []string `json:"groups,omitempty"`
	Hidden bool     `json:"hidden,omitempty"`
}

const maxPicture = 32 << 10

// pictureKinds are the kinds of pictures that are shown; none of them can hold a script.
var pictureKinds = []string{"image/png", "image/jpeg", "image/gif", "image/webp"}

// CheckPicture says what is wrong with a tile's picture: it must be what it says it is.
func CheckPicture(address string) error {
	kind, data, ok := strings.Cut(strings.TrimPrefix(address, "data:"), ";base64,")
	if !ok || !strings.HasPrefix(address, "data:") || !slices.Contains(pictureKinds, kind) {
		return fmt.Errorf("a picture is a data: address of a PNG, JPEG, GIF or WebP, in base64")
	}
	raw, err := base64.StdEncoding.DecodeString(data)
	if err != nil {
		return fmt.Errorf("the picture is not base64")
	}
	if len(raw) > maxPicture {
		return fmt.Errorf("the picture has %d bytes; 32 KiB are the most", len(raw))
	}
	if found := http.DetectContentType(raw); found != kind {
		return fmt.Errorf("the picture says that it is %s, and is %s", kind, found)
	}
	return nil
}

func (v *validator) tiles(list []Tile) {
	if len(list) > 20 {
		v.add("tiles", "there are %d tiles; 20 are the most", len(list))
		return
	}
	for i, t := range list {
		at := fmt.Sprintf("tiles[%d]", i)
		if len(t.Name) > 100 || len(t.Description) > 400 || len(t.To) > 2000 {
			v.add(at, "name, description or deep link are too long")
		}
		if t.Picture != "" {
			if err := CheckPicture(t.Picture); err != nil {
				v.add(at+".picture", "%s", err)
			}
		}
	}
}

// site checks an address that is scheme, host and port alone.
func (v *validator) site(field, value string) {
	u, err := url.Parse(value)
	if err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" || u.User != nil || u.RawQuery != "" || u.Fragment != "" ||
		strings.Trim(u.Path, "/") != "" {
		v.add(field, "%q must be an http or https address with a host and nothing behind it", value)
	}
}

var headerForm = func(name string) bool {
	return name != "" && len(name) <= 100 && strings.Trim(name, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-") == ""
}

// reservedHeaders can't carry an identity: connections, requests and the gate itself need them.
var reservedHeaders = []string{
	"host",
	"connection",
	"content-length",
	"content-type",
	"transfer-encoding",
	"upgrade",
	"te",
	"trailer",
	"cookie",
	"set-cookie",
	"authorization",
	"x-forwarded-for",
	"x-forwarded-host",
	"x-forwarded-proto",
	"forwarded",
	"origin",
	"referer",
}

func (a *Application) validateGuarded(v *validator) {
	if a.Guarded == nil {
		a.Guarded = &GuardedApplication{}
	}
	g := a.Guarded
	if g.Pass == "" {
		g.Pass = PassHeaders
	}
	v.oneOf("guarded.pass", g.Pass, Allowed["GuardedApplication.pass"]...)
	if g.PublicURL != "" {
		v.site("guarded.publicUrl", g.PublicURL)
		g.PublicURL = strings.TrimSuffix(g.PublicURL, "/")
	}
	if len(g.Upstreams) > 20 {
		v.add("guarded.upstreams", "there are %d inner addresses; 20 are the most", len(g.Upstreams))
	}
	for i := range g.Upstreams {
		v.site(fmt.Sprintf("guarded.upstreams[%d]", i), g.Upstreams[i])
		g.Upstreams[i] = strings.TrimSuffix(g.Upstreams[i], "/")
		if g.Upstreams[i] == g.PublicURL {
			v.add(fmt.Sprintf("guarded.upstreams[%d]", i), "the inner address is the public one: requests would go round in a circle")
		}
	}
	if g.TokenHeader != "" && (!headerForm(g.TokenHeader) || slices.Contains(reservedHeaders, strings.ToLower(g.TokenHeader))) {
		v.add("guarded.tokenHeader", "%q can't be the name of this header", g.TokenHeader)
	}
	if g.Pass == PassHeaders {
		for i, r := range a.Mapping {
			if r.Set != "" && (!headerForm(r.Set) || slices.Contains(reservedHeaders, strings.ToLower(r.Set))) {
				v.add(fmt.Sprintf("mapping[%d].set", i), "%q can't be a header with an identity; take one such as X-User", r.Set)
			}
		}
	}
	if g.TimeoutSeconds < 0 || g.TimeoutSeconds > 3600 {
		v.add("guarded.timeoutSeconds", "it must be between 0 (for the usual 60) and 3600")
	}
	for field, path := range map[string]string{"guarded.signOutPath": g.SignOutPath, "guarded.healthPath": g.HealthPath} {
		if path != "" && !strings.HasPrefix(path, "/") {
			v.add(field, "a path begins with a slash")
		}
	}
	if len(g.Paths) > 200 {
		v.add("guarded.paths", "there are %d rules; 200 are the most", len(g.Paths))
	}
	for i := range g.Paths {
		r := &g.Paths[i]
		at := fmt.Sprintf("guarded.paths[%d]", i)
		if !strings.HasPrefix(r.Path, "/") || strings.Contains(r.Path, "//") || strings.Contains(r.Path, "..") ||
			strings.ContainsAny(r.Path, "%;?#\\ ") {
			v.add(at+".path", "%q is no beginning of a path; write it plainly, such as /admin", r.Path)
		}
		v.oneOf(at+".then", r.Then, Allowed["PathRule.then"]...)
		if (r.Then == PathGroups) != (len(r.Groups) > 0) {
			v.add(at+".groups", "groups go with then: groups, and only there")
		}
		if (r.Then == PathRules) != (r.Use != "") {
			v.add(at+".use", "a rule set goes with then: rules, and only there")
		}
		for j := range r.Methods {
			r.Methods[j] = strings.ToUpper(r.Methods[j])
		}
	}
	for i, c := range g.Trust {
		if _, err := keys.ParseCertificate([]byte(c.PEM)); err != nil {
			v.add(fmt.Sprintf("guarded.trust[%d].pem", i), "%s", err)
		}
	}
}

func (a *Application) missingGuarded() []string {
	var out []string
	if a.Guarded == nil || a.Guarded.PublicURL == "" {
		out = append(out, "the public address of the application is missing")
	}
	if a.Guarded == nil || len(a.Guarded.Upstreams) == 0 {
		out = append(out, "the inner address of the application is missing")
	}
	return out
}

// Timeout is how long the application may take until it begins to answer.
func (g *GuardedApplication) Timeout() time.Duration {
	if g.TimeoutSeconds > 0 {
		return time.Duration(g.TimeoutSeconds) * time.Second
	}
	return time.Minute
}
