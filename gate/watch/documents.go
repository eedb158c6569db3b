package watch

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/difference"
	"innergate/core/takein"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/store"
)

// KeepTaken keeps what was taken by hand as a version, and has its address looked after.
func (g *Room) KeepTaken(ctx context.Context, who ground.Actor, kind, id string, in api.TakeIn, u *api.Understood, text []byte) error {
	now := g.Now().UTC()
	d := g.Document(kind, id, in.URL, text)
	d.Verdict, d.DecidedBy, d.DecidedAt, d.SignedBy, d.Changes = "used", who.Name, &now, u.SignedBy, ground.MustJSON(u.Changes)
	if u.Metadata != nil {
		for _, e := range u.Metadata.Entities {
			if e.EntityID == u.Chosen {
				d.ValidUntil = e.ValidUntil
			}
		}
	}
	if u.App != nil {
		d.Content = difference.Hash(difference.Flat(*u.App))
	} else {
		d.Content = difference.Hash(difference.Flat(*u.Provider))
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := g.KeepVersion(tx, d); err != nil {
			return err
		}
		return tx.Model(&store.PartnerWatch{}).
			Where("owner_id = ?", id).
			Updates(map[string]any{"valid_until": d.ValidUntil, "checked_at": now, "changed_at": now, "failures": 0, "failing_since": nil,
				"error": "", "code": ""}).
			Error
	})
}

// Document is a version of a partner's metadata.
func (g *Room) Document(kind, id, from string, text []byte) *store.PartnerDocument {
	sum := sha256.Sum256(text)
	if from == "" {
		from = "text"
	}
	return &store.PartnerDocument{
		ID:        store.NewID(),
		OwnerKind: kind,
		OwnerID:   id,
		Source:    from,
		SHA256:    hex.EncodeToString(sum[:]),
		Document:  text,
		CreatedAt: g.Now().UTC(),
	}
}

// KeepVersion keeps a version of a partner's document. One that waits takes the place of another that waits, since it
// tells all that the other told.
func (g *Room) KeepVersion(tx *gorm.DB, d *store.PartnerDocument) error {
	if d.Verdict == "waiting" || d.Verdict == "used" {
		if err := tx.Model(&store.PartnerDocument{}).Where("owner_id = ? AND verdict = 'waiting'",
			d.OwnerID).Updates(map[string]any{"verdict": "dismissed", "decided_by": "a newer version",
			"decided_at": g.Now().UTC()}).Error; err != nil {
			return err
		}
	}
	if err := tx.Create(d).Error; err != nil {
		return err
	}
	return tx.Exec(
		"DELETE FROM partner_documents WHERE owner_id = ? AND id <= (SELECT id FROM partner_documents WHERE owner_id = ? ORDER BY id "+
			"DESC LIMIT 1 OFFSET ?)",
		d.OwnerID,
		d.OwnerID,
		versionsKept,
	).Error
}

// Documents lists the versions of a partner's metadata, the newest first.
func (g *Room) Documents(ctx context.Context, kind, slug string) (*api.List[api.Document], error) {
	p, err := g.partner(ctx, kind, slug)
	if err != nil {
		return nil, err
	}
	var rows []store.PartnerDocument
	if err := g.Store.Read(ctx).Where("owner_kind = ? AND owner_id = ?", kind,
		p.id).Order("id DESC").Limit(versionsKept).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := &api.List[api.Document]{Items: []api.Document{}}
	for i := range rows {
		out.Items = append(out.Items, *showDocument(&rows[i]))
	}
	return out, nil
}

func showDocument(d *store.PartnerDocument) *api.Document {
	v := &api.Document{
		ID:         d.ID,
		Received:   d.CreatedAt,
		Source:     d.Source,
		Bytes:      len(d.Document),
		SHA256:     d.SHA256,
		Verdict:    d.Verdict,
		Reason:     d.Reason,
		Changes:    []api.Change{},
		SignedBy:   d.SignedBy,
		ValidUntil: d.ValidUntil,
		DecidedBy:  d.DecidedBy,
		Decided:    d.DecidedAt,
	}
	if d.Changes != "" {
		if err := json.Unmarshal([]byte(d.Changes), &v.Changes); err != nil || v.Changes == nil {
			v.Changes = []api.Change{}
		}
	}
	v.Sentences = sentences(v.Changes)
	return v
}

func (g *Room) documentRow(ctx context.Context, p *partner, id string) (*store.PartnerDocument, error) {
	var d store.PartnerDocument
	if err := g.Store.Read(ctx).Where("id = ? AND owner_kind = ? AND owner_id = ?", id, p.kind, p.id).Take(&d).Error; err != nil {
		return nil, ground.Missing(err, "version", id)
	}
	return &d, nil
}

// DocumentText is a version as it was received.
func (g *Room) DocumentText(ctx context.Context, kind, slug, id string) ([]byte, error) {
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
func (g *Room) DocumentChanges(ctx context.Context, kind, slug, id string) (*api.Refreshed, error) {
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

func (g *Room) reuse(p *partner, d *store.PartnerDocument) (*partner, []api.Change, error) {
	full := p.copy()
	if cert := takein.LoneCertificate(d.Document); cert != nil {
		list, _ := takein.AddCertificate(full.certificates(), cert, "signing")
		if full.App != nil {
			full.App.SAML.Certificates = list
		} else {
			full.Provider.SAML.Certificates = list
		}
		return full, ground.Changes(p.flat(), full.flat()), nil
	}
	// The document was judged when it came; it is read with the entity that is held.
	u, entity, role := g.read(d.Document, p.role(), api.TakeIn{EntityID: p.entityID}, nil)
	if entity == nil {
		return nil, nil, Refusal(u)
	}
	full.give(entity, role, false)
	return full, ground.Changes(p.flat(), full.flat()), nil
}

// UseDocument applies a version that waits, or restores an older one. Versions that came later are then dismissed, so
// that they do not come back by themselves.
func (g *Room) UseDocument(ctx context.Context, who ground.Actor, kind, slug, id string) (*api.Refreshed, error) {
	p, err := g.partner(ctx, kind, slug)
	if err != nil {
		return nil, err
	}
	d, err := g.documentRow(ctx, p, id)
	if err != nil {
		return nil, err
	}
	if d.Verdict == "refused" {
		return nil, ground.Conflict("document-refused", "This version was refused: "+d.Reason, "It can't be used.")
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
		if err := tx.Model(&store.PartnerDocument{}).Where("owner_id = ? AND id > ? AND verdict IN ('used', 'waiting')", p.id,
			id).Updates(decided).Error; err != nil {
			return err
		}
		decided["verdict"] = "used"
		if err := tx.Model(&store.PartnerDocument{}).Where("id = ?", id).Updates(decided).Error; err != nil {
			return err
		}
		return partners.NoteWatch(tx, p.id, map[string]any{"valid_until": d.ValidUntil})
	})
}

// DismissDocument decides against a version that waits. The same content is not brought up again.
func (g *Room) DismissDocument(ctx context.Context, who ground.Actor, kind, slug, id string) error {
	p, err := g.partner(ctx, kind, slug)
	if err != nil {
		return err
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		done := tx.Model(&store.PartnerDocument{}).
			Where("id = ? AND owner_id = ? AND verdict = 'waiting'", id, p.id).
			Updates(map[string]any{"verdict": "dismissed", "decided_by": who.Name, "decided_at": g.Now().UTC()})
		if done.Error != nil {
			return done.Error
		}
		if done.RowsAffected == 0 {
			return ground.Conflict("document-decided", "This version does not wait for a decision.", "Load the page again.")
		}
		return ground.Journal(tx, g.Now(), who, "dismissed metadata", p.kind, p.id, p.name, "", id)
	})
}

// KeepLeft keeps the document that the other side left as a version, once what it says was taken.
func (g *Room) KeepLeft(ctx context.Context, who ground.Actor, row *store.Proposal) error {
	var u *api.Understood
	var err error
	in := api.TakeIn{Text: string(row.Document)}
	if row.Kind == "application" {
		u, _, err = g.UnderstandApplication(ctx, row.Slug, in)
	} else {
		u, _, err = g.UnderstandProvider(ctx, row.Slug, in)
	}
	if err != nil || u.App == nil && u.Provider == nil {
		return nil // the change is made; what can no longer be read is not kept
	}
	if u.Changes, err = changesOf(row); err != nil {
		return err
	}
	in.URL = row.Source
	return g.KeepTaken(ctx, who, row.Kind, row.ObjectID, in, u, row.Document)
}

func changesOf(row *store.Proposal) ([]api.Change, error) {
	out := ground.BodyChanges(row.Before, row.Body)
	if !json.Valid([]byte(row.Body)) {
		return nil, ground.Problem(
			http.StatusInternalServerError, "proposal", "The proposal can't be read",
			"The proposal "+row.ID+" can't be read.", "",
		)
	}
	return out, nil
}

const validityMost = 30 * 24 * time.Hour

// CheckValidity demands an end that is near enough, and not before that of the copy that is held.
func CheckValidity(until, held *time.Time, now time.Time, demanded bool) error {
	switch {
	case until == nil && demanded:
		return &RefreshError{
			Code:   "source.no-end",
			Reason: "The metadata has no validUntil, so an old copy of it could be played back for ever.",
		}
	case until == nil:
		return nil
	case !now.Before(*until):
		return &RefreshError{
			Code:   "metadata.expired",
			Reason: "The metadata was valid until " + until.UTC().Format(time.RFC3339) + " and is over.",
		}
	case demanded && until.Sub(now) > validityMost:
		return &RefreshError{
			Code:   "source.end-too-far",
			Reason: fmt.Sprintf("The metadata is valid until %s, which is more than 30 days ahead.", until.UTC().Format(time.RFC3339)),
		}
	case held != nil && until.Before(*held):
		return &RefreshError{
			Code: "source.older",
			Reason: fmt.Sprintf(
				"This copy ends %s, before the one that is held (%s): it is an older one.",
				until.UTC().Format(time.RFC3339), held.UTC().Format(time.RFC3339),
			),
		}
	}
	return nil
}
