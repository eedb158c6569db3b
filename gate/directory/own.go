package directory

import (
	"encoding/json"
	"slices"
	"time"

	"github.com/go-webauthn/webauthn/webauthn"

	"innergate/core/saml"
	"innergate/gate/signin"
)

// passkeyOffer is what the browser is asked for. It counts for one try.
type passkeyOffer struct {
	Act     string               `json:"act"` // get or create
	Options json.RawMessage      `json:"options"`
	Session webauthn.SessionData `json:"session"`
}

const (
	contextPassword = "urn:oasis:names:tc:SAML:2.0:ac:classes:PasswordProtectedTransport"
	contextTwo      = "urn:oasis:names:tc:SAML:2.0:ac:classes:TimeSyncToken"
	contextMFA      = "https://refeds.org/profile/mfa"
)

// ownSignIn is how far somebody is in signing in at the gate itself. It travels sealed with the sign-in, which does not
// look into it.
type ownSignIn struct {
	Stage  string   `json:"stage"`
	Person string   `json:"person,omitempty"`
	Name   string   `json:"name,omitempty"` // as it was entered, to be shown again
	Error  string   `json:"error,omitempty"`
	Wrong  int      `json:"wrong,omitempty"`
	Secret string   `json:"secret,omitempty"` // of a second factor that is being set up
	Codes  []string `json:"codes,omitempty"`  // recovery codes that are to be shown
	AMR    []string `json:"amr,omitempty"`
	// Passkey is what the browser is asked for on this page, counting for one try.
	Passkey *passkeyOffer `json:"passkey,omitempty"`
	At      time.Time     `json:"at,omitzero"`
	// Routed is the provider, by short name, to which the address that was entered belongs.
	Routed string `json:"routed,omitempty"`
	// step is where the sign-in keeps this; second is set where somebody from another provider proves a second factor
	// here.
	step   *json.RawMessage
	second *signin.Proving
}

// ownOf reads how far somebody is.
func ownOf(s *signin.SignIn) (*ownSignIn, error) {
	own := &ownSignIn{}
	if second, err := signin.Due[*signin.Proving](s); err == nil {
		own.step, own.second = &second.Own, second
	} else {
		here, err := signin.Due[*signin.Here](s)
		if err != nil {
			return nil, err
		}
		own.step = &here.Own
	}
	return own, json.Unmarshal(*own.step, own)
}

// note writes it back to the sign-in.
func (own *ownSignIn) note() error {
	var err error
	*own.step, err = json.Marshal(own)
	return err
}

// context is the authentication context that was reached: of those that are true the first that was asked for, or else
// the strongest.
func (own *ownSignIn) context(asked *saml.RequestedContext) string {
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
