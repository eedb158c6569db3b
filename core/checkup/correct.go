package checkup

import (
	"slices"
	"time"

	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/oidc"
	"innergate/core/people"
)

// correctable are the codes for which a change is known that settles them for sure.
var correctable = []string{
	"access.unreachable",
	"subject.not-a-mail",
	"mapping.reserved",
	"scope.nothing",
	"option.no-pkce",
	"option.device",
	"option.sha1",
	"option.cbc",
	"certificate.expired",
	"matching.mail-unproven",
	"provider.auth-method",
	"directory.passkeys-impossible",
}

// Correctable tells whether a correction of such a finding may be known.
func Correctable(code string) bool { return slices.Contains(correctable, code) }

// CorrectApplication changes an application so that a finding is settled, and says what it did; nothing where that
// needs a decision of somebody's.
func CorrectApplication(code string, a *config.Application, now time.Time) string {
	switch {
	case code == "access.unreachable":
		for i, r := range a.Access.Rules {
			if r.Use == "" && r.If == nil && r.Unless == nil {
				a.Access.Rules = a.Access.Rules[:i+1]
				return "The rules behind the one that fits everybody are taken away; nobody's access changes."
			}
		}
	case code == "subject.not-a-mail":
		a.Subject.From = people.Mail
		return "The identifier is taken from email. People who have signed in become others at the application, if it knew them by " +
			"the old value."
	case code == "mapping.reserved" && a.OIDC != nil:
		a.Mapping = slices.DeleteFunc(slices.Clone(a.Mapping), func(r claims.Rule) bool { return oidc.Reserved(r.Set) })
		return "The rules that set the protocol's own claims are taken away; what they set was left out already."
	case code == "scope.nothing" && a.OIDC != nil:
		a.OIDC.Scopes = slices.DeleteFunc(slices.Clone(a.OIDC.Scopes), func(s string) bool { return s == "groups" })
		return "The scope groups is taken away. A client that asks for it goes on without."
	case code == "option.no-pkce" && a.OIDC != nil:
		a.OIDC.WithoutPKCE = false
		return "PKCE is demanded. A client that sends no code challenge is refused from now on."
	case code == "option.device" && a.OIDC != nil:
		a.OIDC.DeviceGrant = false
		return "The device grant is switched off."
	case code == "option.sha1" && a.SAML != nil:
		a.SAML.AllowSHA1 = false
		return "Signatures with SHA-1 are refused from now on."
	case code == "certificate.expired" && a.SAML != nil:
		return withoutExpired(&a.SAML.Certificates, now)
	}
	return ""
}

// CorrectProvider does the same for a provider.
func CorrectProvider(code string, p *config.Provider, now time.Time) string {
	switch {
	case code == "option.sha1" && p.SAML != nil:
		p.SAML.AllowSHA1 = false
		return "Signatures with SHA-1 are refused from now on."
	case code == "option.cbc" && p.SAML != nil:
		p.SAML.AllowCBC = false
		return "Assertions encrypted with AES-CBC are refused from now on."
	case code == "certificate.expired" && p.SAML != nil:
		return withoutExpired(&p.SAML.Certificates, now)
	case code == "matching.mail-unproven" && p.Matching != nil:
		p.Matching.MailUnproven = false
		return "Mail addresses count only where the provider says that they are proven. People who are linked already are not touched."
	case code == "provider.auth-method" && p.OIDC != nil && len(p.OIDC.AuthMethods) > 0:
		for _, m := range []string{oidc.AuthBasic, oidc.AuthPost} {
			if slices.Contains(p.OIDC.AuthMethods, m) {
				p.OIDC.Authentication = m
				return "The gate proves itself by " + m + ", which the provider lists."
			}
		}
	case code == "directory.passkeys-impossible" && p.Directory != nil:
		p.Directory.Passkeys = "off"
		return "No passkeys are offered any more."
	}
	return ""
}

// withoutExpired takes expired certificates away, unless none would be left.
func withoutExpired(list *[]config.Certificate, now time.Time) string {
	kept := slices.DeleteFunc(slices.Clone(*list), func(c config.Certificate) bool {
		cert, err := c.Parse()
		return err == nil && now.After(cert.NotAfter)
	})
	if len(kept) == 0 || len(kept) == len(*list) {
		return ""
	}
	*list = kept
	return "Certificates that have ended are taken away; the others stay."
}
