package signin

import (
	"context"
	"maps"
	"slices"
	"strings"

	"innergate/core/claims"
	"innergate/core/explain"
	"innergate/core/people"
	"innergate/core/proof"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/ground"
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

// admit has somebody new confirm the profile that is made of them, where the provider's admission is set to ask.
func (g *Room) admit(ctx context.Context, s *SignIn) (*Next, error) {
	page, err := g.toAsk(ctx, s)
	if err != nil || page == nil {
		return nil, err
	}
	return g.ask(ctx, s, page)
}

// toAsk says whether the person must confirm their profile before it is kept, and what it holds. Only attributes that
// people may see are shown, and those can be edited that the provider does not overwrite at the next sign-in.
func (g *Room) toAsk(ctx context.Context, s *SignIn) (*AskProfile, error) {
	if s.Provider.Admission != "ask" || !s.Person.new() || s.admitted() {
		return nil, nil
	}
	if s.State.Wish.Passive {
		return nil, explain.New(explain.AdmissionIncomplete).Of(s.Provider.Name)
	}
	settings, err := g.persons.Settings(ctx)
	if err != nil {
		return nil, err
	}
	mail, err := g.KeptMail(ctx)
	if err != nil {
		return nil, err
	}
	page := &AskProfile{Application: s.App.Name, Provider: s.Provider.Name, SignIn: s.ID}
	for _, a := range settings.Attributes {
		value := strings.Join(s.Person.Profile[a.Name], ", ")
		if a.Name == "name" {
			value = people.ShownName(s.Person.Profile, value)
		}
		overwritten := len(s.Person.Came[a.Name]) > 0 && (s.Provider.Keep[a.Name] == "" || s.Provider.Keep[a.Name] == people.ProviderWins)
		// A new mail address has to be proven, which takes a mail server.
		editable := a.Editable && a.Type != "list" && !overwritten && (a.Name != people.Mail || mail != nil)
		if !a.Visible || value == "" && !editable {
			continue
		}
		f := AskField{Name: a.Name, Words: words.Capitalise(a.Words), Value: value, Type: "text", Editable: editable}
		if f.Words == "" {
			f.Words = words.Capitalise(claims.InWords(a.Name))
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
func (g *Room) ask(ctx context.Context, s *SignIn, page *AskProfile) (*Next, error) {
	return g.askAgain(ctx, s, &completing{Evidence: s.evidence}, page)
}

// askAgain asks with what was entered before.
func (g *Room) askAgain(ctx context.Context, s *SignIn, step *completing, page *AskProfile) (*Next, error) {
	s.waitAt(step)
	if page.Error == "" {
		s.Rec.Decide(trace.Decision{About: "admission", Result: "the person is asked to confirm the profile", By: "admission: ask"})
	}
	next := &Next{To: page}
	return next, g.Keep(ctx, s, next)
}

// CompletedProfile goes on with what somebody new answered: yes with the fields of the page, no, or, where a code was
// sent to a new mail address, code, again or other.
func (g *Room) CompletedProfile(ctx context.Context, b Browser, id, answer string, field func(string) string) *Next {
	return g.resumed(ctx, b, id, func(ctx context.Context, s *SignIn) (*Next, error) {
		return g.completed(ctx, s, answer, field)
	})
}

func (g *Room) completed(ctx context.Context, s *SignIn, answer string, field func(string) string) (*Next, error) {
	step, err := Due[*completing](s)
	if err != nil {
		return nil, err
	}
	s.Rec.Begin(trace.Match)
	if answer != "yes" && !step.proving() {
		return nil, explain.New(explain.AdmissionDeclined).Of(s.Provider.Name)
	}
	s.evidence = step.Evidence
	if err := g.Match(ctx, s, s.evidence.Who()); err != nil {
		return nil, err
	}
	page, err := g.toAsk(ctx, s)
	if err != nil {
		return nil, err
	}
	if page == nil { // known meanwhile: there is nothing to ask any more
		return g.Homeward(ctx, s)
	}
	if step.proving() {
		return g.answeredProof(ctx, s, step, page, answer, field("code"))
	}
	settings, err := g.persons.Settings(ctx)
	if err != nil {
		return nil, err
	}
	entered, address := claims.Bag{}, ""
	maps.Copy(entered, step.Entered)
	for i := range page.Fields {
		f := &page.Fields[i]
		value := strings.TrimSpace(field(f.Name))
		if !f.Editable || value == f.Value {
			continue
		}
		f.Value = words.Clip(value, 1000)
		if value == "" {
			continue
		}
		if err := settings.CheckValues(f.Name, []string{value}); err != nil {
			page.Error = words.Capitalise(err.Error()) + "."
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
		return g.askAgain(ctx, s, step, page)
	}
	step.Entered = entered
	if address != "" {
		return g.askProof(ctx, s, step, page, address)
	}
	return g.confirmed(ctx, s, step)
}

func (s *SignIn) admitted() bool {
	_, confirmed := s.evidence.Profile()
	return confirmed
}

func (g *Room) confirmed(ctx context.Context, s *SignIn, step *completing) (*Next, error) {
	s.evidence = step.Evidence.WithProfile(step.Entered)
	s.Rec.Decide(trace.Decision{About: "admission", Result: "the person confirmed the profile", By: "the person"})
	return g.Homeward(ctx, s)
}

// askProof sends a code to a new address and asks for it.
func (g *Room) askProof(ctx context.Context, s *SignIn, step *completing, page *AskProfile, address string) (*Next, error) {
	var held proof.Mail
	if step.Proof != nil {
		held = *step.Proof
	}
	next, wrong, err := g.persons.ProveMail(ctx, held, s.ID, address, s.Browser.Address, s.App.Name)
	step.Proof = &next
	if err != nil {
		return nil, err
	}
	if page.Error = wrong; wrong == "" || step.Proof != nil && len(step.Proof.Hash) > 0 {
		page.Proving = address
	} else if step.Proof != nil {
		step.Proof.Address = ""
	}
	return g.askAgain(ctx, s, step, page)
}

// answeredProof goes on with what somebody answered about the code that was sent.
func (g *Room) answeredProof(ctx context.Context, s *SignIn, step *completing, page *AskProfile, answer, code string) (*Next, error) {
	p := step.Proof
	switch answer {
	case "other":
		p.Address, p.Hash = "", nil
		return g.askAgain(ctx, s, step, page)
	case "again":
		return g.askProof(ctx, s, step, page, p.Address)
	}
	right := p.Try(s.ID, code, g.Now(), ground.MaxWrong)
	s.Rec.Check(trace.Check{
		Name:    "admission.mail-proven",
		Text:    "The code that was sent to the new mail address was entered",
		Section: "our rule",
		OK:      right,
	})
	if !right && p.Wrong >= ground.MaxWrong {
		return nil, explain.New(explain.AdmissionCodeWrong).Of(s.Provider.Name)
	}
	if !right {
		page.Proving, page.Error = p.Address, "This is not the code that was sent, or it is over."
		return g.askAgain(ctx, s, step, page)
	}
	// Whoever has the address already is not somebody new, and nobody is doubled.
	other, err := store.One[store.Person](g.Store.Read(ctx), "email_key = ?", people.Key(p.Address))
	if err != nil {
		return nil, err
	}
	if other.ID != "" {
		return nil, explain.New(explain.AdmissionMailKnown, explain.Fact("mail", p.Address)).Of(s.Provider.Name)
	}
	if step.Entered == nil {
		step.Entered = claims.Bag{}
	}
	step.Entered[people.Mail], step.Entered["email_verified"] = []string{p.Address}, []string{"true"}
	return g.confirmed(ctx, s, step)
}

// proving says whether a code for a new mail address is awaited.
func (s *completing) proving() bool { return s.Proof != nil && s.Proof.Address != "" }
