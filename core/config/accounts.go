package config

import (
	"cmp"
	"fmt"
	"net/url"
	"path"
	"strings"

	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/scim"
)

// Accounts says how an application's accounts and groups are kept in step over SCIM 2.0 (RFC 7643, RFC 7644): where, who, with which
// values, and what happens to those who no longer may use it. The token or password that goes with it is kept beside it, sealed.
type Accounts struct {
	// Address is the base address of the application's SCIM service, without /Users behind it.
	Address string `json:"address,omitempty"`
	// On lets the gate send. Without it, it is only worked out and compared what would be sent.
	On bool `json:"on,omitempty"`
	// ProveBy is how the gate proves itself there: token (a bearer token; the default), oauth (client credentials) or basic.
	ProveBy string `json:"proveBy,omitempty"`
	// TokenURL, ClientID and Scope are for client credentials (RFC 6749, section 4.4), User for basic.
	TokenURL string `json:"tokenUrl,omitempty"`
	ClientID string `json:"clientId,omitempty"`
	Scope    string `json:"scope,omitempty"`
	User     string `json:"user,omitempty"`
	// Who has an account: assigned (whoever is assigned, by name or through a group; the default), everybody (whoever is known and
	// active) or circle (those of Circle alone).
	Who    string         `json:"who,omitempty"`
	Circle *access.Circle `json:"circle,omitempty"`
	// Mapping makes the account's values: the names that it sets are SCIM paths. Empty for the usual ones.
	Mapping claims.Mapping `json:"mapping,omitempty"`
	// Groups are the short names of groups that go along with their members; a star stands for any letters.
	Groups []string `json:"groups,omitempty"`
	// Unassigned is what becomes of the account of somebody who may no longer use the application: deactivate (the default), delete or
	// leave. Whoever is made inactive at the gate is deactivated there at once.
	Unassigned string `json:"unassigned,omitempty"`
	// Approve is whose account waits for somebody's approval before it is made: all (everybody's; the default), first (of the first
	// ApproveFirst) or none.
	Approve      string `json:"approve,omitempty"`
	ApproveFirst int    `json:"approveFirst,omitempty"`
	// Drift is what happens where the application changed something: correct (it is set right; the default), tell or accept.
	Drift string `json:"drift,omitempty"`
	// CompareHours is after how many hours all accounts are compared; 0 for 24.
	CompareHours int `json:"compareHours,omitempty"`
	// GoneShare is the share of the accounts, in percent, that may be taken away at once; where it is more, somebody has to agree. 0
	// for 10.
	GoneShare int `json:"goneShare,omitempty"`
	// AtOnce is how many requests are under way at the same time, 0 for 4; PerMinute how many are made in a minute, 0 for as many as
	// the application takes.
	AtOnce    int `json:"atOnce,omitempty"`
	PerMinute int `json:"perMinute,omitempty"`
}

// The choices of Accounts.
const (
	ProveByToken = "token"
	ProveByOAuth = "oauth"
	ProveByBasic = "basic"

	WhoAssigned  = "assigned"
	WhoEverybody = "everybody"
	WhoCircle    = "circle"

	AccountDeactivate = "deactivate"
	AccountDelete     = "delete"
	AccountLeave      = "leave"

	ApproveAll   = "all"
	ApproveFirst = "first"
	ApproveNone  = "none"

	DriftCorrect = "correct"
	DriftTell    = "tell"
	DriftAccept  = "accept"
)

// The defaults of Accounts.
const (
	accountsCompareHours = 24
	accountsGoneShare    = 10
	accountsAtOnce       = 4
	accountsFirst        = 5
)

// AccountMapping is the usual mapping of accounts.
func AccountMapping() claims.Mapping {
	return claims.Mapping{
		{Set: "userName", From: claims.Names{"preferred_username", "email"}, Required: true},
		{Set: "name.givenName", From: claims.Names{"given_name"}},
		{Set: "name.familyName", From: claims.Names{"family_name"}},
		{Set: "displayName", From: claims.Names{"name"}},
		{Set: `emails[type eq "work"].value`, From: claims.Names{"email"}},
	}
}

// accounts fills the defaults and says what is wrong.
func (v *validator) accounts(a *Accounts) {
	if a == nil {
		return
	}
	a.ProveBy, a.Who = cmp.Or(a.ProveBy, ProveByToken), cmp.Or(a.Who, WhoAssigned)
	a.Unassigned, a.Approve, a.Drift = cmp.Or(a.Unassigned, AccountDeactivate), cmp.Or(a.Approve, ApproveAll), cmp.Or(a.Drift, DriftCorrect)
	a.CompareHours, a.GoneShare = cmp.Or(a.CompareHours, accountsCompareHours), cmp.Or(a.GoneShare, accountsGoneShare)
	if a.AtOnce = cmp.Or(a.AtOnce, accountsAtOnce); a.Approve == ApproveFirst {
		a.ApproveFirst = cmp.Or(a.ApproveFirst, accountsFirst)
	}
	if len(a.Mapping) == 0 {
		a.Mapping = AccountMapping()
	}
	a.Address = strings.TrimRight(strings.TrimSpace(a.Address), "/")
	v.accountsPlace(a)
	v.allowed("accounts.proveBy", a.ProveBy, "Accounts.proveBy")
	v.allowed("accounts.who", a.Who, "Accounts.who")
	v.allowed("accounts.unassigned", a.Unassigned, "Accounts.unassigned")
	v.allowed("accounts.approve", a.Approve, "Accounts.approve")
	v.allowed("accounts.drift", a.Drift, "Accounts.drift")
	if a.Who == WhoCircle || a.Circle != nil {
		if err := a.Circle.Check(); err != nil {
			v.add("accounts.circle", "%s", err)
		} else if len(a.Circle.Networks) > 0 || a.Circle.Except != nil && len(a.Circle.Except.Networks) > 0 {
			v.add("accounts.circle", "accounts are of people, wherever they are: a network can't be in this circle")
		}
	}
	v.accountsMapping(a.Mapping)
	for i, g := range a.Groups {
		if _, err := path.Match(g, ""); err != nil || strings.TrimSpace(g) == "" || len(g) > 200 {
			v.add(fmt.Sprintf("accounts.groups[%d]", i), "%q is no short name of a group, nor one with stars", g)
		}
	}
	if len(a.Groups) > 200 {
		v.add("accounts.groups", "200 are the most; a star stands for many")
	}
	for field, n := range map[string][3]int{"compareHours": {a.CompareHours, 1, 24 * 31}, "goneShare": {a.GoneShare, 1, 100},
		"atOnce": {a.AtOnce, 1, 32}, "perMinute": {a.PerMinute, 0, 60_000}, "approveFirst": {a.ApproveFirst, 0, 10_000}} {
		if n[0] < n[1] || n[0] > n[2] {
			v.add("accounts."+field, "it must be between %d and %d", n[1], n[2])
		}
	}
}

// accountsPlace checks where requests go, and as whom.
func (v *validator) accountsPlace(a *Accounts) {
	v.url("accounts.address", a.Address)
	if u, err := url.Parse(a.Address); err == nil && a.Address != "" && (u.RawQuery != "" || u.Fragment != "") {
		v.add("accounts.address", "the base address has nothing behind its path")
	}
	for _, end := range []string{scim.Users.Endpoint, scim.Groups.Endpoint, "/ServiceProviderConfig"} {
		if base, ok := strings.CutSuffix(a.Address, end); ok {
			v.offer("accounts.address", "accounts.address", base, "it ends with %s; the base address is what stands before it", end)
		}
	}
	v.url("accounts.tokenUrl", a.TokenURL)
	if len(a.ClientID) > 500 || len(a.Scope) > 2000 || len(a.User) > 500 {
		v.add("accounts.clientId", "client ID, scope or user name are too long")
	}
	if !a.On {
		return
	}
	for field, missing := range map[string]bool{"address": a.Address == "", "tokenUrl": a.ProveBy == ProveByOAuth && a.TokenURL == "",
		"clientId": a.ProveBy == ProveByOAuth && a.ClientID == "", "user": a.ProveBy == ProveByBasic && a.User == ""} {
		if missing {
			v.add("accounts."+field, "it is needed before anything can be sent")
		}
	}
}

// accountsMapping checks a mapping to SCIM paths. Those of an application's own schema can't be known here.
func (v *validator) accountsMapping(m claims.Mapping) {
	if err := m.Check(); err != nil {
		v.add("accounts.mapping", "%s", err)
		return
	}
	for i, r := range m {
		if r.Use != "" || strings.HasPrefix(strings.ToLower(r.Set), "urn:") {
			continue
		}
		field := fmt.Sprintf("accounts.mapping[%d].set", i)
		p, refused := scim.Users.Path(r.Set)
		switch {
		case refused != nil:
			v.add(field, "%s", strings.TrimSuffix(refused.Detail, "."))
		case p.Name == "active" || p.Name == "password":
			v.add(field, "%s is none of a mapping's: whether an account is active is the gate's to say, and passwords are not handed on",
				p.Name)
		case p.At.Mutability == "readOnly":
			v.add(field, "%s is set by the application alone", p)
		}
	}
}

// Pushes says whether a group goes along, by its short name.
func (a *Accounts) Pushes(slug string) bool {
	for _, g := range a.Groups {
		if ok, err := path.Match(g, slug); err == nil && ok {
			return true
		}
	}
	return false
}
