package checkup

import (
	"fmt"
	"slices"
	"strings"

	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/people"
)

// fed finds what an application is to get and no provider of it can give.
func (c *collector) fed(a *config.Application, providers []config.Provider) {
	if len(providers) == 0 || slices.ContainsFunc(providers, func(p config.Provider) bool { return p.Directory != nil }) {
		return
	}
	made := map[string]bool{}
	for _, r := range a.Mapping {
		missing := r.Expr == "" && r.Value == "" && len(r.From) > 0 && !slices.ContainsFunc(r.From, func(from string) bool {
			return made[from] || Fed(from, providers)
		})
		if made[r.Set] = true; !missing {
			continue
		}
		severity := Remark
		if r.Required {
			severity = Broken
		}
		c.add(Finding{
			Code:     "mapping.no-source",
			Severity: severity,
			Station:  MappingOut,
			Title:    "Nothing sets the value for " + r.Set,
			Detail: fmt.Sprintf("It is taken from %s, and no provider of this application sets that. Only people to whom it was given "+
				"here have it.", strings.Join(r.From, " or ")),
			Remedy: "Add a rule to a provider's mapping, take it from another value, or leave the attribute away.",
		})
	}
}

// Fed says whether any of the providers sets an attribute of the profile, or the gate itself does.
func Fed(attribute string, providers []config.Provider) bool {
	switch attribute {
	case people.Memberships, people.PersonType, people.AssignedRoles:
		return true
	case "email_verified":
		return Fed(people.Mail, providers)
	case "name":
		if Fed("given_name", providers) || Fed("family_name", providers) {
			return true
		}
	}
	return slices.ContainsFunc(providers, func(p config.Provider) bool {
		return p.Directory != nil || slices.ContainsFunc(p.Mapping, func(r claims.Rule) bool { return r.Set == attribute }) ||
			p.Admit != nil && slices.ContainsFunc(p.Admit.Defaults, func(r claims.Rule) bool { return r.Set == attribute })
	})
}

func sends(p *config.Provider, a *config.Application) bool {
	return a.Subject.Source != "profile" || p.Directory != nil ||
		slices.ContainsFunc(p.Mapping, func(r claims.Rule) bool { return r.Set == a.Subject.From })
}
