// Package bridge holds the two values that pass between the sides of a sign-in, in words that no protocol owns: what
// an application wishes (SAML Core, section 3.4.1; OpenID Connect Core 1.0, section 3.1.2.1) and whom a provider
// vouched for.
package bridge

import (
	"slices"
	"time"

	"innergate/core/claims"
	"innergate/core/saml"
)

// Factors are the values of amr that stand for a second factor or something as strong (RFC 8176).
var Factors = []string{"mfa", "otp", "hwk", "sc"}

// StrongContexts are the authentication contexts that stand for a second factor (SAML Authentication Context 2.0,
// section 3.4).
var StrongContexts = []string{
	"urn:oasis:names:tc:SAML:2.0:ac:classes:TimeSyncToken",
	"urn:oasis:names:tc:SAML:2.0:ac:classes:MobileTwoFactorContract",
	"urn:oasis:names:tc:SAML:2.0:ac:classes:MobileTwoFactorUnregistered",
	"urn:oasis:names:tc:SAML:2.0:ac:classes:SmartcardPKI",
	"https://refeds.org/profile/mfa",
}

// ContextOf writes wanted contexts for a SAML provider.
func ContextOf(values []string) *saml.RequestedContext {
	if len(values) == 0 {
		return nil
	}
	return &saml.RequestedContext{Comparison: "exact", Classes: slices.Clone(values)}
}

// Wish is what an application wants of a sign-in, in words that no protocol owns.
type Wish struct {
	Fresh   bool                   `json:"fresh,omitempty"`
	Passive bool                   `json:"passive,omitempty"`
	Context *saml.RequestedContext `json:"context,omitempty"`
	// Preferred is set where the context is only preferred (acr_values) and not demanded.
	Preferred bool `json:"preferred,omitempty"`
	// MaxAge is how long ago the person may have signed in.
	MaxAge *time.Duration `json:"maxAge,omitempty"`
	// Choose has the person choose an account anew.
	Choose    bool   `json:"choose,omitempty"`
	LoginHint string `json:"loginHint,omitempty"`
	Locales   string `json:"locales,omitempty"`
	// Subject is the identifier that the application named.
	Subject    *saml.NameID `json:"subject,omitempty"`
	ProxyCount *int         `json:"proxyCount,omitempty"`
	Requesters []string     `json:"requesters,omitempty"`
	Providers  []string     `json:"providers,omitempty"` // by their entity IDs
}

// Identity is what a provider vouched for, in words that no protocol owns.
type Identity struct {
	Subject string // the key by which a link knows it, empty if it can't be known again
	Shown   string // the identifier, for people
	// Person is the ID of one of the gate's own people, who need no matching.
	Person       string
	Attributes   claims.Bag
	AuthnInstant time.Time
	// Context is what the provider said itself, Means what that stands for by its table of contexts.
	Context     string
	Means       []string `json:",omitempty"`
	AMR         []string
	Authorities []string
	// Session is the provider's own name for its session, Hint what it wants to see when somebody signs out.
	Session    string
	Hint       string
	SessionEnd time.Time
	// UsedIssuer and UsedID must not come again before UsedUntil.
	UsedIssuer, UsedID string
	UsedUntil          time.Time
	// NameID is the identifier as a SAML provider wrote it, by which it is asked to sign the person out.
	NameID *saml.NameID `json:",omitempty"`
	// SessionID is the session at the gate in which this was vouched for before, if it was.
	SessionID string `json:",omitempty"`
}

// SubjectFormat is the SAML NameID format for a subject rule: the one that is set, or what its source stands for
// (SAML Core, section 8.3).
func SubjectFormat(source, format string) string {
	switch {
	case format != "":
		return format
	case source == "pairwise":
		return saml.FormatPersistent
	case source == "transient":
		return saml.FormatTransient
	}
	return saml.FormatUnspecified
}
