package ldapdir

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"innergate/core/address"
	"innergate/core/bridge"
	"innergate/core/explain"
	"innergate/core/ldapdir"
	"innergate/core/people"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/gate/signin"
)

// The stages of signing in with a directory.
const (
	stagePassword = "password"
	stageChange   = "change" // the directory wants another password first
	stageDone     = "done"
)

// here is how far somebody is. It travels sealed with the sign-in. No password is ever in it.
type here struct {
	Stage string        `json:"stage"`
	Name  string        `json:"name,omitempty"` // as it was entered, to be shown again
	Error string        `json:"error,omitempty"`
	Wrong int           `json:"wrong,omitempty"`
	DN    string        `json:"dn,omitempty"` // whose password is to be changed
	Found *bridgeRecord `json:"found,omitempty"`
}

// bridgeRecord is what the directory said of somebody whose password was right.
type bridgeRecord struct {
	Identifier string              `json:"identifier"`
	Values     map[string][]string `json:"values"`
	At         time.Time           `json:"at"`
}

// Page is what a page of this sign-in shows.
type Page struct {
	SignIn, Provider, Application string
	Stage, Name, Error, Help      string
}

// Send brings the person to a page of the gate's own.
func (g Side) Send(_ context.Context, s *signin.SignIn) (*signin.Next, error) {
	if s.State.Wish.Passive {
		return nil, explain.New(explain.RouteNoPassive)
	}
	if s.Provider.Outsiders { // they would have us ask addresses of their choice
		return nil, explain.New(explain.LDAPUnreachable,
			explain.Fact("reason", "a directory that somebody outside proposes is asked when it was taken over here")).Of(s.Provider.Name)
	}
	raw, err := json.Marshal(here{Stage: stagePassword, Name: s.State.Name})
	if err != nil {
		return nil, err
	}
	s.WaitHere(raw)
	s.Rec.Decide(trace.Decision{About: "sign-in", Result: "on a page of the gate's own", By: s.Provider.Name + " is asked by LDAP"})
	return &signin.Next{To: signin.Redirect(g.address(s.ID))}, nil
}

func (g *Room) address(id string) string { return g.PublicURL + "/sign-in/" + id + "/entry" }

// Receive is not asked of a directory: nothing comes back by the browser.
func (g Side) Receive(context.Context, *signin.SignIn, *signin.Arrival) (bridge.Identity, error) {
	return bridge.Identity{}, explain.New(explain.BrowserLost)
}

// resume finds a sign-in that waits at the page.
func (g *Room) resume(ctx context.Context, b signin.Browser, id string) (*signin.SignIn, *here, *signin.Here, error) {
	s, err := g.signin.Resume(ctx, b, id)
	if err != nil {
		return s, nil, nil, err
	}
	step, err := signin.Due[*signin.Here](s)
	if err != nil {
		return s, nil, nil, err
	}
	h := &here{}
	if s.Provider == nil || s.Provider.LDAP == nil {
		return s, nil, nil, explain.New(explain.BrowserLost)
	}
	return s, h, step, json.Unmarshal(step.Own, h)
}

// Show shows where somebody stands, or goes on where all is proven.
func (g *Room) Show(ctx context.Context, b signin.Browser, id string) (*Page, *signin.Next) {
	s, h, _, err := g.resume(ctx, b, id)
	var page *Page
	next := g.signin.Walk(ctx, s, signin.Failing(err), func(ctx context.Context, s *signin.SignIn) (*signin.Next, error) {
		if h.Stage == stageDone {
			return g.goOn(ctx, s, h)
		}
		page = &Page{SignIn: s.ID, Provider: s.Provider.Name, Stage: h.Stage, Name: h.Name, Error: h.Error, Help: s.Provider.LDAP.Help}
		if s.App != nil {
			page.Application = s.App.Name
		}
		return nil, nil
	})
	return page, next
}

// Enter takes what somebody entered: name and password, or the old password and a new one, twice. It only notes what came of it; the
// page that follows goes on, so that nothing is sent twice.
func (g *Room) Enter(ctx context.Context, b signin.Browser, id string, field func(string) string) *signin.Next {
	s, h, step, err := g.resume(ctx, b, id)
	return g.signin.Walk(ctx, s, signin.Failing(err), func(ctx context.Context, s *signin.SignIn) (*signin.Next, error) {
		h.Error = ""
		var err error
		switch h.Stage {
		case stagePassword:
			err = g.enterPassword(ctx, s, h, field("name"), field("password"))
		case stageChange:
			err = g.change(ctx, s, h, field("old"), field("password"), field("again"))
		}
		if err == nil && h.Wrong >= ground.MaxWrong {
			err = explain.New(explain.DirectoryWrong).Of(s.Provider.Name)
		}
		if err != nil {
			return nil, err
		}
		if step.Own, err = json.Marshal(h); err != nil {
			return nil, err
		}
		next := &signin.Next{To: signin.Redirect(g.address(s.ID))}
		return next, g.signin.Keep(ctx, s, next)
	})
}

// mostEntered is how long a name and a password may be.
const mostEntered = 256

// guesses are what wrong passwords are counted by, with how many are borne in a quarter of an hour.
func guesses(s *signin.SignIn, name string) map[string]int {
	at, from := "ldap:"+s.Provider.ID+":"+people.Key(name), address.Network(s.Browser.Address)
	return map[string]int{at + " " + from: 10, "ldap-address:" + from: 100, at: 1000}
}

// enterPassword tries name and password. Unknown names take as long as wrong passwords, and say the same.
func (g *Room) enterPassword(ctx context.Context, s *signin.SignIn, h *here, name, password string) error {
	h.Name = words.Clip(strings.TrimSpace(name), 128)
	counted := guesses(s, h.Name)
	if g.GuessingAll(ctx, counted) != nil {
		return explain.New(explain.DirectoryTooMany, explain.Fact("name", h.Name))
	}
	began := time.Now()
	who, got, err := g.try(ctx, s, h.Name, password)
	if err != nil {
		return err
	}
	s.Rec.Check(trace.Check{Name: "ldap.password", Text: "Name and password are right", Section: "RFC 4511, section 4.2",
		Got: string(got.state), OK: got.state == ldapdir.Good})
	if got.state == ldapdir.Wrong {
		g.slow.wait(ctx, began, who != nil)
		h.Wrong++
		h.Error = "Name or password is wrong."
		return nil
	}
	g.Guessed(ctx, slices.Collect(maps.Keys(counted))...)
	if got.state == ldapdir.MustChange && s.Provider.LDAP.PasswordChange != "off" {
		h.Stage, h.DN = stageChange, who.DN
		s.Rec.Decide(trace.Decision{About: "password", Result: "it is changed first", By: s.Provider.Name + " lets " +
			"nothing else be done with it"})
		return nil
	}
	if err := refusal(got, s.Provider.Name, h.Name); err != nil {
		return err
	}
	return g.vouch(ctx, s, h, who, got)
}

// refusal is the failure that a state of an account amounts to.
func refusal(got *bound, partner, name string) error {
	codes := map[ldapdir.State]explain.Code{
		ldapdir.Expired: explain.LDAPExpired, ldapdir.MustChange: explain.LDAPMustChange, ldapdir.Locked: explain.LDAPLocked,
		ldapdir.Disabled: explain.LDAPDisabled,
	}
	if got.state == ldapdir.Good {
		return nil
	}
	if code, ok := codes[got.state]; ok {
		return explain.New(code, explain.Fact("account", name)).Of(partner)
	}
	return explain.New(explain.LDAPRefused, explain.Pair("account", name, got.message)).Of(partner)
}

// try finds somebody's entry and tries the password on a connection of its own, which nobody searches with afterwards.
func (g *Room) try(ctx context.Context, s *signin.SignIn, name, password string) (*ldapdir.Entry, *bound, error) {
	wrong := &bound{state: ldapdir.Wrong}
	if name == "" || password == "" || len(password) > mostEntered {
		return nil, wrong, nil
	}
	who, err := g.entryOf(ctx, s.Provider, name, s.Rec)
	if err != nil {
		return nil, nil, err
	}
	if who == nil {
		s.Rec.Decide(trace.Decision{About: "entry", Result: "none", By: "no entry was found for what was entered"})
		return nil, wrong, nil
	}
	own, err := g.linesOf(s.Provider).open(ctx, &s.Provider.Provider, nil, g.Now(), s.Rec)
	if err != nil {
		return nil, nil, err
	}
	defer own.Close()
	got, err := bind(own.Conn, who.DN, password)
	if err != nil {
		return nil, nil, explain.New(explain.LDAPUnreachable, explain.Fact("reason", reason(err))).Of(s.Provider.Name)
	}
	if s.Provider.LDAP.Pattern == "" || got.state != ldapdir.Good {
		return who, got, nil
	}
	// Nothing was searched before. What stands in the entry, the person may read, or the gate's own entry.
	c := own.Conn
	if s.Provider.LDAP.BindDN != "" {
		one, back, err := g.searching(ctx, s.Provider, s.Rec)
		if err != nil {
			return nil, nil, err
		}
		defer func() { back(err == nil) }()
		c = one.Conn
	}
	held, err := read(c, &s.Provider.Provider, who.DN, wanted(&s.Provider.Provider), s.Rec)
	if err == nil && held == nil {
		err = explain.New(explain.LDAPNoIdentifier, explain.Pair("entry", s.Provider.LDAP.Identifier, who.DN)).Of(s.Provider.Name)
	}
	return held, got, err
}

// entryOf finds the entry of a name: by the filter, or where there is a pattern, by that alone.
func (g *Room) entryOf(ctx context.Context, p *partners.Provider, name string, rec *trace.Recorder) (*ldapdir.Entry, error) {
	if p.LDAP.Pattern != "" {
		dn, err := ldapdir.Named(p.LDAP.Pattern, name)
		return &ldapdir.Entry{DN: dn}, err
	}
	one, back, err := g.searching(ctx, p, rec)
	if err != nil {
		return nil, err
	}
	who, err := g.find(one.Conn, &p.Provider, name, rec)
	back(err == nil)
	return who, err
}

// vouch notes whom the directory vouches for.
func (g *Room) vouch(ctx context.Context, s *signin.SignIn, h *here, who *ldapdir.Entry, got *bound) error {
	p := &s.Provider.Provider
	id, err := identifier(p.Name, p.LDAP.Identifier, who)
	if err != nil {
		return err
	}
	one, back, err := g.searching(ctx, s.Provider, s.Rec)
	if err != nil {
		return err
	}
	groups, err := g.groups(ctx, one.Conn, p, who, s.Rec)
	back(err == nil)
	if err != nil {
		return err
	}
	if got.expires > 0 {
		days := fmt.Sprintf("in %d days", got.expires/(24*60*60))
		s.Rec.Decide(trace.Decision{About: "password", Result: "it expires " + days, By: p.Name + " says so"})
	}
	h.Stage, h.Wrong, h.DN = stageDone, 0, ""
	h.Found = &bridgeRecord{Identifier: id, Values: who.Bag(groups), At: g.Now()}
	return nil
}

// identifier is what stays the same of an entry.
func identifier(partner, name string, who *ldapdir.Entry) (string, error) {
	values := who.Get(name)
	if len(values) != 1 || len(values[0]) == 0 {
		return "", explain.New(explain.LDAPNoIdentifier, explain.Pair("entry", name, who.DN)).Of(partner)
	}
	return ldapdir.Text(name, values[0]), nil
}

// goOn ends the gate's own part: the directory has vouched for somebody.
func (g *Room) goOn(ctx context.Context, s *signin.SignIn, h *here) (*signin.Next, error) {
	who := bridge.Identity{
		Subject:      "entry\x1f" + h.Found.Identifier,
		Shown:        h.Found.Identifier,
		Attributes:   h.Found.Values,
		AuthnInstant: h.Found.At,
		AMR:          []string{"pwd"},
		Context:      saml.ContextPassword,
		Means:        bridge.Meanings(s.Provider.Contexts, saml.ContextPassword, []string{"pwd"}),
		UsedIssuer:   "ldap/" + s.Provider.ID,
		UsedID:       s.ID,
		UsedUntil:    g.Now().Add(2 * signin.Life),
	}
	if c := s.State.Wish.Context; !s.State.Wish.Preferred && !c.Met(who.Context) {
		return nil, explain.New(explain.SAMLContextNotMet,
			explain.Pair("context", strings.Join(c.Classes, ", "), who.Context)).Of(s.App.Name)
	}
	s.Vouched(who, h.Found.At)
	return g.signin.Homeward(ctx, s)
}
