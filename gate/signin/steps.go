package signin

import (
	"encoding/json"
	"fmt"
	"time"

	"innergate/core/bridge"
	"innergate/core/claims"
	"innergate/core/explain"
	"innergate/core/proof"
	"innergate/core/saml"
)

// Step is where a sign-in stands that waits for somebody. There is one value for each, with what belongs to it and
// nothing else: what was proven stands only in the steps that come after the proof, so that it is gone when somebody
// goes back to where it was not there yet. A request that comes for another step than the one that is due is refused.
type Step interface {
	// of is the ID of the provider in whose name the sign-in stands there, empty where there is none.
	of() string
}

// The steps at which a sign-in can wait.
type (
	// choosing is the page on which a provider is chosen, or a name given.
	choosing struct{}

	// awaiting is the time until a provider has answered. It holds what the answer must fit.
	awaiting struct {
		Provider     string                 `json:"provider"`
		FreshSince   time.Time              `json:"freshSince,omitzero"`
		Context      *saml.RequestedContext `json:"context,omitempty"`
		NameIDFormat string                 `json:"nameIdFormat,omitempty"`
		Nonce        string                 `json:"nonce,omitempty"`
		Verifier     string                 `json:"verifier,omitempty"`
		MaxAge       *time.Duration         `json:"maxAge,omitempty"`
		ACR          []string               `json:"acr,omitempty"` // demanded of an OpenID provider
		// Again is set where the provider was asked once more, more strictly or without what it could not give;
		// Strengthened where it was asked for a second factor.
		Again        bool `json:"again,omitempty"`
		Strengthened bool `json:"strengthened,omitempty"`
	}

	// Here is the gate's own page, on which one of its own people signs in. How far they are is the directory's affair.
	Here struct {
		Provider string          `json:"provider"`
		Own      json.RawMessage `json:"own"`
	}

	// Proving is the gate's own page, on which somebody whom a provider vouched for proves a second factor.
	Proving struct {
		Evidence bridge.Evidence `json:"evidence"`
		Person   string          `json:"person"`
		Own      json.RawMessage `json:"own"`
	}

	// completing is the page on which somebody new confirms the profile that is made of them.
	completing struct {
		Evidence bridge.Evidence `json:"evidence"`
		Entered  claims.Bag      `json:"entered,omitempty"`
		Proof    *proof.Mail     `json:"proof,omitempty"` // a mail address of theirs that is being proven
	}

	// agreeing is the page on which the person agrees to what is handed on.
	agreeing struct {
		Evidence bridge.Evidence `json:"evidence"`
		Person   string          `json:"person"`
	}
)

func (*choosing) of() string     { return "" }
func (s *awaiting) of() string   { return s.Provider }
func (s *Here) of() string       { return s.Provider }
func (s *Proving) of() string    { return s.Evidence.Provider() }
func (s *completing) of() string { return s.Evidence.Provider() }
func (s *agreeing) of() string   { return s.Evidence.Provider() }

// stepNames tells how steps are written.
var stepNames = []struct {
	name string
	make func() Step
}{
	{"choosing", func() Step { return &choosing{} }},
	{"awaiting", func() Step { return &awaiting{} }},
	{"here", func() Step { return &Here{} }},
	{"proving", func() Step { return &Proving{} }},
	{"completing", func() Step { return &completing{} }},
	{"agreeing", func() Step { return &agreeing{} }},
}

// place is a step, or none, as it is written.
type place struct{ Step }

type written struct {
	Name string          `json:"name"`
	Step json.RawMessage `json:"step"`
}

// MarshalJSON writes the step with its name.
func (p place) MarshalJSON() ([]byte, error) {
	if p.Step == nil {
		return []byte("null"), nil
	}
	body, err := json.Marshal(p.Step)
	if err != nil {
		return nil, err
	}
	for _, s := range stepNames {
		if fmt.Sprintf("%T", s.make()) == fmt.Sprintf("%T", p.Step) {
			return json.Marshal(written{s.name, body})
		}
	}
	return nil, fmt.Errorf("%T is no step of a sign-in", p.Step)
}

// UnmarshalJSON reads what MarshalJSON wrote.
func (p *place) UnmarshalJSON(data []byte) error {
	var in *written
	if err := json.Unmarshal(data, &in); err != nil || in == nil {
		return err
	}
	for _, s := range stepNames {
		if s.name == in.Name {
			p.Step = s.make()
			return json.Unmarshal(in.Step, p.Step)
		}
	}
	return fmt.Errorf("%q is no step of a sign-in", in.Name)
}

// Due is the step that a request is for, or a refusal where the sign-in does not stand there.
func Due[S Step](s *SignIn) (S, error) {
	step, ok := s.State.At.Step.(S)
	if !ok {
		var none S
		return none, explain.New(explain.BrowserFinished)
	}
	return step, nil
}

// consistent refuses a step in the name of another provider than the one that the sign-in is with.
func (s *SignIn) consistent() error {
	if step := s.State.At.Step; step != nil && step.of() != "" && step.of() != s.Row.ProviderID {
		return explain.New(explain.BrowserFinished)
	}
	return nil
}

// waitAt has the sign-in wait at a step. What was proven before and is not part of it counts no more.
func (s *SignIn) waitAt(step Step) { s.State.At = place{step} }

// BackToChoosing forgets all that was found out, asked and proven since the application asked, as is due wherever
// somebody chooses a provider or says who they are.
func (s *SignIn) BackToChoosing() {
	s.waitAt(&choosing{})
	s.evidence, s.asked, s.Provider, s.Person, s.Row.ProviderID = bridge.Evidence{}, nil, nil, Person{}, ""
	if s.State.Wished != nil {
		s.State.Wish, s.State.Wished = *s.State.Wished, nil
	}
}

// adjustWish lets the wish of this one request to the provider differ from what the application wants.
func (s *SignIn) adjustWish(change func(*bridge.Wish)) {
	if s.State.Wished == nil {
		was := s.State.Wish
		s.State.Wished = &was
	}
	change(&s.State.Wish)
}

// WaitHere has the sign-in wait at the gate's own page.
func (s *SignIn) WaitHere(own json.RawMessage) { s.waitAt(&Here{s.Provider.ID, own}) }

// WaitForSecond has the sign-in wait at the gate's own page for the second factor of the person who was found.
func (s *SignIn) WaitForSecond(own json.RawMessage) {
	s.waitAt(&Proving{s.evidence, s.Person.ID, own})
}

// Vouched notes what the provider of this sign-in vouched for, for the phases to come.
func (s *SignIn) Vouched(who bridge.Identity, at time.Time) {
	s.evidence = bridge.Vouch(s.Provider.ID, who, at)
}

// Proven takes up a sign-in whose person has proven the second factor that was asked for.
func (s *SignIn) Proven(step *Proving, at time.Time) {
	s.evidence = step.Evidence.WithSecond(step.Person, at)
}

// SupposeSecond supposes, in a preview, that whoever it is about proved a second factor.
func (s *SignIn) SupposeSecond(at time.Time) { s.evidence = s.evidence.WithSecond(s.Person.ID, at) }
