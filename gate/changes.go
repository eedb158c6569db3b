package gate

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"innergate/api"
	"innergate/core/config"
	"innergate/core/keys"
	"innergate/core/saml"
)

// line is one field of a configuration with its value in words.
type line struct{ field, value string }

// flat lays out the fields that a partner's document can change.
func flat(v any) []line {
	var out []line
	add := func(field, value string) { out = append(out, line{field, value}) }
	certs := func(list []config.Certificate) {
		for _, c := range list {
			if cert, err := c.Parse(); err == nil {
				use := c.Use
				if use == "" {
					use = "any use"
				}
				add("certificate for "+use, keys.Fingerprint(cert.Raw))
			}
		}
	}
	endpoints := func(name string, list []saml.Endpoint) {
		for _, e := range list {
			place := e.Location
			if len(list) > 1 && e.Index != nil {
				place += fmt.Sprintf(" (index %d)", *e.Index)
			}
			if len(list) > 1 && e.Default {
				place += " (default)"
			}
			add(name+" by "+saml.BindingName(e.Binding), place)
		}
	}
	switch c := v.(type) {
	case config.Application:
		add("name", c.Name)
		if c.OIDC != nil {
			flatClient(add, c.OIDC)
			add("start address", c.StartURL)
			break
		}
		if c.Guarded != nil {
			add("public address", c.Guarded.PublicURL)
			for _, u := range c.Guarded.Upstreams {
				add("inner address", u)
			}
			add("passes on", c.Guarded.Pass)
		}
		if c.SAML == nil {
			break
		}
		add("entity ID", c.SAML.EntityID)
		endpoints("ACS URL", c.SAML.ACS)
		endpoints("SLO URL", c.SAML.SLO)
		certs(c.SAML.Certificates)
		if w := c.SAML.Metadata; w != nil {
			add("metadata address", w.Place())
		}
		add("start address", c.StartURL)
		if c.Subject.Source != "" {
			add("subject", strings.TrimSpace(c.Subject.Source+" "+c.Subject.From)+", "+saml.FormatName(c.Subject.Format))
		}
		if c.SAML.RequireSignedRequests {
			add("signed requests", "demanded")
		}
		for _, r := range c.Mapping {
			add("sends "+r.Set, strings.Join(r.From, ", "))
		}
	case config.Provider:
		add("name", c.Name)
		if c.OIDC != nil {
			flatOIDCProvider(add, c.OIDC)
			break
		}
		if c.SAML == nil {
			break
		}
		add("entity ID", c.SAML.EntityID)
		endpoints("SSO URL", c.SAML.SSO)
		endpoints("SLO URL", c.SAML.SLO)
		endpoints("artifact resolution URL", c.SAML.Artifact)
		certs(c.SAML.Certificates)
		if w := c.SAML.Metadata; w != nil {
			add("metadata address", w.Place())
		}
		if c.SAML.NameIDFormat != "" {
			add("NameID format asked for", saml.FormatName(c.SAML.NameIDFormat))
		}
	}
	return slices.DeleteFunc(out, func(l line) bool { return l.value == "" })
}

func flatClient(add func(field, value string), s *config.OIDCApplication) {
	add("client ID", s.ClientID)
	for _, u := range s.RedirectURIs {
		add("redirect URI", u)
	}
	for _, u := range s.PostLogoutURIs {
		add("post-logout URI", u)
	}
	for _, u := range s.Origins {
		add("origin", u)
	}
	for _, f := range [][2]string{{"client authentication", s.Authentication}, {"key set", s.KeysURL}, {"ID token algorithm", s.Algorithm}, {"home page", s.HomePage}, {"privacy page", s.Privacy}, {"terms page", s.Terms},
		{"initiate login URI", s.InitiateLogin}, {"back-channel logout URI", s.BackChannelLogout}, {"front-channel logout URI", s.FrontChannelLogout}, {"sector identifier URI", s.SectorIdentifier}, {"scopes", strings.Join(s.Scopes, " ")}} {
		add(f[0], f[1])
	}
}

func flatOIDCProvider(add func(field, value string), s *config.OIDCProvider) {
	for _, f := range [][2]string{{"issuer", s.Issuer}, {"accepted issuers", strings.Join(s.AcceptedIssuers, " ")}, {"authorization endpoint", s.AuthorizationEndpoint}, {"token endpoint", s.TokenEndpoint}, {"UserInfo endpoint", s.UserInfoEndpoint},
		{"key set", s.KeysURL}, {"end session endpoint", s.EndSessionEndpoint}, {"client authentication methods", strings.Join(s.AuthMethods, " ")}} {
		add(f[0], f[1])
	}
	if s.IssuerInAnswer {
		add("iss in answers", "demanded")
	}
}

// changes compares two layouts: what is gone, what is new, and what has another value where a field stands once on both sides.
func changes(before, after []line) []api.Change {
	out := []api.Change{}
	once := func(list []line, field string) (string, bool) {
		value, n := "", 0
		for _, l := range list {
			if l.field == field {
				value, n = l.value, n+1
			}
		}
		return value, n == 1
	}
	for _, l := range before {
		if slices.Contains(after, l) {
			continue
		}
		if now, ok := once(after, l.field); ok {
			if _, was := once(before, l.field); was {
				out = append(out, api.Change{Field: l.field, Before: l.value, After: now})
				continue
			}
		}
		out = append(out, api.Change{Field: l.field, Before: l.value})
	}
	for _, l := range after {
		if slices.Contains(before, l) {
			continue
		}
		_, was := once(before, l.field)
		_, is := once(after, l.field)
		if !was || !is {
			out = append(out, api.Change{Field: l.field, After: l.value})
		}
	}
	return out
}

// contentHash is over the values that a partner's document gives, so that a new date or ID alone is no new content.
func contentHash(list []line) string {
	h := sha256.New()
	for _, l := range list {
		fmt.Fprintf(h, "%q=%q\n", l.field, l.value)
	}
	return hex.EncodeToString(h.Sum(nil))
}

// inWords is a change as a sentence.
func inWords(c api.Change) string {
	switch {
	case c.Before == "":
		return fmt.Sprintf("%s added: %s", c.Field, c.After)
	case c.After == "":
		return fmt.Sprintf("%s removed: %s", c.Field, c.Before)
	}
	return fmt.Sprintf("%s changed from %s to %s", c.Field, c.Before, c.After)
}
