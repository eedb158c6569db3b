package watch

import (
	"context"
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
	"innergate/core/difference"
	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/core/takein"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/fetch"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/store"
)

const (
	refreshAtOnce = 4 // connections at one time
	versionsKept  = 200
)

// RefreshError is a refresh that failed, with its code.
type RefreshError struct{ Code, Reason string }

func (e *RefreshError) Error() string { return e.Reason }

// Refresh looks at a partner's metadata address, and applies or keeps for a decision what changed there.
func (g *Room) Refresh(ctx context.Context, who ground.Actor, kind, slug string) (*api.Refreshed, error) {
	p, err := g.partner(ctx, kind, slug)
	if err != nil {
		return nil, err
	}
	if p.Watch.Place() == "" {
		return nil, ground.Problem(
			http.StatusConflict, "no-address", "There is nothing to refresh",
			"No metadata address is known for "+p.name+".",
			"Take the metadata from its address once, or enter the address among the options.",
		)
	}
	var w store.PartnerWatch
	if err := g.Store.Read(ctx).Where("owner_id = ?", p.id).Take(&w).Error; err != nil {
		return nil, ground.Missing(err, "watch", slug)
	}
	out, entity, err := g.refresh(ctx, who, p, &w)
	now := g.Now().UTC()
	state := map[string]any{"checked_at": now}
	var failed *RefreshError
	switch {
	case errors.As(err, &failed):
		w.Failures++
		state["failures"], state["error"], state["code"] = w.Failures, failed.Reason, failed.Code
		if w.FailingSince == nil {
			state["failing_since"] = now
		}
		state["due_at"] = now.Add(min(takein.RefreshSoonest<<min(w.Failures-1, 5), takein.RefreshUsually))
		out = &api.Refreshed{Outcome: "failed", Changes: []api.Change{}, Sentences: []string{}, Error: failed.Reason, Code: failed.Code}
	case err != nil:
		return nil, err
	default:
		state["failures"], state["failing_since"], state["error"], state["code"] = 0, nil, "", ""
		state["e_tag"], state["last_modified"], state["due_at"] = w.ETag, w.LastModified, now.Add(takein.Interval(p.Watch, entity))
		if entity != nil {
			state["valid_until"] = entity.ValidUntil
		}
		if entity != nil && out.Outcome != "unchanged" {
			state["changed_at"] = now
		}
	}
	return out, g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := partners.NoteWatch(tx, p.id, state); err != nil {
			return err
		}
		// Sign-ins look at the end of what is held, so they must learn of a later one.
		if until, ok := state["valid_until"].(*time.Time); ok && (until == nil) != (w.ValidUntil == nil) ||
			until != nil && w.ValidUntil != nil && until.Sub(*w.ValidUntil).Abs() > time.Hour {
			return store.Changed(tx)
		}
		return nil
	})
}

// refresh fetches, judges and applies. The entity is nil where nothing new came.
func (g *Room) refresh(ctx context.Context, who ground.Actor, p *partner, w *store.PartnerWatch) (*api.Refreshed, *saml.Entity, error) {
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
	u, entity, role := g.read(got.Body, p.role(), api.TakeIn{EntityID: p.entityID}, p.Watch.Pinned())
	if entity == nil {
		return nil, nil, g.refuseDocument(ctx, p, got.Body, u)
	}
	if got.Until != nil && (entity.ValidUntil == nil || got.Until.Before(*entity.ValidUntil)) {
		entity.ValidUntil = got.Until
	}
	if entity.ValidUntil != nil && !g.Now().Before(*entity.ValidUntil) {
		return nil, nil, &RefreshError{
			Code: "metadata.expired",
			Reason: fmt.Sprintf(
				"The metadata at the address was valid until %s and is over.",
				entity.ValidUntil.UTC().Format(time.RFC3339),
			),
		}
	}
	before := p.flat()
	full := p.copy()
	full.give(entity, role, false)
	all := ground.Changes(before, full.flat())
	if len(all) == 0 {
		return same, entity, g.keepFirst(ctx, p, entity, got.Body, u.SignedBy)
	}
	content := difference.Hash(full.flat())
	var known store.PartnerDocument
	if err := g.Store.Read(ctx).Where("owner_id = ? AND content = ? AND verdict IN ('waiting', 'dismissed')", p.id,
		content).Order("id DESC").Limit(1).Find(&known).Error; err != nil {
		return nil, nil, store.Clear(err)
	}
	if known.Verdict == "dismissed" {
		return same, entity, nil
	}
	d := g.Document(p.kind, p.id, p.Watch.Place(), got.Body)
	d.Content, d.SignedBy, d.ValidUntil, d.Changes = content, u.SignedBy, entity.ValidUntil, ground.MustJSON(all)
	out, err := g.decide(ctx, who, p, full, entity, role, all, d, known.ID)
	return out, entity, err
}

// keepFirst keeps what is held as the first version, where the values were entered in another way, so that there is
// something to go back to.
func (g *Room) keepFirst(ctx context.Context, p *partner, entity *saml.Entity, text []byte, signedBy string) error {
	var have int64
	if err := g.Store.Read(ctx).Model(&store.PartnerDocument{}).Where("owner_id = ?", p.id).Limit(1).Count(&have).Error; err != nil ||
		have > 0 {
		return store.Clear(err)
	}
	d := g.Document(p.kind, p.id, p.Watch.Place(), text)
	d.Verdict, d.DecidedBy, d.Changes, d.Content = "used", "held already", "[]", difference.Hash(p.flat())
	d.SignedBy, d.ValidUntil = signedBy, entity.ValidUntil
	return g.Store.Write(ctx, func(tx *gorm.DB) error { return g.KeepVersion(tx, d) })
}

// stillWaiting tells of a change that waits for a decision, where nothing new came.
func (g *Room) stillWaiting(ctx context.Context, p *partner, same *api.Refreshed) (*api.Refreshed, error) {
	var d store.PartnerDocument
	if err := g.Store.Read(ctx).Where("owner_id = ? AND verdict = 'waiting'", p.id).Order("id DESC").Limit(1).Find(&d).Error; err != nil ||
		d.ID == "" {
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
		out = append(out, words.Capitalise(ground.InWords(c))+".")
	}
	return out
}

// fetchMetadata gets a partner's metadata from its address or its source.
func (g *Room) fetchMetadata(ctx context.Context, p *partner, w *store.PartnerWatch) (*fetch.Got, error) {
	if p.Watch.Source != "" {
		return g.Sources.FromSource(ctx, p.Watch.Source, p.entityID)
	}
	got, err := g.Fetch.Do(ctx, fetch.Want{URL: p.Watch.URL, ETag: w.ETag, LastModified: w.LastModified})
	if err != nil {
		return nil, &RefreshError{Code: "metadata.fetch", Reason: words.Capitalise(err.Error()) + "."}
	}
	return got, nil
}

// refuseDocument turns a document that can't be used into a failure, and keeps it as a version once.
func (g *Room) refuseDocument(ctx context.Context, p *partner, text []byte, u *api.Understood) error {
	code, reason := "metadata.unusable", u.Remark
	for _, problem := range u.Problems {
		if code, reason = problem.Code, problem.Message; problem.Fatal {
			break
		}
	}
	if code == "metadata.no-such-entity" || code == "metadata.wrong-role" ||
		len(u.Entities) > 0 && !slices.ContainsFunc(u.Entities, func(e api.EntityChoice) bool { return e.EntityID == p.entityID }) {
		others := []string{}
		for _, e := range u.Entities[:min(3, len(u.Entities))] {
			others = append(others, e.EntityID)
		}
		code, reason = "metadata.other-entity", fmt.Sprintf(
			"The address no longer gives metadata of %s, but of %v. What we hold was not replaced.", p.entityID, others,
		)
	}
	d := g.Document(p.kind, p.id, p.Watch.Place(), text)
	d.Verdict, d.Reason, d.Changes = "refused", reason, "[]"
	if len(d.Document) > 1<<20 {
		d.Document = d.Document[:1<<20]
	}
	var last store.PartnerDocument
	if err := g.Store.Read(ctx).Where("owner_id = ?", p.id).Order("id DESC").Limit(1).Find(&last).Error; err != nil {
		return store.Clear(err)
	}
	if last.SHA256 != d.SHA256 && !(last.Verdict == "refused" && last.Reason == reason) {
		if err := g.Store.Write(ctx, func(tx *gorm.DB) error { return g.KeepVersion(tx, d) }); err != nil {
			return err
		}
	}
	return &RefreshError{Code: code, Reason: reason}
}

// decide applies what the policy lets through and keeps the rest for a decision.
func (g *Room) decide(
	ctx context.Context,
	who ground.Actor,
	p, full *partner,
	entity *saml.Entity,
	role *saml.Role,
	all []api.Change,
	d *store.PartnerDocument,
	waiting string,
) (*api.Refreshed, error) {
	now := g.Now().UTC()
	policy := p.Watch.Effective()
	// Metadata that takes the last signing certificate away is a decision for people, whatever the policy.
	if len(config.Parsed(full.certificates(), "signing")) == 0 && len(config.Parsed(p.certificates(), "signing")) > 0 {
		policy = config.PolicyAsk
	}
	apply := full
	if policy == config.PolicyCertificates {
		apply = p.copy()
		apply.give(entity, role, true)
	}
	applied := ground.Changes(p.flat(), apply.flat())
	if policy == config.PolicyAsk || len(applied) == 0 {
		if waiting != "" {
			return outcome("waiting", all, waiting), nil
		}
		d.Verdict = "waiting"
		return outcome("waiting", all, d.ID), g.Store.Write(ctx, func(tx *gorm.DB) error { return g.KeepVersion(tx, d) })
	}
	if err := g.savePartner(ctx, who, apply); err != nil {
		var p *api.Problem
		if errors.As(err, &p) && p.Status == http.StatusUnprocessableEntity {
			return nil, &RefreshError{Code: "metadata.unusable", Reason: "The new metadata can't be taken: " + p.Error()}
		}
		return nil, err
	}
	d.Verdict, d.DecidedBy, d.DecidedAt = "used", "policy: "+policy, &now
	what := "applied"
	if len(applied) < len(all) {
		d.Verdict, what = "waiting", "partly"
		d.Changes = ground.MustJSON(ground.Changes(apply.flat(), full.flat()))
	}
	return outcome(what, all, d.ID), g.Store.Write(ctx, func(tx *gorm.DB) error { return g.KeepVersion(tx, d) })
}

// RefreshDue looks at every address that is due, few at a time.
func (g *Room) RefreshDue(ctx context.Context) error {
	var due []store.PartnerWatch
	if err := g.Store.Read(ctx).Where("due_at <= ? AND url <> ''", g.Now().UTC()).Order("due_at").Limit(2000).Find(&due).Error; err != nil {
		return store.Clear(err)
	}
	work := make(chan store.PartnerWatch)
	var wait sync.WaitGroup
	for range min(refreshAtOnce, len(due)) {
		wait.Go(func() {
			for w := range work {
				ref, err := g.Reference(ctx, w.OwnerKind, w.OwnerID)
				if err == nil && ref.Slug != "" {
					_, err = g.Refresh(ctx, ground.System, w.OwnerKind, ref.Slug)
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

// Watch shows how looking after a partner's address goes, with findings about it.
func (g *Room) Watch(ctx context.Context, id, station string, w *config.Watch) (*api.Watch, []checkup.Finding, error) {
	if w.Place() == "" {
		return nil, nil, nil
	}
	row, err := store.One[store.PartnerWatch](g.Store.Read(ctx), "owner_id = ?", id)
	if err != nil {
		return nil, nil, err
	}
	out := &api.Watch{
		URL:          w.Place(),
		Policy:       w.Effective(),
		Due:          row.DueAt,
		Checked:      row.CheckedAt,
		Changed:      row.ChangedAt,
		Failures:     row.Failures,
		FailingSince: row.FailingSince,
		Error:        row.Error,
		Code:         row.Code,
		ValidUntil:   row.ValidUntil,
	}
	if pinned := w.Pinned(); pinned != nil {
		out.Pinned = keys.Fingerprint(pinned.Raw)
	}
	var waiting store.PartnerDocument
	if err := g.Store.Read(ctx).Where("owner_id = ? AND verdict = 'waiting'",
		id).Order("id DESC").Limit(1).Find(&waiting).Error; err != nil {
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
		out = append(
			out,
			checkup.Finding{
				Code:     "metadata.waiting",
				Severity: checkup.Attention,
				Station:  station,
				Title:    "Changed metadata waits for a decision",
				Detail:   fmt.Sprintf("%d values differ from what is held; the first: %s", len(w.Waiting.Changes), w.Waiting.Sentences[0]),
				Remedy:   "Look at the changes, and apply or dismiss them.",
			},
		)
	}
	if w.Failures > 0 {
		f := checkup.Finding{
			Code:     "metadata.refresh-failing",
			Severity: checkup.Attention,
			Station:  station,
			Title:    "The partner's metadata can't be refreshed",
			Detail: fmt.Sprintf(
				"%d attempts failed since %s. The last good copy goes on being used.", w.Failures,
				w.FailingSince.UTC().Format(time.RFC3339),
			),
			Remedy:   "Look at the address; ask the other side whether it moved.",
			Evidence: []trace.Evidence{explain.Fact("address", w.URL), explain.Fact("reason", w.Error)},
		}
		if w.ValidUntil != nil && w.ValidUntil.Sub(now) < 48*time.Hour {
			f.Severity = checkup.Broken
			f.Detail += " It ends " + w.ValidUntil.UTC().Format(time.RFC3339) + ", and sign-ins with it."
		}
		out = append(out, f)
	}
	if w.ValidUntil != nil && !now.Before(*w.ValidUntil) {
		out = append(
			out,
			checkup.Finding{
				Code:     "metadata.expired",
				Severity: checkup.Broken,
				Station:  station,
				Title:    "The partner's metadata is over",
				Detail: "It was valid until " + w.ValidUntil.UTC().
					Format(time.RFC3339) +
					"; sign-ins are refused until a later one is taken.",
				Remedy: "Refresh it, or take a current copy by hand.",
			},
		)
	}
	if w.Pinned == "" && !strings.HasPrefix(w.URL, "source:") && w.Policy != config.PolicyAsk {
		out = append(
			out,
			checkup.Finding{
				Code:     "metadata.unsigned-keys",
				Severity: checkup.Remark,
				Station:  station,
				Title:    "New keys are trusted on the word of an address",
				Detail: "The metadata is taken without a signature that is checked, so whoever controls the address, or the way to " +
					"it, can make us trust a key.",
				Remedy: "Pin the certificate that signs the metadata, or have changes ask.",
			},
		)
	}
	return out
}
