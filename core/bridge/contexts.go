package bridge

import (
	"cmp"
	"slices"

	"innergate/core/saml"
)

// Meaning is a line of a provider's table of contexts: what it says of a sign-in, and which context that stands for towards
// applications (SAML Core, section 2.7.2.2; OpenID Connect Core 1.0, section 2).
type Meaning struct {
	// Says is the provider's context class (SAML) or acr value. Without it and without AMR the line holds for each sign-in there,
	// which is for providers that say nothing.
	Says string `json:"says,omitempty"`
	// AMR are the values that must all stand in amr (RFC 8176).
	AMR []string `json:"amr,omitempty"`
	// Means is what applications ask for and are told: a context class, as a URI, or an acr value of our own.
	Means string `json:"means"`
}

// holds says whether a line is true of what a provider said.
func (m Meaning) holds(context string, amr []string) bool {
	return (m.Says == "" || m.Says == context) &&
		!slices.ContainsFunc(m.AMR, func(v string) bool { return !slices.Contains(amr, v) })
}

// Meanings lists what a sign-in of which a provider said a context and authentication methods stands for, by its table.
func Meanings(table []Meaning, context string, amr []string) []string {
	var out []string
	for _, m := range table {
		if m.holds(context, amr) && !slices.Contains(out, m.Means) {
			out = append(out, m.Means)
		}
	}
	return out
}

// AskedOf writes what an application wants in a provider's own words: the values that stand for something that meets it. It is
// nil where nothing need be asked for, since the table has a line for what the provider says of itself. What the table doesn't
// know goes as it is.
func AskedOf(table []Meaning, wanted *saml.RequestedContext) *saml.RequestedContext {
	if wanted == nil {
		return nil
	}
	var says []string
	known := false
	for _, m := range table {
		if !wanted.Met(m.Means) {
			continue
		}
		if known = true; m.Says == "" {
			return nil
		}
		if !slices.Contains(says, m.Says) {
			says = append(says, m.Says)
		}
	}
	if !known {
		return wanted
	}
	return ContextOf(says)
}

// Meets says whether what was vouched for is what an application wants: what the provider said itself, or what that stands for.
func (i *Identity) Meets(wanted *saml.RequestedContext) bool {
	return wanted.Met(i.Context) || slices.ContainsFunc(i.Means, wanted.Met)
}

// Told is the context that an application is told: the first that it wants, else the first of the table, else what the provider
// said.
func (i *Identity) Told(wanted *saml.RequestedContext) string {
	if wanted != nil {
		for _, m := range append(slices.Clone(i.Means), i.Context) {
			if wanted.Met(m) {
				return m
			}
		}
	}
	if len(i.Means) > 0 {
		return i.Means[0]
	}
	return i.Context
}

// Proved is what was proven, for people.
func (i *Identity) Proved() string { return cmp.Or(i.Told(nil), "none") }

// ContextTables are tables for the usual kinds of providers, by name.
var ContextTables = []ContextTable{
	{
		Name: "It says nothing; people sign in with a password", Lines: []Meaning{{Means: saml.ContextPassword}},
	},
	{
		Name: "It says by amr how people signed in",
		Lines: []Meaning{
			{AMR: []string{"mfa"}, Means: "https://refeds.org/profile/mfa"},
			{AMR: []string{"otp"}, Means: "urn:oasis:names:tc:SAML:2.0:ac:classes:TimeSyncToken"},
			{AMR: []string{"sc"}, Means: "urn:oasis:names:tc:SAML:2.0:ac:classes:SmartcardPKI"},
			{AMR: []string{"pwd"}, Means: saml.ContextPassword},
		},
	},
	{
		Name: "It counts levels by acr, from 1 (a password) to 2 (a second factor)",
		Lines: []Meaning{
			{Says: "2", Means: "https://refeds.org/profile/mfa"},
			{Says: "2", Means: saml.ContextPassword},
			{Says: "1", Means: saml.ContextPassword},
		},
	},
	{
		Name: "It says another password class than applications ask for",
		Lines: []Meaning{
			{Says: "urn:oasis:names:tc:SAML:2.0:ac:classes:Password", Means: saml.ContextPassword},
			{Says: saml.ContextUnspecified, Means: saml.ContextPassword},
			{Says: "urn:oasis:names:tc:SAML:2.0:ac:classes:X509", Means: saml.ContextPassword},
			{Says: "urn:oasis:names:tc:SAML:2.0:ac:classes:Kerberos", Means: saml.ContextPassword},
		},
	},
}

// ContextTable is a table under its name.
type ContextTable struct {
	Name  string    `json:"name"`
	Lines []Meaning `json:"lines"`
}
