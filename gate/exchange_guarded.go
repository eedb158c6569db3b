package gate

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/config"
	"innergate/core/jose"
	"innergate/store"
)

// guardedSheet is what the engineer of an application behind the gate needs from us.
func (g *Gate) guardedSheet(ctx context.Context, a *application) (*api.ExchangeSheet, error) {
	o := a.Guarded
	s := &api.ExchangeSheet{Title: "For the engineer of " + a.Name, Role: "The gate stands in front of " + a.Name + ": people reach it through the gate alone.", Metadata: o.PublicURL, Attributes: []api.SheetAttribute{}, Downloads: []api.Download{}}
	s.Values = []api.Value{
		link("Public address", "where people open the application; its name must lead to the gate", o.PublicURL, "public"),
		note("Who may reach the application", "", "only the gate: whoever reaches an inner address by another way can claim to be anybody. Close it to all other hosts."),
	}
	for _, u := range o.Upstreams {
		s.Values = append(s.Values, link("Inner address", "where the gate sends what it lets through", u, "upstream"))
	}
	carried := "header"
	switch o.Pass {
	case config.PassNothing:
		s.Values = append(s.Values, note("Identity", "", "none is passed on"))
	case config.PassHeaders:
		s.Values = append(s.Values, note("Identity", "", "in the headers below; what a browser sends under their names, in any spelling, is taken away"))
	case config.PassToken:
		carried = "claim"
		s.Values = append(s.Values, text("Header with the signed token", "a JWT, good for a minute; check signature, issuer, audience, expiry, and that typ is "+jose.TypeGuard, o.TokenHeaderName(), "token-header"),
			link("Issuer", "the claim iss", g.Issuer(), "issuer"), text("Audience", "the claim aud", o.PublicURL, "audience"),
			link("Key set (JWKS)", "the keys that sign tokens, the next one already among them", g.PublicURL+"/oidc/keys", "jwks"), text("Signature", "the algorithm to expect, and no other", jose.ES256, "algorithm"))
	case config.PassBasic:
		s.Values = append(s.Values, note("Identity", "", "as HTTP basic credentials: the user name that the mapping sets as username, and the password that the gate keeps"))
	}
	host := "the application's own (the inner address)"
	if o.KeepHost {
		host = "the public one"
	}
	s.Values = append(s.Values, note("Host header", "", host), note("Where people are", "", "X-Forwarded-For is the person's network address, X-Forwarded-Host and X-Forwarded-Proto are of the public address"))
	if o.SignOutPath != "" {
		s.Values = append(s.Values, text("Path that signs out", "the gate takes it; link to it", o.SignOutPath, "sign-out"))
	}
	s.Values = append(s.Values, link("Start address", "begins a sign-in as the tile does; for links on other pages", g.StartLocation(a.Slug), ""))
	if o.Pass != config.PassNothing {
		for _, r := range a.whole {
			if r.Set == "" {
				continue
			}
			s.Attributes = append(s.Attributes, api.SheetAttribute{Name: r.Set, NameFormat: carried, Required: r.Required, Meaning: meaningOf(r), Sample: r.Sample()})
		}
	}
	s.Steps = stepsFor(s, a.Steps)
	s.Markdown = sheetText(s, "We pass on")
	var err error
	s.HandedOut, err = g.handOuts(ctx, "application", a.id, factsOf(s))
	return s, err
}

// GuardView tells how a guarded application stands behind the gate.
func (g *Gate) GuardView(ctx context.Context, slug string) (*api.GuardView, error) {
	a, err := g.application(ctx, slug)
	if err != nil {
		return nil, err
	}
	if a.Guarded == nil {
		return nil, conflict("not-guarded", a.Name+" is not a guarded application: the gate does not stand in front of it.", "")
	}
	held, err := g.GuardedAt(ctx, a.Guarded.PublicURL)
	if err != nil {
		return nil, err
	}
	out := &api.GuardView{PublicURL: a.Guarded.PublicURL, Upstreams: a.Guarded.Upstreams, Pass: a.Guarded.Pass, Headers: []string{}, Paths: a.Guarded.Paths}
	if held != nil {
		out.Headers = held.carries()
	}
	out.Nginx = snippet(a.Guarded, out.Headers)
	secret, err := g.theirSecret(ctx, a.id)
	if err != nil {
		return nil, err
	}
	out.Password = secret != ""
	return out, nil
}

// SetGuardPassword stores the password with which an application gets basic credentials. It is never shown again.
func (g *Gate) SetGuardPassword(ctx context.Context, who Actor, slug string, in api.GuardPassword) error {
	a, err := g.application(ctx, slug)
	if err != nil {
		return err
	}
	switch {
	case a.Guarded == nil:
		return conflict("not-guarded", a.Name+" is not a guarded application: the gate does not stand in front of it.", "")
	case in.Password == "" || len(in.Password) > 500 || strings.ContainsFunc(in.Password, func(r rune) bool { return r < 0x20 || r == 0x7f }):
		return badRequest("password", "A password has 1 to 500 characters, in one line.", "")
	}
	row := store.Secret{ID: store.NewID(), OwnerKind: "application", OwnerID: a.id, State: KeyActive, By: who.Name, CreatedAt: g.Now().UTC()}
	row.Sealed = g.Store.Sealer.Seal("secret/"+row.ID, []byte(in.Password))
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Where("owner_id = ?", a.id).Delete(&store.Secret{}).Error; err != nil {
			return err
		}
		return g.writeSecret(tx, who, &row, a.Name, "entered")
	})
}

// TryPath tells which rule decides about a path, and what that means for somebody.
func (g *Gate) TryPath(ctx context.Context, slug string, in api.TryPath) (*api.TriedPath, error) {
	a, err := g.application(ctx, slug)
	if err != nil {
		return nil, err
	}
	if a.Guarded == nil {
		return nil, conflict("not-guarded", a.Name+" is not a guarded application: the gate does not stand in front of it.", "")
	}
	if in.Method == "" {
		in.Method = "GET"
	}
	raw, _, _ := strings.Cut(in.Path, "?")
	if !PlainPath(raw) {
		return &api.TriedPath{Then: config.PathRefuse, Words: "The path could be read in two ways. It is refused before any rule is asked."}, nil
	}
	path, err := url.PathUnescape(raw)
	if err != nil {
		return &api.TriedPath{Then: config.PathRefuse, Words: "The path has an escape that can't be read. It is refused before any rule is asked."}, nil
	}
	if rest, ok := strings.CutPrefix(path, GuardPath); ok {
		return &api.TriedPath{Then: config.PathRefuse, Words: fmt.Sprintf("The gate keeps %s%s for itself; the application never gets it.", GuardPath, rest)}, nil
	}
	if a.Guarded.SignOutPath != "" && path == a.Guarded.SignOutPath {
		return &api.TriedPath{Then: "sign-out", Words: "This is the path that signs out. The gate takes it; the application never gets it."}, nil
	}
	r := pathRule(a.Guarded.Paths, strings.ToUpper(in.Method), path)
	out := &api.TriedPath{Then: r.Then, Words: map[string]string{config.PathOpen: "Everybody may come here, without signing in.", config.PathSignedIn: "Whoever is signed in and may use the application may come here.",
		config.PathGroups: "People of " + strings.Join(r.Groups, " or ") + " may come here.", config.PathRules: "Whoever is signed in and let in by the rule set " + r.Use + " may come here.", config.PathRefuse: "Nobody may come here."}[r.Then]}
	if r.Path != "" {
		out.Rule = strings.TrimSpace(r.Path + " " + strings.Join(r.Methods, " "))
	} else {
		out.Words = "No rule fits. " + out.Words
	}
	if in.Person == "" || r.Then != config.PathGroups {
		return out, nil
	}
	if _, _, err := g.personByID(ctx, in.Person); err != nil {
		return nil, err
	}
	groups, _, err := g.standing(ctx, in.Person)
	may := slices.ContainsFunc(r.Groups, func(one string) bool { return slices.Contains(groups, one) })
	out.May = &may
	return out, err
}

// snippet is what an nginx in front of the application needs, where it passes requests on itself and asks the gate about each.
func snippet(o *config.GuardedApplication, headers []string) string {
	u, err := url.Parse(o.PublicURL)
	if err != nil || len(o.Upstreams) == 0 {
		return ""
	}
	switch o.Pass {
	case config.PassBasic:
		headers = []string{"Authorization"}
	case config.PassNothing:
		headers = nil
	}
	var set strings.Builder
	for _, h := range headers {
		name := strings.ReplaceAll(strings.ToLower(h), "-", "_")
		fmt.Fprintf(&set, "        auth_request_set $gate_%[1]s $upstream_http_%[1]s;\n        proxy_set_header %[2]s $gate_%[1]s;\n", name, h)
	}
	return fmt.Sprintf(`# The guard listens at 127.0.0.1:8421 here, and this nginx is among the gate's trusted proxies.
server {
    server_name %[1]s;
    merge_slashes off;
    # Add your listen and ssl_certificate lines.

    location / {
        auth_request /.gate/check;
        error_page 401 = @gate;
        auth_request_set $gate_cookies $upstream_http_x_gate_cookies;
        proxy_set_header Cookie $gate_cookies;
%[2]s        proxy_pass %[3]s;
    }
    location = /.gate/check {
        internal;
        proxy_pass http://127.0.0.1:8421;
        proxy_pass_request_body off;
        proxy_set_header Content-Length "";
        proxy_set_header Host $http_host;
        proxy_set_header X-Original-URI $request_uri;
        proxy_set_header X-Original-Method $request_method;
        proxy_set_header X-Forwarded-Proto $scheme;
        proxy_set_header X-Forwarded-For $remote_addr;
    }
    location /.gate/ {
        proxy_pass http://127.0.0.1:8421;
        proxy_set_header Host $http_host;
        proxy_set_header X-Original-URI "";
        proxy_set_header X-Forwarded-Proto $scheme;
        proxy_set_header X-Forwarded-For $remote_addr;
    }
    location @gate {
        return 303 /.gate/enter?to=$request_uri;
    }
}
`, u.Hostname(), set.String(), o.Upstreams[0])
}
