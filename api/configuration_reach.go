package api

import (
	"time"

	"innergate/core/access"
	"innergate/core/config"
)

// ReachChange says whom an application or provider shall serve from now on.
type ReachChange struct {
	Reach  access.Reach   `json:"reach"`
	Circle *access.Circle `json:"circle,omitempty"` // without it the one that is set stays
	// Minutes is how long it holds; after that what was before comes back. 0 for good.
	Minutes int `json:"minutes,omitempty"`
	// EndSessions ends the open sessions of people who are outside from then on.
	EndSessions bool `json:"endSessions,omitempty"`
}

// ReachPreview is what a change of the reach would do to those who have used an application or provider so far. Lists
// hold the first fifty.
type ReachPreview struct {
	From   access.Reach `json:"from"`
	To     access.Reach `json:"to"`
	Words  []string     `json:"words"`
	People int          `json:"people"`
	Gains  int          `json:"gains"`
	Loses  int          `json:"loses"`
	Gain   []PersonLine `json:"gain"`
	Lose   []PersonLine `json:"lose"`
	// Only are people who have no other way to sign in.
	Onlys    int          `json:"onlys"`
	Only     []PersonLine `json:"only"`
	Sessions int          `json:"sessions"`
}

// ReachChanged is what a change did.
type ReachChanged struct {
	ReachPreview
	Ended int        `json:"ended"`
	Until *time.Time `json:"until,omitempty"`
}

// ReachStep is one change of a reach.
type ReachStep struct {
	At     time.Time  `json:"at"`
	By     string     `json:"by"`
	From   string     `json:"from"`
	To     string     `json:"to"`
	Until  *time.Time `json:"until,omitempty"`
	Undone *time.Time `json:"undone,omitempty"`
}

// RouteQuestion asks where somebody would go.
type RouteQuestion struct {
	Application string `json:"application"`
	// Person is known from a session; Name is what somebody enters who is not.
	Person  string `json:"person,omitempty"`
	Name    string `json:"name,omitempty"`
	Network string `json:"network,omitempty"`
	// Routes stand in for those that are live.
	Routes *access.Routes `json:"routes,omitempty"`
}

// RouteAnswer is where somebody would go, and why.
type RouteAnswer struct {
	// Goes is the provider to which they go straight on; empty where they see a page.
	Goes   string   `json:"goes,omitempty"`
	By     string   `json:"by"`
	Passed []string `json:"passed"`
	// Refused is why nobody gets any further, if so.
	Refused *TraceExplanation `json:"refused,omitempty"`
	// Page is what they see: the field for a name, and the buttons.
	Page *RoutePage `json:"page,omitempty"`
}

// RoutePage is the page on which ways are chosen.
type RoutePage struct {
	Title   string   `json:"title"`
	Field   bool     `json:"field"`
	Buttons []string `json:"buttons"`
}

// GuardView tells how an application stands behind the gate.
type GuardView struct {
	PublicURL string            `json:"publicUrl"`
	Upstreams []string          `json:"upstreams"`
	Pass      string            `json:"pass"`
	Headers   []string          `json:"headers"` // that tell who comes; a browser's own are taken away
	Paths     []config.PathRule `json:"paths"`
	// Password tells whether one is stored, for basic credentials.
	Password bool `json:"password"`
	// Nginx is a piece of its configuration, for where it passes requests on and asks the gate about each.
	Nginx string `json:"nginx"`
}

// TryPath asks which path rule decides.
type TryPath struct {
	Path   string `json:"path"`
	Method string `json:"method,omitempty"` // empty for GET
	Person string `json:"person,omitempty"` // by ID
}

// TriedPath is the answer.
type TriedPath struct {
	Then  string `json:"then"` // open, signed-in, groups, rules, refuse or sign-out
	Rule  string `json:"rule,omitempty"`
	Words string `json:"words"`
	// May tells, where groups decide and a person was named, whether the person is in one.
	May *bool `json:"may,omitempty"`
}

// GuardPassword is the password with which a guarded application gets basic credentials.
type GuardPassword struct {
	Password string `json:"password"`
}
