package changes

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/config"
	"innergate/core/files"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/signin"
	"innergate/store"
)

// How a proposal stands.
const (
	ProposalOpen      = "open"
	ProposalApproved  = "approved" // and waits for its window, where it has one
	ProposalApplied   = "applied"
	ProposalWithdrawn = "withdrawn"
	ProposalMissed    = "missed" // its window went by
)

const proposalsOpen = 20 // for one object

// Propose keeps a change of an application or provider beside it. Nothing acts on it until somebody applies it; it can
// be rehearsed.
func (g *Room) Propose(ctx context.Context, who ground.Actor, in api.NewProposal) (*api.Proposal, error) {
	row := store.Proposal{
		ID:     store.NewIDAt(g.Now()),
		Kind:   in.Kind,
		Slug:   in.Slug,
		Remark: strings.TrimSpace(in.Remark),
		By:     who.Name,
		ByID:   who.Human(),
		State:  ProposalOpen,
	}
	if err := g.ProposedBody(&row, in.Application, in.Provider); err != nil {
		return nil, err
	}
	if err := g.KeepProposal(ctx, who, &row); err != nil {
		return nil, err
	}
	return g.Proposal(ctx, row.ID)
}

// ProposedBody reads what is proposed: exactly one of the two.
func (g *Room) ProposedBody(row *store.Proposal, a *config.Application, p *config.Provider) error {
	switch {
	case row.Kind == "application" && a != nil && p == nil:
		a.Slug = words.FirstOf(a.Slug, row.Slug)
		if err := a.Validate(); err != nil {
			return ground.Invalid(err)
		}
		row.Slug, row.Name, row.Body = a.Slug, a.Name, ground.MustJSON(a)
	case row.Kind == "provider" && p != nil && a == nil:
		p.Slug = words.FirstOf(p.Slug, row.Slug)
		if err := p.Validate(); err != nil {
			return ground.Invalid(err)
		}
		row.Slug, row.Name, row.Body = p.Slug, p.Name, ground.MustJSON(p)
	default:
		return ground.BadRequest(
			"proposal",
			"A proposal names its kind, application or provider, and brings the whole configuration of one.", "",
		)
	}
	return nil
}

// KeepProposal writes a proposal that was made on what is held now.
func (g *Room) KeepProposal(ctx context.Context, who ground.Actor, row *store.Proposal) error {
	now := g.Now().UTC()
	row.CreatedAt, row.UpdatedAt = now, now
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		var held store.Object
		if err := tx.Table(row.Kind+"s").Where("slug = ?", row.Slug).Limit(1).Find(&held).Error; err != nil {
			return err
		}
		if held.ID == "" {
			return ground.NotFound(row.Kind, row.Slug)
		}
		if held.Body == row.Body && len(row.Secret) == 0 {
			return ground.BadRequest("proposal-same", "This is how "+held.Name+" is set already; there is nothing to propose.", "")
		}
		var open int64
		if err := tx.Model(&store.Proposal{}).Where("object_id = ? AND state IN ?", held.ID,
			[]string{ProposalOpen, ProposalApproved}).Count(&open).Error; err != nil {
			return err
		}
		if open >= proposalsOpen {
			return ground.Conflict(
				"proposals-many", fmt.Sprintf("%d changes of %s are proposed already.", open, held.Name),
				"Decide about these first.",
			)
		}
		row.ObjectID, row.Base, row.Before = held.ID, held.Revision, held.Body
		if err := tx.Create(row).Error; err != nil {
			return err
		}
		return ground.Journal(tx, now, who, "proposed a change of", row.Kind, held.ID, held.Name, held.Body, row.Body)
	})
}

// Proposals lists them, the newest first.
func (g *Room) Proposals(ctx context.Context, p store.Page, kind, slug, state string) (*api.List[api.Proposal], error) {
	db := g.Store.Read(ctx).Omit("document")
	for where, arg := range map[string]string{"kind = ?": kind, "slug = ?": slug} {
		if arg != "" {
			db = db.Where(where, arg)
		}
	}
	switch state {
	case "":
	case "waiting": // for somebody or something
		db = db.Where("state IN ?", []string{ProposalOpen, ProposalApproved})
	default:
		db = db.Where("state = ?", state)
	}
	if p.After != "" {
		db = db.Where("id < ?", p.After)
	}
	var rows []store.Proposal
	if err := db.Order("id DESC").Limit(ground.LimitOf(p) + 1).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	return ground.PageOf(p, rows, func(r *store.Proposal) string { return r.ID }, func(r *store.Proposal) (*api.Proposal, error) {
		return g.proposalView(ctx, r)
	})
}

// Proposal shows one with what it would change, and with what was changed meanwhile.
func (g *Room) Proposal(ctx context.Context, id string) (*api.Proposal, error) {
	row, err := g.partners.ProposalRow(ctx, id)
	if err != nil {
		return nil, err
	}
	v, err := g.proposalView(ctx, row)
	if err != nil || row.State != ProposalOpen && row.State != ProposalApproved {
		return v, err
	}
	merged, meanwhile, err := g.onTop(g.Store.Read(ctx), row)
	if err != nil {
		return nil, err
	}
	v.Meanwhile = meanwhile
	if merged == "" {
		return v, nil
	}
	// What people would notice is found out by making it aside.
	who := ground.System
	r, err := g.change(ctx, who, true, func(at *Room, tx *gorm.DB) (*plan, error) { return at.planBody(tx, row, merged) })
	var p *api.Problem
	switch {
	case err == nil:
		v.Effects = words.List(r.Words)
	case asProblem(err, &p):
		v.Broken = p.Detail
	default:
		return nil, err
	}
	return v, nil
}

func (g *Room) proposalView(ctx context.Context, row *store.Proposal) (*api.Proposal, error) {
	review, err := g.ReviewRules(ctx)
	if err != nil {
		return nil, err
	}
	return &api.Proposal{
		ID:          row.ID,
		Kind:        row.Kind,
		Slug:        row.Slug,
		Name:        row.Name,
		Base:        row.Base,
		Remark:      row.Remark,
		By:          row.By,
		Theirs:      row.Origin != "",
		Secret:      len(row.Secret) > 0,
		State:       row.State,
		Created:     row.CreatedAt,
		Updated:     row.UpdatedAt,
		ApprovedBy:  row.ApprovedBy,
		ApprovedAt:  row.ApprovedAt,
		From:        row.FromAt,
		Until:       row.UntilAt,
		DecidedBy:   row.DecidedBy,
		DecidedAt:   row.DecidedAt,
		Note:        row.Note,
		NeedsSecond: review.Second,
		Changes:     ground.BodyChanges(row.Before, row.Body),
		Effects:     []string{},
	}, nil
}

// ReviewRules is which changes need a second person.
func (g *Room) ReviewRules(ctx context.Context) (config.Review, error) {
	var row store.Setting
	if err := g.Store.Read(ctx).Where("name = ?", files.SettingReview).Limit(1).Find(&row).Error; err != nil || row.Value == "" {
		return config.Review{}, store.Clear(err)
	}
	return ground.DecodeBody[config.Review](row.Value)
}

// Review tells it, SetReview says it.
func (g *Room) Review(ctx context.Context) (*config.Review, error) {
	r, err := g.ReviewRules(ctx)
	return &r, err
}

// SetReview says which changes need a second person.
func (g *Room) SetReview(ctx context.Context, who ground.Actor, r config.Review) (*config.Review, error) {
	before, err := g.ReviewRules(ctx)
	if err != nil {
		return nil, err
	}
	return &r, g.Store.Write(ctx, func(tx *gorm.DB) error {
		return g.WriteSetting(tx, who, files.SettingReview, specOf(files.SettingReview).words, before, r)
	})
}

// onTop lays a proposal on what is held now. Where the object was changed meanwhile, it tells by whom and how; where
// both changed the same, there is no body.
func (g *Room) onTop(db *gorm.DB, row *store.Proposal) (string, *api.Meanwhile, error) {
	var held store.Object
	if err := db.Table(row.Kind+"s").Where("id = ?", row.ObjectID).Limit(1).Find(&held).Error; err != nil {
		return "", nil, store.Clear(err)
	}
	if held.ID == "" {
		return "", nil, ground.Problem(
			http.StatusConflict, "proposal-gone", "It is not there any more", row.Name+" was deleted meanwhile.",
			"Withdraw the proposal, or restore what was deleted.",
		)
	}
	if held.Body == row.Before {
		return row.Body, nil, nil
	}
	m, err := g.configuration.Meanwhile(db, held.ID, held.Revision, row.Before, held.Body, row.Body)
	if err != nil {
		return "", nil, err
	}
	merged, both := files.Merge(row.Before, held.Body, row.Body)
	if m.Both = both; len(both) > 0 {
		return "", m, nil
	}
	return merged, m, nil
}

// planBody is the plan of giving an object a body.
func (g *Room) planBody(tx *gorm.DB, row *store.Proposal, body string) (*plan, error) {
	h, err := g.heldObjects(tx)
	if err != nil {
		return nil, err
	}
	o := files.Object{Kind: row.Kind, Slug: row.Slug, Name: row.Name, Body: body}
	if o.Body, err = files.Normal(o); err != nil {
		return nil, ground.Problem(
			http.StatusUnprocessableEntity, "no-longer-valid", "It can't be made any more",
			words.Capitalise(err.Error())+".", "Change the proposal, or withdraw it.",
		)
	}
	p := &plan{}
	p.steps, p.unchanged = files.Compare(h, []files.Object{o}, nil)
	return p, nil
}

// ChangeProposal replaces what is proposed; whoever had approved it has to look again.
func (g *Room) ChangeProposal(ctx context.Context, who ground.Actor, id string, in api.NewProposal) (*api.Proposal, error) {
	row, err := g.waiting(ctx, id)
	if err != nil {
		return nil, err
	}
	changed := *row
	if in.Kind != row.Kind || in.Slug != "" && in.Slug != row.Slug {
		return nil, ground.BadRequest("proposal-other", "A proposal stays with the "+row.Kind+" "+row.Slug+".", "Make another one.")
	}
	if err := g.ProposedBody(&changed, in.Application, in.Provider); err != nil {
		return nil, err
	}
	if changed.Slug != row.Slug {
		return nil, ground.BadRequest("slug-fixed", "The short name can't change: it stands in addresses that others hold.", "")
	}
	err = g.settleProposal(
		ctx,
		who,
		row,
		"changed the proposal for",
		map[string]any{
			"body":        changed.Body,
			"name":        changed.Name,
			"remark":      words.FirstOf(in.Remark, row.Remark),
			"by":          who.Name,
			"state":       ProposalOpen,
			"approved_by": "",
			"approved_at": nil,
			"from_at":     nil,
			"until_at":    nil,
		},
	)
	if err != nil {
		return nil, err
	}
	return g.Proposal(ctx, id)
}

func (g *Room) waiting(ctx context.Context, id string) (*store.Proposal, error) {
	row, err := g.partners.ProposalRow(ctx, id)
	if err != nil {
		return nil, err
	}
	if row.State != ProposalOpen && row.State != ProposalApproved {
		return nil, ground.Conflict("proposal-over", fmt.Sprintf("This proposal was %s already.", row.State), "Make another one.")
	}
	return row, nil
}

// settleProposal changes a proposal that still waits, once, and notes it.
func (g *Room) settleProposal(ctx context.Context, who ground.Actor, row *store.Proposal, action string, fields map[string]any) error {
	return g.Store.Write(ctx, func(tx *gorm.DB) error { return decideIn(tx, g.Now().UTC(), who, row, action, fields) })
}

const proposalOver = "proposal-over"

func decideIn(tx *gorm.DB, now time.Time, who ground.Actor, row *store.Proposal, action string, fields map[string]any) error {
	if fields["updated_at"] = now; fields["state"] != ProposalOpen && fields["state"] != ProposalApproved {
		fields["secret"] = nil // it is kept with the provider now, or nowhere
	}
	done := tx.Model(&store.Proposal{}).Where("id = ? AND state = ? AND updated_at = ?", row.ID, row.State, row.UpdatedAt).Updates(fields)
	if done.Error != nil {
		return done.Error
	}
	if done.RowsAffected == 0 {
		return ground.Conflict(proposalOver, "Somebody else has just decided about this proposal.", "Look at it again.")
	}
	return ground.Journal(tx, now, who, action, row.Kind, row.ObjectID, row.Name, "", row.ID)
}

// ApproveProposal is a second person's word for a proposal. Nobody approves their own.
func (g *Room) ApproveProposal(ctx context.Context, who ground.Actor, id string) (*api.Proposal, error) {
	row, err := g.waiting(ctx, id)
	if err != nil {
		return nil, err
	}
	if who.Is(row.ByID, row.By) {
		return nil, ground.Problem(
			http.StatusForbidden, "own-proposal", "A second person must look at it", "You proposed this yourself.",
			"Ask somebody else with the role engineer.",
		)
	}
	// Nobody can tell whether it was the other side who opened a link; whoever made it is therefore not the second
	// person.
	if id, left := strings.CutPrefix(row.Origin, ground.HandoverAbout); left {
		link, err := store.One[store.Handover](g.Store.Read(ctx), "id = ?", id)
		if err != nil {
			return nil, err
		}
		if who.Is(link.ByID, link.By) {
			return nil, ground.Problem(
				http.StatusForbidden, "own-proposal", "A second person must look at it",
				"It was left through a handover link that you made yourself.",
				"Ask somebody else with the role engineer.",
			)
		}
	}
	now := g.Now().UTC()
	if err := g.settleProposal(ctx, who, row, "approved a change of",
		map[string]any{"state": ProposalApproved, "approved_by": who.Name, "approved_at": now}); err != nil {
		return nil, err
	}
	return g.Proposal(ctx, id)
}

// WithdrawProposal ends one without making the change.
func (g *Room) WithdrawProposal(ctx context.Context, who ground.Actor, id, note string) (*api.Proposal, error) {
	row, err := g.waiting(ctx, id)
	if err != nil {
		return nil, err
	}
	if err := g.settleProposal(ctx, who, row, "withdrew a change of",
		map[string]any{"state": ProposalWithdrawn, "decided_by": who.Name, "decided_at": g.Now().UTC(),
			"note": words.Clip(strings.TrimSpace(note), 1000)}); err != nil {
		return nil, err
	}
	return g.Proposal(ctx, id)
}

// ApplyProposal makes the change now, or says in which window the gate makes it by itself.
func (g *Room) ApplyProposal(ctx context.Context, who ground.Actor, id string, in api.ApplyProposal) (*api.Proposal, error) {
	row, err := g.waiting(ctx, id)
	if err != nil {
		return nil, err
	}
	if err := g.approved(ctx, row); err != nil {
		return nil, err
	}
	if in.From == nil {
		if in.Until != nil {
			return nil, ground.BadRequest("window", "A window has a beginning.", "")
		}
		if err := g.apply(ctx, who, row); err != nil {
			return nil, err
		}
		return g.Proposal(ctx, id)
	}
	switch until := in.Until; {
	case until == nil:
		end := in.From.Add(time.Hour)
		in.Until = &end
	case !until.After(*in.From) || !until.After(g.Now()):
		return nil, ground.BadRequest("window", "The window ends before it begins, or is over.", "")
	}
	from, until := in.From.UTC(), in.Until.UTC()
	if err := g.settleProposal(ctx, who, row, "planned a change of",
		map[string]any{"state": ProposalApproved, "from_at": from, "until_at": until, "decided_by": who.Name}); err != nil {
		return nil, err
	}
	return g.Proposal(ctx, id)
}

// approved refuses a proposal that needs a second person and has none.
func (g *Room) approved(ctx context.Context, row *store.Proposal) error {
	review, err := g.ReviewRules(ctx)
	if err == nil && review.Second && row.ApprovedBy == "" {
		err = ground.Problem(
			http.StatusConflict, "needs-second", "A second person must look at it",
			"Nobody has approved this proposal yet; here changes of what serves people need two.",
			"Have somebody other than "+row.By+" approve it.",
		)
	}
	return err
}

// apply makes the change, together with the note that it was made. A second person may have come to be needed since it
// was planned.
func (g *Room) apply(ctx context.Context, who ground.Actor, row *store.Proposal) error {
	if err := g.approved(ctx, row); err != nil {
		return err
	}
	who.Remark = words.FirstOf(row.Remark, "proposed by "+row.By)
	if !who.Is(row.ByID, row.By) {
		who.Remark = words.FirstOf(row.Remark, "as proposed") + " (proposed by " + row.By + ")"
	}
	if row.ApprovedBy != "" {
		who.Remark += " (approved by " + row.ApprovedBy + ")"
	}
	who.Approved = true
	now := g.Now().UTC()
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		body, m, err := g.onTop(tx, row)
		if err != nil {
			return err
		}
		if body == "" {
			p := ground.Problem(
				http.StatusConflict,
				"changed-meanwhile",
				"Somebody else changed the same",
				fmt.Sprintf(
					"%s changed %s since this was proposed, in %s as well; nothing was changed.", m.By, row.Name,
					strings.Join(m.Both, ", "),
				),
				"Look at both changes, and propose what shall hold.",
			)
			p.Meanwhile = m
			return p
		}
		p, err := g.planBody(tx, row, body)
		if err != nil {
			return err
		}
		if len(row.Secret) > 0 {
			value, err := g.partners.LeftSecret(row)
			if err != nil {
				return err
			}
			p.secrets = []readySecret{{ref: files.Secret{For: "providers/" + row.Slug}, value: value}}
		}
		if err := g.carryOut(ctx, tx, who, p); err != nil {
			return err
		}
		return decideIn(
			tx,
			now,
			who,
			row,
			"applied a change of",
			map[string]any{"state": ProposalApplied, "decided_by": who.Name, "decided_at": now},
		)
	})
	if err != nil || len(row.Document) == 0 {
		return err
	}
	// The change is made; that the document is kept beside it is of no weight for that.
	if err := g.watch.KeepLeft(ctx, who, row); err != nil {
		g.Log.ErrorContext(ctx, "what the other side left could not be kept beside what was made of it", "object", row.Slug, "error", err)
	}
	return nil
}

// ApplyDue makes the changes whose window has come, and gives up those whose window went by.
func (g *Room) ApplyDue(ctx context.Context) error {
	now := g.Now().UTC()
	var rows []store.Proposal
	if err := g.Store.Read(ctx).Where("state = ? AND from_at IS NOT NULL AND from_at <= ?", ProposalApproved,
		now).Order("from_at").Limit(50).Find(&rows).Error; err != nil {
		return store.Clear(err)
	}
	for i := range rows {
		row := &rows[i]
		// What another process has decided meanwhile is passed over.
		err := g.Attempt(ctx, "proposal/"+row.ID, "Making the planned change of "+row.Name, func() error {
			return g.applyOne(ctx, row,
				now)
		})
		if err != nil && !isOver(err) {
			return err
		}
	}
	return nil
}

// applyOne makes a planned change, or notes why it can't be made.
func (g *Room) applyOne(ctx context.Context, row *store.Proposal, now time.Time) error {
	who := ground.Actor{ID: ground.System.ID, Name: row.DecidedBy, Role: ground.RoleOwner, Kind: ground.System.Kind, From: "in the window"}
	note := "Its window went by while the service did not run, or could not make it."
	if row.UntilAt == nil || now.Before(*row.UntilAt) {
		err := g.apply(ctx, who, row)
		if err == nil || isOver(err) || !ground.Refused(err) {
			return err
		}
		note = words.Capitalise(words.Clip(err.Error(), 900))
	}
	if err := g.settleProposal(ctx, who, row, "could not make a change of",
		map[string]any{"state": ProposalMissed, "decided_at": now, "note": note}); err != nil {
		return err
	}
	g.Log.WarnContext(ctx, "a planned change was not made", "object", row.Slug, "reason", note)
	return nil
}

// isOver says whether somebody else has decided about a proposal.
func isOver(err error) bool {
	var p *api.Problem
	return errors.As(err, &p) && p.Code == proposalOver
}

// RehearseProposal has a proposed change hold in a rehearsal.
func (g *Room) RehearseProposal(ctx context.Context, n *api.NewRehearsal, r *store.Rehearsal) error {
	if n.Proposal == "" {
		return nil
	}
	row, err := g.waiting(ctx, n.Proposal)
	if err != nil {
		return err
	}
	if row.Kind == "application" {
		if n.Application == "" {
			n.Application = row.Slug
		}
		if n.Application != row.Slug {
			return ground.BadRequest("proposal-other", "The proposal is for "+row.Name+", and the rehearsal for another application.", "")
		}
	}
	r.About = "proposal/" + row.ID
	r.Override = ground.MustJSON(signin.Overriding{
		Kind:     row.Kind,
		ID:       row.ObjectID,
		Body:     row.Body,
		Proposal: row.ID,
		Why:      fmt.Sprintf("the change of %s that %s proposed", row.Name, row.By),
	})
	return nil
}

func asProblem(err error, p **api.Problem) bool {
	found, ok := err.(*api.Problem)
	*p = found
	return ok
}
