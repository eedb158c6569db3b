package ldapdir

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"innergate/core/claims"
	"innergate/core/explain"
	"innergate/core/ldapdir"
	"innergate/core/trace"
	"innergate/gate/ground"
	"innergate/gate/partners"
)

// mostKept is how many answers are kept. Where there are more, all are forgotten: they are asked for again.
const mostKept = 20_000

// kept is what was found for somebody.
type kept struct {
	bag   claims.Bag
	until time.Time
}

// Apply maps what a provider sent. Values that rules take from directories are looked up before: the name of such a value is
// directory:NAME.attribute, NAME being the short name of an LDAP provider.
func (g *Room) Apply(ctx context.Context, p *partners.Provider, came claims.Bag, rec *trace.Recorder) ([]claims.Output, error) {
	names := p.Inbound.Sources(ldapdir.FromDirectory)
	if len(names) == 0 {
		return p.Inbound.Apply(came, "in", rec)
	}
	wanted := map[string][]string{}
	for _, name := range names {
		slug, attribute, ok := strings.Cut(strings.TrimPrefix(name, ldapdir.FromDirectory), ".")
		if ok && ldapdir.NameFits(attribute) && !ldapdir.Secret(attribute) {
			wanted[slug] = append(wanted[slug], attribute)
		}
	}
	whole := maps.Clone(came)
	for _, slug := range slices.Sorted(maps.Keys(wanted)) {
		found, err := g.lookUp(ctx, slug, wanted[slug], came, rec)
		if err != nil {
			return nil, err
		}
		for _, attribute := range wanted[slug] {
			if values := valuesOf(found, attribute); len(values) > 0 {
				whole[ldapdir.FromDirectory+slug+"."+attribute] = values
			}
		}
	}
	return p.Inbound.Apply(whole, "in", rec)
}

// valuesOf are an attribute's values, whatever the case in which the directory writes its name.
func valuesOf(bag claims.Bag, name string) []string {
	for have, values := range bag {
		if strings.EqualFold(have, name) {
			return values
		}
	}
	return nil
}

// lookUp finds the values of somebody in a directory; none where nobody is found, or where the directory does not answer and that is
// taken.
func (g *Room) lookUp(ctx context.Context, slug string, attributes []string, came claims.Bag, rec *trace.Recorder) (claims.Bag, error) {
	decide := func(result, by string) {
		rec.Decide(trace.Decision{About: "directory " + slug, Result: result, By: by})
	}
	p, err := g.partners.Provider(ctx, slug)
	if ground.IsNotFound(err) || err == nil && (p.LDAP == nil || p.LDAP.LookUp == nil) {
		decide("nothing", "there is no directory of this name in which values are looked up")
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	how := p.LDAP.LookUp
	filter, whole, err := ldapdir.FilterOf(how.Filter, came)
	if err != nil {
		return nil, err
	}
	if !whole {
		decide("nothing", "a value that the filter "+how.Filter+" needs did not come")
		return nil, nil
	}
	key := p.ID + "\x1f" + strconv.Itoa(p.Revision) + "\x1f" + filter + "\x1f" + strings.Join(attributes, ",")
	if bag, ok := g.keptFor(key); ok {
		decide(foundWords(bag), "it was looked up a short time ago: "+filter)
		return bag, nil
	}
	bag, err := g.askFor(ctx, p, filter, attributes, rec)
	if err != nil && how.Otherwise == "without" {
		decide("nothing", "the directory did not answer, and it goes on without: "+err.Error())
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	decide(foundWords(bag), "filter "+filter)
	if how.KeepSeconds > 0 {
		g.keep(key, kept{bag, g.Now().Add(time.Duration(how.KeepSeconds) * time.Second)})
	}
	return bag, nil
}

func foundWords(bag claims.Bag) string {
	if bag == nil {
		return "nobody"
	}
	return bag.First("dn")
}

// askFor asks a directory for the one entry that a filter finds.
func (g *Room) askFor(ctx context.Context, p *partners.Provider, filter string, attributes []string,
	rec *trace.Recorder) (claims.Bag, error) {
	one, back, err := g.searching(ctx, p, rec)
	if err != nil {
		return nil, err
	}
	entries, err := search(one.Conn, &p.Provider, p.LDAP.Base, ldap.ScopeWholeSubtree, filter, attributes, mostFound, rec)
	if err != nil {
		back(false)
		return nil, err
	}
	back(true)
	switch len(entries) {
	case 0:
		return nil, nil
	case 1:
		return entries[0].Bag(nil), nil
	}
	return nil, explain.New(explain.LDAPSeveral, explain.Pair("entries", filter, fmt.Sprint("at least ", len(entries)))).Of(p.Name)
}

func (g *Room) keptFor(key string) (claims.Bag, bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	k, ok := g.kept[key]
	return k.bag, ok && g.Now().Before(k.until)
}

func (g *Room) keep(key string, k kept) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if len(g.kept) >= mostKept {
		clear(g.kept)
	}
	g.kept[key] = k
}
