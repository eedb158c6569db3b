package gate

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/store"
)

// keepTaken keeps what was taken by hand as a version, and has its address looked after.
func (g *Gate) keepTaken(ctx context.Context, who Actor, kind, id string, in api.TakeIn, u *api.Understood, text []byte) error {
	now := g.Now().UTC()
	d := g.document(kind, id, in.URL, text)
	d.Verdict, d.DecidedBy, d.DecidedAt, d.SignedBy, d.Changes = "used", who.Name, &now, u.SignedBy, mustJSON(u.Changes)
	if u.Metadata != nil {
		for _, e := range u.Metadata.Entities {
			if e.EntityID == u.Chosen {
				d.ValidUntil = e.ValidUntil
			}
		}
	}
	if u.App != nil {
		d.Content = contentHash(flat(*u.App))
	} else {
		d.Content = contentHash(flat(*u.Provider))
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := g.keepVersion(tx, d); err != nil {
			return err
		}
		return tx.Model(&store.PartnerWatch{}).Where("owner_id = ?", id).Updates(map[string]any{"valid_until": d.ValidUntil, "checked_at": now, "changed_at": now, "failures": 0, "failing_since": nil, "error": "", "code": ""}).Error
	})
}

func (g *Gate) document(kind, id, from string, text []byte) *store.PartnerDocument {
	sum := sha256.Sum256(text)
	if from == "" {
		from = "text"
	}
	return &store.PartnerDocument{ID: store.NewID(), OwnerKind: kind, OwnerID: id, Source: from, SHA256: hex.EncodeToString(sum[:]), Document: text, CreatedAt: g.Now().UTC()}
}

// keepVersion keeps a version of a partner's document. One that waits takes the place of another that waits, since it tells all that the other told.
func (g *Gate) keepVersion(tx *gorm.DB, d *store.PartnerDocument) error {
	if d.Verdict == "waiting" || d.Verdict == "used" {
		if err := tx.Model(&store.PartnerDocument{}).Where("owner_id = ? AND verdict = 'waiting'", d.OwnerID).Updates(map[string]any{"verdict": "dismissed", "decided_by": "a newer version", "decided_at": g.Now().UTC()}).Error; err != nil {
			return err
		}
	}
	if err := tx.Create(d).Error; err != nil {
		return err
	}
	return tx.Exec("DELETE FROM partner_documents WHERE owner_id = ? AND id <= (SELECT id FROM partner_documents WHERE owner_id = ? ORDER BY id DESC LIMIT 1 OFFSET ?)", d.OwnerID, d.OwnerID, versionsKept).Error
}

// Documents lists the versions of a partner's metadata, the newest first.
func (g *Gate) Documents(ctx context.Context, kind, slug string) (*api.List[api.Document], error) {
	p, err := g.partner(ctx, kind, slug)
	if err != nil {
		return nil, err
	}
	var rows []store.PartnerDocument
	if err := g.Store.Read(ctx).Where("owner_kind = ? AND owner_id = ?", kind, p.id).Order("id DESC").Limit(versionsKept).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := &api.List[api.Document]{Items: []api.Document{}}
	for i := range rows {
		out.Items = append(out.Items, *showDocument(&rows[i]))
	}
	return out, nil
}

func showDocument(d *store.PartnerDocument) *api.Document {
	v := &api.Document{ID: d.ID, Received: d.CreatedAt, Source: d.Source, Bytes: len(d.Document), SHA256: d.SHA256, Verdict: d.Verdict, Reason: d.Reason, Changes: []api.Change{}, SignedBy: d.SignedBy, ValidUntil: d.ValidUntil, DecidedBy: d.DecidedBy, Decided: d.DecidedAt}
	if d.Changes != "" {
		if err := json.Unmarshal([]byte(d.Changes), &v.Changes); err != nil || v.Changes == nil {
			v.Changes = []api.Change{}
		}
	}
	v.Sentences = sentences(v.Changes)
	return v
}

func (g *Gate) documentRow(ctx context.Context, p *partner, id string) (*store.PartnerDocument, error) {
	var d store.PartnerDocument
	if err := g.Store.Read(ctx).Where("id = ? AND owner_kind = ? AND owner_id = ?", id, p.kind, p.id).Take(&d).Error; err != nil {
		return nil, missing(err, "version", id)
	}
	return &d, nil
}

// DocumentText is a version as it was received.
func (g *Gate) DocumentText(ctx context.Context, kind, slug, id string) ([]byte, error) {
	p, err := g.partner(ctx, kind, slug)
	if err != nil {
		return nil, err
	}
	d, err := g.documentRow(ctx, p, id)
	if err != nil {
		return nil, err
	}
	return d.Document, nil
}

// DocumentChanges tells what using a version now would change.
func (g *Gate) DocumentChanges(ctx context.Context, kind, slug, id string) (*api.Refreshed, error) {
	p, err := g.partner(ctx, kind, slug)
	if err != nil {
		return nil, err
	}
	d, err := g.documentRow(ctx, p, id)
	if err != nil {
		return nil, err
	}
	_, list, err := g.reuse(p, d)
	if err != nil {
		return nil, err
	}
	return outcome("unchanged", list, id), nil
}

func (g *Gate) reuse(p *partner, d *store.PartnerDocument) (*partner, []api.Change, error) {
	full := p.copy()
	if cert := loneCertificate(d.Document); cert != nil {
		list, _ := addCertificate(full.certificates(), cert, "signing")
		if full.app != nil {
			full.app.SAML.Certificates = list
		} else {
			full.provider.SAML.Certificates = list
		}
		return full, changes(p.flat(), full.flat()), nil
	}
	// The document was judged when it came; it is read with the entity that is held.
	u, entity, role := g.read(d.Document, p.role(), api.TakeIn{EntityID: p.entityID}, nil)
	if entity == nil {
		return nil, nil, refusal(u)
	}
	full.give(entity, role, false)
	return full, changes(p.flat(), full.flat()), nil
}

// UseDocument applies a version that waits, or restores an older one. Versions that came later are then dismissed, so that they do not come back by themselves.
func (g *Gate) UseDocument(ctx context.Context, who Actor, kind, slug, id string) (*api.Refreshed, error) {
	p, err := g.partner(ctx, kind, slug)
	if err != nil {
		return nil, err
	}
	d, err := g.documentRow(ctx, p, id)
	if err != nil {
		return nil, err
	}
	if d.Verdict == "refused" {
		return nil, conflict("document-refused", "This version was refused: "+d.Reason, "It can't be used.")
	}
	full, list, err := g.reuse(p, d)
	if err != nil {
		return nil, err
	}
	if err := g.savePartner(ctx, who, full); err != nil {
		return nil, err
	}
	now := g.Now().UTC()
	decided := map[string]any{"decided_by": who.Name, "decided_at": now}
	return outcome("applied", list, id), g.Store.Write(ctx, func(tx *gorm.DB) error {
		decided["verdict"] = "dismissed"
		if err := tx.Model(&store.PartnerDocument{}).Where("owner_id = ? AND id > ? AND verdict IN ('used', 'waiting')", p.id, id).Updates(decided).Error; err != nil {
			return err
		}
		decided["verdict"] = "used"
		if err := tx.Model(&store.PartnerDocument{}).Where("id = ?", id).Updates(decided).Error; err != nil {
			return err
		}
		return tx.Model(&store.PartnerWatch{}).Where("owner_id = ?", p.id).Updates(map[string]any{"valid_until": d.ValidUntil}).Error
	})
}

// DismissDocument decides against a version that waits. The same content is not brought up again.
func (g *Gate) DismissDocument(ctx context.Context, who Actor, kind, slug, id string) error {
	p, err := g.partner(ctx, kind, slug)
	if err != nil {
		return err
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		done := tx.Model(&store.PartnerDocument{}).Where("id = ? AND owner_id = ? AND verdict = 'waiting'", id, p.id).Updates(map[string]any{"verdict": "dismissed", "decided_by": who.Name, "decided_at": g.Now().UTC()})
		if done.Error != nil {
			return done.Error
		}
		if done.RowsAffected == 0 {
			return conflict("document-decided", "This version does not wait for a decision.", "Load the page again.")
		}
		return journal(tx, g.Now(), who, "dismissed metadata", p.kind, p.id, p.name, "", id)
	})
}
