// Package difference writes a configuration as lines of fields and values, so that two versions can be told apart in
// words.
package difference

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"innergate/core/config"
	"innergate/core/keys"
	"innergate/core/saml"
)

// Line is one field of a configuration with its value in words.
type Line struct{ Field, Value string }

// Flat lays out the fields that a partner's document can change.
func Flat(v any) []Line {
	var out []Line
	add := func(field, value string) { out = append(out, Line{field, value}) }
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
	return slices.DeleteFunc(out, func(l Line) bool { return l.Value == "" })
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
	for _, f := range [][2]string{{"client authentication", s.Authentication}, {"key set", s.KeysURL},
		{"ID token algorithm", s.Algorithm}, {"home page", s.HomePage}, {"privacy page", s.Privacy}, {"terms page", s.Terms},
		{"initiate login URI", s.InitiateLogin}, {"back-channel logout URI", s.BackChannelLogout},
		{"front-channel logout URI", s.FrontChannelLogout}, {"sector identifier URI", s.SectorIdentifier},
		{"scopes", strings.Join(s.Scopes, " ")}} {
		add(f[0], f[1])
	}
}

func flatOIDCProvider(add func(field, value string), s *config.OIDCProvider) {
	for _, f := range [][2]string{{"issuer", s.Issuer}, {"accepted issuers", strings.Join(s.AcceptedIssuers, " ")},
		{"authorization endpoint", s.AuthorizationEndpoint}, {"token endpoint", s.TokenEndpoint}, {"UserInfo endpoint", s.UserInfoEndpoint},
		{"key set", s.KeysURL}, {"end session endpoint", s.EndSessionEndpoint},
		{"client authentication methods", strings.Join(s.AuthMethods, " ")}} {
		add(f[0], f[1])
	}
	if s.IssuerInAnswer {
		add("iss in answers", "demanded")
	}
}

// Hash is over the values that a partner's document gives, so that a new date or ID alone is no new content.
func Hash(list []Line) string {
	h := sha256.New()
	for _, l := range list {
		fmt.Fprintf(h, "%q=%q\n", l.Field, l.Value)
	}
	return hex.EncodeToString(h.Sum(nil))
}

// Leaves puts a value's leaves into a map, by path.
func Leaves(path string, v any, into map[string]string) {
	switch v := v.(type) {
	case map[string]any:
		for name, one := range v {
			Leaves(strings.TrimPrefix(path+"."+name, "."), one, into)
		}
	case []any:
		plain := true
		var words []string
		for _, one := range v {
			switch one.(type) {
			case map[string]any, []any:
				plain = false
			}
			words = append(words, fmt.Sprint(one))
		}
		if plain {
			into[path] = strings.Join(words, ", ")
			return
		}
		for i, one := range v {
			Leaves(fmt.Sprintf("%s[%d]", path, i+1), one, into)
		}
	case nil:
	default:
		into[path] = fmt.Sprint(v)
	}
}
