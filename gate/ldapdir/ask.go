package ldapdir

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/ldapdir"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/partners"
)

// bound is what came of trying a password.
type bound struct {
	state   ldapdir.State
	message string // as the directory said it
	expires int    // seconds until the password expires; -1 where it is not said
}

// bind tries a name and a password. An empty password is never tried: a server would take it for nobody at all.
func bind(c *ldap.Conn, dn, password string) (*bound, error) {
	if password == "" || dn == "" {
		return nil, ldapdir.ErrEmpty
	}
	got, err := c.SimpleBind(ldap.NewSimpleBindRequest(dn, password, []ldap.Control{ldap.NewControlBeheraPasswordPolicy()}))
	out := &bound{expires: -1}
	result, policy := 0, -1
	if got != nil {
		if p, ok := ldap.FindControl(got.Controls, ldap.ControlTypeBeheraPasswordPolicy).(*ldap.ControlBeheraPasswordPolicy); ok {
			policy, out.expires = int(p.Error), int(p.Expire)
		}
	}
	if err != nil {
		var e *ldap.Error
		if !errors.As(err, &e) || e.ResultCode >= ldap.ErrorNetwork {
			return nil, err
		}
		result, out.message = int(e.ResultCode), diagnostic(e)
	}
	out.state = ldapdir.Judge(result, policy, out.message)
	return out, nil
}

func diagnostic(e *ldap.Error) string {
	text := fmt.Sprintf("%d %s", e.ResultCode, ldap.LDAPResultCodeMap[e.ResultCode])
	if e.Err != nil && e.Err.Error() != "" {
		text += ": " + e.Err.Error()
	}
	return text
}

// searching gives a connection on which the gate may search, and a function that gives it back.
func (g *Room) searching(ctx context.Context, p *partners.Provider, rec *trace.Recorder) (*line, func(good bool), error) {
	l := g.linesOf(p)
	one := l.take(g.Now())
	back := func(good bool) {
		if good {
			l.back(one, g.Now())
			return
		}
		one.Close()
	}
	if one != nil {
		return one, back, nil
	}
	own, err := g.ownCertificate(ctx, p)
	if err != nil {
		return nil, nil, err
	}
	if one, err = l.open(ctx, &p.Provider, own, g.Now(), rec); err != nil {
		return nil, nil, err
	}
	if err := g.ownBind(ctx, one.Conn, p); err != nil {
		one.Close()
		return nil, nil, err
	}
	return one, back, nil
}

// refusedBind explains that the gate may not search.
func refusedBind(p *partners.Provider, why string) error {
	return explain.New(explain.LDAPBind, explain.Pair("entry", words.OrNone(p.LDAP.BindDN), why)).Of(p.Name)
}

// ownCertificate is the certificate by which the gate proves who it is, where that is set; nil otherwise.
func (g *Room) ownCertificate(ctx context.Context, p *partners.Provider) (*tls.Certificate, error) {
	if p.LDAP.BindBy != config.BindByCertificate {
		return nil, nil
	}
	if !p.Sending().Given() {
		return nil, refusedBind(p, "it is proposed to ask another server, or to believe another one; the certificate "+
			"is shown when that is "+
			"taken over")
	}
	text, err := g.partners.TheirSecret(ctx, p.ID)
	if err != nil {
		return nil, err
	}
	own, err := partners.CertificateWithKey(text)
	if err != nil {
		return nil, refusedBind(p, err.Error())
	}
	return own, nil
}

// ownBind binds as the gate's own entry, if it has one.
func (g *Room) ownBind(ctx context.Context, c *ldap.Conn, p *partners.Provider) error {
	if p.LDAP.BindBy == config.BindByCertificate {
		if err := c.ExternalBind(); err != nil {
			return refusedBind(p, reason(err))
		}
		return nil
	}
	if p.LDAP.BindDN == "" {
		return nil
	}
	refused := func(why string) error { return refusedBind(p, why) }
	if !p.Sending().Given() {
		return refused("it is proposed to ask another server, or to believe another one; the password goes there when that is taken over")
	}
	password, err := g.partners.TheirSecret(ctx, p.ID)
	if err != nil {
		return err
	}
	if password == "" {
		return refused("no password is entered here")
	}
	got, err := bind(c, p.LDAP.BindDN, password)
	switch {
	case err != nil:
		return explain.New(explain.LDAPUnreachable, explain.Fact("reason", reason(err))).Of(p.Name)
	case got.state != ldapdir.Good:
		return refused(got.message)
	}
	return nil
}

// mostFound is how many entries are asked for: one more than may be there.
const mostFound = 2

// find finds the one entry of a name; nil where there is none.
func (g *Room) find(c *ldap.Conn, p *config.Provider, name string, rec *trace.Recorder) (*ldapdir.Entry, error) {
	filter, err := ldapdir.Filter(p.LDAP.Filter, name)
	if err != nil {
		return nil, err
	}
	entries, err := search(c, p, p.LDAP.Base, ldap.ScopeWholeSubtree, filter, wanted(p), mostFound, rec)
	if err != nil {
		return nil, err
	}
	if len(entries) > 1 {
		return nil, explain.New(explain.LDAPSeveral, explain.Pair("entries", filter, "several")).Of(p.Name)
	}
	if len(entries) == 0 {
		return nil, nil
	}
	return entries[0], nil
}

// read reads the entry of a DN; nil where it is not there, or may not be read.
func read(c *ldap.Conn, p *config.Provider, dn string, attributes []string, rec *trace.Recorder) (*ldapdir.Entry, error) {
	entries, err := search(c, p, dn, ldap.ScopeBaseObject, "(objectClass=*)", attributes, mostFound, rec)
	if err != nil || len(entries) == 0 {
		return nil, err
	}
	return entries[0], nil
}

func wanted(p *config.Provider) []string {
	more := append([]string{}, p.LDAP.Attributes...)
	if g := p.LDAP.Groups; g != nil && g.By == "memberOf" {
		more = append(more, "memberOf")
	}
	for _, r := range p.Mapping {
		for _, name := range r.From {
			if ldapdir.NameFits(name) && name != "groups" && name != "dn" && !ldapdir.Secret(name) {
				more = append(more, name)
			}
		}
	}
	return ldapdir.Wanted(p.LDAP.Identifier, more...)
}

// search asks for entries, and writes question and answer into the trace.
func search(
	c *ldap.Conn, p *config.Provider, base string, scope int, filter string, attributes []string, most int, rec *trace.Recorder,
) ([]*ldapdir.Entry, error) {
	rec.Message(trace.Message{
		From: trace.Gate, To: trace.Provider, Name: "Search request", Binding: "LDAP", Address: p.Authority(),
		Raw: fmt.Sprintf("base: %s\nfilter: %s\nattributes: %s", base, filter, strings.Join(attributes, ", ")),
	})
	got, err := c.Search(ldap.NewSearchRequest(base, scope, ldap.NeverDerefAliases, most, p.LDAP.TimeoutSeconds, false, filter,
		attributes, nil))
	var out []*ldapdir.Entry
	if got != nil {
		for _, e := range got.Entries {
			out = append(out, entry(e))
		}
	}
	rec.Message(trace.Message{
		From: trace.Provider, To: trace.Gate, Name: "Search result", Binding: "LDAP", Address: p.Authority(), Raw: shown(out, got, err),
	})
	var e *ldap.Error
	switch {
	case err == nil:
		return out, nil
	case !errors.As(err, &e) || e.ResultCode >= ldap.ErrorNetwork:
		return nil, explain.New(explain.LDAPUnreachable, explain.Fact("reason", reason(err))).Of(p.Name)
	case e.ResultCode == ldap.LDAPResultSizeLimitExceeded && len(out) > 0:
		return out, nil // more than may be there, which is looked at by whoever asked
	case e.ResultCode == ldap.LDAPResultNoSuchObject && scope == ldap.ScopeBaseObject:
		return nil, nil
	case e.ResultCode == ldap.LDAPResultReferral:
		return nil, explain.New(explain.LDAPReferral, explain.Fact("answer", diagnostic(e))).Of(p.Name)
	}
	return nil, explain.New(explain.LDAPSearch, explain.Pair("base", base, diagnostic(e))).Of(p.Name)
}

func entry(e *ldap.Entry) *ldapdir.Entry {
	out := &ldapdir.Entry{DN: e.DN, Values: map[string][][]byte{}}
	for _, a := range e.Attributes {
		out.Values[a.Name] = a.ByteValues
	}
	return out
}

// shown is an answer as a trace shows it: without what is nobody's business, and not without end.
func shown(entries []*ldapdir.Entry, got *ldap.SearchResult, err error) string {
	var b strings.Builder
	for _, e := range entries {
		fmt.Fprintf(&b, "dn: %s\n", e.DN)
		bag := e.Bag(nil)
		for _, name := range bag.Names() {
			for i, v := range bag[name] {
				if name == "dn" || i >= 50 {
					continue
				}
				fmt.Fprintf(&b, "%s: %.300s\n", name, v)
			}
		}
		b.WriteString("\n")
	}
	if got != nil && len(got.Referrals) > 0 {
		fmt.Fprintf(&b, "It points elsewhere, which is not followed: %.500s\n", strings.Join(got.Referrals, " "))
	}
	if err != nil {
		fmt.Fprintf(&b, "%s\n", reason(err))
	}
	fmt.Fprintf(&b, "%d entries", len(entries))
	return b.String()
}

// groups are those that somebody is in, also through others.
func (g *Room) groups(ctx context.Context, c *ldap.Conn, p *config.Provider, who *ldapdir.Entry, rec *trace.Recorder) ([]string, error) {
	how := p.LDAP.Groups
	if how == nil {
		return nil, nil
	}
	of := func(_ context.Context, dn string) ([]ldapdir.Group, error) { return namesMember(c, p, how.By, dn, rec) }
	var first []ldapdir.Group
	var err error
	switch how.By {
	case "memberOf":
		of = func(_ context.Context, dn string) ([]ldapdir.Group, error) {
			e, err := read(c, p, dn, []string{"memberOf"}, rec)
			if err != nil || e == nil {
				return nil, err
			}
			return g.named(c, p, e, rec)
		}
		first, err = g.named(c, p, who, rec)
	case "memberUid":
		first, err = namesMember(c, p, how.By, who.First("uid"), rec)
	default:
		first, err = of(ctx, who.DN)
	}
	if err != nil {
		return nil, err
	}
	all, cut, err := ldapdir.Nested(ctx, first, how.Depth, of)
	if err != nil {
		return nil, err
	}
	names := ldapdir.Names(all)
	by := "the attribute " + how.By
	if cut {
		by += "; more than are followed"
	}
	rec.Decide(trace.Decision{About: "groups", Result: strings.Join(names, ", "), By: by})
	return names, nil
}

// named are the groups that an entry's memberOf names. The name stands in the DN, or is read.
func (g *Room) named(c *ldap.Conn, p *config.Provider, e *ldapdir.Entry, rec *trace.Recorder) ([]ldapdir.Group, error) {
	var out []ldapdir.Group
	for _, value := range e.Get("memberOf") {
		dn := string(value)
		parsed, err := ldapdir.ParseDN(dn)
		if err != nil || len(parsed.RDNs) == 0 {
			continue
		}
		group := ldapdir.Group{DN: dn}
		for _, a := range parsed.RDNs[0].Attributes {
			if strings.EqualFold(a.Type, p.LDAP.Groups.Name) {
				group.Name = a.Value
			}
		}
		if group.Name == "" {
			held, err := read(c, p, dn, []string{p.LDAP.Groups.Name}, rec)
			if err != nil {
				return nil, err
			}
			if held != nil {
				group.Name = held.First(p.LDAP.Groups.Name)
			}
		}
		out = append(out, group)
	}
	return out, nil
}

// mostGroups is how many groups are asked for at one time.
const mostGroups = 500

// namesMember are the groups that name a member by an attribute.
func namesMember(c *ldap.Conn, p *config.Provider, by, member string, rec *trace.Recorder) ([]ldapdir.Group, error) {
	if member == "" {
		return nil, nil
	}
	how := p.LDAP.Groups
	base := how.Base
	if base == "" {
		base = p.LDAP.Base
	}
	filter := "(" + by + "=" + ldap.EscapeFilter(member) + ")"
	if how.Filter != "" {
		filter = "(&" + filter + how.Filter + ")"
	}
	found, err := search(c, p, base, ldap.ScopeWholeSubtree, filter, []string{how.Name}, mostGroups, rec)
	if err != nil {
		return nil, err
	}
	var out []ldapdir.Group
	for _, e := range found {
		out = append(out, ldapdir.Group{DN: e.DN, Name: e.First(how.Name)})
	}
	return out, nil
}
