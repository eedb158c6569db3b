package checkup

import (
	"fmt"
	"net"
	"net/url"
	"slices"
	"strings"

	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/people"
	"innergate/core/saml"
)

func accessLines(a *config.Application) []string {
	who := "for those assigned"
	if a.Access.To == access.Everybody {
		who = "for everybody"
	}
	if n := len(a.Access.Rules); n > 0 {
		who += ", " + count(n, "rule")
	}
	return []string{reachLine(a.Reach), who, count(len(a.Providers), "provider")}
}

func matchingLines(p *config.Provider) []string {
	if p.Kind == config.KindDirectory {
		return []string{"the gate's own people"}
	}
	if p.Admission == "pass" {
		return []string{"nobody is stored", "everybody passes"}
	}
	by := "link"
	if p.Matching != nil && len(p.Matching.By) > 0 {
		var ways []string
		for _, w := range p.Matching.By {
			ways = append(ways, strings.ReplaceAll(w.By, "_", " "))
		}
		by += ", " + strings.Join(ways, ", ")
	}
	lines := []string{
		by,
		map[string]string{"create": "strangers created", "ask": "strangers asked", "refuse": "strangers refused"}[p.Admission],
	}
	if n := len(p.Grants); n > 0 {
		lines = append(lines, count(n, "grant"))
	}
	return lines
}

func directoryLines(d *config.DirectoryProvider) []string {
	factor := "second factor if enrolled"
	if d.SecondFactor == "required" {
		factor = "second factor required"
	}
	lines := []string{"passwords", factor}
	switch d.PasskeyUse() {
	case "second":
		lines = append(lines, "passkeys as second factor")
	case "alone":
		lines = append(lines, "passkeys, alone too")
	}
	return lines
}

// directory finds what the gate's own people can't have at its address.
func (c *collector) directory(d *config.DirectoryProvider, ours saml.EntityID) {
	if u, err := url.Parse(string(ours)); err == nil && net.ParseIP(u.Hostname()) != nil && d.PasskeyUse() != "off" {
		c.add(Finding{
			Code:     "directory.passkeys-impossible",
			Severity: Remark,
			Station:  ProviderTrust,
			Title:    "Passkeys can't be had here",
			Detail:   "Passkeys are bound to a host name, and people reach this gate at the bare address " + u.Hostname() + ".",
			Remedy:   "Serve the gate under a host name (--public-url), or switch passkeys off.",
		})
	}
}

// access finds policies that let in more than is meant, or less.
func (c *collector) access(a *config.Application) {
	for i, r := range a.Access.Rules {
		if r.Use == "" && r.If == nil && r.Unless == nil && i < len(a.Access.Rules)-1 {
			c.add(Finding{
				Code:     "access.unreachable",
				Severity: Attention,
				Station:  Access,
				Title:    "Rules that are never asked",
				Detail:   fmt.Sprintf("Rule %d fits everybody, so the rules behind it are never asked.", i+1),
				Remedy:   "Move it to the end, or give it a condition.",
			})
			break
		}
	}
	if a.Subject.Source == "profile" && a.Subject.From == people.Mail && a.Access.To == access.Everybody {
		c.add(Finding{
			Code:     "subject.mail-from-anybody",
			Severity: Remark,
			Station:  MappingOut,
			Title:    "Whoever has the mail address is the account",
			Detail:   "The application knows people by mail address, and everybody is let in for whom a provider vouches.",
			Remedy:   "Use only providers whose addresses are proven, or a value that is never given to another.",
		})
	}
}

// silent finds what a provider's mapping makes and nothing comes of, since the provider may not speak for it.
func (c *collector) silent(p *config.Provider) {
	if p.Directory != nil {
		return
	}
	var sets []string
	for _, r := range p.Mapping {
		sets = append(sets, r.Set)
	}
	names := p.Matching.Silent(sets)
	if len(names) == 0 {
		return
	}
	var inWords []string
	for _, n := range names {
		inWords = append(inWords, claims.InWords(n))
	}
	c.add(Finding{
		Code:     "matching.speaks-for-nothing",
		Severity: Attention,
		Station:  Matching,
		Title:    "What it says is dropped",
		Detail: "The mapping makes " + strings.Join(inWords, ", ") + " of what " + p.Name +
			" sends, and nothing says that it may speak for any: no application, rule or role gets these values.",
		Remedy: "Name the mail domains, scopes and groups that it may speak for, or leave the rules out.",
	})
}

// matching finds providers that may speak for more than is wise.
func (c *collector) matching(p *config.Provider) {
	m := p.Matching
	c.silent(p)
	if m == nil {
		return
	}
	if m.MailUnproven {
		c.add(Finding{
			Code:     "matching.mail-unproven",
			Severity: Remark,
			Station:  Matching,
			Title:    "Mail addresses count as proven",
			Detail: p.Name + " does not say that its addresses are proven, and is believed within " + strings.Join(
				m.Domains, ", ",
			) + ".",
		})
	}
	if m.Unscoped && p.Kind != config.KindSAML &&
		slices.ContainsFunc(m.By, func(w people.Way) bool { return w.By != people.Mail && w.Expr == "" }) {
		c.add(Finding{
			Code:     "matching.unscoped",
			Severity: Remark,
			Station:  Matching,
			Title:    "It may speak for any user name",
			Detail: p.Name + " is matched by values that have no scope: whoever is called so there is taken for whoever is called " +
				"so here.",
			Remedy: "Make sure that both give out names together.",
		})
	}
}

// NobodyAssigned is the finding for an application that lets in whoever is assigned, and nobody is.
func NobodyAssigned(a *config.Application) []Finding {
	severity := Remark
	if a.Reach == access.Everyone {
		severity = Broken
	}
	return []Finding{
		{
			Code:     "access.nobody-assigned",
			Severity: severity,
			Station:  Access,
			Title:    "Nobody is assigned",
			Detail:   "Only people and groups that are assigned may come in, and there are none.",
			Remedy:   "Assign a group, or open the application to everybody for whom a provider vouches.",
		},
	}
}
