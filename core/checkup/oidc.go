package checkup

import (
	"fmt"
	"maps"
	"math"
	"net/url"
	"slices"
	"strings"
	"time"

	"innergate/core/access"
	"innergate/core/address"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/oidc"
	"innergate/core/trace"
)

// Secret is a client secret as far as it is checked: one of ours that an application holds, or one that a provider gave
// us.
type Secret struct {
	Next    bool
	Ends    *time.Time
	Hint    string
	Refused bool // when it was tried
}

// TheirSecrets finds secrets of a provider that end, or are missing.
func TheirSecrets(p *config.Provider, list []Secret, now time.Time) []Finding {
	c := &collector{now: now}
	m := p.OIDC.Method()
	if m != oidc.AuthBasic && m != oidc.AuthPost {
		return nil
	}
	active := slices.IndexFunc(list, func(s Secret) bool { return !s.Next })
	next := slices.IndexFunc(list, func(s Secret) bool { return s.Next })
	if active < 0 {
		severity := Attention
		if p.Reach != access.Draft {
			severity = Broken
		}
		c.add(Finding{
			Code:     "provider.secret-none",
			Severity: severity,
			Station:  ProviderTrust,
			Title:    "Our client secret at " + p.Name + " is missing",
			Detail:   "Without it no code can be exchanged.",
			Remedy:   "Enter the secret that the provider gave for our client.",
		})
		return c.findings
	}
	if list[active].Ends != nil {
		c.secretEnds(*list[active].Ends, next >= 0, p.Name)
	}
	for _, s := range list {
		if s.Refused {
			c.add(Finding{
				Code:     "provider.secret-refused",
				Severity: Attention,
				Station:  ProviderTrust,
				Title:    "A secret was refused when it was tried",
				Detail:   p.Name + " did not take it.",
				Remedy:   "Compare it with what the provider shows, or get a new one.",
			})
		}
	}
	return c.findings
}

func (c *collector) secretEnds(ends time.Time, replaced bool, whose string) {
	left := ends.Sub(c.now)
	days := int(math.Ceil(left.Hours() / 24))
	evidence := []trace.Evidence{explain.Fact("ends", ends.UTC().Format(time.RFC3339))}
	switch {
	case left <= 0:
		c.add(Finding{
			Code:     "secret.expired",
			Severity: Broken,
			Station:  ProviderTrust,
			Title:    "Our client secret at " + whose + " has ended",
			Detail:   fmt.Sprintf("It ended %d days ago.", -days),
			Remedy:   "Enter a new one, try it, and switch.",
			Evidence: evidence,
		})
	case days <= 60:
		severity := Remark
		if days <= 30 && !replaced {
			severity = Attention
		}
		if days <= 7 {
			severity = Broken
		}
		f := Finding{
			Code:     "secret.ends-soon",
			Severity: severity,
			Station:  ProviderTrust,
			Title:    fmt.Sprintf("Our client secret at %s ends in %d days", whose, days),
			Detail:   "No next secret is stored.",
			Remedy:   "Ask the provider for a new secret, store it as the next one, try it, and switch.",
			Evidence: evidence,
		}
		if replaced {
			f.Detail, f.Remedy = "The next secret is stored.", "Try the next secret, and switch to it."
		}
		c.add(f)
	}
}

// OurSecrets finds secrets of ours that an application holds and that end, or that it has none.
func OurSecrets(a *config.Application, list []Secret, now time.Time) []Finding {
	c := &collector{now: now}
	if !a.OIDC.HasSecret() {
		return nil
	}
	valid, last := 0, time.Time{}
	for _, s := range list {
		if s.Ends == nil {
			valid, last = valid+1, now.AddDate(100, 0, 0)
		} else if s.Ends.After(now) {
			valid++
			if s.Ends.After(last) {
				last = *s.Ends
			}
		}
	}
	days := int(math.Ceil(last.Sub(now).Hours() / 24))
	switch {
	case valid == 0:
		severity := Attention
		if a.Reach != access.Draft {
			severity = Broken
		}
		c.add(Finding{
			Code:     "application.secret-none",
			Severity: severity,
			Station:  ApplicationTrust,
			Title:    a.Name + " has no valid client secret",
			Detail:   "It can't exchange codes for tokens.",
			Remedy:   "Make a secret and hand it over safely.",
		})
	case days <= 60:
		severity := Remark
		if days <= 30 {
			severity = Attention
		}
		if days <= 7 {
			severity = Broken
		}
		c.add(Finding{
			Code:     "application.secret-ends",
			Severity: severity,
			Station:  ApplicationTrust,
			Title:    fmt.Sprintf("The client secret of %s ends in %d days", a.Name, days),
			Detail:   "No later one is valid.",
			Remedy:   "Make a second secret; both are valid until the application has changed over.",
			Evidence: []trace.Evidence{explain.Fact("ends", last.UTC().Format(time.RFC3339))},
		})
	}
	return c.findings
}

func (c *collector) plainAddresses(whose, station string, list map[string]string) {
	for _, name := range slices.Sorted(maps.Keys(list)) {
		if a := list[name]; a != "" && address.Plain(a) {
			c.add(Finding{
				Code:     "endpoint.http",
				Severity: Attention,
				Station:  station,
				Title:    whose + " has an address without TLS",
				Detail:   "What is sent to " + a + " can be read and changed on its way.",
				Remedy:   "Have the other side offer the address by https.",
				Evidence: []trace.Evidence{explain.Fact(name, a)},
			})
		}
	}
}

// client finds what is unsound about an OpenID Connect application's own values.
func (c *collector) client(a *config.Application) {
	s := a.OIDC
	if s.WithoutPKCE {
		c.add(Finding{
			Code:     "option.no-pkce",
			Severity: Attention,
			Station:  ApplicationTrust,
			Title:    "PKCE is not demanded of " + a.Name,
			Detail:   "Whoever sees a code of its and knows its secret can use it.",
			Remedy:   "Have the application send a code challenge (S256), then switch this off.",
		})
	}
	if s.DeviceGrant {
		c.add(Finding{
			Code:     "option.device",
			Severity: Remark,
			Station:  ApplicationTrust,
			Title:    "The device grant is on for " + a.Name,
			Detail:   "A person can be talked into typing somebody else's code.",
			Remedy:   "Leave it on only where a device has no browser.",
		})
	}
	for _, u := range s.RedirectURIs {
		if parsed, err := url.Parse(u); err == nil && parsed.Hostname() == "localhost" {
			c.add(Finding{
				Code:     "redirect.localhost",
				Severity: Remark,
				Station:  ApplicationTrust,
				Title:    "A redirect URI of " + a.Name + " names localhost",
				Detail: "What localhost is, each machine says by itself; 127.0.0.1 and [::1] can't be pointed elsewhere (RFC 8252, " +
					"section 8.3).",
				Remedy: "For a program on people's own machines register the loopback address; take localhost away when development is " +
					"over.",
				Evidence: []trace.Evidence{explain.Fact("redirect URI", u)},
			})
			break
		}
	}
	if s.BackChannelLogout != "" {
		c.plainAddresses(a.Name, ApplicationTrust, map[string]string{"back-channel logout": s.BackChannelLogout})
	}
	if slices.Contains(s.Scopes, "groups") && !slices.ContainsFunc(a.Mapping, func(r claims.Rule) bool { return r.Set == "groups" }) {
		c.add(Finding{
			Code:     "scope.nothing",
			Severity: Remark,
			Station:  MappingOut,
			Title:    "The scope groups gives nothing",
			Detail:   "No rule sets the claim groups.",
			Remedy:   "Add a rule, or take the scope away.",
		})
	}
	for _, r := range a.Mapping {
		if oidc.Reserved(r.Set) {
			c.add(Finding{
				Code:     "mapping.reserved",
				Severity: Attention,
				Station:  MappingOut,
				Title:    "A rule sets the protocol's own claim " + r.Set,
				Detail:   "It is left out: " + r.Set + " means something of its own in a token.",
				Remedy:   "Give the claim another name; the subject is set apart from the mapping.",
			})
		}
	}
}

// openid finds what is unsound about an OpenID or OAuth 2.0 provider's own values.
func (c *collector) openid(p *config.Provider) {
	s := p.OIDC
	c.plainAddresses(
		p.Name,
		ProviderTrust,
		map[string]string{
			"authorization endpoint": s.AuthorizationEndpoint,
			"token endpoint":         s.TokenEndpoint,
			"UserInfo endpoint":      s.UserInfoEndpoint,
			"key set":                s.KeysURL,
		},
	)
	if s.Method() == oidc.AuthNone {
		c.add(Finding{
			Code:     "option.public-client",
			Severity: Remark,
			Station:  ProviderTrust,
			Title:    "We prove nothing at the token endpoint of " + p.Name,
			Detail:   "Only PKCE protects the codes.",
			Remedy:   "Ask for a client with a secret or a key.",
		})
	}
	if p.Kind == config.KindOAuth2 {
		c.add(Finding{
			Code:     "provider.no-proof",
			Severity: Remark,
			Station:  ProviderTrust,
			Title:    p.Name + " proves nothing about the sign-in",
			Detail: "Plain OAuth 2.0 says who somebody is, not when or how they signed in. An application that demands that gets an " +
				"error.",
			Remedy: "Use OpenID Connect if the provider speaks it.",
		})
	}
	if len(s.AuthMethods) > 0 && s.Authentication != "" && !slices.Contains(s.AuthMethods, s.Authentication) {
		c.add(Finding{
			Code:     "provider.auth-method",
			Severity: Attention,
			Station:  ProviderTrust,
			Title:    "The client authentication method is not listed",
			Detail:   fmt.Sprintf("We send %s; %s lists %s.", s.Authentication, p.Name, strings.Join(s.AuthMethods, ", ")),
			Remedy:   "Choose one that the provider lists.",
		})
	}
}

func clientLines(s *config.OIDCApplication) []string {
	if len(s.RedirectURIs) == 0 {
		return []string{"nothing taken yet"}
	}
	how := map[string]string{oidc.AuthBasic: "client secret", oidc.AuthPost: "client secret", oidc.AuthPrivateKey: "client key",
		oidc.AuthNone: "public client"}[s.Authentication]
	return []string{count(len(s.RedirectURIs), "redirect URI"), how}
}

func openidLines(p *config.Provider) []string {
	s := p.OIDC
	if s.AuthorizationEndpoint == "" {
		return []string{"nothing taken yet"}
	}
	how := "ID token, checked with its key set"
	if p.Kind == config.KindOAuth2 {
		how = "no ID token; UserInfo alone"
	}
	return []string{how, "we prove: " + s.Method()}
}
