package sources

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/config"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/traces"
	"innergate/gate/watch"
	"innergate/store"
)

// judgeRow understands one partner and sorts it: ready, a value is missing, somebody has to choose, or it can't be.
func (g *Room) judgeRow(ctx context.Context, b *store.Batch, r *store.BatchRow) {
	if r.State == RowMade || r.State == RowNo && r.URL == "" && len(r.Document) == 0 {
		return
	}
	state, notes := g.sortRow(ctx, b, r)
	r.State, r.Notes = state, ground.MustJSON(words.List(notes))
}

func (g *Room) sortRow(ctx context.Context, b *store.Batch, r *store.BatchRow) (string, []string) {
	no := func(err error) (string, []string) {
		var p *api.Problem
		if errors.As(err, &p) {
			lines := []string{p.Detail}
			for _, f := range p.Fields {
				lines = append(lines, f.String())
			}
			return RowNo, lines
		}
		g.Log.ErrorContext(ctx, "a partner of a batch could not be understood", "batch", b.ID, "row", r.Number, "error", err)
		return RowNo, []string{"Something failed inside; see the service's log."}
	}
	values, err := ground.DecodeBody[api.BatchValues](words.FirstOf(r.Values, "{}"))
	if err != nil {
		return no(err)
	}
	common, err := ground.DecodeBody[api.BatchCommon](words.FirstOf(b.Common, "{}"))
	if err != nil {
		return no(err)
	}
	doc, err := g.rowDocument(ctx, r, values)
	if err != nil {
		return no(err)
	}
	in := api.TakeIn{Text: string(doc), EntityID: values.EntityID}
	var u *api.Understood
	if b.Side == "application" {
		u, _, err = g.watch.UnderstandApplication(ctx, "", in)
	} else {
		u, _, err = g.watch.UnderstandProvider(ctx, "", in)
	}
	if err != nil {
		return no(err)
	}
	if u.App == nil && u.Provider == nil {
		if usable := slices.DeleteFunc(slices.Clone(u.Entities), func(e api.EntityChoice) bool { return !e.Usable }); len(usable) > 1 {
			notes := []string{fmt.Sprintf("It holds %d entities that fit; choose one by its entity ID.", len(usable))}
			for _, e := range usable[:min(len(usable), 10)] {
				notes = append(notes, e.EntityID)
			}
			return RowDecision, notes
		}
		if u.NeedsEntityID {
			return RowValue, []string{"The entity ID is missing."}
		}
		return no(watch.Refusal(u))
	}
	if u.App != nil {
		return g.sortApplication(ctx, r, u, values, common)
	}
	return g.sortProvider(ctx, r, u, values, common)
}

// rowDocument is what the partner published: kept, fetched, or taken from a source.
func (g *Room) rowDocument(ctx context.Context, r *store.BatchRow, v api.BatchValues) ([]byte, error) {
	if len(r.Document) > 0 {
		return traces.Unpacker().DecodeAll(r.Document, nil)
	}
	if slug, ok := strings.CutPrefix(r.URL, "source:"); ok {
		source, _, err := g.sourceRow(ctx, slug)
		if err != nil {
			return nil, err
		}
		_, doc, err := g.sourceEntity(ctx, source.ID, v.EntityID)
		return doc, err
	}
	doc, _, err := g.watch.Source(ctx, api.TakeIn{URL: r.URL})
	if err == nil {
		r.Document = traces.Packer().EncodeAll(doc, nil)
	}
	return doc, err
}

func (g *Room) rowWatch(r *store.BatchRow) *config.Watch {
	if slug, ok := strings.CutPrefix(r.URL, "source:"); ok {
		return &config.Watch{Source: slug}
	}
	if r.URL != "" {
		return &config.Watch{URL: r.URL}
	}
	return nil
}

func (g *Room) sortApplication(
	ctx context.Context,
	r *store.BatchRow,
	u *api.Understood,
	v api.BatchValues,
	c api.BatchCommon,
) (string, []string) {
	a := u.App
	a.Name, a.StartURL = words.FirstOf(v.Name, a.Name), words.FirstOf(v.StartURL, a.StartURL)
	a.Description = words.FirstOf(v.Description, a.Description, c.Description)
	a.Contact = words.FirstOf(v.Contact, a.Contact, c.Contact)
	a.Tags, a.Reach, a.Access.To = c.Tags, access.Draft, c.Access
	if a.Providers = v.Providers; len(a.Providers) == 0 {
		a.Providers = c.Providers
	}
	if a.SAML != nil {
		a.SAML.Metadata = g.rowWatch(r)
	}
	var notes []string
	if there := g.thereAlready(ctx, "application", a.Identifier()); there != "" {
		return RowNo, []string{there}
	}
	a.Slug = words.FirstOf(v.Slug, config.Slug(a.Name))
	slug, err := g.freeSlug(ctx, "application", a.Slug)
	if err != nil {
		return RowNo, []string{err.Error()}
	}
	if slug != a.Slug {
		notes = append(notes, fmt.Sprintf("The short name %s is taken; it would be %s.", a.Slug, slug))
		a.Slug = slug
	}
	if err := a.Validate(); err != nil {
		return RowValue, words.Fields(err)
	}
	for _, p := range a.Providers {
		if _, err := g.partners.Provider(ctx, p); err != nil {
			return RowValue, []string{fmt.Sprintf("There is no provider %q.", p)}
		}
	}
	r.Body, r.Slug = ground.MustJSON(a), a.Slug
	if _, guessed := u.Proposed["name"]; guessed && v.Name == "" {
		notes = append(notes, "The name was made of the host's; a better one may be entered.")
	}
	var missing []string
	for _, m := range a.Missing() {
		missing = append(missing, words.Capitalise(m)+".")
	}
	if len(a.Providers) == 0 {
		missing = append(missing, "No provider is chosen.")
	}
	for _, p := range u.Problems {
		notes = append(notes, p.Message)
	}
	if len(missing) > 0 {
		return RowValue, append(missing, notes...)
	}
	return RowReady, notes
}

func (g *Room) sortProvider(
	ctx context.Context,
	r *store.BatchRow,
	u *api.Understood,
	v api.BatchValues,
	c api.BatchCommon,
) (string, []string) {
	p := u.Provider
	p.Name = words.FirstOf(v.Name, p.Name)
	p.Description = words.FirstOf(v.Description, p.Description, c.Description)
	p.Contact = words.FirstOf(v.Contact, p.Contact, c.Contact)
	p.Tags, p.Reach, p.Admission = c.Tags, access.Draft, words.FirstOf(c.Admission, "refuse")
	if p.SAML != nil {
		p.SAML.Metadata = g.rowWatch(r)
	}
	if p.OIDC != nil {
		p.OIDC.ClientID = words.FirstOf(v.ClientID, p.OIDC.ClientID)
	}
	var notes []string
	if p.SAML != nil {
		if there := g.thereAlready(ctx, "provider", p.Authority()); there != "" {
			return RowNo, []string{there}
		}
	}
	p.Slug = words.FirstOf(v.Slug, config.Slug(p.Name))
	slug, err := g.freeSlug(ctx, "provider", p.Slug)
	if err != nil {
		return RowNo, []string{err.Error()}
	}
	if slug != p.Slug {
		notes = append(notes, fmt.Sprintf("The short name %s is taken; it would be %s.", p.Slug, slug))
		p.Slug = slug
	}
	if err := p.Validate(); err != nil {
		return RowValue, words.Fields(err)
	}
	r.Body, r.Slug = ground.MustJSON(p), p.Slug
	for _, x := range u.Problems {
		notes = append(notes, x.Message)
	}
	var missing []string
	for _, m := range p.Missing() {
		missing = append(missing, words.Capitalise(m)+".")
	}
	if len(missing) > 0 {
		return RowValue, append(missing, notes...)
	}
	return RowReady, notes
}

func (g *Room) thereAlready(ctx context.Context, kind, identifier string) string {
	if identifier == "" {
		return ""
	}
	var heldRow struct{ Slug, Name string }
	if err := g.Store.Read(ctx).Table(kind+"s").Select("slug, name").Where("entity_id = ?",
		identifier).Limit(1).Find(&heldRow).Error; err != nil ||
		heldRow.Slug == "" {
		return ""
	}
	return fmt.Sprintf("It is there already as %s (%s), and stays as it is.", heldRow.Name, heldRow.Slug)
}

// twinRows finds rows that would make what an earlier row makes already, which is not left out, and says so: by their
// numbers.
func twinRows(side string, rows []store.BatchRow) map[int]string {
	out, first := map[int]string{}, map[string]string{}
	for _, r := range rows {
		if r.Skip || r.Body == "" || r.State != RowReady && r.State != RowValue {
			continue
		}
		identifier := ""
		if side == "application" {
			a, _ := ground.DecodeBody[config.Application](r.Body) // it was written by us
			identifier = a.Identifier()
		} else if p, _ := ground.DecodeBody[config.Provider](r.Body); p.SAML != nil {
			identifier = p.SAML.EntityID
		}
		earlier, same := first["entity ID "+identifier]
		switch {
		case identifier != "" && same:
			out[r.Number] = fmt.Sprintf("It is the same as in %s: both have the entity ID %s. Leave one of them out.", earlier, identifier)
			continue
		case first["short name "+r.Slug] != "":
			out[r.Number] = fmt.Sprintf(
				"It would have the same short name as %s: %s. Enter another one.", first["short name "+r.Slug], r.Slug,
			)
			continue
		}
		first["entity ID "+identifier], first["short name "+r.Slug] = r.Label, r.Label
	}
	return out
}
