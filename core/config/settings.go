package config

import (
	"net/mail"
	"net/url"
	"slices"
	"strings"
)

// GroupAssignment lets a group use an application. Assignments of people are no part of the configuration: people are
// not.
type GroupAssignment struct {
	Application string   `json:"application"`
	Group       string   `json:"group"`
	Roles       []string `json:"roles,omitempty"`
}

// Validate says what is wrong.
func (a *GroupAssignment) Validate() error {
	v := &validator{}
	if a.Application == "" {
		v.add("application", "the application's short name is missing")
	}
	if a.Group == "" {
		v.add("group", "the group's short name is missing")
	}
	if len(a.Roles) > 100 || slices.ContainsFunc(a.Roles, func(r string) bool { return strings.TrimSpace(r) == "" || len(r) > 200 }) {
		v.add("roles", "up to 100 roles can go with an assignment, each of 1 to 200 characters")
	}
	if len(a.Roles) == 0 {
		a.Roles = nil
	}
	return v.err()
}

// Console says who may come in to the console through providers.
type Console struct {
	Rules []ConsoleRule `json:"rules"`
}

// ConsoleRule gives a role to everybody for whom a provider vouches and whose profile has a value.
type ConsoleRule struct {
	Provider  string `json:"provider"`
	Attribute string `json:"attribute"`
	Value     string `json:"value"`
	Role      string `json:"role"`
}

// Notices say whom the gate tells about new findings. The webhook's secret is kept sealed, beside them.
type Notices struct {
	Webhook string   `json:"webhook,omitempty"`
	Mail    []string `json:"mail,omitempty"`
	// From is the mildest severity that is told: broken, attention (the default) or remark.
	From string `json:"from,omitempty"`
}

// Validate fills defaults and says what is wrong.
func (n *Notices) Validate() error {
	v := &validator{}
	n.Webhook = strings.TrimSpace(n.Webhook)
	if n.Webhook != "" {
		if u, err := url.Parse(n.Webhook); err != nil || u.Host == "" || u.User != nil || u.Scheme != "https" && u.Scheme != "http" ||
			len(n.Webhook) > 1000 {
			v.add("webhook", "%q is no http or https address", n.Webhook[:min(len(n.Webhook), 100)])
		}
	}
	if len(n.Mail) > 20 {
		v.add("mail", "twenty mail addresses are the most; use a list's address for more")
	}
	for _, a := range n.Mail {
		if _, err := mail.ParseAddress(a); err != nil || len(a) > 320 {
			v.add("mail", "%q is no mail address", a[:min(len(a), 100)])
		}
	}
	if n.From == "" {
		n.From = "attention"
	}
	v.oneOf("from", n.From, Allowed["Notices.from"]...)
	return v.err()
}

// Retention is how long traces are kept, and how many at most.
type Retention struct {
	Days  int `json:"days"`
	Count int `json:"count"`
}

// Validate says what is wrong.
func (r *Retention) Validate() error {
	v := &validator{}
	if r.Days < 1 || r.Days > 3660 {
		v.add("days", "traces are kept for 1 to 3660 days")
	}
	if r.Count < 1000 || r.Count > 10_000_000 {
		v.add("count", "1,000 to 10,000,000 traces are kept")
	}
	return v.err()
}

// Registration says whether OpenID Connect clients may register themselves (RFC 7591).
type Registration struct {
	On bool `json:"on"`
}

// Review says which changes need a second person.
type Review struct {
	// Second wants every change of an application or provider that serves people (circle or everyone) proposed by one
	// person and approved by another.
	Second bool `json:"second"`
}
