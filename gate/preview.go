package gate

import (
	"context"
	"encoding/json"
	"errors"
	"maps"
	"slices"
	"strings"
	"time"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/oidc"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/store"
)

// Preview tells what would become of a sign-in: mapping in, matching, access, mapping out. It walks the same code as a sign-in and writes nothing. Where a draft
// stands in for what is live, the difference is told as well.
func (g *Gate) Preview(ctx context.Context, q api.Preview) (*api.Previewed, error) {
	input, who, person, err := g.previewInput(ctx, &q)
	if err != nil {
		return nil, err
	}
	return g.previewOf(ctx, q, input, who, person)
}

// previewOf tells what would become of an identity that a provider vouched for, or of a person.
func (g *Gate) previewOf(ctx context.Context, q api.Preview, input claims.Bag, who identity, person *store.Person) (*api.Previewed, error) {
	live, draft, err := g.previewSides(ctx, q)
	if err != nil {
		return nil, err
	}
	out, err := g.previewOnce(ctx, draft, input, who, person, q)
	if err != nil || q.DraftApplication == nil && q.DraftProvider == nil {
		return out, err
	}
	before, err := g.previewOnce(ctx, live, input, who, person, q)
	if err != nil {
		return nil, err
	}
	out.Differences = differences(before, out)
	return out, nil
}

// previewSides are the application and the provider as they are, and as the drafts have them.
func (g *Gate) previewSides(ctx context.Context, q api.Preview) (live, draft [2]any, err error) {
	if q.Application != "" {
		a, err := g.application(ctx, q.Application)
		if err != nil {
			return live, draft, err
		}
		live[0], draft[0] = a, a
		if q.Provider == "" && q.Person == "" && !q.AsProfile && len(a.Providers) > 0 {
			q.Provider = a.Providers[0]
		}
	}
	if q.Provider != "" {
		p, err := g.provider(ctx, q.Provider)
		if err != nil {
			return live, draft, err
		}
		live[1], draft[1] = p, p
	}
	if q.DraftApplication != nil {
		c := *q.DraftApplication
		nameDraft(&c.Slug, &c.Name)
		if err := c.Validate(); err != nil {
			return live, draft, invalid(err)
		}
		a := &application{Application: c}
		if held, ok := live[0].(*application); ok {
			a.id, a.revision = held.id, held.revision
		}
		draft[0], err = a, g.readyApplication(ctx, a)
	}
	if q.DraftProvider != nil && err == nil {
		c := *q.DraftProvider
		nameDraft(&c.Slug, &c.Name)
		if err := c.Validate(); err != nil {
			return live, draft, invalid(err)
		}
		p := &provider{Provider: c}
		if held, ok := live[1].(*provider); ok {
			p.id, p.revision = held.id, held.revision
		}
		draft[1], err = p, g.readyProvider(ctx, p)
	}
	if err != nil {
		return live, draft, badRequest("draft", capitalise(err.Error())+".", "")
	}
	return live, draft, nil
}

// nameDraft gives a draft that has no name yet one to be shown by.
func nameDraft(slug, name *string) {
	if *slug == "" {
		*slug = "draft"
	}
	if *name == "" {
		*name = "the draft"
	}
}

// previewInput is what would come in: from a trace, a person (who then needs no provider), a sample or typed values.
func (g *Gate) previewInput(ctx context.Context, q *api.Preview) (claims.Bag, identity, *store.Person, error) {
	who := identity{AuthnInstant: g.Now(), Subject: "preview\x1f", Shown: "the preview"}
	if q.Person != "" && q.Trace == "" && q.Sample == "" && len(q.Input) == 0 {
		p, profile, err := g.personByID(ctx, q.Person)
		return profile, who, p, err
	}
	input := q.Input
	var err error
	switch {
	case q.Trace != "":
		row, _, terr := g.traceEntries(ctx, q.Trace)
		if terr != nil {
			return nil, who, nil, terr
		}
		if input, _, err = g.traceSample(ctx, q.Trace); err != nil {
			return nil, who, nil, err
		}
		if q.Provider == "" && row.ProviderID != "" && q.DraftProvider == nil {
			if p, err := g.providerByID(ctx, row.ProviderID); err == nil {
				q.Provider = p.Slug
			}
		}
		if row.PersonID != "" {
			var l store.Link
			if err := g.Store.Read(ctx).Where("person_id = ? AND provider_id = ?", row.PersonID, row.ProviderID).Order("last_used DESC").Limit(1).Find(&l).Error; err == nil && l.ID != "" {
				who.Subject, who.Shown = l.Subject, shownSubject(&l)
			}
		}
	case q.Sample != "":
		if input, _, err = g.ReadSample(ctx, q.Sample); err != nil {
			return nil, who, nil, err
		}
	case len(input) == 0:
		return nil, who, nil, badRequest("nothing-given", "There is nothing to preview.", "Choose a trace or a person, or enter what the provider sends.")
	}
	if n := input.First("NameID"); n != "" && who.Shown == "the preview" {
		who.Shown = n
	} else if n := input.First("sub"); n != "" && who.Shown == "the preview" {
		who.Shown, who.Subject = n, "sub\x1f"+n
	}
	return input, who, nil, nil
}

func (g *Gate) previewOnce(ctx context.Context, sides [2]any, input claims.Bag, who identity, known *store.Person, q api.Preview) (*api.Previewed, error) {
	app, _ := sides[0].(*application)
	p, _ := sides[1].(*provider)
	out := &api.Previewed{Input: input, Profile: claims.Bag{}, Decisions: []trace.Decision{}, Differences: []api.PreviewDifferent{}, In: claims.Attempt{Attributes: claims.Bag{}, Steps: []trace.Value{}, Problems: []claims.Problem{}}}
	rec := trace.NewRecorder(g.Now(), g.Now)
	s := &signIn{rec: rec, began: g.Now(), app: app, provider: p, browser: Browser{Address: q.Network}, rehearsal: &store.Rehearsal{}}
	s.state.Second = q.TwoFactor
	if s.app == nil {
		s.app = &application{}
	}
	who.Attributes = input
	var failed error
	switch {
	case known != nil:
		if s.provider == nil {
			s.provider = &provider{Provider: config.Provider{Name: "the gate", Directory: &config.DirectoryProvider{}}}
		}
		who.Person = known.ID
		if known.ID == "" {
			return nil, notFound("person", q.Person)
		}
		failed = g.match(ctx, s, who)
	case p == nil:
		// Without a provider the input is the profile itself.
		s.provider = &provider{Provider: config.Provider{Name: "the gate"}}
		s.person = person{profile: input, came: input, shown: shownName(input, who.Shown)}
	default:
		whole, err := g.wholeMapping(ctx, p.Mapping)
		if err != nil {
			return nil, err
		}
		out.In = whole.Try(input)
		failed = g.match(ctx, s, who)
	}
	out.Person, out.Profile = s.person.shown, s.person.profile
	if out.Profile == nil {
		out.Profile = claims.Bag{}
	}
	if failed == nil && app != nil {
		failed = g.previewOut(ctx, s, who, out)
	}
	for _, e := range rec.Entries() {
		if e.Decision != nil {
			out.Decisions = append(out.Decisions, *e.Decision)
		}
	}
	if failed != nil {
		var f *explain.Failure
		if !errors.As(failed, &f) {
			return nil, failed
		}
		out.Refused = &api.TraceExplanation{Explanation: f.Explain(), Evidence: f.Evidence, Differences: []explain.Difference{}}
	}
	return out, nil
}

// previewOut asks the access rules and makes what the application would get.
func (g *Gate) previewOut(ctx context.Context, s *signIn, who identity, out *api.Previewed) error {
	facts, err := g.facts(ctx, s, who)
	if err != nil {
		return err
	}
	d := s.app.policy.Decide(facts, true)
	if d.Roles == nil {
		d.Roles = []string{}
	}
	out.Access, s.person.roles = &d, d.Roles
	whole, err := g.wholeMapping(ctx, s.app.Mapping)
	if err != nil {
		return err
	}
	attempt := whole.Try(s.outbound())
	for i := range attempt.Steps {
		attempt.Steps[i].Direction = "out"
	}
	out.Out = &attempt
	switch s.app.Subject.Source {
	case "profile":
		out.Subject = s.person.profile.First(s.app.Subject.From)
		if out.SubjectWhy = s.app.SubjectProblem(out.Subject); out.Subject == "" {
			out.SubjectWhy = "the profile has no " + s.app.Subject.From
		}
	default:
		out.SubjectWhy = map[string]string{"pairwise": "a random value, the same at each sign-in of this person here", "public": "a random value, the same at every application", "transient": "a random value, different at each sign-in"}[s.app.Subject.Source]
		if held, err := g.heldSubject(ctx, s.app, s.person.id); err != nil {
			return err
		} else if held != "" {
			out.Subject = held
		} else {
			out.Subject = "(made at the first sign-in)"
		}
	}
	if d.Result == access.Refuse {
		return nil
	}
	made, err := s.app.mapping.Apply(s.outbound(), "out", nil)
	if err != nil {
		return err
	}
	out.Sent, err = g.previewSent(s.app, out.Subject, made)
	return err
}

// heldSubject is the random identifier that a person has at an application already.
func (g *Gate) heldSubject(ctx context.Context, app *application, personID string) (string, error) {
	if personID == "" || !kept(app) {
		return "", nil
	}
	var v store.SubjectValue
	err := g.Store.Read(ctx).Where("person_id = ? AND application_id = ?", personID, subjectOwner(app)).Limit(1).Find(&v).Error
	return v.Value, store.Clear(err)
}

// previewSent is the assertion or the claims as they would be sent. It is never signed, so that nothing can be done with it.
func (g *Gate) previewSent(app *application, subject string, out []claims.Output) (string, error) {
	if app.OIDC != nil {
		o := app.OIDC
		token, info := claims.Bag{}, claims.Bag{}
		allowed := oidc.ClaimsOf(o.Scopes)
		for _, one := range out {
			if (place{claims.PlaceIDToken, o.Scopes, nil, !o.ClaimsInIDToken}).gets(one.Rule, allowed) {
				token[one.Rule.Set] = one.Values
			}
			if (place{claims.PlaceUserInfo, o.Scopes, nil, false}).gets(one.Rule, allowed) {
				info[one.Rule.Set] = one.Values
			}
		}
		inToken, _ := oidc.Object(token)
		inInfo, _ := oidc.Object(info)
		inInfo["sub"] = subject
		issued := oidc.Issued{Issuer: g.Issuer(), Subject: subject, ClientID: o.ClientID, Now: g.Now(), Life: idTokenLife, Values: inToken}
		text, err := json.MarshalIndent(map[string]any{"ID token": issued.Claims(), "UserInfo": inInfo}, "", "  ")
		return string(text), err
	}
	if app.SAML == nil {
		handed := map[string][]string{}
		for _, one := range out {
			handed[one.Rule.Set] = one.Values
		}
		text, err := json.MarshalIndent(map[string]any{"identifier": subject, "handed on": handed}, "", "  ")
		return string(text), err
	}
	issued := saml.Issued{Issuer: g.idpEntity(app), Audience: saml.EntityID(app.SAML.EntityID), Now: g.Now(), Validity: 5 * time.Minute, AuthnInstant: g.Now(), SessionIndex: "_preview"}
	issued.NameID, issued.Attributes = samlSubject(app, saml.NameID{Value: subject, Format: subjectFormat(app.Subject.Source, app.Subject.Format)}), samlAttributes(app, subject, out)
	if e := saml.DefaultEndpoint(app.SAML.ACS, saml.BindingPost); e != nil {
		issued.ACS = e.Location
	}
	made, err := saml.IssueResponse(issued)
	if err != nil {
		return "", err
	}
	return Readable(made.XML), nil
}

// differences compares what is live with what a draft would make.
func differences(live, draft *api.Previewed) []api.PreviewDifferent {
	out := []api.PreviewDifferent{}
	compare := func(where string, a, b claims.Bag) {
		names := maps.Clone(a)
		if names == nil {
			names = claims.Bag{}
		}
		maps.Copy(names, b)
		for _, n := range slices.Sorted(maps.Keys(names)) {
			if !slices.Equal(a[n], b[n]) {
				out = append(out, api.PreviewDifferent{Where: where, Name: n, Live: orEmptyList(a[n]), Draft: orEmptyList(b[n])})
			}
		}
	}
	compare("profile", live.Profile, draft.Profile)
	if live.Out != nil && draft.Out != nil {
		compare("sent", live.Out.Attributes, draft.Out.Attributes)
		compare("sent", claims.Bag{"the identifier": {live.Subject}}, claims.Bag{"the identifier": {draft.Subject}})
	}
	result := func(p *api.Previewed) string {
		switch {
		case p.Refused != nil:
			return "refused: " + p.Refused.Title
		case p.Access != nil:
			return p.Access.Result + ": " + p.Access.By
		}
		return ""
	}
	if a, b := result(live), result(draft); a != b {
		out = append(out, api.PreviewDifferent{Where: "access", Name: "whether they get in", Live: []string{a}, Draft: []string{b}})
	}
	return out
}

func orEmptyList(v []string) []string {
	if v == nil {
		return []string{}
	}
	return v
}

// TryMapping applies a mapping to an input, in steps.
func (g *Gate) TryMapping(ctx context.Context, q api.TryMapping) (*api.TriedMapping, error) {
	input := q.Input
	if q.Sample != "" {
		var err error
		if input, _, err = g.ReadSample(ctx, q.Sample); err != nil {
			return nil, err
		}
	}
	whole, err := g.wholeMapping(ctx, q.Mapping)
	if err != nil {
		return nil, badRequest("mapping", capitalise(strings.TrimSuffix(err.Error(), "."))+".", "")
	}
	return &api.TriedMapping{Attempt: whole.Try(input), Input: input}, nil
}

// SuggestRules proposes rules for a sample of what comes, or for what an application wants.
func (g *Gate) SuggestRules(ctx context.Context, q api.Suggest) (*api.Suggested, error) {
	if q.Direction != "in" && q.Direction != "out" {
		return nil, badRequest("direction", "Rules are proposed for the direction in or out.", "")
	}
	input, source, err := g.ReadSample(ctx, q.Sample)
	if err != nil {
		return nil, err
	}
	held, err := g.wholeMapping(ctx, q.Mapping)
	if err != nil {
		return nil, badRequest("mapping", capitalise(err.Error())+".", "")
	}
	out := &api.Suggested{Input: input, Source: source}
	if q.Direction == "in" {
		out.Suggestions = claims.SuggestInbound(input, held)
		return out, nil
	}
	var wanted []claims.Rule
	for _, name := range slices.Sorted(maps.Keys(input)) {
		wanted = append(wanted, claims.Rule{Set: name})
	}
	out.Suggestions = claims.SuggestOutbound(wanted, held)
	return out, nil
}
