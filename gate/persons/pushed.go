package persons

import (
	"context"
	"strings"

	"innergate/core/explain"
	"innergate/gate/partners"
	"innergate/store"
)

// PushedAs is the person of an account that a provider pushed, by the identifier with which they come at sign-in; nil for none. Both are
// the same provider's word.
func (g *Room) PushedAs(ctx context.Context, p *partners.Provider, identifier string) (*store.Person, error) {
	if p.Pushed == nil || identifier == "" {
		return nil, nil
	}
	row, err := store.One[store.Person](g.Store.Read(ctx), "id = (SELECT person_id FROM pushed_people WHERE provider_id = ? AND "+
		"subject = ? "+
		"AND person_id <> '' LIMIT 1)", p.ID, identifier)
	if err != nil || row.ID == "" {
		return nil, err
	}
	return &row, nil
}

// NotPushedOut refuses whoever a provider pushed as inactive: nobody comes as them through it, whoever else they come through.
// What is pushed itself, such as that they are active again, is no sign-in.
func (g *Room) NotPushedOut(ctx context.Context, p *partners.Provider, subject string, held *store.Person) error {
	if p.Pushed == nil || held == nil || strings.HasPrefix(subject, pushedMark) {
		return nil
	}
	row, err := store.One[store.PushedPerson](g.Store.Read(ctx), "person_id = ? AND provider_id = ? AND NOT active", held.ID, p.ID)
	if err != nil || row.ID == "" {
		return err
	}
	return explain.New(explain.MatchInactive, explain.Fact("person", held.Name)).Of(p.Name)
}

// KnownAs is the person who signed in through a provider with an identifier as people see it; empty for none, or for several.
func (g *Room) KnownAs(ctx context.Context, providerID, shown string) (string, error) {
	var ids []string
	err := g.Store.Read(ctx).Raw("SELECT DISTINCT person_id FROM links WHERE provider_id = ? AND shown = ?"+kindOf("")+" LIMIT 2",
		providerID,
		shown).Scan(&ids).Error
	if err != nil || len(ids) != 1 {
		return "", store.Clear(err)
	}
	return ids[0], nil
}
