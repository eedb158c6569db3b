package ldapdir

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"
	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/ldapdir"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/partners"
)

// Try asks a directory, without signing anybody in: each server, the gate's own bind, the base, and one person by name. The first
// thing that does not work is explained.
func (g *Room) Try(ctx context.Context, who ground.Actor, slug, name string) (*api.TriedDirectory, error) {
	p, err := g.partners.Provider(ctx, slug)
	if err != nil {
		return nil, err
	}
	if p.LDAP == nil {
		return nil, ground.Conflict("no-ldap", p.Name+" is not asked by LDAP.", "")
	}
	if m := p.Missing(); len(m) > 0 {
		return nil, ground.Conflict("incomplete", "It can't be tried yet: "+m[0]+".", "Enter it first.")
	}
	if err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		return ground.Journal(tx, g.Now(), who, "tried", "provider", p.ID, p.Name, "", words.Clip(name, 128))
	}); err != nil {
		return nil, err
	}
	t := &tryout{out: &api.TriedDirectory{Steps: []api.TriedStep{}, Values: map[string][]string{}}}
	c := g.tryServers(ctx, p, t)
	if c == nil {
		return t.out, nil
	}
	defer c.Close()
	if !t.step("bind", bindWords(p), func() (string, error) { return "", g.ownBind(ctx, c, p) }) {
		return t.out, nil
	}
	if p.LDAP.Base != "" && !t.step("base", "Read "+p.LDAP.Base, func() (string, error) {
		e, err := read(c, &p.Provider, p.LDAP.Base, []string{"1.1"}, nil)
		if err == nil && e == nil {
			err = explain.New(explain.LDAPSearch, explain.Pair("base", p.LDAP.Base, "there is no such entry, or it may "+
				"not be read")).Of(p.Name)
		}
		return "", err
	}) {
		return t.out, nil
	}
	if name != "" {
		g.tryPerson(ctx, p, t, c, words.Clip(name, 128))
	}
	t.out.Works = !t.failed
	return t.out, nil
}

func bindWords(p *partners.Provider) string {
	if p.LDAP.BindDN == "" {
		return "Ask as nobody"
	}
	return "Bind as " + p.LDAP.BindDN
}

// tryout collects what is tried.
type tryout struct {
	out    *api.TriedDirectory
	failed bool
}

// step does one thing, and says whether it went well.
func (t *tryout) step(name, text string, do func() (string, error)) bool {
	began := time.Now()
	got, err := do()
	s := api.TriedStep{Name: name, Text: text, Got: got, OK: err == nil, Micros: time.Since(began).Microseconds()}
	if err != nil {
		s.Got = err.Error()
		var f *explain.Failure
		if errors.As(err, &f) {
			e := f.Explain()
			s.Got = e.Cause
			t.out.Code, t.out.Remedy = string(e.Code), e.Remedy
		}
		t.failed = true
	}
	t.out.Steps = append(t.out.Steps, s)
	return err == nil
}

// tryServers asks each server, and gives a connection to the first that answers.
func (g *Room) tryServers(ctx context.Context, p *partners.Provider, t *tryout) (c *ldap.Conn) {
	own, unproven := g.ownCertificate(ctx, p)
	for _, text := range p.LDAP.Servers {
		t.step("server", text, func() (string, error) {
			if unproven != nil {
				return "", unproven
			}
			one, err := dial(ctx, p.LDAP, own, text)
			if err != nil {
				code := explain.LDAPUnreachable
				if distrusted(err) {
					code = explain.LDAPTrust
				}
				return "", explain.New(code, explain.Fact("reason", reason(err))).Of(p.Name)
			}
			got := "without TLS"
			if state, ok := one.TLSConnectionState(); ok && len(state.PeerCertificates) > 0 {
				leaf := state.PeerCertificates[0]
				got = fmt.Sprintf("%s, certificate of %s by %s, until %s", versions[state.Version], leaf.Subject, leaf.Issuer,
					leaf.NotAfter.UTC().Format(time.DateOnly))
			}
			if c == nil {
				c = one
			} else {
				one.Close()
			}
			return got, nil
		})
	}
	if c != nil { // one that answers is enough
		t.out.Code, t.out.Remedy, t.failed = "", "", false
	}
	return c
}

var versions = map[uint16]string{0x0303: "TLS 1.2", 0x0304: "TLS 1.3"}

// tryPerson finds one person by name, with groups, and shows what the mapping makes of them.
func (g *Room) tryPerson(ctx context.Context, p *partners.Provider, t *tryout, c *ldap.Conn, name string) {
	var who *ldapdir.Entry
	if !t.step("person", "Find "+name, func() (string, error) {
		var err error
		if p.LDAP.Pattern != "" {
			var dn string
			if dn, err = ldapdir.Named(p.LDAP.Pattern, name); err == nil {
				who, err = read(c, &p.Provider, dn, wanted(&p.Provider), nil)
			}
		} else {
			who, err = g.find(c, &p.Provider, name, nil)
		}
		if err == nil && who == nil {
			err = errors.New("nobody was found; look at the base and the filter, and whether the gate's own entry may read there")
		}
		if err != nil {
			return "", err
		}
		return who.DN, nil
	}) {
		return
	}
	t.step("identifier", "What stays the same of the entry: "+p.LDAP.Identifier, func() (string, error) {
		return identifier(p.Name, p.LDAP.Identifier, who)
	})
	var groups []string
	t.step("groups", "Groups", func() (string, error) {
		var err error
		groups, err = g.groups(ctx, c, &p.Provider, who, nil)
		return fmt.Sprintf("%d", len(groups)), err
	})
	bag := who.Bag(groups)
	t.out.Values = bag
	t.step("mapping", "What the mapping in makes of it", func() (string, error) {
		made, err := p.Inbound.Apply(bag, "in", nil)
		for _, o := range made {
			t.out.Made = append(t.out.Made, api.TriedValue{Name: o.Rule.Set, Values: o.Values})
		}
		return fmt.Sprintf("%d values", len(made)), err
	})
}

// Contexts are the bases below which a directory has entries, as it says itself (RFC 4512, section 5.1).
func (g *Room) Contexts(ctx context.Context, p *config.LDAPProvider) ([]string, error) {
	var last error
	for _, text := range p.Servers {
		c, err := dial(ctx, p, nil, text)
		if err != nil {
			last = errors.New(text + ": " + reason(err))
			continue
		}
		root, err := read(c, &config.Provider{Name: text, LDAP: p}, "", []string{"namingContexts"}, nil)
		c.Close()
		if err != nil || root == nil {
			return nil, err
		}
		var out []string
		for _, v := range root.Get("namingContexts") {
			if name := string(v); !strings.HasPrefix(strings.ToLower(name), "cn=") { // its own affairs
				out = append(out, name)
			}
		}
		return out, nil
	}
	return nil, last
}
