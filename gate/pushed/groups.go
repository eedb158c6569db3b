package pushed

import (
	"context"
	"net/http"
	"slices"

	"gorm.io/gorm"

	"innergate/core/people"
	"innergate/core/scim"
	"innergate/store"
)

// atOnce is how many identifiers stand in one question.
const atOnce = 200

// inGroup is a group that somebody is in.
type inGroup struct{ PushedID, ID, Name string }

// groupsOf are the groups of some accounts.
func (g *Room) groupsOf(ctx context.Context, ids []string) (map[string][]inGroup, error) {
	out := map[string][]inGroup{}
	for part := range slices.Chunk(ids, atOnce) {
		var rows []inGroup
		if err := g.Store.Read(ctx).Raw("SELECT m.pushed_id, g.id, g.name FROM pushed_members m JOIN pushed_groups g ON g.id = m.group_id "+
			"WHERE m.pushed_id IN ? ORDER BY g.name_key", part).Scan(&rows).Error; err != nil {
			return nil, store.Clear(err)
		}
		for _, r := range rows {
			out[r.PushedID] = append(out[r.PushedID], r)
		}
	}
	return out, nil
}

// Group reads one group, with its members where they are wanted.
func (g *Room) Group(ctx context.Context, s *Sender, id string, members bool) (scim.Resource, error) {
	row, err := g.group(ctx, s, id)
	if err != nil {
		return nil, err
	}
	return g.groupShown(ctx, s, row, members)
}

func (g *Room) group(ctx context.Context, s *Sender, id string) (*store.PushedGroup, error) {
	row, err := store.One[store.PushedGroup](g.Store.Read(ctx), "id = ? AND provider_id = ?", id, s.ID)
	if err == nil && row.ID == "" {
		return nil, notThere()
	}
	return &row, err
}

func (g *Room) groupShown(ctx context.Context, s *Sender, row *store.PushedGroup, members bool) (scim.Resource, error) {
	r := scim.Resource{"schemas": []any{scim.GroupSchema}, "id": row.ID, "displayName": row.Name,
		"meta": meta("Group", s.Base+"/Groups/"+row.ID, row.CreatedAt, row.UpdatedAt, row.Version)}
	if row.ExternalID != "" {
		r["externalId"] = row.ExternalID
	}
	if !members {
		return r, nil
	}
	ids, err := g.membersOf(g.Store.Read(ctx), row.ID)
	if err != nil {
		return nil, err
	}
	var list []any
	for _, id := range ids {
		list = append(list, map[string]any{"value": id, "type": "User", "$ref": s.Base + "/Users/" + id})
	}
	if len(list) > 0 {
		r["members"] = list
	}
	return r, nil
}

func (g *Room) membersOf(db *gorm.DB, groupID string) ([]string, error) {
	var ids []string
	err := db.Raw("SELECT pushed_id FROM pushed_members WHERE group_id = ? ORDER BY pushed_id", groupID).Scan(&ids).Error
	return ids, store.Clear(err)
}

// MakeGroup takes a new group.
func (g *Room) MakeGroup(ctx context.Context, s *Sender, in scim.Resource) (scim.Resource, error) {
	taken, err := g.whole(ctx, s, scim.Groups, in)
	if err != nil {
		return nil, err
	}
	row := &store.PushedGroup{ID: store.NewID(), ProviderID: s.ID, CreatedAt: g.Now().UTC()}
	if err := g.settleGroup(ctx, s, row, taken); err != nil {
		return nil, err
	}
	return g.groupShown(ctx, s, row, true)
}

// PutGroup takes a group's values in place of those that it had.
func (g *Room) PutGroup(ctx context.Context, s *Sender, id, match string, in scim.Resource) (scim.Resource, error) {
	row, err := g.group(ctx, s, id)
	if err == nil {
		err = fits(match, row.Version)
	}
	if err != nil {
		return nil, err
	}
	taken, err := g.whole(ctx, s, scim.Groups, in)
	if err != nil {
		return nil, err
	}
	if err := g.settleGroup(ctx, s, row, taken); err != nil {
		return nil, err
	}
	return g.groupShown(ctx, s, row, true)
}

// PatchGroup changes a group. Members come and go in thousands: the answer does not repeat them.
func (g *Room) PatchGroup(ctx context.Context, s *Sender, id, match string, in scim.Resource) (scim.Resource, error) {
	row, err := g.group(ctx, s, id)
	if err == nil {
		err = fits(match, row.Version)
	}
	if err != nil {
		return nil, err
	}
	ops, remarks, refused := scim.Groups.Patch(in)
	if refused != nil {
		return nil, refused
	}
	g.remark(ctx, s, remarks)
	m := &membership{}
	rest, err := m.take(ops)
	if err != nil {
		return nil, err
	}
	before := scim.Resource{"displayName": row.Name}
	if row.ExternalID != "" {
		before["externalId"] = row.ExternalID
	}
	after, more, refused := scim.Groups.Apply(before, rest)
	if refused != nil {
		return nil, refused
	}
	g.remark(ctx, s, more)
	if err := g.writeGroup(ctx, s, row, after, m); err != nil {
		return nil, err
	}
	return g.groupShown(ctx, s, row, false)
}

// membership is what some operations make of a group's members: all others go where whole is set, and of the rest some come and go.
type membership struct {
	whole bool
	set   map[string]bool // by identifier: whether it is in
}

// take takes the operations on members out of a list, and gives the rest.
func (m *membership) take(ops []scim.Operation) ([]scim.Operation, error) {
	m.set = map[string]bool{}
	var rest []scim.Operation
	for _, o := range ops {
		if o.Path == nil || o.Path.Name != "members" {
			rest = append(rest, o)
			continue
		}
		if o.Path.Filter != nil {
			f := o.Path.Filter
			id, ok := f.Value.(string)
			if o.Op != scim.Delete || f.Op != scim.Equal || f.Path.Sub != "value" || !ok || o.Path.Sub != "" {
				return nil, bad(http.StatusBadRequest, scim.InvalidFilter, "Members are removed by their value; nothing else is done "+
					"by a filter.")
			}
			m.set[id] = false
			continue
		}
		if o.Path.Sub != "" {
			return nil, bad(http.StatusBadRequest, scim.Mutability, "A part of a member can't be changed; remove it and add another one.")
		}
		if o.Op == scim.Replace || o.Op == scim.Delete && o.Value == nil {
			m.whole, m.set = true, map[string]bool{}
		}
		list, _ := o.Value.([]any)
		for _, v := range list {
			if id := idOf(v); id != "" {
				m.set[id] = o.Op != scim.Delete
			}
		}
	}
	return rest, nil
}

func idOf(v any) string {
	o, _ := v.(map[string]any)
	id, _ := o["value"].(string)
	return id
}

// settleGroup writes a group whole.
func (g *Room) settleGroup(ctx context.Context, s *Sender, row *store.PushedGroup, r scim.Resource) error {
	m := &membership{whole: true, set: map[string]bool{}}
	list, _ := r["members"].([]any)
	for _, v := range list {
		if id := idOf(v); id != "" {
			m.set[id] = true
		}
	}
	return g.writeGroup(ctx, s, row, r, m)
}

// writeGroup writes a group and its members, and has whoever came or went looked at anew.
func (g *Room) writeGroup(ctx context.Context, s *Sender, row *store.PushedGroup, r scim.Resource, m *membership) error {
	name := r.Text("displayName")
	if name == "" {
		return bad(http.StatusBadRequest, scim.InvalidValue, "displayName is needed.")
	}
	renamed := row.Version > 0 && row.Name != name
	before := row.Version
	row.Name, row.NameKey, row.ExternalID = name, people.Key(name), r.Text("externalId")
	row.Version, row.UpdatedAt = row.Version+1, g.Now().UTC()
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		same, err := store.One[store.PushedGroup](tx, "provider_id = ? AND name_key = ? AND id <> ?", s.ID, row.NameKey, row.ID)
		if err != nil {
			return err
		}
		if same.ID != "" {
			return bad(http.StatusConflict, scim.Uniqueness, "There is a group of this name already: %s.", same.ID)
		}
		now, err := store.One[store.PushedGroup](tx.Select("version"), "id = ?", row.ID)
		if err != nil {
			return err
		}
		if now.Version != before {
			return bad(http.StatusPreconditionFailed, "", "The resource was changed by another request just now. Read it again.")
		}
		if err := tx.Save(row).Error; err != nil {
			return err
		}
		if renamed {
			if err := tx.Exec("UPDATE pushed_people SET stale = true WHERE id IN (SELECT pushed_id FROM pushed_members WHERE group_id = ?)",
				row.ID).Error; err != nil {
				return err
			}
		}
		return g.writeMembers(tx, s, row.ID, m)
	})
	if err != nil {
		return err
	}
	return g.Due(ctx) // some at once; the rest with the next turns
}

// writeMembers makes a group's members what was said. Whoever is not known here is left out: many senders name groups in groups, and
// accounts that they push later.
func (g *Room) writeMembers(tx *gorm.DB, s *Sender, groupID string, m *membership) error {
	var in, out []string
	if m.whole {
		held, err := g.membersOf(tx, groupID)
		if err != nil {
			return err
		}
		for _, id := range held {
			if !m.set[id] {
				out = append(out, id)
			}
		}
	}
	for id, yes := range m.set {
		if yes {
			in = append(in, id)
		} else {
			out = append(out, id)
		}
	}
	for part := range slices.Chunk(in, atOnce) {
		if err := tx.Exec("UPDATE pushed_people SET stale = true WHERE provider_id = ? AND id IN ? AND id NOT IN (SELECT pushed_id FROM "+
			"pushed_members WHERE group_id = ?)", s.ID, part, groupID).Error; err != nil {
			return err
		}
		if err := tx.Exec("INSERT INTO pushed_members (group_id, pushed_id) SELECT ?, id FROM pushed_people WHERE provider_id = ? AND "+
			"id IN ? ON CONFLICT DO NOTHING", groupID, s.ID, part).Error; err != nil {
			return err
		}
	}
	for part := range slices.Chunk(out, atOnce) {
		if err := tx.Exec("UPDATE pushed_people SET stale = true WHERE id IN (SELECT pushed_id FROM pushed_members WHERE group_id = ? AND "+
			"pushed_id IN ?)", groupID, part).Error; err != nil {
			return err
		}
		if err := tx.Exec("DELETE FROM pushed_members WHERE group_id = ? AND pushed_id IN ?", groupID, part).Error; err != nil {
			return err
		}
	}
	return nil
}

// DropGroup takes a group away.
func (g *Room) DropGroup(ctx context.Context, s *Sender, id, match string) error {
	row, err := g.group(ctx, s, id)
	if err == nil {
		err = fits(match, row.Version)
	}
	if err != nil {
		return err
	}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := g.writeMembers(tx, s, row.ID, &membership{whole: true}); err != nil {
			return err
		}
		return tx.Exec("DELETE FROM pushed_groups WHERE id = ?", row.ID).Error
	})
	if err != nil {
		return err
	}
	return g.Due(ctx)
}
