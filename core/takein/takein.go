// Package takein drafts a configuration from what the other side left: metadata (SAML Metadata, section 2.4), client
// metadata (RFC 7591, section 2), or a certificate alone.
package takein

import (
	"bytes"
	"crypto/x509"
	"errors"
	"slices"
	"strings"
	"time"

	"innergate/core/address"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/jose"
	"innergate/core/keys"
	"innergate/core/oidc"
	"innergate/core/saml"
	"innergate/core/words"
)

// ProposeStart guesses an application's start address from what is known of it.
func ProposeStart(s *config.SAMLApplication) string {
	for _, e := range s.ACS {
		if root := address.Origin(e.Location); root != "" {
			return root + "/"
		}
	}
	if root := address.Origin(s.EntityID); root != "" {
		return root + "/"
	}
	return ""
}

// How often a partner's metadata is looked at where nothing else is said, and the bounds of what metadata may ask for.
const (
	RefreshUsually = 6 * time.Hour
	RefreshSoonest = 15 * time.Minute
	RefreshLatest  = 24 * time.Hour
)

// Interval is when to look again: as set, else as the metadata says within bounds.
func Interval(w *config.Watch, entity *saml.Entity) time.Duration {
	switch {
	case w.EveryMinutes > 0:
		return time.Duration(w.EveryMinutes) * time.Minute
	case entity != nil && entity.CacheDuration > 0:
		return min(max(entity.CacheDuration, RefreshSoonest), RefreshLatest)
	}
	return RefreshUsually
}

// GrantTypes lists the grants that a client may use (RFC 7591, section 2).
func GrantTypes(o *config.OIDCApplication) []string {
	out := []string{oidc.GrantCode}
	if o.Refresh || slices.Contains(o.Scopes, "offline_access") {
		out = append(out, oidc.GrantRefresh)
	}
	if o.DeviceGrant {
		out = append(out, oidc.GrantDevice)
	}
	return out
}

// ClientMetadata reads a client's own metadata (RFC 7591, section 2; OpenID Connect Dynamic Client Registration 1.0,
// section 2) as an application in draft. What widens access, such as the device grant, is left for an engineer to
// switch on.
func ClientMetadata(data []byte) (*config.Application, error) {
	bad := func(why string) (*config.Application, error) {
		return nil, explain.New(explain.OIDCRegistration, explain.Fact("metadata", why))
	}
	o, err := jose.ReadObject(data)
	if err != nil {
		return bad(err.Error())
	}
	a := &config.Application{Kind: config.KindOIDC, OIDC: &config.OIDCApplication{}, Mapping: claims.OutgoingOIDC()}
	s := a.OIDC
	var sector, subject, scope, appType, signed string
	for name, to := range map[string]*string{"client_name": &a.Name, "client_uri": &s.HomePage, "policy_uri": &s.Privacy,
		"tos_uri": &s.Terms, "jwks_uri": &s.KeysURL, "token_endpoint_auth_method": &s.Authentication,
		"id_token_signed_response_alg": &s.Algorithm, "initiate_login_uri": &s.InitiateLogin,
		"backchannel_logout_uri": &s.BackChannelLogout, "frontchannel_logout_uri": &s.FrontChannelLogout,
		"sector_identifier_uri": &sector, "subject_type": &subject, "scope": &scope, "application_type": &appType,
		"userinfo_signed_response_alg": &signed} {
		value, ok := o.Text(name)
		if !ok || len(value) > 2000 {
			return bad(name + " is not a string of at most 2000 characters")
		}
		*to = value
	}
	var responses, grants []string
	for name, to := range map[string]*[]string{"redirect_uris": &s.RedirectURIs, "post_logout_redirect_uris": &s.PostLogoutURIs,
		"response_types": &responses, "grant_types": &grants} {
		value, ok := o.Texts(name)
		if !ok {
			return bad(name + " is not a list of strings")
		}
		*to = value
	}
	if len(responses) > 0 && (len(responses) > 1 || responses[0] != "code") {
		return bad("response_types holds something else than code")
	}
	if len(s.RedirectURIs) == 0 {
		return bad("redirect_uris is missing")
	}
	if keys, ok := o["jwks"].(map[string]any); ok {
		text, err := jose.Write(keys)
		if err != nil {
			return bad("jwks can't be read")
		}
		s.Keys = string(text)
	}
	s.Native, s.SectorIdentifier, s.SignedUserInfo = appType == "native", sector, signed != ""
	s.Refresh = slices.Contains(grants, oidc.GrantRefresh)
	for _, want := range strings.Fields(scope) {
		if slices.Contains(config.Scopes, want) {
			s.Scopes = append(s.Scopes, want)
		}
	}
	switch subject {
	case "", "pairwise":
		a.Subject.Source = "pairwise"
	case "public":
		a.Subject.Source = "public"
	default:
		return bad("subject_type is neither public nor pairwise")
	}
	if a.Name == "" {
		a.Name = address.Host(s.RedirectURIs[0])
	}
	a.Name = words.Clip(a.Name, 200)
	if a.Slug = config.Slug(a.Name); a.Slug == "" {
		a.Slug = "client"
	}
	if len(a.Slug) > 50 {
		a.Slug = strings.Trim(a.Slug[:50], "-")
	}
	return a, nil
}

// LoneCertificate reads what was handed over as a certificate alone.
func LoneCertificate(text []byte) *x509.Certificate {
	if len(text) > 64<<10 || strings.Contains(string(text), "Descriptor") {
		return nil
	}
	cert, err := keys.ParseCertificate(text)
	if err != nil {
		return nil
	}
	return cert
}

// AddCertificate adds a certificate to those that are held, and reports whether it was new.
func AddCertificate(list []config.Certificate, cert *x509.Certificate, use string) ([]config.Certificate, bool) {
	for _, c := range list {
		if held, err := c.Parse(); err == nil && held.Equal(cert) && (c.Use == "" || c.Use == use) {
			return list, false
		}
	}
	return append(list, config.Certificate{Use: use, PEM: string(keys.EncodeCertificate(cert.Raw))}), true
}

// PEMOf lists the signing certificates of a role, as a configuration holds them.
func PEMOf(r *saml.Role) []config.Certificate {
	var out []config.Certificate
	for _, k := range r.Keys {
		c := config.Certificate{Use: k.Use, PEM: string(keys.EncodeCertificate(k.Certificate.Raw))}
		if !slices.Contains(out, c) {
			out = append(out, c)
		}
	}
	return out
}

// GiveApplication puts the values that the metadata holds into an application; what we chose for it stays.
func GiveApplication(a *config.Application, entity *saml.Entity, role *saml.Role) {
	s := a.SAML
	s.EntityID, s.Certificates, s.AttributeSets = entity.EntityID, PEMOf(role), role.AttributeSets
	s.ACS, s.SLO = role.Service(saml.ServiceACS), role.Service(saml.ServiceSLO)
}

// GiveProvider does the same for a provider.
func GiveProvider(p *config.Provider, entity *saml.Entity, role *saml.Role) {
	s := p.SAML
	s.EntityID, s.Certificates = entity.EntityID, PEMOf(role)
	s.SSO, s.SLO, s.Artifact = role.Service(saml.ServiceSSO), role.Service(saml.ServiceSLO), role.Service(saml.ServiceArtifact)
}

// Watched notes the address from which metadata was taken, so that it is looked at again.
func Watched(w *config.Watch, from string) *config.Watch {
	if from == "text" || from == "" {
		return w
	}
	if w == nil {
		w = &config.Watch{}
	}
	w.URL = from
	return w
}

// SubjectFor chooses the subject rule that fits the NameID formats that an application lists.
func SubjectFor(formats []string) config.Subject {
	has := func(f string) bool { return slices.Contains(formats, f) }
	switch {
	case has(saml.FormatPersistent):
		return config.Subject{Source: "pairwise", Format: saml.FormatPersistent}
	case has(saml.FormatEmail):
		return config.Subject{Source: "profile", From: "email", Format: saml.FormatEmail}
	case has(saml.FormatTransient) && len(formats) == 1:
		return config.Subject{Source: "transient", Format: saml.FormatTransient}
	}
	return config.Subject{Source: "profile", From: "preferred_username", Format: saml.FormatUnspecified}
}

// OutboundFor proposes a mapping for the attributes that an application asks for, or the usual one.
func OutboundFor(wanted []saml.RequestedAttribute) claims.Mapping {
	if len(wanted) == 0 {
		return claims.Outgoing()
	}
	var m claims.Mapping
	for _, w := range wanted {
		from := ""
		for _, rule := range claims.Standard() {
			if slices.Contains(rule.From, w.Name) || slices.Contains(rule.From, w.FriendlyName) || rule.Set == w.Name {
				from = rule.Set
			}
		}
		if from == "" {
			continue
		}
		m = append(
			m,
			claims.Rule{
				Set:          w.Name,
				From:         claims.Names{from},
				FriendlyName: w.FriendlyName,
				NameFormat:   w.NameFormat,
				Required:     w.Required,
			},
		)
	}
	return m
}

// LooksJSON says whether what was handed over is JSON: a discovery document, or a client's own metadata.
func LooksJSON(data []byte) bool { return bytes.HasPrefix(bytes.TrimSpace(data), []byte("{")) }

// ProblemOf puts what is wrong with a document of OpenID Connect into the form of what is wrong with metadata.
func ProblemOf(err error) saml.Problem {
	var f *explain.Failure
	if errors.As(err, &f) {
		e := f.Explain()
		return saml.Problem{Code: string(e.Code), Message: e.Cause + " " + e.Remedy, Fatal: true}
	}
	return saml.Problem{Code: "oidc.discovery-unreadable", Message: err.Error(), Fatal: true}
}
