package signin

import (
	"encoding/json"
	"slices"
	"time"

	"github.com/go-webauthn/webauthn/webauthn"

	"innergate/core/saml"
)

// PasskeyOffer is what the browser is asked for. It counts for one try.
type PasskeyOffer struct {
	Act     string               `json:"act"` // get or create
	Options json.RawMessage      `json:"options"`
	Session webauthn.SessionData `json:"session"`
}

const (
	contextPassword = "urn:oasis:names:tc:SAML:2.0:ac:classes:PasswordProtectedTransport"
	contextTwo      = "urn:oasis:names:tc:SAML:2.0:ac:classes:TimeSyncToken"
	contextMFA      = "https://refeds.org/profile/mfa"
)

// OwnSignIn is how far somebody is in signing in at the gate itself. It travels sealed with the sign-in.
type OwnSignIn struct {
	Stage  string   `json:"stage"`
	Person string   `json:"person,omitempty"`
	Name   string   `json:"name,omitempty"` // as it was entered, to be shown again
	Error  string   `json:"error,omitempty"`
	Wrong  int      `json:"wrong,omitempty"`
	Secret string   `json:"secret,omitempty"` // of a second factor that is being set up
	Codes  []string `json:"codes,omitempty"`  // recovery codes that are to be shown
	AMR    []string `json:"amr,omitempty"`
	// Passkey is what the browser is asked for on this page, counting for one try.
	Passkey *PasskeyOffer `json:"passkey,omitempty"`
	At      time.Time     `json:"at,omitzero"`
	// Stronger is set where somebody from another provider proves a second factor here.
	Stronger bool `json:"stronger,omitempty"`
	// Routed is the provider, by short name, to which the address that was entered belongs.
	Routed string `json:"routed,omitempty"`
}

// Context is the authentication context that was reached: of those that are true the first that was asked for, or else
// the strongest.
func (own *OwnSignIn) Context(asked *saml.RequestedContext) string {
	proven := []string{contextPassword}
	switch {
	case !slices.Contains(own.AMR, "mfa"):
	case slices.Contains(own.AMR, "otp"):
		proven = []string{contextTwo, contextMFA, contextPassword}
	case slices.Contains(own.AMR, "pwd"):
		proven = []string{contextMFA, contextPassword}
	default:
		proven = []string{contextMFA}
	}
	for _, c := range proven {
		if asked.Met(c) {
			return c
		}
	}
	return proven[0]
}
