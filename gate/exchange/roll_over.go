package exchange

import (
	"context"
	"encoding/json"
	"slices"
	"time"

	"innergate/api"
	"innergate/core/keys"
	"innergate/core/sheet"
	"innergate/gate/keyring"
	"innergate/store"
)

// Rollover tells how far the replacement of a key is. At most 200 partners are listed, those without the next
// certificate first.
func (g *Room) Rollover(ctx context.Context, purpose, partner string) (*api.Rollover, error) {
	if err := keyring.CheckPurpose(purpose, ""); err != nil {
		return nil, err
	}
	kind, owner, err := g.Owner(ctx, partner)
	if err != nil {
		return nil, err
	}
	out := &api.Rollover{Purpose: purpose, Retiring: []api.Key{}, Partners: []api.KeyPartner{}}
	if owner != "" {
		if out.For, err = g.Reference(ctx, kind, owner); err != nil {
			return nil, err
		}
	}
	var rows []store.Key
	if err := g.Store.Read(ctx).Where("purpose = ? AND coalesce(owner_id, '') = ? AND state <> ?", purpose, owner,
		keyring.KeyRetired).Order("id").Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	for _, row := range rows {
		k, err := g.keyring.ShowKey(ctx, row)
		if err != nil {
			return nil, err
		}
		switch row.State {
		case keyring.KeyActive:
			out.Active = k
		case keyring.KeyNext:
			out.Next = k
		default:
			out.Retiring = append(out.Retiring, *k)
		}
	}
	switch {
	case out.Next == nil && len(out.Retiring) > 0:
		out.Step = "keep"
	case out.Next == nil:
		out.Step = "make"
	case out.Next.Published == nil:
		out.Step = "publish"
	case out.Next.SwitchAt != nil:
		out.Step = "scheduled"
	default:
		out.Step = "wait"
	}
	tracked := out.Next
	if tracked == nil {
		tracked = out.Active
	}
	if tracked != nil && tracked.Published != nil {
		err = g.keyPartners(ctx, out, tracked.ID, purpose, kind, owner)
	}
	return out, err
}

// keyPartners lists who must have a key's certificate: for signing everybody, for encryption the providers; those with
// a key of their own excepted.
func (g *Room) keyPartners(ctx context.Context, out *api.Rollover, key, purpose, kind, owner string) error {
	for _, side := range []string{"application", "provider"} {
		query, args := keyring.PartnersOf(side, key, purpose, kind, owner)
		if query == "" {
			continue
		}
		var counts struct{ All, Have int }
		if err := g.Store.Read(ctx).Raw("SELECT count(*) AS \"all\", count(h.at) AS have "+query, args...).Scan(&counts).Error; err != nil {
			return store.Clear(err)
		}
		out.Count, out.Have = out.Count+counts.All, out.Have+counts.Have
		var rows []struct {
			Slug, Name, Reach, How, By string
			EntityID                   *string
			At, LastSignIn             *time.Time
		}
		if err := g.Store.Read(ctx).Raw("SELECT o.slug, o.name, o.reach, o.entity_id, o.last_sign_in, h.how, h.by, h.at "+query+
			" ORDER BY h.at IS NOT NULL, o.name LIMIT 200", args...).Scan(&rows).Error; err != nil {
			return store.Clear(err)
		}
		for _, r := range rows {
			out.Partners = append(
				out.Partners,
				api.KeyPartner{
					Reference:  api.Reference{Slug: r.Slug, Name: r.Name, Kind: side, Reach: r.Reach},
					Has:        r.At != nil,
					How:        r.How,
					By:         r.By,
					At:         r.At,
					LastSignIn: r.LastSignIn,
				},
			)
		}
	}
	slices.SortStableFunc(out.Partners, func(a, b api.KeyPartner) int {
		if a.Has == b.Has {
			return 0
		}
		if a.Has {
			return 1
		}
		return -1
	})
	return nil
}

// HandOutMetadata gives our metadata to whoever fetches it from a partner's own address, and remembers that this
// partner has what is in it. Of the same content only the first and the last time are kept, and strangers can add no
// more than the partner's own lines.
func (g *Room) HandOutMetadata(ctx context.Context, side, slug string, signed, counts bool, from string) ([]byte, error) {
	entity, approval, signing, err := g.ourEntity(ctx, side, slug)
	if err != nil {
		return nil, err
	}
	doc, err := g.OurMetadata(ctx, side, slug, signed)
	if err != nil || approval.Owner() == "" || !counts {
		return doc, err
	}
	holders := slices.Clone(signing.IDs[:1])
	holders = append(holders, signing.Holders...)
	if side == "provider" {
		encryption, err := g.keyring.Ring(ctx, keys.PurposeEncryption, approval.Owner())
		if err != nil {
			return nil, err
		}
		holders = append(append(holders, encryption.IDs[0]), encryption.Holders...)
	}
	facts, err := json.Marshal(sheet.HandedOut(entity))
	if err != nil {
		return nil, err
	}
	return doc, g.noteHandOut(ctx, side, approval.Owner(), "metadata", string(facts), from, holders)
}
