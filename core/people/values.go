package people

import (
	"maps"
	"slices"
	"strings"

	"innergate/core/claims"
)

// Outbound is what an application's mapping sees of a person: the profile, and what the gate knows besides.
func Outbound(profile claims.Bag, groups []string, kind string, roles []string) claims.Bag {
	bag := make(claims.Bag, len(profile)+3)
	for name, values := range profile {
		bag[name] = values
	}
	delete(bag, Memberships)
	delete(bag, PersonType)
	delete(bag, AssignedRoles)
	NameFromParts(bag)
	if len(groups) > 0 {
		bag[Memberships] = groups
	}
	if kind != "" {
		bag[PersonType] = []string{kind}
	}
	if len(roles) > 0 {
		bag[AssignedRoles] = roles
	}
	return bag
}

// NameFromParts gives a profile without a full name the one that given and family name make.
func NameFromParts(profile claims.Bag) {
	full := strings.TrimSpace(profile.First("given_name") + " " + profile.First("family_name"))
	if profile.First("name") == "" && full != "" {
		profile["name"] = []string{full}
	}
}

// ProvenBy adds what the provider says about its mail address, where the mapping leaves that out and the address is the
// one that came: the proof is of that one only.
func ProvenBy(came, received claims.Bag) claims.Bag {
	proof, mail := received["email_verified"], received.First("email")
	if len(proof) == 0 || mail == "" || len(came["email_verified"]) > 0 || !strings.EqualFold(strings.TrimSpace(mail), came.First(Mail)) {
		return came
	}
	out := maps.Clone(came)
	out["email_verified"] = proof
	return out
}

// ShownName is the name by which a person is shown to people.
func ShownName(profile claims.Bag, fallback string) string {
	if n := profile.First("name"); n != "" {
		return n
	}
	if n := strings.TrimSpace(profile.First("given_name") + " " + profile.First("family_name")); n != "" {
		return n
	}
	for _, a := range []string{"email", "preferred_username"} {
		if n := profile.First(a); n != "" {
			return n
		}
	}
	return fallback
}

// ChangedByHand notes in sources which values were changed, and names them.
func ChangedByHand(before, after claims.Bag, sources map[string]string) []string {
	var changed []string
	for name, values := range after {
		if !slices.Equal(before[name], values) {
			sources[name] = ByHand
			changed = append(changed, name)
		}
	}
	for name := range before {
		if len(after[name]) == 0 {
			delete(sources, name)
			changed = append(changed, name)
		}
	}
	slices.Sort(changed)
	return changed
}
