package exchange

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/address"
	"innergate/core/config"
	"innergate/core/difference"
	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/changes"
	"innergate/gate/fetch"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/gate/rehearsal"
	"innergate/gate/signin"
	"innergate/gate/traces"
	"innergate/gate/watch"
	"innergate/store"
)

const (
	handoverLeft       = 20 // what may be left through one link
	handoverRehearsals = 30
	handoverText       = 512 << 10
)

// HandoverPage is what the other side's engineer sees.
type HandoverPage struct {
	ID, Kind, Name, By, Remark string
	Ends                       time.Time
	Remaining                  int // browsers that may still open it
	Opened                     bool
	Sheet                      *api.ExchangeSheet
	Certificates               []HandoverCertificate
	Downloads                  []api.Download // what everybody may fetch
	// What came of comparing, and of looking at what is to be left.
	Compared   *api.ComparedSheet
	Understood *api.Understood
	// Entered is kept so that nothing is typed twice.
	Entered struct {
		Compare string
		HandoverLeave
	}
	Client bool // the provider knows us by a client ID, and perhaps a secret
	Wrong  string
	Thanks bool
	Left   []HandoverLeft
	Tried  []HandoverTried
	CanTry string // why a sign-in can't be tried yet; empty where it can
}

// HandoverLeave is what the other side leaves. ClientID and Secret are for OpenID providers.
type HandoverLeave struct{ Text, Certificate, ClientID, Secret, Remark string }

// HandoverCertificate is a certificate of ours as a file.
type HandoverCertificate struct{ Name, File, PEM string }

// HandoverLeft is what was left, and what became of it.
type HandoverLeft struct {
	At            time.Time
	State, Remark string
	Secret        bool // a client secret came with it, and still waits
	Changes       []api.Change
}

// HandoverTried is a sign-in that was tried, told without anything that is ours alone.
type HandoverTried struct {
	At                  time.Time
	Reference           string
	Good, Going         bool
	Title, Cause, Their string
	Came, Goes          []HandoverValue
}

// HandoverValue is an attribute of the test account.
type HandoverValue struct {
	Name   string
	Values []string
}

var errHandoverOver = &api.Problem{
	Type:   "about:blank",
	Status: http.StatusGone,
	Title:  "This link is over",
	Code:   "handover-over",
	Detail: "The link was revoked, its time is over, or it was opened in as many browsers as it may be.",
	Remedy: "Ask whoever gave it to you for another one.",
}

// handoverBy finds a link by its token, and the browser's opening of it.
func (g *Room) handoverBy(ctx context.Context, b signin.Browser, token, cookie string) (*store.Handover, *store.HandoverOpening, error) {
	var row store.Handover
	err := g.Store.Read(ctx).Where("token_hash = ?", keys.HashSecret(token)).Take(&row).Error
	if errors.Is(err, store.ErrNotFound) {
		// Whoever tries many is stopped; a person with an old link is not.
		if err := g.Guessing(ctx, "handover:"+b.Address, 30); err != nil {
			return nil, nil, err
		}
		return nil, nil, errHandoverOver
	}
	if err != nil {
		return nil, nil, store.Clear(err)
	}
	if row.RevokedAt != nil || !g.Now().Before(row.ExpiresAt) {
		return nil, nil, errHandoverOver
	}
	id, secret, _ := strings.Cut(cookie, ".")
	var o store.HandoverOpening
	if id != "" {
		if err := g.Store.Read(ctx).Where("id = ? AND handover_id = ?", id, row.ID).Limit(1).Find(&o).Error; err != nil {
			return nil, nil, store.Clear(err)
		}
	}
	if o.ID == "" || !keys.SecretFits(o.SecretHash, secret) {
		return &row, nil, nil
	}
	return &row, &o, nil
}

// HandoverID is the ID of a link, by which a browser keeps its opening.
func (g *Room) HandoverID(ctx context.Context, b signin.Browser, token string) (string, error) {
	row, _, err := g.handoverBy(ctx, b, token, "")
	if err != nil {
		return "", err
	}
	return row.ID, nil
}

// OpenHandover opens a link in a browser, as one of as many as it is for. It returns what the browser is to keep.
func (g *Room) OpenHandover(ctx context.Context, b signin.Browser, token, cookie string) (string, error) {
	row, o, err := g.handoverBy(ctx, b, token, cookie)
	if err != nil || o != nil {
		return cookie, err
	}
	secret, now := keys.NewSecret(), g.Now().UTC()
	opening := store.HandoverOpening{
		ID:         store.NewIDAt(now),
		HandoverID: row.ID,
		SecretHash: keys.HashSecret(secret),
		Address:    b.Address,
		Device:     words.Clip(b.Device, 400),
		FirstAt:    now,
		LastAt:     now,
	}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		var n int64
		if err := tx.Model(&store.HandoverOpening{}).Where("handover_id = ?", row.ID).Count(&n).Error; err != nil {
			return err
		}
		if int(n) >= row.Most {
			return errHandoverOver
		}
		if err := tx.Create(&opening).Error; err != nil {
			return err
		}
		return ground.Journal(
			tx,
			now,
			ground.Actor{Name: "the other side", From: b.Address},
			"opened a handover link for",
			row.Kind,
			row.ObjectID,
			row.ID,
			"",
			words.Device(b.Device),
		)
	})
	return opening.ID + "." + secret, err
}

// Handover shows the page behind a link. Before this browser has opened it, it only tells what it is.
func (g *Room) Handover(ctx context.Context, b signin.Browser, token, cookie string) (*HandoverPage, error) {
	row, o, err := g.handoverBy(ctx, b, token, cookie)
	if err != nil {
		return nil, err
	}
	p := &HandoverPage{ID: row.ID, Kind: row.Kind, By: row.By, Ends: row.ExpiresAt, Opened: o != nil}
	slug, err := g.handoverObject(ctx, row, p)
	if err != nil {
		return nil, err
	}
	if o == nil {
		var n int64
		if err := g.Store.Read(ctx).Model(&store.HandoverOpening{}).Where("handover_id = ?", row.ID).Count(&n).Error; err != nil {
			return nil, store.Clear(err)
		}
		if p.Remaining = row.Most - int(n); p.Remaining <= 0 {
			return nil, errHandoverOver
		}
		return p, nil
	}
	if g.Now().Sub(o.LastAt) > time.Minute {
		if err := g.Store.Write(ctx, func(tx *gorm.DB) error {
			return tx.Model(&store.HandoverOpening{}).Where("id = ?", o.ID).Update("last_at", g.Now().UTC()).Error
		}); err != nil {
			return nil, err
		}
	}
	p.Remark = row.Remark
	if p.Sheet, err = g.sheet(ctx, row.Kind, slug); err != nil {
		return nil, err
	}
	if row.Kind == "provider" {
		held, err := g.partners.Provider(ctx, slug)
		if err != nil {
			return nil, err
		}
		p.Client = held.OIDC != nil
	}
	for _, d := range p.Sheet.Downloads {
		if !strings.Contains(d.URL, "/api/") {
			p.Downloads = append(p.Downloads, d)
		}
	}
	for _, v := range p.Sheet.Values {
		if v.Kind == "certificate" {
			p.Certificates = append(
				p.Certificates,
				HandoverCertificate{Name: v.Name, File: g.Host() + "-" + config.Slug(v.Name) + ".pem", PEM: v.Value},
			)
		}
	}
	if err := g.handoverLeft(ctx, row, p); err != nil {
		return nil, err
	}
	return p, g.handoverTried(ctx, row, slug, p)
}

func (g *Room) handoverObject(ctx context.Context, row *store.Handover, p *HandoverPage) (string, error) {
	ref, err := g.Reference(ctx, row.Kind, row.ObjectID)
	if err != nil {
		return "", err
	}
	if ref.Slug == "" {
		return "", errHandoverOver
	}
	p.Name = ref.Name
	return ref.Slug, nil
}

func (g *Room) handoverLeft(ctx context.Context, row *store.Handover, p *HandoverPage) error {
	var rows []store.Proposal
	if err := g.Store.Read(ctx).Omit("document").Where("origin = ?",
		ground.HandoverAbout+row.ID).Order("id DESC").Limit(handoverLeft).Find(&rows).Error; err != nil {
		return store.Clear(err)
	}
	for i := range rows {
		p.Left = append(
			p.Left,
			HandoverLeft{
				At:      rows[i].CreatedAt,
				State:   rows[i].State,
				Remark:  rows[i].Remark,
				Secret:  len(rows[i].Secret) > 0,
				Changes: theirChanges(&rows[i]),
			},
		)
	}
	return nil
}

// theirChanges are the values of a proposal that are the other side's own.
func theirChanges(row *store.Proposal) []api.Change {
	read := func(body string) any {
		if row.Kind == "application" {
			a, _ := ground.DecodeBody[config.Application](body) // it was written by us
			return a
		}
		p, _ := ground.DecodeBody[config.Provider](body)
		return p
	}
	var before, after []difference.Line
	for _, side := range []struct {
		body string
		into *[]difference.Line
	}{{row.Before, &before}, {row.Body, &after}} {
		for _, l := range difference.Flat(read(side.body)) {
			if ours := l.Field == "name" || strings.HasPrefix(l.Field, "sends ") || l.Field == "subject" ||
				l.Field == "inner address"; !ours {
				*side.into = append(*side.into, l)
			}
		}
	}
	return ground.Changes(before, after)
}

// opened is a link that this browser has opened, with the short name of what it is for.
func (g *Room) opened(ctx context.Context, b signin.Browser, token, cookie string) (*store.Handover, string, error) {
	row, o, err := g.handoverBy(ctx, b, token, cookie)
	if err != nil {
		return nil, "", err
	}
	if o == nil {
		return nil, "", errHandoverOver
	}
	slug, err := g.handoverObject(ctx, row, &HandoverPage{})
	return row, slug, err
}

// CompareHandover holds what the other side's form shows against our values. Nothing is kept.
func (g *Room) CompareHandover(ctx context.Context, b signin.Browser, token, cookie, text string) (*HandoverPage, error) {
	ctx = fetch.ForOutsider(ctx)
	row, slug, err := g.opened(ctx, b, token, cookie)
	if err != nil {
		return nil, err
	}
	p, err := g.Handover(ctx, b, token, cookie)
	if err != nil {
		return nil, err
	}
	p.Entered.Compare = words.Clip(text, handoverText)
	if p.Compared, err = g.CompareSheet(ctx, row.Kind, slug, text); err != nil {
		return p.wrong(err)
	}
	return p, nil
}

// wrong keeps what was entered, and says what is wrong with it.
func (p *HandoverPage) wrong(err error) (*HandoverPage, error) {
	var known *api.Problem
	if !errors.As(err, &known) || known.Status >= 500 && known.Code != "fetch-failed" {
		return nil, err
	}
	p.Wrong = known.Detail
	for _, f := range known.Fields {
		p.Wrong += " " + words.Capitalise(f.Message) + "."
	}
	return p, nil
}

// LeaveHandover reads what the other side leaves: metadata or values, a certificate, who we are there. Unless it is
// only looked at, it waits as a proposal until somebody of ours has approved it.
func (g *Room) LeaveHandover(
	ctx context.Context,
	b signin.Browser,
	token, cookie string,
	l HandoverLeave,
	look bool,
) (*HandoverPage, error) {
	ctx = fetch.ForOutsider(ctx)
	row, slug, err := g.opened(ctx, b, token, cookie)
	if err != nil {
		return nil, err
	}
	p, err := g.Handover(ctx, b, token, cookie)
	if err != nil {
		return nil, err
	}
	text, certificate := l.Text, l.Certificate
	l.ClientID, l.Secret = strings.TrimSpace(l.ClientID), strings.TrimSpace(l.Secret)
	p.Entered.HandoverLeave = HandoverLeave{
		Text:        words.Clip(text, handoverText),
		Certificate: words.Clip(certificate, 64<<10),
		ClientID:    words.Clip(l.ClientID, 1000),
		Remark:      words.Clip(strings.TrimSpace(l.Remark), 2000),
	}
	if len(text) > handoverText {
		p.Wrong = fmt.Sprintf("The text has more than %d KiB.", handoverText>>10)
		return p, nil
	}
	if err := g.Guessing(ctx, "left:"+row.ID, 60); err != nil {
		return p.wrong(err)
	}
	if strings.TrimSpace(text) == "" && strings.TrimSpace(certificate) != "" {
		text, certificate = certificate, ""
	}
	in := api.TakeIn{Text: text, Certificate: certificate}
	proposal := store.Proposal{
		ID:     store.NewIDAt(g.Now()),
		Kind:   row.Kind,
		Slug:   slug,
		Remark: p.Entered.Remark,
		By:     "the other side of " + p.Name,
		Origin: ground.HandoverAbout + row.ID,
		State:  changes.ProposalOpen,
	}
	var u *api.Understood
	var doc []byte
	switch {
	case row.Kind == "application":
		u, doc, err = g.watch.UnderstandApplication(ctx, slug, in)
	case p.Client && strings.TrimSpace(text) == "" && l.ClientID+l.Secret != "":
		u, err = &api.Understood{}, nil
	default:
		u, doc, err = g.watch.UnderstandProvider(ctx, slug, in)
	}
	if err == nil && p.Client {
		err = g.whoWeAre(ctx, slug, l, u)
	}
	if err != nil {
		return p.wrong(err)
	}
	if u.App == nil && u.Provider == nil {
		return p.wrong(watch.Refusal(u))
	}
	p.Understood = u
	if look {
		return p, nil
	}
	if len(p.Left) >= handoverLeft {
		p.Wrong = "Much was left through this link already; ask for another one."
		return p, nil
	}
	if err := g.changes.ProposedBody(&proposal, u.App, u.Provider); err != nil {
		return p.wrong(err)
	}
	if proposal.Document, proposal.Source, proposal.Beside = doc, sourceOf(in), certificate; l.Secret != "" && p.Client {
		proposal.Secret = g.Store.Sealer.Seal(store.PlaceProposal, proposal.ID, []byte(l.Secret))
	}
	if err := g.changes.KeepProposal(ctx, ground.Actor{Name: "the other side", From: b.Address}, &proposal); err != nil {
		return p.wrong(err)
	}
	if p, err = g.Handover(ctx, b, token, cookie); err != nil {
		return nil, err
	}
	p.Thanks = true
	return p, nil
}

// whoWeAre puts the client ID that an OpenID provider gave us into what was understood of it, or into what is held
// where nothing else was left, and looks at the secret.
func (g *Room) whoWeAre(ctx context.Context, slug string, l HandoverLeave, u *api.Understood) error {
	held, err := g.partners.Provider(ctx, slug)
	if err != nil {
		return err
	}
	if u.Provider == nil {
		if len(u.Problems)+len(u.Entities) > 0 || l.ClientID+l.Secret == "" {
			return nil
		}
		p := held.Provider
		own := *held.OIDC
		p.OIDC, u.Provider = &own, &p
	}
	if u.Provider.OIDC == nil {
		return nil
	}
	if l.ClientID != "" {
		u.Provider.OIDC.ClientID = l.ClientID
		u.Changes = ground.Changes(difference.Flat(held.Provider), difference.Flat(*u.Provider))
	}
	if l.Secret == "" {
		return nil
	}
	return partners.SecretLooksWrong(l.Secret, u.Provider.OIDC.ClientID)
}

func sourceOf(in api.TakeIn) string {
	if t := strings.TrimSpace(in.Text); len(t) < 2000 && !strings.ContainsAny(t, " \n<{") && address.Origin(t) != "" {
		return t
	}
	return ""
}

// handoverTried tells what came of the sign-ins that were tried through a link, and whether another can be.
func (g *Room) handoverTried(ctx context.Context, row *store.Handover, slug string, p *HandoverPage) error {
	list, err := g.handoverTraces(ctx, row.ID)
	if err != nil {
		return err
	}
	for _, t := range list {
		_, entries, err := g.traces.TraceEntries(ctx, t.Reference)
		if err != nil {
			return err
		}
		p.Tried = append(p.Tried, tried(t, entries))
	}
	n, proposal, err := g.handoverOrder(ctx, row, slug)
	if n.Proposal = proposal; err == nil {
		var r store.Rehearsal
		if err = g.changes.RehearseProposal(ctx, &n, &r); err == nil {
			_, err = g.rehearsal.Rehearsed(ctx, &n, &r)
		}
	}
	var known *api.Problem
	if errors.As(err, &known) {
		p.CanTry = known.Detail
		return nil
	}
	return err
}

// tried tells about a sign-in what concerns the other side: how it ended, what it must change, and what came and would
// go. Nothing else of the trace leaves the house.
func tried(t store.Trace, entries []trace.Entry) HandoverTried {
	out := HandoverTried{
		At:        t.StartedAt,
		Reference: t.Reference,
		Good:      t.Outcome == "signed-in" || t.Outcome == "stopped",
		Going:     !traces.Ended(t.Outcome),
	}
	for _, e := range entries {
		if v := e.Value; v != nil && len(v.Output) > 0 {
			one := HandoverValue{Name: v.Rule, Values: v.Output}
			if v.Direction == "out" {
				out.Goes = append(out.Goes, one)
			} else {
				out.Came = append(out.Came, one)
			}
		}
		if f := e.Failure; f != nil && out.Title == "" {
			x := (&explain.Failure{Code: explain.Code(f.Code), Partner: f.Partner, Evidence: f.Evidence}).Explain()
			out.Title, out.Cause, out.Their = x.Title, x.Cause, x.Theirs
		}
	}
	return out
}

// handoverOrder is the rehearsal that the other side may run: of what it has left, where that still waits, else of what
// is set.
func (g *Room) handoverOrder(ctx context.Context, row *store.Handover, slug string) (api.NewRehearsal, string, error) {
	n := api.NewRehearsal{Hours: 1}
	if row.Kind == "application" {
		n.Application, n.Flow = slug, "idp"
		a, err := g.partners.Application(ctx, slug)
		if err != nil {
			return n, "", err
		}
		if a.StartURL != "" {
			n.Flow = "sp"
		}
		if len(a.Providers) > 0 {
			n.Provider = a.Providers[0]
		}
	} else {
		n.Provider = slug
	}
	var left store.Proposal
	if err := g.Store.Read(ctx).Omit("document").Where("origin = ? AND state IN ?", ground.HandoverAbout+row.ID,
		[]string{changes.ProposalOpen, changes.ProposalApproved}).Order("id DESC").Limit(1).Find(&left).Error; err != nil {
		return n, "", store.Clear(err)
	}
	return n, left.ID, nil
}

// TryHandover begins a rehearsal for the other side's engineer, in her own browser: what was left is not approved yet,
// so nobody else can be sent into it. It returns what that browser is to keep.
func (g *Room) TryHandover(ctx context.Context, b signin.Browser, token, cookie string) (*signin.Next, string, error) {
	row, slug, err := g.opened(ctx, b, token, cookie)
	if err != nil {
		return nil, "", err
	}
	var before int64
	if err := g.Store.Read(ctx).Model(&store.Rehearsal{}).Where("about = ?", ground.HandoverAbout+row.ID).Count(&before).Error; err != nil {
		return nil, "", store.Clear(err)
	}
	if before >= handoverRehearsals {
		return nil, "", ground.Conflict("handover-tried", "Many sign-ins were tried through this link already.", "Ask for another one.")
	}
	n, proposal, err := g.handoverOrder(ctx, row, slug)
	if err != nil {
		return nil, "", err
	}
	n.Proposal = proposal
	v, err := g.rehearsal.Order(ctx, ground.Actor{Name: row.By, From: b.Address}, n, ground.HandoverAbout+row.ID)
	if err != nil {
		return nil, "", err
	}
	b.Rehearsal = ""
	next, keep := g.rehearsal.BeginRehearsal(ctx, b, strings.TrimPrefix(v.Link, g.PublicURL+rehearsal.RehearsePath))
	return next, keep, nil
}
