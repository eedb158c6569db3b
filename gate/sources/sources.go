package sources

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/address"
	"innergate/core/checkup"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/fetch"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/gate/traces"
	"innergate/gate/watch"
	"innergate/store"
)

func (g *Room) sourceRow(ctx context.Context, slug string) (*store.Source, *config.Source, error) {
	var row store.Source
	if err := g.Store.Read(ctx).Where("slug = ?", slug).Take(&row).Error; err != nil {
		return nil, nil, ground.Missing(err, "source", slug)
	}
	c, err := ground.DecodeBody[config.Source](row.Body)
	return &row, &c, err
}

// SaveSource creates a source (empty slug) or replaces the one with this slug.
func (g *Room) SaveSource(ctx context.Context, who ground.Actor, slug string, s config.Source) (*api.Source, error) {
	if s.Slug == "" {
		if s.Slug = slug; slug == "" {
			s.Slug = config.Slug(s.Name)
		}
	}
	if err := s.Validate(); err != nil {
		return nil, ground.Invalid(err)
	}
	err := g.Store.Write(ctx, func(tx *gorm.DB) error { return g.WriteSource(tx, who, slug, s) })
	if errors.Is(err, store.ErrDuplicate) {
		return nil, ground.Problem(
			http.StatusConflict, "slug-taken", "The short name is taken",
			fmt.Sprintf("There is a source with the short name %s already.", s.Slug), "Choose another short name.",
		)
	}
	if err != nil {
		return nil, err
	}
	return g.Source(ctx, s.Slug)
}

// WriteSource writes a source in a transaction: new where slug is empty.
func (g *Room) WriteSource(tx *gorm.DB, who ground.Actor, slug string, s config.Source) error {
	now := g.Now().UTC()
	row, action, before := store.Source{CreatedAt: now}, "created", ""
	if slug != "" {
		if err := tx.Where("slug = ?", slug).Take(&row).Error; err != nil {
			return ground.Missing(err, "source", slug)
		}
		if s.Slug != slug {
			return ground.BadRequest(
				"slug-fixed", "The short name can't change: partners name it.",
				"Make a new source with the other short name.",
			)
		}
		if row.Body == ground.MustJSON(s) {
			return nil
		}
		action, before = "changed", row.Body
	} else {
		row.ID = who.NewID("source", s.Slug)
	}
	if before != "" {
		// Another address or another signer: what was known of the former does not count.
		row.ETag, row.LastModified = "", ""
	}
	row.Slug, row.Name, row.Kind, row.Body, row.UpdatedAt = s.Slug, s.Name, s.Kind, ground.MustJSON(s), now
	number, err := ground.NextNumber(tx, row.ID, row.Revision)
	if err != nil {
		return err
	}
	row.Revision = number
	if s.Kind == config.SourceAggregate {
		row.DueAt = &now
	} else {
		row.DueAt = nil
	}
	if action == "created" {
		err = tx.Create(&row).Error
	} else {
		err = tx.Save(&row).Error
	}
	if err != nil {
		return err
	}
	return ground.Revise(
		tx,
		now,
		who,
		action,
		ground.Saved{Kind: "source", ID: row.ID, Slug: row.Slug, Name: row.Name, Body: row.Body},
		row.Revision,
		before,
	)
}

// DeleteSource removes a source from which no partner takes its metadata.
func (g *Room) DeleteSource(ctx context.Context, who ground.Actor, slug string) error {
	row, _, err := g.sourceRow(ctx, slug)
	if err != nil {
		return err
	}
	g.cancelJob(row.ID)
	return g.Store.Write(ctx, func(tx *gorm.DB) error { return g.RemoveSource(tx, who, slug) })
}

// RemoveSource deletes a source in a transaction; one that partners are looked after by is refused.
func (g *Room) RemoveSource(tx *gorm.DB, who ground.Actor, slug string) error {
	var row store.Source
	if err := tx.Where("slug = ?", slug).Take(&row).Error; err != nil {
		return ground.Missing(err, "source", slug)
	}
	var users int64
	if err := tx.Model(&store.PartnerWatch{}).Where("url = ?", "source:"+slug).Count(&users).Error; err != nil {
		return err
	}
	if users > 0 {
		return ground.Problem(
			http.StatusConflict, "in-use", "The source is in use",
			fmt.Sprintf("%d partners take their metadata from %s.", users, row.Name),
			"Give these partners an address of their own first.",
		)
	}
	if err := tx.Delete(&row).Error; err != nil {
		return err
	}
	if err := store.Leave(tx, "source", row.ID, g.Now().UTC()); err != nil {
		return err
	}
	return g.Unmake(tx, who, ground.Saved{Kind: "source", ID: row.ID, Slug: slug, Name: row.Name, Body: row.Body})
}

// Sources lists all sources; there are few.
func (g *Room) Sources(ctx context.Context) (*api.List[api.Source], error) {
	var rows []store.Source
	if err := g.Store.Read(ctx).Order("name").Limit(500).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := &api.List[api.Source]{Items: []api.Source{}}
	for i := range rows {
		s, err := g.showSource(&rows[i], g.job(rows[i].ID))
		if err != nil {
			return nil, err
		}
		out.Items = append(out.Items, *s)
	}
	return out, nil
}

// Source shows one.
func (g *Room) Source(ctx context.Context, slug string) (*api.Source, error) {
	row, _, err := g.sourceRow(ctx, slug)
	if err != nil {
		return nil, err
	}
	// A reading may end at any time. The record is read after it was looked for, so that where none is seen its last
	// word is.
	j := g.job(row.ID)
	if row, _, err = g.sourceRow(ctx, slug); err != nil {
		return nil, err
	}
	return g.showSource(row, j)
}

func (g *Room) showSource(row *store.Source, j *sourceJob) (*api.Source, error) {
	c, err := ground.DecodeBody[config.Source](row.Body)
	if err != nil {
		return nil, err
	}
	s := &api.Source{
		ID:            row.ID,
		Source:        c,
		Revision:      row.Revision,
		Entities:      row.Entities,
		PublishedName: row.PublishedName,
		Checked:       row.CheckedAt,
		Due:           row.DueAt,
		ValidUntil:    row.ValidUntil,
		Failures:      row.Failures,
		FailingSince:  row.FailingSince,
		Error:         row.Error,
		Code:          row.Code,
		Findings:      []api.Finding{},
	}
	if cert := pinned(&c); cert != nil {
		s.Pinned = keys.Fingerprint(cert.Raw)
	}
	if j != nil {
		s.Job = j.show()
	}
	if s.Failures > 0 {
		f := checkup.Finding{
			Code:     "source.failing",
			Severity: checkup.Attention,
			Title:    "The source can't be refreshed",
			Detail:   fmt.Sprintf("%d attempts failed. What was read last goes on being used.", s.Failures),
			Remedy:   "Look at the reason; ask whoever runs the source.",
			Evidence: []trace.Evidence{explain.Fact("reason", s.Error)},
		}
		if s.ValidUntil != nil && s.ValidUntil.Sub(g.Now()) < 48*time.Hour {
			f.Severity = checkup.Broken
		}
		s.Findings = append(s.Findings, f)
	}
	if s.ValidUntil != nil && !g.Now().Before(*s.ValidUntil) {
		s.Findings = append(
			s.Findings,
			checkup.Finding{
				Code:     "source.expired",
				Severity: checkup.Broken,
				Title:    "The source's metadata is over",
				Detail:   "It was valid until " + s.ValidUntil.UTC().Format(time.RFC3339) + ".",
				Remedy:   "Refresh it.",
			},
		)
	}
	return s, nil
}

func pinned(c *config.Source) *x509.Certificate {
	return (&config.Watch{Certificate: c.Certificate}).Pinned()
}

var entityColumns = map[string]string{"name": "display_name COLLATE NOCASE", "entity": "entity_id"}

// SourceEntities lists a source's entities. Role, if set, is idp or sp.
func (g *Room) SourceEntities(ctx context.Context, slug string, p store.Page, role string) (*api.List[api.SourceEntity], error) {
	row, _, err := g.sourceRow(ctx, slug)
	if err != nil {
		return nil, err
	}
	db := g.Store.Read(ctx).
		Table("(SELECT entity_id AS id, entity_id, display_name, roles, problems, valid_until, changed_at FROM source_entities WHERE "+
			"source_id = ?)", row.ID)
	if role != "" {
		db = db.Where("roles LIKE ?", "%"+role+"%")
	}
	if db, err = p.Rows(db, entityColumns, "name", "entity_id", "display_name"); err != nil {
		return nil, ground.BadRequest("bad-page", err.Error()+".", "")
	}
	var rows []store.SourceEntity
	if err := db.Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := &api.List[api.SourceEntity]{Items: []api.SourceEntity{}}
	for i, r := range rows {
		if i == ground.LimitOf(p) {
			value := rows[i-1].DisplayName
			if strings.TrimPrefix(p.Sort, "-") == "entity" {
				value = rows[i-1].EntityID
			}
			out.Next = store.AfterKey(value, rows[i-1].EntityID)
			break
		}
		e := api.SourceEntity{
			EntityID:    r.EntityID,
			DisplayName: r.DisplayName,
			Roles:       strings.Fields(r.Roles),
			Problems:    r.Problems,
			ValidUntil:  r.ValidUntil,
			Changed:     r.ChangedAt,
		}
		for _, kind := range []string{"application", "provider"} {
			var held struct{ ID string }
			if err := g.Store.Read(ctx).Table(kind+"s").Select("id").Where("entity_id = ?",
				r.EntityID).Limit(1).Find(&held).Error; err != nil {
				return nil, store.Clear(err)
			}
			if held.ID != "" {
				if e.Held, err = g.Reference(ctx, kind, held.ID); err != nil {
					return nil, err
				}
			}
		}
		out.Items = append(out.Items, e)
	}
	return out, nil
}

// sourceEntity reads one entity of a source as a document.
func (g *Room) sourceEntity(ctx context.Context, source, entityID string) (*store.SourceEntity, []byte, error) {
	var row store.SourceEntity
	if err := g.Store.Read(ctx).Where("source_id = ? AND entity_id = ?", source, entityID).Take(&row).Error; err != nil {
		return nil, nil, ground.Missing(err, "entity", entityID)
	}
	doc, err := traces.Unpacker().DecodeAll(row.Document, nil)
	return &row, doc, err
}

// SourceDocument is one entity of a source as it was read.
func (g *Room) SourceDocument(ctx context.Context, slug, entityID string) ([]byte, error) {
	row, _, err := g.sourceRow(ctx, slug)
	if err != nil {
		return nil, err
	}
	_, doc, err := g.sourceEntity(ctx, row.ID, entityID)
	return doc, err
}

// LookUp asks a metadata query service for one entity (Metadata Query Protocol, section 3.1) and keeps the answer.
func (g *Room) LookUp(ctx context.Context, who ground.Actor, slug, entityID string) (*api.SourceEntity, error) {
	row, c, err := g.sourceRow(ctx, slug)
	if err != nil {
		return nil, err
	}
	if c.Kind != config.SourceQuery {
		return nil, ground.BadRequest("not-a-query-service", c.Name+" is not a metadata query service.", "Search its list of entities.")
	}
	if _, err := saml.ParseEntityID(entityID); err != nil {
		return nil, ground.BadRequest("entity-id", words.Capitalise(err.Error())+".", "")
	}
	e, err := g.query(ctx, row, c, entityID)
	var failed *watch.RefreshError
	if errors.As(err, &failed) {
		return nil, ground.Problem(
			http.StatusBadGateway, failed.Code, "The entity can't be taken from there", failed.Reason,
			"Compare the entity ID letter by letter, or ask whoever runs the source.",
		)
	}
	if err != nil {
		return nil, err
	}
	return &api.SourceEntity{
		EntityID:    e.EntityID,
		DisplayName: e.DisplayName,
		Roles:       strings.Fields(e.Roles),
		Problems:    e.Problems,
		ValidUntil:  e.ValidUntil,
		Changed:     e.ChangedAt,
	}, nil
}

func (g *Room) query(ctx context.Context, row *store.Source, c *config.Source, entityID string) (*store.SourceEntity, error) {
	got, err := g.Fetch.Do(
		ctx,
		fetch.Want{
			URL:    strings.TrimSuffix(c.URL, "/") + "/entities/" + url.PathEscape(entityID),
			Header: map[string]string{"Accept": "application/samlmetadata+xml"},
		},
	)
	if err != nil {
		return nil, &watch.RefreshError{Code: "metadata.fetch", Reason: words.Capitalise(err.Error()) + "."}
	}
	if err := saml.VerifyMetadata(got.Body, []*x509.Certificate{pinned(c)}); err != nil {
		return nil, &watch.RefreshError{
			Code:   "metadata.signature",
			Reason: "The answer must be signed by the pinned certificate, and is not: " + err.Error() + ".",
		}
	}
	doc := saml.Read(got.Body, saml.ReadOptions{Now: g.Now(), Ours: g.partners.OurIDs(), Whole: true})
	if len(doc.Entities) != 1 || doc.Entities[0].EntityID != entityID {
		return nil, &watch.RefreshError{
			Code:   "metadata.other-entity",
			Reason: fmt.Sprintf("The service was asked for %s and answered with something else.", entityID),
		}
	}
	e := sourceRow(row.ID, doc, got.Body, g.Now())
	held, err := store.One[store.SourceEntity](g.Store.Read(ctx), "source_id = ? AND entity_id = ?", row.ID, entityID)
	if err != nil {
		return nil, err
	}
	if err := watch.CheckValidity(e.ValidUntil, held.ValidUntil, g.Now(), true); err != nil {
		return nil, err
	}
	return e, g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Save(e).Error; err != nil {
			return err
		}
		return tx.Exec(
			"UPDATE sources SET entities = (SELECT count(*) FROM source_entities WHERE source_id = ?), checked_at = ? WHERE id = ?",
			row.ID, g.Now().UTC(), row.ID,
		).Error
	})
}

// sourceRow makes a source's record of an entity that was read.
func sourceRow(source string, doc *saml.Document, raw []byte, now time.Time) *store.SourceEntity {
	e := doc.Entities[0]
	var roles []string
	for _, r := range e.Roles {
		if !slices.Contains(roles, string(r.Kind)) {
			roles = append(roles, string(r.Kind))
		}
	}
	name := e.DisplayName
	if name == "" {
		name = address.Host(e.EntityID)
	}
	return &store.SourceEntity{
		SourceID:    source,
		EntityID:    e.EntityID,
		DisplayName: words.Clip(name, 200),
		Roles:       strings.Join(roles, " "),
		Problems:    len(doc.Problems),
		ValidUntil:  e.ValidUntil,
		Document:    traces.Packer().EncodeAll(raw, nil),
		SHA256:      ground.HashText(raw),
		ChangedAt:   now.UTC(),
	}
}

// FromSource gives a partner's metadata out of a source, for its refresh.
func (g *Room) FromSource(ctx context.Context, slug, entityID string) (*fetch.Got, error) {
	row, c, err := g.sourceRow(ctx, slug)
	if ground.IsNotFound(err) {
		return nil, &watch.RefreshError{Code: "source.gone", Reason: "The source " + slug + " is not there any more."}
	}
	if err != nil {
		return nil, err
	}
	if c.Kind == config.SourceQuery {
		if _, err := g.query(ctx, row, c, entityID); err != nil {
			return nil, err
		}
	}
	e, doc, err := g.sourceEntity(ctx, row.ID, entityID)
	if ground.IsNotFound(err) {
		return nil, &watch.RefreshError{
			Code:   "source.entity-gone",
			Reason: fmt.Sprintf("%s is no longer among the entities of %s.", entityID, c.Name),
		}
	}
	if err != nil {
		return nil, err
	}
	return &fetch.Got{Body: doc, Until: e.ValidUntil}, nil
}

// Adopt makes drafts of entities of a source. What is there already stays as it is.
func (g *Room) Adopt(ctx context.Context, who ground.Actor, slug string, in api.Adopt) (*api.List[api.Adopted], error) {
	row, _, err := g.sourceRow(ctx, slug)
	if err != nil {
		return nil, err
	}
	if in.As != "application" && in.As != "provider" {
		return nil, ground.BadRequest("adopt-as", fmt.Sprintf("%q is no side; application and provider are.", in.As), "")
	}
	if len(in.EntityIDs) == 0 || len(in.EntityIDs) > 200 {
		return nil, ground.BadRequest(
			"adopt-count", fmt.Sprintf("%d entities were chosen; 1 to 200 can be taken at once.", len(in.EntityIDs)),
			"",
		)
	}
	out := &api.List[api.Adopted]{Items: []api.Adopted{}}
	for _, id := range in.EntityIDs {
		a, err := g.adopt(ctx, who, row, slug, id, in.As)
		var p *api.Problem
		if errors.As(err, &p) && p.Status < 500 {
			a = &api.Adopted{EntityID: id, Outcome: "refused", Reason: p.Error()}
		} else if err != nil {
			return nil, err
		}
		out.Items = append(out.Items, *a)
	}
	return out, nil
}

func (g *Room) adopt(ctx context.Context, who ground.Actor, row *store.Source, source, entityID, as string) (*api.Adopted, error) {
	e, doc, err := g.sourceEntity(ctx, row.ID, entityID)
	if err != nil {
		return nil, err
	}
	if e.ValidUntil != nil && !g.Now().Before(*e.ValidUntil) {
		return nil, ground.Conflict("metadata.expired", "Its metadata is over.", "Refresh the source first.")
	}
	var held struct{ Slug, Name string }
	if err := g.Store.Read(ctx).Table(as+"s").Select("slug, name").Where("entity_id = ?", entityID).Limit(1).Find(&held).Error; err != nil {
		return nil, store.Clear(err)
	}
	if held.Slug != "" {
		return &api.Adopted{
			EntityID: entityID,
			Slug:     held.Slug,
			Name:     held.Name,
			Outcome:  "there",
			Reason:   "It is there already and stays as it is.",
		}, nil
	}
	in := api.TakeIn{Text: string(doc), EntityID: entityID}
	watching := &config.Watch{Source: source}
	a := &api.Adopted{EntityID: entityID, Outcome: "created"}
	var id string
	var u *api.Understood
	if as == "application" {
		if u, _, err = g.watch.UnderstandApplication(ctx, "", in); err != nil {
			return nil, err
		}
		if u.App == nil {
			return nil, watch.Refusal(u)
		}
		u.App.SAML.Metadata = watching
		if u.App.Slug, err = g.freeSlug(ctx, as, u.App.Slug); err != nil {
			return nil, err
		}
		v, err := g.configuration.SaveApplication(ctx, who, "", *u.App, 0)
		if err != nil {
			return nil, err
		}
		id, a.Slug, a.Name = v.ID, v.Slug, v.Name
	} else {
		if u, _, err = g.watch.UnderstandProvider(ctx, "", in); err != nil {
			return nil, err
		}
		if u.Provider == nil {
			return nil, watch.Refusal(u)
		}
		u.Provider.SAML.Metadata = watching
		if u.Provider.Slug, err = g.freeSlug(ctx, as, u.Provider.Slug); err != nil {
			return nil, err
		}
		v, err := g.configuration.SaveProvider(ctx, who, "", *u.Provider, 0)
		if err != nil {
			return nil, err
		}
		id, a.Slug, a.Name = v.ID, v.Slug, v.Name
	}
	in.URL = "source:" + source
	if err := g.watch.KeepTaken(ctx, who, as, id, in, u, doc); err != nil {
		return nil, err
	}
	return a, g.Store.Write(ctx, func(tx *gorm.DB) error {
		// The end is the source's, which the entity alone does not tell.
		return partners.NoteWatch(tx, id, map[string]any{"valid_until": e.ValidUntil})
	})
}

// freeSlug finds a short name that is not taken.
func (g *Room) freeSlug(ctx context.Context, kind, slug string) (string, error) {
	if slug == "" {
		slug = kind
	}
	for n := 1; n < 1000; n++ {
		try := slug
		if n > 1 {
			try = fmt.Sprintf("%s-%d", strings.TrimRight(slug[:min(len(slug), 58)], "-"), n)
		}
		var have int64
		if err := g.Store.Read(ctx).Table(kind+"s").Where("slug = ?", try).Count(&have).Error; err != nil {
			return "", store.Clear(err)
		}
		if have == 0 {
			return try, nil
		}
	}
	return "", ground.Conflict("slug-taken", "No short name is free for it.", "Give it one by hand.")
}
