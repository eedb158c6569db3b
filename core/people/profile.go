package people

import (
	"fmt"
	"slices"

	"innergate/core/claims"
)

// What happens to an attribute at later sign-ins.
const (
	ProviderWins = "provider" // what the provider sends replaces what is held; the default
	FirstStays   = "first"    // what was there first stays
	LocalWins    = "local"    // what was entered at the gate stays, else the provider's
)

// ByHand is the source of values that were entered at the gate.
const ByHand = "hand"

// Grant gives groups and a person type to those whose profile fits, at each sign-in.
type Grant struct {
	// Attribute and Value, or If as an expression over the profile, say who is meant. With neither, everybody is.
	Attribute string   `json:"attribute,omitempty"`
	Value     string   `json:"value,omitempty"`
	If        string   `json:"if,omitempty"`
	Groups    []string `json:"groups,omitempty"`
	Type      string   `json:"type,omitempty"`
}

// Admission says what a person who is created begins with.
type Admission struct {
	Groups []string `json:"groups,omitempty"`
	Type   string   `json:"type,omitempty"`
	// Defaults are rules for attributes that the provider did not send.
	Defaults claims.Mapping `json:"defaults,omitempty"`
}

// CheckGrants says what is wrong with grants.
func CheckGrants(list []Grant) error {
	if len(list) > 500 {
		return fmt.Errorf("there are %d grants; 500 are the most", len(list))
	}
	for i, g := range list {
		switch {
		case g.If != "" && g.Attribute != "":
			return fmt.Errorf("grant %d has an attribute and an expression; only one can be", i+1)
		case g.Attribute != "" && g.Value == "":
			return fmt.Errorf("grant %d names an attribute but no value", i+1)
		case len(g.Groups) == 0 && g.Type == "":
			return fmt.Errorf("grant %d gives nothing", i+1)
		}
		if g.If != "" {
			if _, err := claims.CompileCondition(g.If); err != nil {
				return fmt.Errorf("grant %d: %w", i+1, err)
			}
		}
	}
	return nil
}

// Granted is what a profile is given: the groups of all grants that fit, and the type of the first that names one.
func Granted(list []Grant, profile claims.Bag) (groups []string, kind string, by []string, err error) {
	for i, g := range list {
		holds := true
		switch {
		case g.If != "":
			e, err := claims.CompileCondition(g.If)
			if err != nil {
				return nil, "", nil, err
			}
			if holds, err = e.Holds(profile); err != nil {
				return nil, "", nil, fmt.Errorf("grant %d: %w", i+1, err)
			}
		case g.Attribute != "":
			holds = slices.Contains(profile[g.Attribute], g.Value)
		}
		if !holds {
			continue
		}
		by = append(by, fmt.Sprintf("grant %d", i+1))
		for _, slug := range g.Groups {
			if !slices.Contains(groups, slug) {
				groups = append(groups, slug)
			}
		}
		if kind == "" {
			kind = g.Type
		}
	}
	return groups, kind, by, nil
}

// Held is what is stored of a person's profile: the values, and for each where it came from (a provider's ID, or
// ByHand).
type Held struct {
	Profile claims.Bag
	Sources map[string]string
}

// Merged is what a sign-in makes of a profile. Whole is what the applications' mappings see: what is kept, and what is
// for this sign-in only.
type Merged struct {
	Held
	Whole   claims.Bag
	Changed []string // names whose kept values change
}

// Merge brings what a provider sent into what is held. Sets are the names that its mapping can set: where one of them
// did not come, what the same provider gave earlier goes.
func (s Settings) Merge(held Held, came claims.Bag, sets []string, provider string, keep map[string]string) Merged {
	out := Merged{
		Held:  Held{Profile: make(claims.Bag, len(held.Profile)+len(came)), Sources: make(map[string]string, len(came))},
		Whole: make(claims.Bag, len(came)),
	}
	for name, values := range held.Profile {
		out.Profile[name], out.Sources[name] = values, held.Sources[name]
	}
	change := func(name string, values []string) {
		if !slices.Equal(out.Profile[name], values) {
			out.Changed = append(out.Changed, name)
		}
		if len(values) == 0 {
			delete(out.Profile, name)
			delete(out.Sources, name)
			return
		}
		out.Profile[name], out.Sources[name] = values, provider
	}
	for name, values := range came {
		if len(values) == 0 || s.Of(name).Session {
			continue
		}
		there := len(out.Profile[name]) > 0
		switch keep[name] {
		case FirstStays:
			if there {
				continue
			}
		case LocalWins:
			if there && out.Sources[name] == ByHand {
				continue
			}
		}
		change(name, values)
	}
	for _, name := range sets {
		if len(came[name]) == 0 && len(out.Profile[name]) > 0 && out.Sources[name] == provider && keep[name] != FirstStays {
			change(name, nil)
		}
	}
	for name, values := range out.Profile {
		out.Whole[name] = values
	}
	for name, values := range came {
		if s.Of(name).Session {
			out.Whole[name] = values
		}
	}
	slices.Sort(out.Changed)
	return out
}

// CheckKeep says what is wrong with the rules for later sign-ins.
func CheckKeep(keep map[string]string) error {
	for name, how := range keep {
		if how != ProviderWins && how != FirstStays && how != LocalWins {
			return fmt.Errorf("%q can't be chosen for %s; provider, first and local can", how, name)
		}
	}
	return nil
}
