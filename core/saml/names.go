package saml

import (
	"errors"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"
)

// Namespaces (SAML Core, section 1.1; SAML Metadata, section 2).
const (
	NSAssertion        = "urn:oasis:names:tc:SAML:2.0:assertion"
	NSProtocol         = "urn:oasis:names:tc:SAML:2.0:protocol"
	NSMetadata         = "urn:oasis:names:tc:SAML:2.0:metadata"
	NSEntityAttributes = "urn:oasis:names:tc:SAML:metadata:attribute"
	NSAlgorithms       = "urn:oasis:names:tc:SAML:metadata:algsupport"
	NSMDUI             = "urn:oasis:names:tc:SAML:metadata:ui"
	nsXSI              = "http://www.w3.org/2001/XMLSchema-instance"
	nsXS               = "http://www.w3.org/2001/XMLSchema"
)

// Bindings (SAML Bindings, section 3).
const (
	BindingRedirect = "urn:oasis:names:tc:SAML:2.0:bindings:HTTP-Redirect"
	BindingPost     = "urn:oasis:names:tc:SAML:2.0:bindings:HTTP-POST"
	BindingArtifact = "urn:oasis:names:tc:SAML:2.0:bindings:HTTP-Artifact"
	BindingSOAP     = "urn:oasis:names:tc:SAML:2.0:bindings:SOAP"
)

// BindingName is the short name of a binding, or the URI itself where there is none.
func BindingName(uri string) string {
	switch uri {
	case BindingRedirect, BindingPost, BindingArtifact, BindingSOAP:
		return uri[strings.LastIndexByte(uri, ':')+1:]
	}
	return uri
}

// NameID formats (SAML Core, section 8.3).
const (
	FormatUnspecified = "urn:oasis:names:tc:SAML:1.1:nameid-format:unspecified"
	FormatEmail       = "urn:oasis:names:tc:SAML:1.1:nameid-format:emailAddress"
	FormatPersistent  = "urn:oasis:names:tc:SAML:2.0:nameid-format:persistent"
	FormatTransient   = "urn:oasis:names:tc:SAML:2.0:nameid-format:transient"
	FormatEntity      = "urn:oasis:names:tc:SAML:2.0:nameid-format:entity"
	FormatEncrypted   = "urn:oasis:names:tc:SAML:2.0:nameid-format:encrypted"
)

// FormatName is the last word of a NameID format.
func FormatName(uri string) string {
	if i := strings.LastIndexByte(uri, ':'); i >= 0 && strings.HasPrefix(uri, "urn:oasis:") {
		return uri[i+1:]
	}
	return uri
}

// Attribute name formats (SAML Core, section 8.2).
const (
	NameFormatURI         = "urn:oasis:names:tc:SAML:2.0:attrname-format:uri"
	NameFormatBasic       = "urn:oasis:names:tc:SAML:2.0:attrname-format:basic"
	NameFormatUnspecified = "urn:oasis:names:tc:SAML:2.0:attrname-format:unspecified"
)

const (
	statusPrefix  = "urn:oasis:names:tc:SAML:2.0:status:"
	statusSuccess = statusPrefix + "Success"
	methodBearer  = "urn:oasis:names:tc:SAML:2.0:cm:bearer"
)

// Authentication contexts (SAML Authentication Context), from weak to strong as the comparisons minimum, maximum and
// better read them.
var contextLadder = []string{
	"urn:oasis:names:tc:SAML:2.0:ac:classes:unspecified",
	"urn:oasis:names:tc:SAML:2.0:ac:classes:PreviousSession",
	"urn:oasis:names:tc:SAML:2.0:ac:classes:InternetProtocol",
	"urn:oasis:names:tc:SAML:2.0:ac:classes:Password",
	"urn:oasis:names:tc:SAML:2.0:ac:classes:PasswordProtectedTransport",
	"urn:oasis:names:tc:SAML:2.0:ac:classes:Kerberos",
	"urn:oasis:names:tc:SAML:2.0:ac:classes:TimeSyncToken",
	"urn:oasis:names:tc:SAML:2.0:ac:classes:MobileTwoFactorContract",
	"urn:oasis:names:tc:SAML:2.0:ac:classes:X509",
	"urn:oasis:names:tc:SAML:2.0:ac:classes:Smartcard",
	"urn:oasis:names:tc:SAML:2.0:ac:classes:SmartcardPKI",
}

// ContextKerberos is what a ticket amounts to.
const ContextKerberos = "urn:oasis:names:tc:SAML:2.0:ac:classes:Kerberos"

// ContextPassword is what a plain password over TLS amounts to.
const ContextPassword = "urn:oasis:names:tc:SAML:2.0:ac:classes:PasswordProtectedTransport"

// ContextUnspecified says nothing about how the person signed in.
const ContextUnspecified = "urn:oasis:names:tc:SAML:2.0:ac:classes:unspecified"

// EntityID names a SAML entity. It is compared octet for octet.
type EntityID string

// ParseEntityID accepts 1 to 1024 characters without white space at the ends or control characters (SAML Core, section
// 8.3.6).
func ParseEntityID(s string) (EntityID, error) {
	switch n := utf8.RuneCountInString(s); {
	case s == "":
		return "", errors.New("the entity ID is missing")
	case n > 1024:
		return "", fmt.Errorf("the entity ID has %d characters; 1024 are the most", n)
	case strings.TrimSpace(s) != s:
		return "", fmt.Errorf("the entity ID %q begins or ends with white space", s)
	case strings.ContainsFunc(s, isControl):
		return "", fmt.Errorf("the entity ID %q holds control characters", s)
	}
	return EntityID(s), nil
}

func isControl(r rune) bool { return r < 0x20 || r == 0x7F }

// formatTime writes a time as xs:dateTime in UTC with milliseconds.
func formatTime(t time.Time) string { return t.UTC().Format("2006-01-02T15:04:05.000Z") }

// parseTime reads an xs:dateTime. SAML times carry a zone (SAML Core, section 1.3.3); one without is refused.
func parseTime(s string) (time.Time, error) {
	t, err := time.Parse(time.RFC3339Nano, strings.TrimSpace(s))
	if err != nil || strings.Contains(s, ",") { // fractions of a second stand behind a point (XML Schema 2, section 3.2.7)
		return time.Time{}, fmt.Errorf("%q is not a time with a zone", s)
	}
	return t, nil
}
