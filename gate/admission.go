package gate

import (
	"context"
	"maps"
	"slices"
	"strings"

	"innergate/core/claims"
	"innergate/core/explain"
	"innergate/core/people"
	"innergate/core/trace"
	"innergate/store"
)

// AskProfile asks somebody new to confirm the profile that is made of them, and to complete it.
type AskProfile struct {
	Application, Provider, SignIn string
	Fields                        []AskField
	// Proving is the mail address to which a code was sent; then only that code is asked for.
	Proving string
	Error   string
}

// AskField is one attribute on that page.
type AskField struct {
	Name, Words, Value, Type string
	Editable                 bool
}

// toAsk says whether the person must confirm their profile before it is kept, and what it holds. Only attributes that people may see are shown, and those can be edited
// that the provider does not overwrite at the next sign-in.
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
	mail, err := g.keptMail(ctx)
	if err != nil {
		return nil, err
	}
	page := &AskProfile{Application: s.app.Name, Provider: s.provider.Name, SignIn: s.id}
	for _, a := range settings.Attributes {
		value := strings.Join(s.person.profile[a.Name], ", ")
		if a.Name == "name" {
			value = shownName(s.person.profile, value)
		}
		overwritten := len(s.person.came[a.Name]) > 0 && (s.provider.Keep[a.Name] == "" || s.provider.Keep[a.Name] == people.ProviderWins)
		// A new mail address has to be proven, which takes a mail server.
		editable := a.Editable && a.Type != "list" && !overwritten && (a.Name != people.Mail || mail != nil)
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
		if a.Name == people.Mail {
			f.Type = "email"
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

// CompletedProfile goes on with what somebody new answered: yes with the fields of the page, no, or, where a code was sent to a new mail address, code, again or other.
func (g *Gate) CompletedProfile(ctx context.Context, b Browser, id, answer string, field func(string) string) *Next {
	s, err := g.resume(ctx, b, id)
	if err == nil && (s.state.Who == nil || s.state.Admitted || s.provider == nil || s.provider.Admission != "ask") {
		err = explain.New("browser.finished")
	}
	if err != nil {
		return g.failed(ctx, s, err)
	}
	s.rec.Begin(trace.Match)
	if answer != "yes" && !s.proving() {
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
	if s.proving() {
		return g.answeredProof(ctx, s, who, page, answer, field("code"))
	}
	settings, err := g.peopleSettings(ctx)
	if err != nil {
		return g.failed(ctx, s, err)
	}
	entered, address := claims.Bag{}, ""
	maps.Copy(entered, s.state.Completed)
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
		if f.Name == people.Mail {
			address = value
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
	s.state.Completed = entered
	if address != "" {
		return g.askProof(ctx, s, who, page, address)
	}
	return g.confirmed(ctx, s, who)
}

func (g *Gate) confirmed(ctx context.Context, s *signIn, who identity) *Next {
	s.state.Admitted = true
	s.rec.Decide(trace.Decision{About: "admission", Result: "the person confirmed the profile", By: "the person"})
	return g.finish(ctx, s, who)
}

// askProof sends a code to a new address and asks for it.
func (g *Gate) askProof(ctx context.Context, s *signIn, who identity, page *AskProfile, address string) *Next {
	wrong, err := g.proveMail(ctx, s, address)
	if err != nil {
		return g.failed(ctx, s, err)
	}
	if page.Error = wrong; wrong == "" || s.state.Proof != nil && len(s.state.Proof.Hash) > 0 {
		page.Proving = address
	} else if s.state.Proof != nil {
		s.state.Proof.Address = ""
	}
	return g.ask(ctx, s, who, page)
}

// answeredProof goes on with what somebody answered about the code that was sent.
func (g *Gate) answeredProof(ctx context.Context, s *signIn, who identity, page *AskProfile, answer, code string) *Next {
	p := s.state.Proof
	switch answer {
	case "other":
		p.Address, p.Hash = "", nil
		return g.ask(ctx, s, who, page)
	case "again":
		return g.askProof(ctx, s, who, page, p.Address)
	}
	right := g.provenMail(s, code)
	s.rec.Check(trace.Check{Name: "admission.mail-proven", Text: "The code that was sent to the new mail address was entered", Section: "our rule", OK: right})
	if !right && p.Wrong >= maxWrong {
		return g.failed(ctx, s, explain.New("admission.code-wrong").Of(s.provider.Name))
	}
	if !right {
		page.Proving, page.Error = p.Address, "This is not the code that was sent, or it is over."
		return g.ask(ctx, s, who, page)
	}
	// Whoever has the address already is not somebody new, and nobody is doubled.
	var other store.Person
	if err := g.Store.Read(ctx).Where("email_key = ?", people.Key(p.Address)).Limit(1).Find(&other).Error; err != nil {
		return g.failed(ctx, s, store.Clear(err))
	}
	if other.ID != "" {
		return g.failed(ctx, s, explain.New("admission.mail-known", explain.Fact("mail", p.Address)).Of(s.provider.Name))
	}
	if s.state.Completed == nil {
		s.state.Completed = claims.Bag{}
	}
	s.state.Completed[people.Mail], s.state.Completed["email_verified"] = []string{p.Address}, []string{"true"}
	s.state.Proof = nil
	settings, err := g.peopleSettings(ctx)
	if err == nil {
		err = g.mergeProfile(s, settings) // with the address
	}
	if err != nil {
		return g.failed(ctx, s, err)
	}
	return g.confirmed(ctx, s, who)
}

// proving says whether a code for a new mail address is awaited.
func (s *signIn) proving() bool { return s.state.Proof != nil && s.state.Proof.Address != "" }
