package config

import (
	"cmp"

	"innergate/core/scim"
)

// Pushed lets a provider push its people and groups to the gate over SCIM 2.0 (RFC 7644). What comes goes through the provider's mapping
// and may speak for what the provider may speak for, and for nothing else. Its tokens are kept beside it, as hashes.
type Pushed struct {
	// On takes what is pushed.
	On bool `json:"on,omitempty"`
	// Subject is the attribute that holds by which identifier the person comes at sign-in (NameID or sub); empty for userName.
	Subject string `json:"subject,omitempty"`
}

// pushed fills the defaults and says what is wrong.
func (v *validator) pushed(p *Provider) {
	if p.Pushed == nil {
		return
	}
	p.Pushed.Subject = cmp.Or(p.Pushed.Subject, "userName")
	if _, err := scim.Users.Path(p.Pushed.Subject); err != nil {
		v.add("pushed.subject", "%s", err.Detail)
	}
	if p.Kind == KindDirectory {
		v.add("pushed", "the gate's own people are added here; nobody pushes them")
	}
	if p.Admission == "pass" {
		v.add("pushed", "with admission pass nobody is stored, so that nobody can be pushed")
	}
}
