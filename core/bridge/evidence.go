package bridge

import (
	"encoding/json"
	"errors"
	"maps"
	"time"

	"innergate/core/claims"
)

// Evidence is what was proven of somebody in one sign-in: whom a provider vouched for, and what came on top of that
// since. It can't be had without the provider that it is of, and what comes on top can't be had without the person whom
// it is of: so nothing that was proven of one of them counts for another. A copy is a value of its own.
type Evidence struct {
	provider string
	who      Identity
	at       time.Time
	second   *byPerson
	agreed   *byPerson
	profile  claims.Bag // what somebody new added to the profile that is made of them, not nil once they confirmed it
}

// byPerson is something that one person did, at a time. A person who is not kept has no ID; they are told by the
// evidence that it is part of.
type byPerson struct {
	Person string    `json:"person"`
	At     time.Time `json:"at"`
}

// Vouch makes evidence of what a provider, by its ID, vouched for at a time.
func Vouch(provider string, who Identity, at time.Time) Evidence {
	return Evidence{provider: provider, who: who, at: at}
}

// Provider is the ID of the provider that vouched; it is empty where nobody did.
func (e Evidence) Provider() string { return e.provider }

// Who is whom the provider vouched for.
func (e Evidence) Who() Identity { return e.who }

// At is when it was said.
func (e Evidence) At() time.Time { return e.at }

// WithSecond adds that a person proved a second factor at the gate.
func (e Evidence) WithSecond(person string, at time.Time) Evidence {
	e.second = &byPerson{person, at}
	return e
}

// Second says whether this very person proved a second factor at the gate.
func (e Evidence) Second(person string) bool { return e.second != nil && e.second.Person == person }

// WithAgreement adds that a person agreed to what is handed on.
func (e Evidence) WithAgreement(person string, at time.Time) Evidence {
	e.agreed = &byPerson{person, at}
	return e
}

// Agreed says whether this very person agreed.
func (e Evidence) Agreed(person string) bool { return e.agreed != nil && e.agreed.Person == person }

// WithProfile adds that somebody new confirmed the profile that is made of them, with what they added.
func (e Evidence) WithProfile(added claims.Bag) Evidence {
	e.profile = claims.Bag{}
	maps.Copy(e.profile, added)
	return e
}

// Profile is what somebody new added to their profile, and whether they confirmed it.
func (e Evidence) Profile() (added claims.Bag, confirmed bool) { return e.profile, e.profile != nil }

// evidence is how Evidence is written, which happens only where it is sealed.
type evidence struct {
	Provider string     `json:"provider"`
	Who      Identity   `json:"who"`
	At       time.Time  `json:"at"`
	Second   *byPerson  `json:"second,omitempty"`
	Agreed   *byPerson  `json:"agreed,omitempty"`
	Profile  claims.Bag `json:"profile,omitempty"`
	// Confirmed tells an empty profile from none.
	Confirmed bool `json:"confirmed,omitempty"`
}

// MarshalJSON writes the evidence, to be sealed.
func (e Evidence) MarshalJSON() ([]byte, error) {
	return json.Marshal(evidence{e.provider, e.who, e.at, e.second, e.agreed, e.profile, e.profile != nil})
}

// UnmarshalJSON reads what MarshalJSON wrote. It refuses evidence without a provider.
func (e *Evidence) UnmarshalJSON(data []byte) error {
	var in evidence
	if err := json.Unmarshal(data, &in); err != nil {
		return err
	}
	if in.Provider == "" {
		return errors.New("this is evidence of no provider")
	}
	*e = Evidence{in.Provider, in.Who, in.At, in.Second, in.Agreed, nil}
	if in.Confirmed {
		*e = e.WithProfile(in.Profile)
	}
	return nil
}
