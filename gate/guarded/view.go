package guarded

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/config"
	"innergate/core/paths"
	"innergate/gate/ground"
	"innergate/gate/keyring"
	"innergate/gate/partners"
	"innergate/store"
)

// GuardView tells how a guarded application stands behind the gate.
// What its reverse proxy needs holds a secret, and is for those who set things up.
func (g *Room) GuardView(ctx context.Context, who ground.Actor, slug string) (*api.GuardView, error) {
	a, err := g.partners.Application(ctx, slug)
	if err != nil {
		return nil, err
	}
	if a.Guarded == nil {
		return nil, ground.Conflict("not-guarded", a.Name+" is not a guarded application: the gate does not stand in front of it.", "")
	}
	held, err := g.GuardedAt(ctx, a.Guarded.PublicURL)
	if err != nil {
		return nil, err
	}
	out := &api.GuardView{
		PublicURL: a.Guarded.PublicURL,
		Upstreams: a.Guarded.Upstreams,
		Pass:      a.Guarded.Pass,
		Headers:   []string{},
		Paths:     a.Guarded.Paths,
	}
	if held != nil {
		out.Headers = held.carries()
	}
	if ground.Allows(who.Role, ground.RoleEngineer) {
		proxy, err := g.ProxySecret(ctx, a.ID)
		if err != nil {
			return nil, err
		}
		out.Nginx = paths.Snippet(a.Guarded, out.Headers, proxy)
	}
	secret, err := g.partners.TheirSecret(ctx, a.ID)
	if err != nil {
		return nil, err
	}
	out.Password = secret != ""
	return out, nil
}

// SetGuardPassword stores the password with which an application gets basic credentials. It is never shown again.
func (g *Room) SetGuardPassword(ctx context.Context, who ground.Actor, slug string, in api.GuardPassword) error {
	a, err := g.partners.Application(ctx, slug)
	if err != nil {
		return err
	}
	switch {
	case a.Guarded == nil:
		return ground.Conflict("not-guarded", a.Name+" is not a guarded application: the gate does not stand in front of it.", "")
	case in.Password == "" || len(in.Password) > 500 || strings.ContainsFunc(in.Password, func(r rune) bool {
		return r < 0x20 || r == 0x7f
	}):
		return ground.BadRequest("password", "A password has 1 to 500 characters, in one line.", "")
	}
	row := store.Secret{
		ID:        store.NewID(),
		OwnerKind: "application",
		OwnerID:   a.ID,
		State:     keyring.KeyActive,
		By:        who.Name,
		CreatedAt: g.Now().UTC(),
	}
	row.Sealed = g.Store.Sealer.Seal(store.PlaceSecret, row.ID, []byte(in.Password))
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := partners.ForgetSecrets(tx, a.ID, ""); err != nil {
			return err
		}
		return g.partners.WriteSecret(tx, who, &row, a.Name, "entered")
	})
}

// TryPath tells which rule decides about a path, and what that means for somebody.
func (g *Room) TryPath(ctx context.Context, slug string, in api.TryPath) (*api.TriedPath, error) {
	a, err := g.partners.Application(ctx, slug)
	if err != nil {
		return nil, err
	}
	if a.Guarded == nil {
		return nil, ground.Conflict("not-guarded", a.Name+" is not a guarded application: the gate does not stand in front of it.", "")
	}
	if in.Method == "" {
		in.Method = "GET"
	}
	raw, _, _ := strings.Cut(in.Path, "?")
	if !paths.PlainPath(raw) {
		return &api.TriedPath{
			Then:  config.PathRefuse,
			Words: "The path could be read in two ways. It is refused before any rule is asked.",
		}, nil
	}
	path, err := url.PathUnescape(raw)
	if err != nil {
		return &api.TriedPath{
			Then:  config.PathRefuse,
			Words: "The path has an escape that can't be read. It is refused before any rule is asked.",
		}, nil
	}
	if rest, ok := strings.CutPrefix(path, GuardPath); ok {
		return &api.TriedPath{
			Then:  config.PathRefuse,
			Words: fmt.Sprintf("The gate keeps %s%s for itself; the application never gets it.", GuardPath, rest),
		}, nil
	}
	if a.Guarded.SignOutPath != "" && path == a.Guarded.SignOutPath {
		return &api.TriedPath{
			Then:  "sign-out",
			Words: "This is the path that signs out. The gate takes it; the application never gets it.",
		}, nil
	}
	r := paths.PathRule(a.Guarded.Paths, strings.ToUpper(in.Method), path)
	out := &api.TriedPath{
		Then: r.Then,
		Words: map[string]string{config.PathOpen: "Everybody may come here, without signing in.",
			config.PathSignedIn: "Whoever is signed in and may use the application may come here.",
			config.PathGroups:   "People of " + strings.Join(r.Groups, " or ") + " may come here.",
			config.PathRules:    "Whoever is signed in and let in by the rule set " + r.Use + " may come here.",
			config.PathRefuse:   "Nobody may come here."}[r.Then],
	}
	if r.Path != "" {
		out.Rule = strings.TrimSpace(r.Path + " " + strings.Join(r.Methods, " "))
	} else {
		out.Words = "No rule fits. " + out.Words
	}
	if in.Person == "" || r.Then != config.PathGroups {
		return out, nil
	}
	if _, _, err := g.persons.PersonByID(ctx, in.Person); err != nil {
		return nil, err
	}
	groups, _, err := g.persons.Standing(ctx, in.Person)
	may := slices.ContainsFunc(r.Groups, func(one string) bool { return slices.Contains(groups, one) })
	out.May = &may
	return out, err
}
