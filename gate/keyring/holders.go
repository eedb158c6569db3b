package keyring

import (
	"context"
	"fmt"
	"strings"
	"time"

	"innergate/core/checkup"
	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/trace"
	"innergate/gate/ground"
	"innergate/store"
)

// PartnersOf is the part of a query behind SELECT that finds the partners of a side that meet a key, as o, with the note that
// they have its certificate, as h: for signing everybody, for encryption the providers; those with a key of their own excepted.
// Kind and owner narrow it to the partner that the key is for. It is empty for a side that does not meet it.
func PartnersOf(side, key, purpose, kind, owner string) (query string, args []any) {
	if _, token := TokenUsers[purpose]; token {
		return "", nil // everybody fetches one key set, so nobody knows who has which key
	}
	if purpose == keys.PurposeEncryption && side != "provider" || kind != "" && kind != side {
		return "", nil
	}
	reach := "o.reach NOT IN ('closed', 'draft')"
	if owner != "" {
		reach = "o.reach <> 'closed'"
	}
	query = "FROM " + side + "s o LEFT JOIN key_holders h ON h.key_id = ? AND h.owner_kind = ? AND h.owner_id = o.id WHERE " + reach +
		" AND o.kind = 'saml' AND o.entity_id IS NOT NULL"
	args = []any{key, side}
	if owner != "" {
		return query + " AND o.id = ?", append(args, owner)
	}
	return query + " AND NOT EXISTS (SELECT 1 FROM keys k WHERE k.owner_id = o.id AND k.purpose = ? AND k.state = ?)",
		append(args, purpose, KeyActive)
}

// lacking names the partners that are not known to have a signing key's certificate, at most 200. What a key that others encrypt
// for loses by a switch is nothing: the one before goes on opening.
func (g *Room) lacking(ctx context.Context, k *store.Key) ([]string, error) {
	var names []string
	if k.Purpose != keys.PurposeSigning {
		return nil, nil
	}
	for _, side := range []string{"application", "provider"} {
		query, args := PartnersOf(side, k.ID, k.Purpose, k.OwnerKind, k.OwnerID)
		if query == "" {
			continue
		}
		var some []string
		if err := g.Store.Read(ctx).Raw("SELECT o.name "+query+" AND h.at IS NULL ORDER BY o.name LIMIT 200", args...).
			Scan(&some).Error; err != nil {
			return nil, store.Clear(err)
		}
		names = append(names, some...)
	}
	return names, nil
}

// everybodyHas refuses to switch to a key whose certificate some partners are not known to have.
func (g *Room) everybodyHas(ctx context.Context, k *store.Key) error {
	names, err := g.lacking(ctx, k)
	if err != nil || len(names) == 0 {
		return err
	}
	shown := names
	more := ""
	if len(shown) > 10 {
		shown, more = shown[:10], fmt.Sprintf(" and %d more", len(names)-10)
	}
	return ground.Conflict(
		"certificate-not-held",
		"Not known to have the next certificate: "+strings.Join(shown, ", ")+more+". If it is so, sign-ins with them fail once it signs.",
		"Give it to them with the exchange sheet and confirm that they have it; or switch anyway. A switch can be taken back.",
	)
}

// Unknown finds out whether a SAML partner is not known to have the certificate that we sign with since a switch, or the next
// one, for which a planned switch waits.
func (g *Room) Unknown(ctx context.Context, side, id string) ([]checkup.Finding, error) {
	var rows []store.Key
	err := g.Store.Read(ctx).Where("purpose = ? AND coalesce(owner_id, '') IN ('', ?) AND published_at IS NOT NULL AND state IN ?",
		keys.PurposeSigning, id, []string{KeyActive, KeyNext}).Order("id").Find(&rows).Error
	if err != nil {
		return nil, store.Clear(err)
	}
	station := map[string]string{"application": checkup.ApplicationTrust, "provider": checkup.ProviderTrust}[side]
	var out []checkup.Finding
	for i := range rows {
		k := &rows[i]
		due := k.SwitchAt != nil && !k.SwitchAnyway && g.Now().After(*k.SwitchAt)
		first := k.State == KeyActive && (k.SwitchedAt == nil || !k.SwitchedAt.After(*k.PublishedAt))
		if first || k.State == KeyNext && !due {
			continue // the first key, which everybody got with the first sheet; or one that nobody waits for yet
		}
		without, err := g.isWithout(ctx, k, side, id)
		if err != nil {
			return nil, err
		}
		if !without {
			continue
		}
		f := checkup.Finding{
			Code: "our-certificate.not-held", Severity: checkup.Attention, Station: station,
			Title: "It may not have the certificate that we sign with",
			Remedy: "Give it to the other side and confirm that it has it, or take the switch back (innergate keys undo " + k.ID +
				").",
			Evidence: []trace.Evidence{explain.Fact("SHA-256 fingerprint", keys.Fingerprint(k.Certificate))},
		}
		if k.State == KeyActive {
			f.Detail = "We switched to it at " + k.SwitchedAt.UTC().Format(time.RFC3339) +
				", and nothing tells that it was fetched or given."
		} else {
			f.Code, f.Title = "our-certificate.waited-for", "A planned switch of our key waits for it"
			f.Detail = "It was due at " + k.SwitchAt.UTC().Format(time.RFC3339) +
				"; nothing tells that the next certificate was fetched or given."
			f.Remedy = "Give it to the other side and confirm that it has it, or switch anyway."
		}
		out = append(out, f)
	}
	return out, nil
}

// isWithout says whether a partner meets a key, and is not known to have its certificate.
func (g *Room) isWithout(ctx context.Context, k *store.Key, side, id string) (bool, error) {
	query, args := PartnersOf(side, k.ID, k.Purpose, k.OwnerKind, k.OwnerID)
	if query == "" {
		return false, nil
	}
	var found []string
	err := g.Store.Read(ctx).Raw("SELECT o.id "+query+" AND h.at IS NULL AND o.id = ?", append(args, id)...).Scan(&found).Error
	return len(found) > 0, store.Clear(err)
}
