package persons

import (
	"context"
	"encoding/json"
	"io"
	"slices"

	"innergate/core/claims"
	"innergate/core/people"
	"innergate/gate/ground"
	"innergate/store"
)

// ExportPeople writes all people, in CSV or JSON lines.
func (g *Room) ExportPeople(ctx context.Context, form string, to io.Writer) error {
	settings, err := g.Settings(ctx)
	if err != nil {
		return err
	}
	var names []string
	for _, a := range settings.Attributes {
		names = append(names, a.Name)
	}
	for _, n := range []string{people.ExternalID} {
		if !slices.Contains(names, n) {
			names = append(names, n)
		}
	}
	var sheet *people.CSVWriter
	if form == people.FormCSV {
		if sheet, err = people.NewCSVWriter(to, names); err != nil {
			return err
		}
	}
	lines := json.NewEncoder(to)
	after := ""
	for {
		var rows []store.Person
		if err := g.Store.Read(ctx).Where("id > ?", after).Order("id").Limit(1000).Find(&rows).Error; err != nil {
			return store.Clear(err)
		}
		if len(rows) == 0 {
			break
		}
		groups, err := g.groupsOfMany(ctx, rows)
		if err != nil {
			return err
		}
		for i := range rows {
			p := &rows[i]
			after = p.ID
			r := &people.Record{ID: p.ID, Type: p.Type, Active: &p.Active, Login: LoginOf(p), Groups: groups[p.ID]}
			if r.Profile, err = ground.DecodeBody[claims.Bag](p.Profile); err != nil {
				return err
			}
			if sheet != nil {
				err = sheet.Write(r)
			} else {
				err = lines.Encode(r)
			}
			if err != nil {
				return err
			}
		}
	}
	if sheet != nil {
		return sheet.Flush()
	}
	return nil
}

func (g *Room) groupsOfMany(ctx context.Context, rows []store.Person) (map[string][]string, error) {
	var list []struct{ PersonID, Slug string }
	if err := g.Store.Read(ctx).Raw("SELECT m.person_id, g.slug FROM memberships m JOIN groups g ON g.id = m.group_id WHERE m.giver = "+
		"? AND m.person_id BETWEEN ? AND ? ORDER BY g.slug", people.ByHand, rows[0].ID,
		rows[len(rows)-1].ID).Scan(&list).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := map[string][]string{}
	for _, r := range list {
		out[r.PersonID] = append(out[r.PersonID], r.Slug)
	}
	return out, nil
}
