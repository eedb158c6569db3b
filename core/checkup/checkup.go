// Package checkup looks over a configuration and tells what it found: for each station of the passage how it is set and
// whether it is sound, and findings with evidence and remedy. It needs nothing but the configuration and the time.
package checkup

import (
	"crypto/x509"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"innergate/core/access"
	"innergate/core/address"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/core/trace"
)

// Severities of findings, from bad to mild.
const (
	Broken    = "broken"    // it does not work, or is not safe
	Attention = "attention" // it will stop working, or is less safe than it could be
	Remark    = "remark"
)

// Finding is one thing that was found.
type Finding struct {
	Code     string           `json:"code"`
	Severity string           `json:"severity"`
	Station  string           `json:"station"`
	Title    string           `json:"title"`
	Detail   string           `json:"detail"`
	Remedy   string           `json:"remedy,omitempty"`
	Evidence []trace.Evidence `json:"evidence,omitempty"`
}

// Names of the stations, from the application to the provider.
const (
	ApplicationTrust = "application-trust"
	MappingOut       = "mapping-out"
	Access           = "access"
	Accounts         = "accounts"
	Matching         = "matching"
	MappingIn        = "mapping-in"
	ProviderTrust    = "provider-trust"
)

// Station is one place on the passage, in a line or two.
type Station struct {
	Name  string   `json:"name"`
	Title string   `json:"title"`
	State string   `json:"state"` // sound, attention, broken or empty
	Lines []string `json:"lines"`
}

// Settle gives each station the state of its worst finding.
func Settle(stations []Station, findings []Finding) []Station {
	for i := range stations {
		s := &stations[i]
		if s.State == "" {
			s.State = "sound"
		}
		for _, f := range findings {
			if f.Station != s.Name {
				continue
			}
			if f.Severity == Broken || f.Severity == Attention && s.State == "sound" {
				s.State = f.Severity
			}
		}
	}
	return stations
}

type collector struct {
	now      time.Time
	findings []Finding
}

func (c *collector) add(f Finding) { c.findings = append(c.findings, f) }

// certificates finds ends of certificates: past, or within 60, 30 and 7 days.
func (c *collector) certificates(list []*x509.Certificate, whose, station string) {
	last := time.Time{}
	for _, cert := range list {
		if cert.NotAfter.After(last) {
			last = cert.NotAfter
		}
	}
	for _, cert := range list {
		evidence := []trace.Evidence{
			explain.Fact("SHA-256 fingerprint", keys.Fingerprint(cert.Raw)),
			explain.Fact("ends", cert.NotAfter.UTC().Format(time.RFC3339)),
		}
		left := cert.NotAfter.Sub(c.now)
		days := int(math.Ceil(left.Hours() / 24))
		replaced := last.After(cert.NotAfter)
		switch {
		case left <= 0:
			f := Finding{
				Code:     "certificate.expired",
				Severity: Attention,
				Station:  station,
				Title:    fmt.Sprintf("A certificate of %s has ended", whose),
				Detail: fmt.Sprintf(
					"It ended %d days ago. Sign-ins go on as long as dates are not enforced, but others may refuse it.",
					-days,
				),
				Remedy:   "Take the other side's current certificate, and remove this one.",
				Evidence: evidence,
			}
			if replaced {
				f.Severity = Remark
			}
			c.add(f)
		case days <= 60 && !replaced:
			severity := Remark
			if days <= 30 {
				severity = Attention
			}
			if days <= 7 {
				severity = Broken
			}
			c.add(Finding{
				Code:     "certificate.ends-soon",
				Severity: severity,
				Station:  station,
				Title:    fmt.Sprintf("The certificate of %s ends in %d days", whose, days),
				Detail:   "No later certificate is held.",
				Remedy:   "Ask the other side for its next certificate, and trust both until it has changed over.",
				Evidence: evidence,
			})
		case c.now.Before(cert.NotBefore):
			c.add(Finding{
				Code:     "certificate.early",
				Severity: Remark,
				Station:  station,
				Title:    fmt.Sprintf("A certificate of %s is not valid yet", whose),
				Detail:   "It begins " + cert.NotBefore.UTC().Format(time.RFC3339) + ".",
				Evidence: evidence,
			})
		}
	}
}

func (c *collector) plainHTTP(list []saml.Endpoint, whose, station string) {
	for _, e := range list {
		if address.Plain(e.Location) {
			c.add(Finding{
				Code:     "endpoint.http",
				Severity: Attention,
				Station:  station,
				Title:    whose + " has an address without TLS",
				Detail:   "What is sent to " + e.Location + " can be read and changed on its way.",
				Remedy:   "Have the other side offer the address by https.",
				Evidence: []trace.Evidence{explain.Fact("address", e.Location)},
			})
		}
	}
}

func end(list []*x509.Certificate, now time.Time) string {
	if len(list) == 0 {
		return "no certificate"
	}
	last := slices.MaxFunc(list, func(a, b *x509.Certificate) int { return a.NotAfter.Compare(b.NotAfter) })
	count := "1 certificate"
	if len(list) > 1 {
		count = fmt.Sprintf("%d certificates", len(list))
	}
	days := int(math.Ceil(last.NotAfter.Sub(now).Hours() / 24))
	switch {
	case days < 0:
		return count + ", ended"
	case days <= 90:
		return fmt.Sprintf("%s, ends in %d days", count, days)
	}
	return count + " until " + last.NotAfter.UTC().Format("Jan 2006")
}

// Application inspects an application with the providers that its routes lead to, and lays out its passage.
func Application(a *config.Application, providers []config.Provider, ours saml.EntityID, now time.Time) ([]Station, []Finding) {
	c := &collector{now: now}
	trust := Station{Name: ApplicationTrust, Title: "Trust"}
	given := "NameID"
	if a.OIDC != nil {
		given = "sub"
		if trust.Lines = clientLines(a.OIDC); len(a.OIDC.RedirectURIs) == 0 {
			trust.State = "empty"
		}
		c.client(a)
	} else if a.SAML == nil {
		given = "identifier"
		trust.Lines = plainLines(a)
		c.guarded(a)
	} else {
		signing := config.Parsed(a.SAML.Certificates, "signing")
		if trust.Lines = []string{acsLine(a.SAML), end(signing, now)}; a.SAML.EntityID == "" {
			trust.State = "empty"
		}
		c.logout(a.SAML.SLO, signing, a.SAML.UnsignedLogout, a.Name, ApplicationTrust)
		c.certificates(signing, a.Name, ApplicationTrust)
		c.plainHTTP(a.SAML.ACS, a.Name, ApplicationTrust)
		c.options(a.SAML.AllowSHA1, a.Name, ApplicationTrust)
	}
	stations := []Station{
		trust,
		{Name: MappingOut, Title: "Mapping out", Lines: []string{count(len(a.Mapping), "attribute"), subjectLine(a.Subject, given)}},
		{Name: Access, Title: "Access", Lines: accessLines(a)},
	}
	if a.Accounts != nil {
		stations = slices.Insert(stations, 1, Station{Name: Accounts, Title: "Accounts", Lines: accountLines(a.Accounts)})
	}
	c.accounts(a)
	c.access(a)
	if len(a.Mapping) == 0 {
		c.add(Finding{
			Code:     "mapping.empty",
			Severity: Remark,
			Station:  MappingOut,
			Title:    "No attributes are sent",
			Detail:   "The application gets the " + given + " and nothing else.",
			Remedy:   "Add a rule for each attribute that it needs.",
		})
	}
	for _, m := range a.Missing() {
		station := ApplicationTrust
		if strings.Contains(m, "provider") {
			station = Access
		}
		severity := Attention
		if a.Reach != access.Draft {
			severity = Broken
		}
		c.add(Finding{
			Code:     "application.incomplete",
			Severity: severity,
			Station:  station,
			Title:    "Something is missing",
			Detail:   capital(m) + ".",
		})
	}
	if a.SAML != nil && a.SAML.EntityID != "" && a.SAML.EntityID == string(ours) {
		c.add(Finding{
			Code:     "application.our-entity-id",
			Severity: Broken,
			Station:  ApplicationTrust,
			Title:    "Our own entity ID was entered for theirs",
			Detail:   "The application's entity ID is the gate's.",
			Remedy:   "Enter the application's own entity ID.",
		})
	}
	if a.StartURL == "" {
		c.add(Finding{
			Code:     "application.no-start",
			Severity: Remark,
			Station:  ApplicationTrust,
			Title:    "The application's own start address is not known",
			Detail:   "Without it a rehearsal can't begin at the application, and neither can its tile.",
			Remedy:   "Enter the address at which people begin in the application.",
		})
	}
	if a.StartGuessed() {
		c.add(Finding{
			Code:     "application.start-guessed",
			Severity: Remark,
			Station:  ApplicationTrust,
			Title:    "The application's start address is a guess",
			Detail:   "It was made from another address of the application: " + a.StartURL + ".",
			Remedy:   "Open it. Where people begin there, say that it is right; else enter the right one.",
		})
	}
	c.format(a)
	c.fed(a, providers)
	for i := range providers {
		ps, fs := Provider(&providers[i], "", now)
		if i == 0 {
			stations = append(stations, ps[1], ps[2], ps[0])
		}
		c.findings = append(c.findings, fs...)
		if a.Reach == access.Everyone && providers[i].Reach == access.Draft {
			c.add(Finding{
				Code:     "provider.draft",
				Severity: Attention,
				Station:  Access,
				Title:    providers[i].Name + " is still a draft",
				Detail:   "The application is open, but this way in is not.",
				Remedy:   "Open the provider, or take it away from the application.",
			})
		}
		if !sends(&providers[i], a) {
			c.add(Finding{
				Code:     "subject.no-source",
				Severity: Attention,
				Station:  MappingOut,
				Title:    "Nothing sets the value for the subject",
				Detail:   fmt.Sprintf("The subject is taken from %s, and no rule of %s sets it.", a.Subject.From, providers[i].Name),
				Remedy:   "Add a rule to the provider's mapping, or take the subject from another value.",
			})
		}
	}
	if len(providers) == 0 {
		stations = append(
			stations,
			Station{Name: Matching, Title: "Matching", State: "empty", Lines: []string{"no provider"}},
			Station{Name: MappingIn, Title: "Mapping in", State: "empty", Lines: []string{"no provider"}},
			Station{Name: ProviderTrust, Title: "Trust", State: "empty", Lines: []string{"no provider"}},
		)
	}
	return Settle(stations, c.findings), c.findings
}

// plainLines tell what is held of an application that speaks no protocol.
func plainLines(a *config.Application) []string {
	if a.Guarded == nil {
		return []string{"a plain link", a.StartURL}
	}
	return []string{
		"guarded by the gate",
		count(len(a.Guarded.Upstreams), "inner address"),
		map[string]string{config.PassNothing: "no identity passed on", config.PassHeaders: "identity in headers",
			config.PassToken: "identity in a signed token", config.PassBasic: "identity as basic credentials"}[a.Guarded.Pass],
	}
}

// guarded finds what is unsound about an application behind the gate.
func (c *collector) guarded(a *config.Application) {
	g := a.Guarded
	if g == nil {
		return
	}
	if address.Plain(g.PublicURL) {
		c.add(Finding{
			Code:     "endpoint.http",
			Severity: Attention,
			Station:  ApplicationTrust,
			Title:    a.Name + " has an address without TLS",
			Detail:   "What people send to " + g.PublicURL + " can be read and changed on its way.",
			Remedy:   "Serve it by https.",
			Evidence: []trace.Evidence{explain.Fact("address", g.PublicURL)},
		})
	}
	for _, r := range g.Paths {
		if r.Then == config.PathOpen && r.Path == "/" && len(r.Methods) == 0 {
			c.add(Finding{
				Code:     "guard.open",
				Severity: Attention,
				Station:  Access,
				Title:    a.Name + " is open to everybody",
				Detail:   "A rule opens every path to people who are not signed in.",
				Remedy:   "Open only the paths that need it.",
			})
		}
	}
	if g.Pass == config.PassHeaders && len(a.Mapping) == 0 {
		c.add(Finding{
			Code:     "guard.nobody",
			Severity: Attention,
			Station:  MappingOut,
			Title:    "The application is not told who comes",
			Detail:   "Identity is to be passed on in headers, and no rule sets one.",
			Remedy:   "Add a rule such as X-User from preferred_username, or pass nothing on.",
		})
	}
}

// logout finds a partner that would sign people out, and whose messages can't be checked.
func (c *collector) logout(slo []saml.Endpoint, signing []*x509.Certificate, unsigned bool, whose, station string) {
	if len(slo) == 0 || len(signing) > 0 || unsigned {
		return
	}
	c.add(Finding{
		Code:     "logout.no-certificate",
		Severity: Attention,
		Station:  station,
		Title:    whose + " can't sign people out",
		Detail:   "It has a logout address, and no certificate of it is held: each of its logout messages will be refused.",
		Remedy:   "Take its signing certificate, or take unsigned messages from the browser whose session it is.",
		Evidence: []trace.Evidence{explain.Fact("logout address", slo[0].Location)},
	})
}

// format finds subject rules that can't fit the format that they promise.
func (c *collector) format(a *config.Application) {
	if a.Subject.Source == "profile" && a.Subject.Format == saml.FormatPersistent {
		c.add(Finding{
			Code:     "subject.persistent-from-profile",
			Severity: Remark,
			Station:  MappingOut,
			Title:    "A persistent NameID is taken from the profile",
			Detail:   "A persistent NameID should be random and different at each application; " + a.Subject.From + " is neither.",
			Remedy:   "Choose pairwise as the source, unless the application needs this very value.",
		})
	}
	if a.Subject.Format == saml.FormatEmail && a.Subject.Source == "profile" && a.Subject.From != "email" {
		c.add(Finding{
			Code:     "subject.not-a-mail",
			Severity: Attention,
			Station:  MappingOut,
			Title:    "The NameID promises a mail address",
			Detail:   "Its format is emailAddress, and its value is taken from " + a.Subject.From + ".",
			Remedy:   "Take the subject from email, or choose another format.",
		})
	}
}

func (c *collector) options(sha1 bool, whose, station string) {
	if sha1 {
		c.add(Finding{
			Code:     "option.sha1",
			Severity: Attention,
			Station:  station,
			Title:    "SHA-1 is allowed for " + whose,
			Detail:   "Signatures with SHA-1 can be forged with enough effort.",
			Remedy:   "Have the other side change to SHA-256, then switch this off.",
		})
	}
}

// Provider inspects a provider. Its stations come from the provider inward: trust, matching, mapping in.
func Provider(p *config.Provider, ours saml.EntityID, now time.Time) ([]Station, []Finding) {
	c := &collector{now: now}
	trust := Station{Name: ProviderTrust, Title: "Trust"}
	if p.OIDC != nil {
		if trust.Lines = openidLines(p); p.OIDC.AuthorizationEndpoint == "" {
			trust.State = "empty"
		}
		c.openid(p)
	} else if p.Directory != nil {
		trust.Lines = directoryLines(p.Directory)
		c.directory(p.Directory, ours)
	} else if p.LDAP != nil {
		if trust.Lines = ldapLines(p.LDAP); len(p.LDAP.Servers) == 0 {
			trust.State = "empty"
		}
		c.ldap(p)
	} else if p.Kerberos != nil {
		if trust.Lines = kerberosLines(p.Kerberos); len(p.Kerberos.Realms) == 0 {
			trust.State = "empty"
		}
		c.kerberos(p)
	} else {
		trust = c.samlProvider(p, ours)
	}
	c.matching(p)
	stations := []Station{
		trust,
		{Name: Matching, Title: "Matching", Lines: matchingLines(p)},
		{Name: MappingIn, Title: "Mapping in", Lines: []string{count(len(p.Mapping), "rule")}},
	}
	for _, m := range p.Missing() {
		severity := Attention
		if p.Reach != access.Draft {
			severity = Broken
		}
		c.add(Finding{
			Code:     "provider.incomplete",
			Severity: severity,
			Station:  ProviderTrust,
			Title:    "Something is missing",
			Detail:   capital(m) + ".",
		})
	}
	if p.Admission == "create" &&
		!slices.ContainsFunc(p.Mapping, func(r claims.Rule) bool { return r.Set == "name" || r.Set == "given_name" }) {
		c.add(Finding{
			Code:     "mapping.no-name",
			Severity: Attention,
			Station:  MappingIn,
			Title:    "People would be created without a name",
			Detail:   "No rule sets name or given_name.",
			Remedy:   "Add a rule for the person's name.",
		})
	}
	c.newcomers(p)
	c.signOut(p)
	return Settle(stations, c.findings), c.findings
}

// newcomers finds what people who are created would lack.
func (c *collector) newcomers(p *config.Provider) {
	sets := func(name string) bool {
		return slices.ContainsFunc(p.Mapping, func(r claims.Rule) bool { return r.Set == name })
	}
	if p.Admission == "create" && p.Directory == nil && len(p.Mapping) > 0 && !sets("email") {
		c.add(Finding{
			Code:     "mapping.no-mail",
			Severity: Remark,
			Station:  MappingIn,
			Title:    "People would be created without a mail address",
			Detail:   "No rule sets email.",
			Remedy:   "Add a rule for the mail address, unless this provider has none.",
		})
	}
	given := len(p.Grants) > 0 || p.Admit != nil && len(p.Admit.Groups) > 0 || sets("groups")
	if p.Admission == "create" && p.Directory == nil && len(p.Mapping) > 0 && !given {
		c.add(Finding{
			Code:     "mapping.no-group",
			Severity: Remark,
			Station:  MappingIn,
			Title:    "People would be created without any group",
			Detail:   "No rule sets groups, and neither grants nor the admission give one.",
			Remedy:   "Give a group at admission, or map what the provider sends, if applications let people in by groups.",
		})
	}
	if p.Kind != config.KindOIDC || len(p.OIDC.Scopes) == 0 {
		return
	}
	for _, need := range []struct{ claim, scope string }{{"email", "email"}, {"given_name", "profile"}, {"family_name", "profile"},
		{"name", "profile"}, {"phone_number", "phone"}, {"address", "address"}} {
		reads := slices.ContainsFunc(p.Mapping, func(r claims.Rule) bool { return slices.Contains(r.From, need.claim) })
		if reads && !slices.Contains(p.OIDC.Scopes, need.scope) {
			c.add(Finding{
				Code:     "scope.not-asked",
				Severity: Attention,
				Station:  MappingIn,
				Title:    "The scope " + need.scope + " is not asked for",
				Detail:   "A rule takes " + need.claim + ", which providers send with the scope " + need.scope + ".",
				Remedy:   "Add " + need.scope + " to the scopes, or take the rule away.",
				Evidence: []trace.Evidence{explain.Pair("scopes", need.scope, strings.Join(p.OIDC.Scopes, " "))},
			})
			return
		}
	}
}

// signOut finds a plain sign-out address where one for messages is meant, and the reverse.
func (c *collector) signOut(p *config.Provider) {
	mixed := func(field, value, meant string) {
		c.add(Finding{
			Code:     "logout.other-kind",
			Severity: Attention,
			Station:  ProviderTrust,
			Title:    "A sign-out address stands in the wrong field",
			Detail: field + " is " + value + ", which is " + meant +
				". One takes signed messages, the other a person's browser without any.",
			Remedy: "Ask the other side for both: the SLO or end session address, and a plain page for signing out; enter each in " +
				"its own field.",
			Evidence: []trace.Evidence{explain.Fact("address", value)},
		})
	}
	if s := p.SAML; s != nil && s.SignOutURL != "" {
		for _, e := range s.SLO {
			if e.Location == s.SignOutURL {
				mixed("The plain sign-out address", s.SignOutURL, "the SLO address as well")
				return
			}
		}
		if len(s.SLO) == 0 && looksLikeSLO(s.SignOutURL) {
			mixed("The plain sign-out address", s.SignOutURL, "by its look an SLO address")
		}
	}
	if o := p.OIDC; o != nil && o.SignOutURL != "" && o.SignOutURL == o.EndSessionEndpoint {
		mixed("The plain sign-out address", o.SignOutURL, "the end session endpoint as well")
	}
}

func looksLikeSLO(address string) bool {
	address = strings.ToLower(address)
	return strings.HasSuffix(strings.TrimSuffix(address, "/"), "/slo") || strings.Contains(address, "singlelogout")
}

// samlProvider finds what is unsound about a SAML provider's own values.
func (c *collector) samlProvider(p *config.Provider, ours saml.EntityID) Station {
	signing := config.Parsed(p.SAML.Certificates, "signing")
	trust := Station{Name: ProviderTrust, Title: "Trust", Lines: []string{ssoLine(p.SAML), end(signing, c.now)}}
	if p.SAML.EntityID == "" {
		trust.State = "empty"
	}
	c.logout(p.SAML.SLO, signing, p.SAML.UnsignedLogout, p.Name, ProviderTrust)
	c.certificates(signing, p.Name, ProviderTrust)
	c.plainHTTP(p.SAML.SSO, p.Name, ProviderTrust)
	c.options(p.SAML.AllowSHA1, p.Name, ProviderTrust)
	if p.SAML.AllowCBC {
		c.add(Finding{
			Code:     "option.cbc",
			Severity: Attention,
			Station:  ProviderTrust,
			Title:    "AES-CBC is allowed for " + p.Name,
			Detail:   "CBC does not protect its content against change; it is opened only under a signed response.",
			Remedy:   "Have the other side change to AES-GCM, then switch this off.",
		})
	}
	if ours != "" && p.SAML.EntityID == string(ours) {
		c.add(Finding{
			Code:     "provider.our-entity-id",
			Severity: Broken,
			Station:  ProviderTrust,
			Title:    "Our own entity ID was entered for theirs",
			Detail:   "The provider's entity ID is the gate's.",
			Remedy:   "Enter the provider's own entity ID.",
		})
	}
	if p.SAML.NameIDFormat == saml.FormatTransient && p.SAML.SubjectFrom == "" {
		c.add(Finding{
			Code:     "provider.transient",
			Severity: Broken,
			Station:  Matching,
			Title:    "A transient NameID identifies nobody",
			Detail:   "It is asked of " + p.Name + ", and no attribute is named to know people by.",
			Remedy:   "Ask for a persistent NameID, or name the attribute that identifies a person.",
		})
	}
	return trust
}

func acsLine(s *config.SAMLApplication) string {
	if s.EntityID == "" && len(s.ACS) == 0 {
		return "nothing taken yet"
	}
	return count(len(s.ACS), "ACS URL")
}

func ssoLine(s *config.SAMLProvider) string {
	if s.EntityID == "" && len(s.SSO) == 0 {
		return "nothing taken yet"
	}
	if s.SendUnsigned {
		return "requests unsigned"
	}
	return "requests signed"
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	if n == 0 {
		return "no " + what + "s"
	}
	return fmt.Sprintf("%d %ss", n, what)
}

func subjectLine(s config.Subject, given string) string {
	switch s.Source {
	case "pairwise":
		return given + ": random, stable"
	case "public":
		return given + ": random, the same everywhere"
	case "transient":
		return given + ": new each time"
	}
	return given + ": " + claims.InWords(s.From)
}

func reachLine(r access.Reach) string {
	switch r {
	case access.Everyone:
		return "everyone"
	case access.Closed:
		return "closed"
	case access.InCircle:
		return "a circle"
	}
	return "rehearsals only"
}

func capital(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}
