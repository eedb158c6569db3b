package pushed

import (
	"context"
	"encoding/base64"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/core/people"
	"innergate/core/scim"
	"innergate/store"
)

const (
	// UsualPage is how many resources a part of a list has.
	UsualPage = 100
	// MostPage is how many it may have.
	MostPage = 200
	// few is how many resources are gone through one by one where no index answers; of more, such a question is refused.
	few = 5000
)

// Query asks for a part of a list (RFC 7644, section 3.4.2; RFC 9865).
type Query struct {
	Filter, SortBy, SortOrder string
	Start, Count              string
	Cursor                    string
	HasCursor                 bool
	Attributes, Excluded      []string
}

// found is a part of a list.
type found struct {
	total, start int
	next         string
	ids          []string
}

// keyNames are the attributes by which accounts are found quickly, with their names in the table of keys.
var keyNames = map[string]string{
	"userName": "userName", "externalId": "externalId", "emails.value": "mail", "displayName": "displayName",
	"name.familyName": "familyName", "name.givenName": "givenName",
}

// keep writes what an account is found by.
func keep(tx *gorm.DB, row *store.PushedPerson, r scim.Resource) error {
	if err := tx.Exec("DELETE FROM pushed_keys WHERE pushed_id = ?", row.ID).Error; err != nil {
		return err
	}
	for path, name := range keyNames {
		p, err := scim.Users.Path(path)
		if err != nil {
			return err
		}
		for _, v := range p.Values(r) {
			if err := tx.Exec("INSERT INTO pushed_keys (provider_id, name, value, pushed_id) VALUES (?, ?, ?, ?) ON CONFLICT DO NOTHING",
				row.ProviderID, name, keyed(p, scim.Shown(v)), row.ID).Error; err != nil {
				return err
			}
		}
	}
	return nil
}

func keyed(p *scim.Path, text string) string {
	if p.Leaf().CaseExact {
		return text
	}
	return people.Key(text)
}

// candidates is a query for the identifiers of all accounts that can fit a filter, and perhaps some that don't; empty where no index
// answers.
func candidates(s *Sender, f *scim.Filter) (string, []any) {
	switch f.Op {
	case scim.And:
		for _, part := range f.Parts {
			if q, args := candidates(s, part); q != "" {
				return q, args
			}
		}
		return "", nil
	case scim.Or:
		left, one := candidates(s, f.Parts[0])
		right, two := candidates(s, f.Parts[1])
		if left == "" || right == "" {
			return "", nil
		}
		return left + " UNION " + right, append(one, two...)
	case scim.Has:
		return within(s, f.Path, f.Parts[0])
	case scim.Not:
		return "", nil
	}
	return single(s, f)
}

// within are candidates for a filter over the values of a list: of those that have to fit together one is enough.
func within(s *Sender, list *scim.Path, f *scim.Filter) (string, []any) {
	if f.Op == scim.And {
		for _, part := range f.Parts {
			if q, args := within(s, list, part); q != "" {
				return q, args
			}
		}
		return "", nil
	}
	if f.Op != scim.Equal && f.Op != scim.StartsWith {
		return "", nil
	}
	return single(s, f)
}

// single are candidates for one comparison.
func single(s *Sender, f *scim.Filter) (string, []any) {
	const keys = "SELECT pushed_id FROM pushed_keys WHERE provider_id = ? AND name = ? AND "
	text, isText := f.Value.(string)
	path := f.Path.String()
	switch {
	case path == "id" && f.Op == scim.Equal:
		return "SELECT id FROM pushed_people WHERE provider_id = ? AND id = ?", []any{s.ID, text}
	case path == "meta.lastModified" && isText:
		at, err := time.Parse(time.RFC3339, text)
		op := map[string]string{scim.GreaterThan: ">", scim.GreaterOrEqual: ">=", scim.LessThan: "<", scim.LessOrEqual: "<="}[f.Op]
		if err != nil || op == "" {
			return "", nil
		}
		return "SELECT id FROM pushed_people WHERE provider_id = ? AND updated_at " + op + " ?", []any{s.ID, at.UTC()}
	case keyNames[path] == "" || !isText || text == "":
		return "", nil
	case f.Op == scim.Equal:
		return keys + "value = ?", []any{s.ID, keyNames[path], keyed(f.Path, text)}
	case f.Op == scim.StartsWith:
		key := keyed(f.Path, text)
		return keys + "value >= ? AND value < ?", []any{s.ID, keyNames[path], key, key + "\U0010FFFF"}
	}
	return "", nil
}

// Users lists accounts.
func (g *Room) Users(ctx context.Context, s *Sender, q Query) (scim.Resource, error) {
	f, refused := filterOf(scim.Users, q)
	if refused != nil {
		return nil, refused
	}
	var part *found
	var err error
	if f == nil && q.SortBy == "" {
		part, err = g.page(ctx, "pushed_people", s, q)
	} else {
		part, err = g.chosen(ctx, s, f, q)
	}
	if err != nil {
		return nil, err
	}
	var list []scim.Resource
	for ids := range slices.Chunk(part.ids, atOnce) {
		var rows []*store.PushedPerson
		if err := g.Store.Read(ctx).Where("id IN ?", ids).Find(&rows).Error; err != nil {
			return nil, store.Clear(err)
		}
		slices.SortFunc(rows, func(a, b *store.PushedPerson) int { return slices.Index(ids, a.ID) - slices.Index(ids, b.ID) })
		some, err := g.shownAll(ctx, s, rows)
		if err != nil {
			return nil, err
		}
		list = append(list, some...)
	}
	return answer(scim.Users, part, list, q)
}

func filterOf(k *scim.Kind, q Query) (*scim.Filter, error) {
	if q.Filter == "" {
		return nil, nil
	}
	f, refused := k.Filter(q.Filter)
	if refused != nil {
		return nil, refused
	}
	return f, nil
}

// Groups lists groups, with their members where they are asked for.
func (g *Room) Groups(ctx context.Context, s *Sender, q Query) (scim.Resource, error) {
	f, err := filterOf(scim.Groups, q)
	if err != nil {
		return nil, err
	}
	var rows []*store.PushedGroup
	db := g.Store.Read(ctx).Where("provider_id = ?", s.ID)
	part := &found{}
	if f == nil && q.SortBy == "" {
		if part, err = g.page(ctx, "pushed_groups", s, q); err != nil {
			return nil, err
		}
		if err := db.Where("id IN ?", part.ids).Order("id").Find(&rows).Error; err != nil {
			return nil, store.Clear(err)
		}
	} else {
		if f != nil && f.Op == scim.Equal && f.Path.String() == "displayName" {
			text, _ := f.Value.(string)
			db = db.Where("name_key = ?", people.Key(text))
		}
		if err := db.Limit(few + 1).Find(&rows).Error; err != nil {
			return nil, store.Clear(err)
		}
		if len(rows) > few {
			return nil, slow("displayName")
		}
		if rows, part, err = g.chosenGroups(ctx, s, rows, f, q); err != nil {
			return nil, err
		}
	}
	var list []scim.Resource
	members := !slices.Contains(q.Excluded, "members") && (len(q.Attributes) == 0 || slices.Contains(q.Attributes, "members"))
	for _, r := range rows {
		one, err := g.groupShown(ctx, s, r, members)
		if err != nil {
			return nil, err
		}
		list = append(list, one)
	}
	return answer(scim.Groups, part, list, q)
}

func (g *Room) chosenGroups(ctx context.Context, s *Sender, rows []*store.PushedGroup, f *scim.Filter, q Query) (
	[]*store.PushedGroup, *found, error,
) {
	byID, list := map[string]*store.PushedGroup{}, []scim.Resource{}
	for _, r := range rows {
		one, err := g.groupShown(ctx, s, r, f != nil && strings.Contains(q.Filter, "members"))
		if err != nil {
			return nil, nil, err
		}
		if f == nil || f.Holds(one) {
			byID[r.ID], list = r, append(list, one)
		}
	}
	part, err := cutOut(scim.Groups, list, q)
	if err != nil {
		return nil, nil, err
	}
	out := []*store.PushedGroup{}
	for _, id := range part.ids {
		out = append(out, byID[id])
	}
	return out, part, nil
}

func slow(by string) error {
	return bad(http.StatusBadRequest, scim.TooMany, "No index answers this, and there are more than %d resources to go through. Ask "+
		"for %s.",
		few, by)
}

// chosen finds the accounts that fit a filter, in the order that is asked for.
func (g *Room) chosen(ctx context.Context, s *Sender, f *scim.Filter, q Query) (*found, error) {
	ids, args := "", []any(nil)
	if f != nil {
		ids, args = candidates(s, f)
	}
	if ids == "" {
		ids, args = "SELECT id FROM pushed_people WHERE provider_id = ?", []any{s.ID}
	}
	var rows []*store.PushedPerson
	if err := g.Store.Read(ctx).Where("provider_id = ? AND id IN (SELECT * FROM ("+ids+") LIMIT ?)", append(append([]any{s.ID}, args...),
		few+1)...).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	if len(rows) > few {
		return nil, slow("userName, externalId, emails.value, displayName, a part of the name or meta.lastModified")
	}
	var list []scim.Resource
	for part := range slices.Chunk(rows, atOnce) {
		some, err := g.shownAll(ctx, s, part)
		if err != nil {
			return nil, err
		}
		for _, r := range some {
			if f == nil || f.Holds(r) {
				list = append(list, r)
			}
		}
	}
	return cutOut(scim.Users, list, q)
}

// cutOut sorts resources and takes the part that is asked for.
func cutOut(k *scim.Kind, list []scim.Resource, q Query) (*found, error) {
	by, refused := k.Path("id")
	if q.SortBy != "" {
		by, refused = k.Path(q.SortBy)
	}
	if refused != nil {
		return nil, refused
	}
	slices.SortStableFunc(list, func(a, b scim.Resource) int {
		c := strings.Compare(sortKey(by, a), sortKey(by, b))
		if strings.EqualFold(q.SortOrder, "descending") {
			c = -c
		}
		if c == 0 {
			c = strings.Compare(a.ID(), b.ID())
		}
		return c
	})
	from, count, err := place(q)
	if err != nil {
		return nil, err
	}
	out := &found{total: len(list), start: from + 1, ids: []string{}}
	for i := from; i < len(list) && len(out.ids) < count; i++ {
		out.ids = append(out.ids, list[i].ID())
	}
	if end := from + len(out.ids); q.HasCursor && end < len(list) && count > 0 {
		out.next = cursorOf("#" + strconv.Itoa(end))
	}
	return out, nil
}

// sortKey is by what a resource is sorted: its preferred or first value (RFC 7644, section 3.4.2.3).
func sortKey(p *scim.Path, r scim.Resource) string {
	values := p.Values(r)
	if len(values) == 0 {
		return "\U0010FFFF" // what has none comes last
	}
	v := values[0]
	if o, ok := v.(map[string]any); ok {
		v = o["value"]
	}
	text := scim.Shown(v)
	if !p.Leaf().CaseExact {
		text = people.SortKey(text)
	}
	return text
}

func cursorOf(text string) string { return base64.RawURLEncoding.EncodeToString([]byte(text)) }

// place is where a part begins, counted from 0, and how many it may have.
func place(q Query) (from, count int, err error) {
	count = UsualPage
	if q.Count != "" {
		n, wrong := strconv.Atoi(q.Count)
		if wrong != nil {
			return 0, 0, bad(http.StatusBadRequest, scim.InvalidCount, "%q is no count.", q.Count)
		}
		count = max(0, min(n, MostPage))
	}
	if q.HasCursor {
		if q.Cursor == "" {
			return 0, count, nil
		}
		text, wrong := base64.RawURLEncoding.DecodeString(q.Cursor)
		if n, isNumber := strings.CutPrefix(string(text), "#"); wrong == nil && isNumber {
			if from, wrong = strconv.Atoi(n); wrong == nil && from >= 0 {
				return from, count, nil
			}
		}
		return 0, 0, bad(http.StatusBadRequest, scim.InvalidCursor, "The cursor is none that this list gave.")
	}
	if q.Start != "" {
		n, wrong := strconv.Atoi(q.Start)
		if wrong != nil {
			return 0, 0, bad(http.StatusBadRequest, scim.InvalidValue, "%q is no startIndex.", q.Start)
		}
		from = max(0, n-1)
	}
	return from, count, nil
}

// page is a part of a whole list, in the order of identifiers: by index, or behind the last one of the part before.
func (g *Room) page(ctx context.Context, table string, s *Sender, q Query) (*found, error) {
	out := &found{start: 1}
	if err := g.Store.Row(ctx, "SELECT count(*) FROM "+table+" WHERE provider_id = ?", s.ID).Scan(&out.total); err != nil {
		return nil, store.Clear(err)
	}
	db, after := g.Store.Read(ctx), ""
	if q.HasCursor && q.Cursor != "" {
		text, err := base64.RawURLEncoding.DecodeString(q.Cursor)
		if err != nil || !strings.HasPrefix(string(text), ">") || len(text) > 100 {
			return nil, bad(http.StatusBadRequest, scim.InvalidCursor, "The cursor is none that this list gave.")
		}
		after = string(text)[1:]
		q.Cursor = ""
	}
	from, count, err := place(q)
	if err != nil {
		return nil, err
	}
	out.start = from + 1
	if err := db.Raw("SELECT id FROM "+table+" WHERE provider_id = ? AND id > ? ORDER BY id LIMIT ? OFFSET ?", s.ID, after, count+1,
		from).Scan(&out.ids).Error; err != nil {
		return nil, store.Clear(err)
	}
	if len(out.ids) > count {
		if out.ids = out.ids[:count]; q.HasCursor && count > 0 {
			out.next = cursorOf(">" + out.ids[count-1])
		}
	}
	return out, nil
}

// answer is a part of a list as it is answered.
func answer(k *scim.Kind, part *found, list []scim.Resource, q Query) (scim.Resource, error) {
	items := []any{}
	for _, r := range list {
		only, refused := k.Only(r, q.Attributes, q.Excluded)
		if refused != nil {
			return nil, refused
		}
		items = append(items, map[string]any(only))
	}
	out := scim.Resource{"schemas": []any{scim.ListMessage}, "totalResults": part.total, "itemsPerPage": len(items), "Resources": items}
	if q.HasCursor {
		if part.next != "" {
			out["nextCursor"] = part.next
		}
		return out, nil
	}
	out["startIndex"] = part.start
	return out, nil
}
