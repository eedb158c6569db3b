package rehearsal

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
	"innergate/core/bridge"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/oidc"
	"innergate/core/people"
	"innergate/core/redact"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/grants"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/gate/persons"
	"innergate/gate/signin"
	"innergate/store"
)

// Preview tells what would become of a sign-in: mapping in, matching, access, mapping out. It walks the same code as a
// sign-in and writes nothing. Where a draft stands in for what is live, the difference is told as well.
func (g *Room) Preview(ctx context.Context, q api.Preview) (*api.Previewed, error) {
	input, who, person, err := g.previewInput(ctx, &q)
	if err != nil {
		return nil, err
	}
	return g.previewOf(ctx, q, input, who, person)
}

// previewOf tells what would become of an identity that a provider vouched for, or of a person.
func (g *Room) previewOf(
	ctx context.Context,
	q api.Preview,
	input claims.Bag,
	who bridge.Identity,
	person *store.Person,
) (*api.Previewed, error) {
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
func (g *Room) previewSides(ctx context.Context, q api.Preview) (live, draft [2]any, err error) {
	if q.Application != "" {
		a, err := g.partners.Application(ctx, q.Application)
		if err != nil {
			return live, draft, err
		}
		live[0], draft[0] = a, a
		if q.Provider == "" && q.Person == "" && !q.AsProfile && len(a.Providers) > 0 {
			q.Provider = a.Providers[0]
		}
	}
	if q.Provider != "" {
		p, err := g.partners.Provider(ctx, q.Provider)
		if err != nil {
			return live, draft, err
		}
		live[1], draft[1] = p, p
	}
	if q.DraftApplication != nil {
		c := *q.DraftApplication
		nameDraft(&c.Slug, &c.Name)
		if err := c.Validate(); err != nil {
			return live, draft, ground.Invalid(err)
		}
		a := &partners.Application{Application: c}
		if held, ok := live[0].(*partners.Application); ok {
			a.ID, a.Revision = held.ID, held.Revision
		}
		draft[0], err = a, g.partners.ReadyApplication(ctx, a)
	}
	if q.DraftProvider != nil && err == nil {
		c := *q.DraftProvider
		nameDraft(&c.Slug, &c.Name)
		if err := c.Validate(); err != nil {
			return live, draft, ground.Invalid(err)
		}
		p := &partners.Provider{Provider: c}
		if held, ok := live[1].(*partners.Provider); ok {
			p.ID, p.Revision = held.ID, held.Revision
		}
		draft[1], err = p, g.partners.ReadyProvider(ctx, p)
	}
	if err != nil {
		return live, draft, ground.BadRequest("draft", words.Capitalise(err.Error())+".", "")
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
func (g *Room) previewInput(ctx context.Context, q *api.Preview) (claims.Bag, bridge.Identity, *store.Person, error) {
	who := bridge.Identity{AuthnInstant: g.Now(), Subject: "preview\x1f", Shown: "the preview"}
	if q.Person != "" && q.Trace == "" && q.Sample == "" && len(q.Input) == 0 {
		p, profile, err := g.persons.PersonByID(ctx, q.Person)
		return profile, who, p, err
	}
	input := q.Input
	var err error
	switch {
	case q.Trace != "":
		row, _, terr := g.traces.TraceEntries(ctx, q.Trace)
		if terr != nil {
			return nil, who, nil, terr
		}
		if input, _, err = g.traceSample(ctx, q.Trace); err != nil {
			return nil, who, nil, err
		}
		if q.Provider == "" && row.ProviderID != "" && q.DraftProvider == nil {
			if p, err := g.partners.ProviderByID(ctx, row.ProviderID); err == nil {
				q.Provider = p.Slug
			}
		}
		if row.PersonID != "" {
			var l store.Link
			if err := g.Store.Read(ctx).Where("person_id = ? AND provider_id = ?", row.PersonID,
				row.ProviderID).Order("last_used DESC").Limit(1).Find(&l).Error; err == nil &&
				l.ID != "" {
				who.Subject, who.Shown = l.Subject, persons.ShownSubject(&l)
			}
		}
	case q.Sample != "":
		if input, _, err = g.ReadSample(ctx, q.Sample); err != nil {
			return nil, who, nil, err
		}
	case len(input) == 0:
		return nil, who, nil, ground.BadRequest(
			"nothing-given", "There is nothing to preview.",
			"Choose a trace or a person, or enter what the provider sends.",
		)
	}
	if n := input.First("NameID"); n != "" && who.Shown == "the preview" {
		who.Shown = n
	} else if n := input.First("sub"); n != "" && who.Shown == "the preview" {
		who.Shown, who.Subject = n, "sub\x1f"+n
	}
	return input, who, nil, nil
}

func (g *Room) previewOnce(
	ctx context.Context,
	sides [2]any,
	input claims.Bag,
	who bridge.Identity,
	known *store.Person,
	q api.Preview,
) (*api.Previewed, error) {
	app, _ := sides[0].(*partners.Application)
	p, _ := sides[1].(*partners.Provider)
	out := &api.Previewed{
		Input:       input,
		Profile:     claims.Bag{},
		Decisions:   []trace.Decision{},
		Differences: []api.PreviewDifferent{},
		In:          claims.Attempt{Attributes: claims.Bag{}, Steps: []trace.Value{}, Problems: []claims.Problem{}},
	}
	rec := trace.NewRecorder(g.Now(), g.Now)
	s := &signin.SignIn{
		Rec:       rec,
		Began:     g.Now(),
		App:       app,
		Provider:  p,
		Browser:   signin.Browser{Address: q.Network},
		Rehearsal: &store.Rehearsal{},
	}
	if s.App == nil {
		s.App = &partners.Application{}
	}
	who.Attributes = input
	var failed error
	switch {
	case known != nil:
		if s.Provider == nil {
			s.Provider = &partners.Provider{Provider: config.Provider{Name: "the gate", Directory: &config.DirectoryProvider{}}}
		}
		who.Person = known.ID
		if known.ID == "" {
			return nil, ground.NotFound("person", q.Person)
		}
		failed = g.signin.Match(ctx, s, who)
	case p == nil:
		// Without a provider the input is the profile itself.
		s.Provider = &partners.Provider{Provider: config.Provider{Name: "the gate"}}
		s.Person = signin.Person{Profile: input, Came: input, Shown: people.ShownName(input, who.Shown)}
	default:
		whole, err := g.partners.WholeMapping(ctx, p.Mapping)
		if err != nil {
			return nil, err
		}
		out.In = whole.Try(input)
		failed = g.signin.Match(ctx, s, who)
	}
	out.Person, out.Profile = s.Person.Shown, s.Person.Profile
	if out.Profile == nil {
		out.Profile = claims.Bag{}
	}
	switch {
	case failed != nil || app == nil:
	case q.Account:
		failed = g.previewAccount(ctx, s, out)
	default:
		failed = g.previewOut(ctx, s, who, q.TwoFactor, out)
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
func (g *Room) previewOut(ctx context.Context, s *signin.SignIn, who bridge.Identity, two bool, out *api.Previewed) error {
	if two {
		s.SupposeSecond(g.Now())
	}
	facts, err := g.signin.Facts(ctx, s, who)
	if err != nil {
		return err
	}
	d := s.App.Policy.Decide(facts, true)
	if d.Roles == nil {
		d.Roles = []string{}
	}
	out.Access, s.Person.Roles = &d, d.Roles
	whole, err := g.partners.WholeMapping(ctx, s.App.Mapping)
	if err != nil {
		return err
	}
	attempt := whole.Try(s.Outbound())
	for i := range attempt.Steps {
		attempt.Steps[i].Direction = "out"
	}
	out.Out = &attempt
	switch s.App.Subject.Source {
	case "profile":
		out.Subject = s.Person.Profile.First(s.App.Subject.From)
		if out.SubjectWhy = s.App.SubjectProblem(out.Subject); out.Subject == "" {
			out.SubjectWhy = "the profile has no " + s.App.Subject.From
		}
	default:
		out.SubjectWhy = map[string]string{"pairwise": "a random value, the same at each sign-in of this person here",
			"public":    "a random value, the same at every application",
			"transient": "a random value, different at each sign-in"}[s.App.Subject.Source]
		if held, err := g.heldSubject(ctx, s.App, s.Person.ID); err != nil {
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
	made, err := s.App.Outbound.Apply(s.Outbound(), "out", nil)
	if err != nil {
		return err
	}
	out.Sent, err = g.previewSent(s.App, out.Subject, made)
	return err
}

// previewAccount makes the account that the application would get.
func (g *Room) previewAccount(ctx context.Context, s *signin.SignIn, out *api.Previewed) error {
	if s.App.Accounts == nil {
		return ground.Conflict("no-accounts", "Accounts of "+s.App.Name+" are not kept in step.",
			"Enter the address of its SCIM service on the station accounts.")
	}
	would, err := g.accounts.Would(ctx, s.App, s.Person.ID, s.Outbound())
	if err != nil {
		return err
	}
	result := "has none"
	if would.Has {
		result = "has one"
	}
	s.Rec.Decide(trace.Decision{About: "account", Result: result, By: would.Why})
	out.Out, out.Sent = &would.Made, would.Sent
	return nil
}

// heldSubject is the random identifier that a person has at an application already.
func (g *Room) heldSubject(ctx context.Context, app *partners.Application, personID string) (string, error) {
	if personID == "" || !partners.Kept(app) {
		return "", nil
	}
	var v store.SubjectValue
	err := g.Store.Read(ctx).Where("person_id = ? AND application_id = ?", personID, partners.SubjectOwner(app)).Limit(1).Find(&v).Error
	return v.Value, store.Clear(err)
}

// previewSent is the assertion or the claims as they would be sent. It is never signed, so that nothing can be done
// with it.
func (g *Room) previewSent(app *partners.Application, subject string, out []claims.Output) (string, error) {
	if app.OIDC != nil {
		o := app.OIDC
		token, info := claims.Bag{}, claims.Bag{}
		allowed := oidc.ClaimsOf(o.Scopes)
		toToken, toInfo := grants.Places(o, o.Scopes, grants.GrantBody{})
		for _, one := range out {
			if toToken.Gets(one.Rule, allowed) {
				token[one.Rule.Set] = one.Values
			}
			if toInfo.Gets(one.Rule, allowed) {
				info[one.Rule.Set] = one.Values
			}
		}
		inToken, _ := oidc.Object(token)
		inInfo, _ := oidc.Object(info)
		inInfo["sub"] = subject
		issued := oidc.Issued{
			Issuer:   g.partners.Issuer(),
			Subject:  subject,
			ClientID: o.ClientID,
			Now:      g.Now(),
			Life:     grants.IDTokenLife,
			Values:   inToken,
		}
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
	issued := saml.Issued{
		Issuer:       g.partners.IDPEntity(app),
		Audience:     saml.EntityID(app.SAML.EntityID),
		Now:          g.Now(),
		Validity:     5 * time.Minute,
		AuthnInstant: g.Now(),
		SessionIndex: "_preview",
	}
	name := saml.NameID{Value: subject, Format: bridge.SubjectFormat(app.Subject.Source, app.Subject.Format)}
	issued.NameID, issued.Attributes = signin.SAMLSubject(app, name), signin.SAMLAttributes(app, subject, out)
	if e := saml.DefaultEndpoint(app.SAML.ACS, saml.BindingPost); e != nil {
		issued.ACS = e.Location
	}
	made, err := saml.IssueResponse(issued)
	if err != nil {
		return "", err
	}
	return redact.Readable(made.XML), nil
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
				out = append(out, api.PreviewDifferent{Where: where, Name: n, Live: words.List(a[n]), Draft: words.List(b[n])})
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

// TryMapping applies a mapping to an input, in steps.
func (g *Room) TryMapping(ctx context.Context, q api.TryMapping) (*api.TriedMapping, error) {
	input := q.Input
	if q.Sample != "" {
		var err error
		if input, _, err = g.ReadSample(ctx, q.Sample); err != nil {
			return nil, err
		}
	}
	whole, err := g.partners.WholeMapping(ctx, q.Mapping)
	if err != nil {
		return nil, ground.BadRequest("mapping", words.Capitalise(strings.TrimSuffix(err.Error(), "."))+".", "")
	}
	return &api.TriedMapping{Attempt: whole.Try(input), Input: input}, nil
}

// SuggestRules proposes rules for a sample of what comes, or for what an application wants.
func (g *Room) SuggestRules(ctx context.Context, q api.Suggest) (*api.Suggested, error) {
	if q.Direction != "in" && q.Direction != "out" {
		return nil, ground.BadRequest("direction", "Rules are proposed for the direction in or out.", "")
	}
	input, source, err := g.ReadSample(ctx, q.Sample)
	if err != nil {
		return nil, err
	}
	held, err := g.partners.WholeMapping(ctx, q.Mapping)
	if err != nil {
		return nil, ground.BadRequest("mapping", words.Capitalise(err.Error())+".", "")
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
