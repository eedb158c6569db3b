package ldapdir

import (
	"context"
	"errors"

	"github.com/go-ldap/ldap/v3"

	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/ldapdir"
	"innergate/core/trace"
	"innergate/gate/partners"
)

// pageSize is how many entries come at once (RFC 2696).
const pageSize = 500

// Read is somebody whose entry was read.
type Read struct {
	DN string
	// Identifier is what stays the same of the entry; Err says why there is none.
	Identifier string
	Err        error
	Values     claims.Bag
	// Changed is when the entry was changed last, as the directory writes it.
	Changed string
}

// Pages reads the entries that a filter finds, page by page, with the groups of each. What is done with a page ends before the next one
// is asked for, so that no more than one is held.
func (g *Room) Pages(ctx context.Context, p *partners.Provider, since string, page func([]Read) error) error {
	rec := trace.NewRecorder(g.Now(), g.Now)
	one, back, err := g.searching(ctx, p, rec)
	if err != nil {
		return err
	}
	err = g.pages(ctx, one.Conn, &p.Provider, since, page)
	back(err == nil)
	return err
}

func (g *Room) pages(ctx context.Context, c *ldap.Conn, p *config.Provider, since string, page func([]Read) error) error {
	index, err := groupIndex(ctx, c, p)
	if err != nil {
		return err
	}
	how := p.LDAP.Reading
	filter := ldapdir.ChangedSince(how.Filter, how.ChangedBy, since)
	attributes := append(wanted(p), how.ChangedBy)
	if p.LDAP.Groups != nil && p.LDAP.Groups.By == "memberOf" {
		attributes = append(attributes, "memberOf")
	}
	return each(ctx, c, p, p.LDAP.Base, filter, attributes, func(entries []*ldapdir.Entry) error {
		list := make([]Read, 0, len(entries))
		for _, e := range entries {
			list = append(list, readOf(p, e, index))
		}
		return page(list)
	})
}

// readOf is what counts of an entry.
func readOf(p *config.Provider, e *ldapdir.Entry, index *ldapdir.GroupIndex) Read {
	one := Read{DN: e.DN, Changed: e.First(p.LDAP.Reading.ChangedBy)}
	var groups []string
	if how := p.LDAP.Groups; how != nil {
		member := e.DN
		if how.By == "memberUid" {
			member = e.First("uid")
		}
		var listed []string
		for _, v := range e.Get("memberOf") {
			listed = append(listed, string(v))
		}
		groups = index.Of(member, listed)
	}
	one.Identifier, one.Err = identifier(p.Name, p.LDAP.Identifier, e)
	one.Values = e.Bag(groups)
	return one
}

// groupsAre finds groups where no filter is set: those that have members, or by their kind where people name them.
const groupsAre = "(|(objectClass=group)(objectClass=groupOfNames)(objectClass=groupOfUniqueNames)(objectClass=posixGroup))"

// groupIndex reads all groups.
func groupIndex(ctx context.Context, c *ldap.Conn, p *config.Provider) (*ldapdir.GroupIndex, error) {
	how := p.LDAP.Groups
	if how == nil {
		return &ldapdir.GroupIndex{}, nil
	}
	listed := how.By == "memberOf"
	index := ldapdir.NewGroupIndex(how.Depth, listed)
	filter, base := "("+how.By+"=*)", how.Base
	if listed {
		filter = groupsAre
	}
	if how.Filter != "" {
		filter = "(&" + filter + how.Filter + ")"
	}
	if base == "" {
		base = p.LDAP.Base
	}
	err := each(ctx, c, p, base, filter, []string{how.Name, how.By}, func(entries []*ldapdir.Entry) error {
		for _, e := range entries {
			var values []string
			for _, v := range e.Get(how.By) {
				values = append(values, string(v))
			}
			index.Add(ldapdir.Group{DN: e.DN, Name: e.First(how.Name)}, values)
		}
		return nil
	})
	return index, err
}

// each reads what a filter finds, page by page.
func each(
	ctx context.Context, c *ldap.Conn, p *config.Provider, base, filter string, attributes []string, page func([]*ldapdir.Entry) error,
) error {
	paging := ldap.NewControlPaging(pageSize)
	for {
		if err := ctx.Err(); err != nil {
			return err
		}
		ask := ldap.NewSearchRequest(base, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 0, 0, false, filter, attributes,
			[]ldap.Control{paging})
		got, err := c.Search(ask)
		if err != nil {
			return unread(p, base, err)
		}
		entries := make([]*ldapdir.Entry, 0, len(got.Entries))
		for _, e := range got.Entries {
			entries = append(entries, entry(e))
		}
		if err := page(entries); err != nil {
			return err
		}
		next, ok := ldap.FindControl(got.Controls, ldap.ControlTypePaging).(*ldap.ControlPaging)
		if !ok || len(next.Cookie) == 0 {
			return nil
		}
		paging.SetCookie(next.Cookie)
	}
}

// unread explains a page that did not come.
func unread(p *config.Provider, base string, err error) error {
	var e *ldap.Error
	if !errors.As(err, &e) || e.ResultCode >= ldap.ErrorNetwork {
		return explain.New(explain.LDAPUnreachable, explain.Fact("reason", reason(err))).Of(p.Name)
	}
	return explain.New(explain.LDAPSearch, explain.Pair("base", base, diagnostic(e))).Of(p.Name)
}
