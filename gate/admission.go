package gate

import (
	"context"
	"slices"
	"strings"

	"innergate/core/claims"
	"innergate/core/explain"
	"innergate/core/people"
	"innergate/core/trace"
)

// AskProfile asks somebody new to confirm the profile that is made of them, and to complete it.
type AskProfile struct {
	Application, Provider, SignIn string
	Fields                        []AskField
	Error                         string
}

// AskField is one attribute on that page.
type AskField struct {
	Name, Words, Value, Type string
	Editable                 bool
}

// toAsk says whether the person must confirm their profile before it is kept, and what it holds. Only attributes that people may see are shown.
func (g *Gate) toAsk(ctx context.Context, s *signIn) (*AskProfile, error) {
	if s.provider.Admission != "ask" || !s.person.new() || s.state.Admitted {
		return nil, nil
	}
	if s.state.Wish.Passive {
		return nil, explain.New("admission.incomplete").Of(s.provider.Name)
	}
	settings, err := g.peopleSettings(ctx)
	if err != nil {
		return nil, err
	}
	page := &AskProfile{Application: s.app.Name, Provider: s.provider.Name, SignIn: s.id}
	for _, a := range settings.Attributes {
		value := strings.Join(s.person.profile[a.Name], ", ")
		if a.Name == "name" {
			value = shownName(s.person.profile, value)
		}
		// A mail address is what the provider says it is: a new one would have to be proven first.
		editable := a.Editable && a.Name != people.Mail && a.Type != "list"
		if !a.Visible || value == "" && !editable {
			continue
		}
		f := AskField{Name: a.Name, Words: capitalise(a.Words), Value: value, Type: "text", Editable: editable}
		if f.Words == "" {
			f.Words = capitalise(claims.InWords(a.Name))
		}
		if a.Type == "date" || a.Type == "number" {
			f.Type = a.Type
		}
		page.Fields = append(page.Fields, f)
	}
	return page, nil
}

// ask keeps what the provider vouched for until the person has answered.
func (g *Gate) ask(ctx context.Context, s *signIn, who identity, page *AskProfile) *Next {
	s.state.Who = &who
	if page.Error == "" {
		s.rec.Decide(trace.Decision{About: "admission", Result: "the person is asked to confirm the profile", By: "admission: ask"})
	}
	next := &Next{Ask: page}
	if err := g.keep(ctx, s, next); err != nil {
		return g.failed(ctx, s, err)
	}
	return next
}

// CompletedProfile goes on with what somebody new answered.
func (g *Gate) CompletedProfile(ctx context.Context, b Browser, id string, yes bool, field func(string) string) *Next {
	s, err := g.resume(ctx, b, id)
	if err == nil && (s.state.Who == nil || s.state.Admitted || s.provider == nil || s.provider.Admission != "ask") {
		err = explain.New("browser.finished")
	}
	if err != nil {
		return g.failed(ctx, s, err)
	}
	s.rec.Begin(trace.Match)
	if !yes {
		return g.failed(ctx, s, explain.New("admission.declined").Of(s.provider.Name))
	}
	who := *s.state.Who
	if err := g.match(ctx, s, who); err != nil {
		return g.failed(ctx, s, err)
	}
	page, err := g.toAsk(ctx, s)
	if err != nil {
		return g.failed(ctx, s, err)
	}
	if page == nil { // known meanwhile: there is nothing to ask any more
		return g.finish(ctx, s, who)
	}
	settings, err := g.peopleSettings(ctx)
	if err != nil {
		return g.failed(ctx, s, err)
	}
	entered := claims.Bag{}
	for i := range page.Fields {
		f := &page.Fields[i]
		value := strings.TrimSpace(field(f.Name))
		if !f.Editable || value == f.Value {
			continue
		}
		f.Value = clipText(value, 1000)
		if value == "" {
			continue
		}
		if err := settings.CheckValues(f.Name, []string{value}); err != nil {
			page.Error = capitalise(err.Error()) + "."
			continue
		}
		entered[f.Name] = []string{value}
	}
	if i := slices.IndexFunc(page.Fields, func(f AskField) bool { return f.Name == "name" && f.Value == "" }); i >= 0 && page.Error == "" {
		page.Error = "Please enter your name."
	}
	if page.Error != "" {
		return g.ask(ctx, s, who, page)
	}
	s.state.Admitted, s.state.Completed = true, entered
	s.rec.Decide(trace.Decision{About: "admission", Result: "the person confirmed the profile", By: "the person"})
	return g.finish(ctx, s, who)
}
