package gate

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/checkup"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/store"
)

const (
	refreshAtOnce  = 4 // connections at one time
	refreshUsually = 6 * time.Hour
	refreshSoonest = 15 * time.Minute
	refreshLatest  = 24 * time.Hour
	versionsKept   = 200
)

// partner is an application or a provider as far as its metadata goes.
type partner struct {
	kind, id, slug, name string
	revision             int
	watch                *config.Watch
	entityID             string
	app                  *config.Application
	provider             *config.Provider
}

func (g *Gate) partner(ctx context.Context, kind, slug string) (*partner, error) {
	if kind == "application" {
		a, err := g.application(ctx, slug)
		if err != nil {
			return nil, err
		}
		c, err := decodeBody[config.Application](mustJSON(a.Application))
		return &partner{kind, a.id, a.Slug, a.Name, a.revision, a.SAML.Metadata, a.SAML.EntityID, &c, nil}, err
	}
	p, err := g.provider(ctx, slug)
	if err != nil {
		return nil, err
	}
	c, err := decodeBody[config.Provider](mustJSON(p.Provider))
	return &partner{kind, p.id, p.Slug, p.Name, p.revision, p.SAML.Metadata, p.SAML.EntityID, nil, &c}, err
}

func (p *partner) role() saml.RoleKind {
	if p.kind == "application" {
		return saml.RoleSP
	}
	return saml.RoleIDP
}

func (p *partner) flat() []line {
	if p.app != nil {
		return flat(*p.app)
	}
	return flat(*p.provider)
}

// give puts the metadata's values in, or its certificates only.
func (p *partner) give(entity *saml.Entity, role *saml.Role, certificatesOnly bool) {
	switch {
	case certificatesOnly && p.app != nil:
		p.app.SAML.Certificates = pemOf(role)
	case certificatesOnly:
		p.provider.SAML.Certificates = pemOf(role)
	case p.app != nil:
		giveApplication(p.app, entity, role)
	default:
		giveProvider(p.provider, entity, role)
	}
}

func (p *partner) copy() *partner {
	out := *p
	if p.app != nil {
		a, _ := decodeBody[config.Application](mustJSON(p.app)) // our own form always reads back
		out.app = &a
	} else {
		c, _ := decodeBody[config.Provider](mustJSON(p.provider))
		out.provider = &c
	}
	return &out
}

func (p *partner) certificates() []config.Certificate {
	if p.app != nil {
		return p.app.SAML.Certificates
	}
	return p.provider.SAML.Certificates
}

func (g *Gate) savePartner(ctx context.Context, who Actor, p *partner) error {
	if p.app != nil {
		_, err := g.SaveApplication(ctx, who, p.slug, *p.app, p.revision)
		return err
	}
	_, err := g.SaveProvider(ctx, who, p.slug, *p.provider, p.revision)
	return err
}

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

// refreshError is a refresh that failed, with its code.
type refreshError struct{ code, reason string }

func (e *refreshError) Error() string { return e.reason }

// Refresh looks at a partner's metadata address, and applies or keeps for a decision what changed there.
func (g *Gate) Refresh(ctx context.Context, who Actor, kind, slug string) (*api.Refreshed, error) {
	p, err := g.partner(ctx, kind, slug)
	if err != nil {
		return nil, err
	}
	if p.watch.Place() == "" {
		return nil, problem(http.StatusConflict, "no-address", "There is nothing to refresh", "No metadata address is known for "+p.name+".", "Take the metadata from its address once, or enter the address among the options.")
	}
	var w store.PartnerWatch
	if err := g.Store.Read(ctx).Where("owner_id = ?", p.id).Take(&w).Error; err != nil {
		return nil, missing(err, "watch", slug)
	}
	out, entity, err := g.refresh(ctx, who, p, &w)
	now := g.Now().UTC()
	state := map[string]any{"checked_at": now}
	var failed *refreshError
	switch {
	case errors.As(err, &failed):
		w.Failures++
		state["failures"], state["error"], state["code"] = w.Failures, failed.reason, failed.code
		if w.FailingSince == nil {
			state["failing_since"] = now
		}
		state["due_at"] = now.Add(min(refreshSoonest<<min(w.Failures-1, 5), refreshUsually))
		out = &api.Refreshed{Outcome: "failed", Changes: []api.Change{}, Sentences: []string{}, Error: failed.reason, Code: failed.code}
	case err != nil:
		return nil, err
	default:
		state["failures"], state["failing_since"], state["error"], state["code"] = 0, nil, "", ""
		state["e_tag"], state["last_modified"], state["due_at"] = w.ETag, w.LastModified, now.Add(interval(p.watch, entity))
		if entity != nil {
			state["valid_until"] = entity.ValidUntil
		}
		if entity != nil && out.Outcome != "unchanged" {
			state["changed_at"] = now
		}
	}
	return out, g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Model(&store.PartnerWatch{}).Where("owner_id = ?", p.id).Updates(state).Error; err != nil {
			return err
		}
		// Sign-ins look at the end of what is held, so they must learn of a later one.
		if until, ok := state["valid_until"].(*time.Time); ok && (until == nil) != (w.ValidUntil == nil) || until != nil && w.ValidUntil != nil && until.Sub(*w.ValidUntil).Abs() > time.Hour {
			return store.Changed(tx)
		}
		return nil
	})
}

// interval is when to look again: as set, else as the metadata says within bounds.
func interval(w *config.Watch, entity *saml.Entity) time.Duration {
	switch {
	case w.EveryMinutes > 0:
		return time.Duration(w.EveryMinutes) * time.Minute
	case entity != nil && entity.CacheDuration > 0:
		return min(max(entity.CacheDuration, refreshSoonest), refreshLatest)
	}
	return refreshUsually
}

// refresh fetches, judges and applies. The entity is nil where nothing new came.
func (g *Gate) refresh(ctx context.Context, who Actor, p *partner, w *store.PartnerWatch) (*api.Refreshed, *saml.Entity, error) {
	same := &api.Refreshed{Outcome: "unchanged", Changes: []api.Change{}, Sentences: []string{}}
	got, err := g.fetchMetadata(ctx, p, w)
	if err != nil {
		return nil, nil, err
	}
	if got.NotModified {
		out, err := g.stillWaiting(ctx, p, same)
		return out, nil, err
	}
	w.ETag, w.LastModified = got.ETag, got.LastModified
	u, entity, role := g.read(got.Body, p.role(), api.TakeIn{EntityID: p.entityID}, p.watch.Pinned())
	if entity == nil {
		return nil, nil, g.refuseDocument(ctx, p, got.Body, u)
	}
	if got.Until != nil && (entity.ValidUntil == nil || got.Until.Before(*entity.ValidUntil)) {
		entity.ValidUntil = got.Until
	}
	if entity.ValidUntil != nil && !g.Now().Before(*entity.ValidUntil) {
		return nil, nil, &refreshError{"metadata.expired", fmt.Sprintf("The metadata at the address was valid until %s and is over.", entity.ValidUntil.UTC().Format(time.RFC3339))}
	}
	before := p.flat()
	full := p.copy()
	full.give(entity, role, false)
	all := changes(before, full.flat())
	if len(all) == 0 {
		return same, entity, g.keepFirst(ctx, p, entity, got.Body, u.SignedBy)
	}
	content := contentHash(full.flat())
	var known store.PartnerDocument
	if err := g.Store.Read(ctx).Where("owner_id = ? AND content = ? AND verdict IN ('waiting', 'dismissed')", p.id, content).Order("id DESC").Limit(1).Find(&known).Error; err != nil {
		return nil, nil, store.Clear(err)
	}
	if known.Verdict == "dismissed" {
		return same, entity, nil
	}
	d := g.document(p.kind, p.id, p.watch.Place(), got.Body)
	d.Content, d.SignedBy, d.ValidUntil, d.Changes = content, u.SignedBy, entity.ValidUntil, mustJSON(all)
	out, err := g.decide(ctx, who, p, full, entity, role, all, d, known.ID)
	return out, entity, err
}

// keepFirst keeps what is held as the first version, where the values were entered in another way, so that there is something to go back to.
func (g *Gate) keepFirst(ctx context.Context, p *partner, entity *saml.Entity, text []byte, signedBy string) error {
	var have int64
	if err := g.Store.Read(ctx).Model(&store.PartnerDocument{}).Where("owner_id = ?", p.id).Limit(1).Count(&have).Error; err != nil || have > 0 {
		return store.Clear(err)
	}
	d := g.document(p.kind, p.id, p.watch.Place(), text)
	d.Verdict, d.DecidedBy, d.Changes, d.Content, d.SignedBy, d.ValidUntil = "used", "held already", "[]", contentHash(p.flat()), signedBy, entity.ValidUntil
	return g.Store.Write(ctx, func(tx *gorm.DB) error { return g.keepVersion(tx, d) })
}

// stillWaiting tells of a change that waits for a decision, where nothing new came.
func (g *Gate) stillWaiting(ctx context.Context, p *partner, same *api.Refreshed) (*api.Refreshed, error) {
	var d store.PartnerDocument
	if err := g.Store.Read(ctx).Where("owner_id = ? AND verdict = 'waiting'", p.id).Order("id DESC").Limit(1).Find(&d).Error; err != nil || d.ID == "" {
		return same, store.Clear(err)
	}
	return outcome("waiting", showDocument(&d).Changes, d.ID), nil
}

func outcome(what string, list []api.Change, document string) *api.Refreshed {
	return &api.Refreshed{Outcome: what, Changes: list, Sentences: sentences(list), Document: document}
}

func sentences(list []api.Change) []string {
	out := []string{}
	for _, c := range list {
		out = append(out, capitalise(inWords(c))+".")
	}
	return out
}

// fetchMetadata gets a partner's metadata from its address or its source.
func (g *Gate) fetchMetadata(ctx context.Context, p *partner, w *store.PartnerWatch) (*Got, error) {
	if p.watch.Source != "" {
		return g.fromSource(ctx, p.watch.Source, p.entityID)
	}
	got, err := g.Fetch.Do(ctx, Want{URL: p.watch.URL, ETag: w.ETag, LastModified: w.LastModified})
	if err != nil {
		return nil, &refreshError{"metadata.fetch", capitalise(err.Error()) + "."}
	}
	return got, nil
}

// refuseDocument turns a document that can't be used into a failure, and keeps it as a version once.
func (g *Gate) refuseDocument(ctx context.Context, p *partner, text []byte, u *api.Understood) error {
	code, reason := "metadata.unusable", u.Remark
	for _, problem := range u.Problems {
		if code, reason = problem.Code, problem.Message; problem.Fatal {
			break
		}
	}
	if code == "metadata.no-such-entity" || code == "metadata.wrong-role" || len(u.Entities) > 0 && !slices.ContainsFunc(u.Entities, func(e api.EntityChoice) bool { return e.EntityID == p.entityID }) {
		others := []string{}
		for _, e := range u.Entities[:min(3, len(u.Entities))] {
			others = append(others, e.EntityID)
		}
		code, reason = "metadata.other-entity", fmt.Sprintf("The address no longer gives metadata of %s, but of %v. What we hold was not replaced.", p.entityID, others)
	}
	d := g.document(p.kind, p.id, p.watch.Place(), text)
	d.Verdict, d.Reason, d.Changes = "refused", reason, "[]"
	if len(d.Document) > 1<<20 {
		d.Document = d.Document[:1<<20]
	}
	var last store.PartnerDocument
	if err := g.Store.Read(ctx).Where("owner_id = ?", p.id).Order("id DESC").Limit(1).Find(&last).Error; err != nil {
		return store.Clear(err)
	}
	if last.SHA256 != d.SHA256 && !(last.Verdict == "refused" && last.Reason == reason) {
		if err := g.Store.Write(ctx, func(tx *gorm.DB) error { return g.keepVersion(tx, d) }); err != nil {
			return err
		}
	}
	return &refreshError{code, reason}
}

// decide applies what the policy lets through and keeps the rest for a decision.
func (g *Gate) decide(ctx context.Context, who Actor, p, full *partner, entity *saml.Entity, role *saml.Role, all []api.Change, d *store.PartnerDocument, waiting string) (*api.Refreshed, error) {
	now := g.Now().UTC()
	policy := p.watch.Effective()
	// Metadata that takes the last signing certificate away is a decision for people, whatever the policy.
	if len(config.Parsed(full.certificates(), "signing")) == 0 && len(config.Parsed(p.certificates(), "signing")) > 0 {
		policy = config.PolicyAsk
	}
	apply := full
	if policy == config.PolicyCertificates {
		apply = p.copy()
		apply.give(entity, role, true)
	}
	applied := changes(p.flat(), apply.flat())
	if policy == config.PolicyAsk || len(applied) == 0 {
		if waiting != "" {
			return outcome("waiting", all, waiting), nil
		}
		d.Verdict = "waiting"
		return outcome("waiting", all, d.ID), g.Store.Write(ctx, func(tx *gorm.DB) error { return g.keepVersion(tx, d) })
	}
	if err := g.savePartner(ctx, who, apply); err != nil {
		var p *api.Problem
		if errors.As(err, &p) && p.Status == http.StatusUnprocessableEntity {
			return nil, &refreshError{"metadata.unusable", "The new metadata can't be taken: " + p.Error()}
		}
		return nil, err
	}
	d.Verdict, d.DecidedBy, d.DecidedAt = "used", "policy: "+policy, &now
	what := "applied"
	if len(applied) < len(all) {
		d.Verdict, what = "waiting", "partly"
		d.Changes = mustJSON(changes(apply.flat(), full.flat()))
	}
	return outcome(what, all, d.ID), g.Store.Write(ctx, func(tx *gorm.DB) error { return g.keepVersion(tx, d) })
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

// RefreshDue looks at every address that is due, few at a time.
func (g *Gate) RefreshDue(ctx context.Context) error {
	var due []store.PartnerWatch
	if err := g.Store.Read(ctx).Where("due_at <= ? AND url <> ''", g.Now().UTC()).Order("due_at").Limit(2000).Find(&due).Error; err != nil {
		return store.Clear(err)
	}
	work := make(chan store.PartnerWatch)
	var wait sync.WaitGroup
	for range min(refreshAtOnce, len(due)) {
		wait.Go(func() {
			for w := range work {
				ref, err := g.reference(ctx, w.OwnerKind, w.OwnerID)
				if err == nil && ref.Slug != "" {
					_, err = g.Refresh(ctx, System, w.OwnerKind, ref.Slug)
				}
				if err != nil && ctx.Err() == nil {
					g.Log.ErrorContext(ctx, "refreshing metadata failed inside", "partner", w.OwnerID, "error", err)
				}
			}
		})
	}
	for _, w := range due {
		select {
		case work <- w:
		case <-ctx.Done():
		}
	}
	close(work)
	wait.Wait()
	return ctx.Err()
}

// watch shows how looking after a partner's address goes, with findings about it.
func (g *Gate) watch(ctx context.Context, id, station string, w *config.Watch) (*api.Watch, []checkup.Finding, error) {
	if w.Place() == "" {
		return nil, nil, nil
	}
	var row store.PartnerWatch
	if err := g.Store.Read(ctx).Where("owner_id = ?", id).Limit(1).Find(&row).Error; err != nil {
		return nil, nil, store.Clear(err)
	}
	out := &api.Watch{URL: w.Place(), Policy: w.Effective(), Due: row.DueAt, Checked: row.CheckedAt, Changed: row.ChangedAt, Failures: row.Failures, FailingSince: row.FailingSince, Error: row.Error, Code: row.Code, ValidUntil: row.ValidUntil}
	if pinned := w.Pinned(); pinned != nil {
		out.Pinned = keys.Fingerprint(pinned.Raw)
	}
	var waiting store.PartnerDocument
	if err := g.Store.Read(ctx).Where("owner_id = ? AND verdict = 'waiting'", id).Order("id DESC").Limit(1).Find(&waiting).Error; err != nil {
		return nil, nil, store.Clear(err)
	}
	if waiting.ID != "" {
		out.Waiting = showDocument(&waiting)
	}
	return out, watchFindings(out, station, g.Now()), nil
}

func watchFindings(w *api.Watch, station string, now time.Time) []checkup.Finding {
	var out []checkup.Finding
	if w.Waiting != nil {
		out = append(out, checkup.Finding{Code: "metadata.waiting", Severity: checkup.Attention, Station: station, Title: "Changed metadata waits for a decision", Detail: fmt.Sprintf("%d values differ from what is held; the first: %s", len(w.Waiting.Changes), w.Waiting.Sentences[0]), Remedy: "Look at the changes, and apply or dismiss them."})
	}
	if w.Failures > 0 {
		f := checkup.Finding{Code: "metadata.refresh-failing", Severity: checkup.Attention, Station: station, Title: "The partner's metadata can't be refreshed", Detail: fmt.Sprintf("%d attempts failed since %s. The last good copy goes on being used.", w.Failures, w.FailingSince.UTC().Format(time.RFC3339)), Remedy: "Look at the address; ask the other side whether it moved.", Evidence: []trace.Evidence{explain.Fact("address", w.URL), explain.Fact("reason", w.Error)}}
		if w.ValidUntil != nil && w.ValidUntil.Sub(now) < 48*time.Hour {
			f.Severity = checkup.Broken
			f.Detail += " It ends " + w.ValidUntil.UTC().Format(time.RFC3339) + ", and sign-ins with it."
		}
		out = append(out, f)
	}
	if w.ValidUntil != nil && !now.Before(*w.ValidUntil) {
		out = append(out, checkup.Finding{Code: "metadata.expired", Severity: checkup.Broken, Station: station, Title: "The partner's metadata is over", Detail: "It was valid until " + w.ValidUntil.UTC().Format(time.RFC3339) + "; sign-ins are refused until a later one is taken.", Remedy: "Refresh it, or take a current copy by hand."})
	}
	if w.Pinned == "" && !strings.HasPrefix(w.URL, "source:") && w.Policy != config.PolicyAsk {
		out = append(out, checkup.Finding{Code: "metadata.unsigned-keys", Severity: checkup.Remark, Station: station, Title: "New keys are trusted on the word of an address", Detail: "The metadata is taken without a signature that is checked, so whoever controls the address, or the way to it, can make us trust a key.", Remedy: "Pin the certificate that signs the metadata, or have changes ask."})
	}
	return out
}
