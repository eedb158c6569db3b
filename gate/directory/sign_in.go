package directory

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"slices"
	"strings"

	"gorm.io/gorm"
	"rsc.io/qr"

	"innergate/core/address"
	"innergate/core/bridge"
	"innergate/core/claims"
	"innergate/core/explain"
	"innergate/core/people"
	"innergate/core/totp"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/persons"
	"innergate/gate/signin"
	"innergate/store"
)

// Side signs in the gate's own people, on pages of the gate's own.
type Side struct{ *Room }

// The stages of signing in at the gate itself.
const (
	stagePassword = "password"
	stageFactor   = "factor" // a code of the authenticator, or a recovery code
	stageEnrol    = "enrol"  // a second factor is set up
	stageCodes    = "codes"  // recovery codes are shown, once
	stageDone     = "done"
	stageRouted   = "routed" // the address that was entered belongs to another provider
)

// OwnPage is what a page of the gate's own directory shows.
type OwnPage struct {
	SignIn, Provider, Application string
	Stage, Name, Error, Help      string
	Secret                        string // of a second factor that is set up, in groups of four
	Picture                       string // the same as a data: address of a picture to scan
	Codes                         []string
	Routed, RoutedTo              string // the provider to go to instead, and its short name
	Authenticator                 bool   // there is one, whose codes can be entered
	PasskeyAct, PasskeyOptions    string // what the browser is asked for, if anything (Web Authentication, section 5.1)
}

// Send brings the person to the gate's own page.
func (g Side) Send(ctx context.Context, s *signin.SignIn) (*signin.Next, error) {
	if s.State.Wish.Passive {
		return nil, explain.New(explain.RouteNoPassive)
	}
	own := &ownSignIn{Stage: stagePassword, Name: s.State.Name}
	if err := g.offerPasskey(ctx, s, own); err != nil {
		return nil, err
	}
	raw, err := json.Marshal(own)
	if err != nil {
		return nil, err
	}
	s.WaitHere(raw)
	s.Rec.Decide(
		trace.Decision{About: "sign-in", Result: "on a page of the gate's own", By: s.Provider.Name + " is the gate's own directory"},
	)
	return &signin.Next{To: signin.Redirect(g.ownAddress(s.ID))}, nil
}

func (g *Room) ownAddress(id string) string { return g.PublicURL + "/sign-in/" + id + "/own" }

// Receive is not asked of a directory: nothing comes back from anywhere.
func (g Side) Receive(context.Context, *signin.SignIn, *signin.Arrival) (bridge.Identity, error) {
	return bridge.Identity{}, explain.New(explain.BrowserLost)
}

// ShowOwn shows where somebody stands, or goes on where all is proven.
func (g *Room) ShowOwn(ctx context.Context, b signin.Browser, id string) (*OwnPage, *signin.Next) {
	s, own, err := g.resumeOwn(ctx, b, id)
	var page *OwnPage
	next := g.signin.Walk(ctx, s, signin.Failing(err), func(ctx context.Context, s *signin.SignIn) (*signin.Next, error) {
		if own.Stage == stageDone {
			return g.goOn(ctx, s, own)
		}
		var err error
		page, err = g.ownPage(ctx, s, own)
		return nil, err
	})
	return page, next
}

func (g *Room) ownPage(ctx context.Context, s *signin.SignIn, own *ownSignIn) (*OwnPage, error) {
	page := &OwnPage{
		SignIn:      s.ID,
		Provider:    s.Provider.Name,
		Application: s.App.Name,
		Stage:       own.Stage,
		Name:        own.Name,
		Error:       own.Error,
		Codes:       own.Codes,
	}
	if s.Provider.Directory != nil {
		page.Help = s.Provider.Directory.Help
	}
	if o := own.Passkey; o != nil {
		page.PasskeyAct, page.PasskeyOptions = o.Act, string(o.Options)
	}
	if own.Stage == stageRouted {
		p, err := g.partners.Provider(ctx, own.Routed)
		if err != nil {
			return nil, err
		}
		page.Routed, page.RoutedTo = p.Name, p.Slug
	}
	if own.Stage == stageFactor {
		held, _, err := g.totpOf(ctx, own.Person)
		if err != nil {
			return nil, err
		}
		page.Authenticator = held != nil
	}
	if own.Stage == stageEnrol {
		var err error
		if page.Secret, page.Picture, err = enrolment(own.Name, own.Secret); err != nil {
			return nil, err
		}
	}
	return page, nil
}

func (g *Room) resumeOwn(ctx context.Context, b signin.Browser, id string) (*signin.SignIn, *ownSignIn, error) {
	s, err := g.signin.Resume(ctx, b, id)
	if err != nil {
		return s, nil, err
	}
	own, err := ownOf(s)
	return s, own, err
}

// goOn ends the gate's own part: what was proven is as if a provider had vouched for it.
func (g *Room) goOn(ctx context.Context, s *signin.SignIn, own *ownSignIn) (*signin.Next, error) {
	if own.second != nil {
		s.Proven(own.second, g.Now())
		s.Rec.Decide(trace.Decision{About: "strength", Result: "a second factor was proven at the gate", By: strings.Join(own.AMR, ", ")})
		return g.signin.Homeward(ctx, s)
	}
	who := bridge.Identity{
		Person:       own.Person,
		Subject:      "person\x1f" + own.Person,
		Shown:        own.Name,
		Attributes:   claims.Bag{},
		AuthnInstant: own.At,
		AMR:          own.AMR,
		Context:      own.context(s.State.Wish.Context),
		UsedIssuer:   "directory/" + s.Provider.ID,
		UsedID:       s.ID,
		UsedUntil:    g.Now().Add(2 * signin.Life),
	}
	if c := s.State.Wish.Context; !s.State.Wish.Preferred && !c.Met(who.Context) {
		return nil, explain.New(explain.SAMLContextNotMet,
			explain.Pair("context", strings.Join(c.Classes, ", "), who.Context)).Of(s.App.Name)
	}
	s.Vouched(who, own.At)
	return g.signin.Homeward(ctx, s)
}

// EnterOwn takes what somebody entered on a page of ours. It only notes what came of it; the page that follows goes on,
// so that nothing is sent twice. Fields are name and password, code, or passkey (what the browser said of one, as
// JSON).
func (g *Room) EnterOwn(ctx context.Context, b signin.Browser, id string, field func(string) string) *signin.Next {
	s, own, err := g.resumeOwn(ctx, b, id)
	return g.signin.Walk(ctx, s, signin.Failing(err), func(ctx context.Context, s *signin.SignIn) (*signin.Next, error) {
		if err := g.enter(ctx, s, own, field); err != nil {
			return nil, err
		}
		next := &signin.Next{To: signin.Redirect(g.ownAddress(s.ID))}
		return next, g.signin.Keep(ctx, s, next)
	})
}

// enter takes what was entered, by the stage at which it was asked for.
func (g *Room) enter(ctx context.Context, s *signin.SignIn, own *ownSignIn, field func(string) string) (err error) {
	own.Error = ""
	answer := field("passkey")
	if own.Stage == stageRouted { // another name after all
		own.Stage, own.Routed = stagePassword, ""
	}
	switch own.Stage {
	case stagePassword, stageFactor:
		if answer != "" {
			err = g.enterPasskey(ctx, s, own, answer)
		} else if own.Stage == stageFactor {
			err = g.enterFactor(ctx, s, own, field("code"))
		} else {
			err = g.enterPassword(ctx, s, own, field("name"), field("password"))
		}
	case stageEnrol:
		if answer != "" {
			err = g.enrolPasskey(ctx, s, own, answer)
		} else {
			err = g.enterEnrolment(ctx, s, own, field("code"))
		}
	case stageCodes:
		own.Codes, own.Stage = nil, stageDone
	}
	if err == nil {
		err = g.offerPasskey(ctx, s, own)
	}
	if err == nil {
		err = own.note()
	}
	if err == nil && own.Wrong >= ground.MaxWrong {
		err = explain.New(explain.DirectoryWrong).Of(s.Provider.Name)
	}
	return err
}

// tooMany turns the refusal of too many tries into one that a person reads.
func tooMany(err error, what string) error {
	if err == nil {
		return nil
	}
	return explain.New(explain.DirectoryTooMany, explain.Fact("name", what))
}

// enterPassword checks name and password. Unknown names take as long as wrong passwords, and say the same.
func (g *Room) enterPassword(ctx context.Context, s *signin.SignIn, own *ownSignIn, name, password string) error {
	own.Name = words.Clip(strings.TrimSpace(name), 64)
	if to, err := g.signin.RoutedElsewhere(ctx, s, own.Name); err != nil {
		return err
	} else if to != nil {
		// Whether the person is known is not looked at, and no password is tried.
		own.Stage, own.Routed = stageRouted, to.Slug
		s.Rec.Decide(trace.Decision{About: "provider", Result: to.Name, By: "the mail address that was entered is routed there"})
		return nil
	}
	key := people.Key(own.Name)
	network := address.Network(s.Browser.Address)
	byName, byAddress, byAll := "own:"+key+" "+network, "own-address:"+network, "own:"+key
	if err := tooMany(g.GuessingAll(ctx, map[string]int{byName: 10, byAddress: 100, byAll: 1000}), own.Name); err != nil {
		return err
	}
	var p store.Person
	var held store.Credential
	if key != "" && len(password) <= 256 {
		if err := g.Store.Read(ctx).Where("login = ?", key).Limit(1).Find(&p).Error; err != nil {
			return store.Clear(err)
		}
	}
	if p.ID != "" {
		if err := g.Store.Read(ctx).Where("person_id = ? AND kind = 'password'", p.ID).Limit(1).Find(&held).Error; err != nil {
			return store.Clear(err)
		}
	}
	fits, current, err := g.PasswordFits(ctx, held.Secret, password)
	if err != nil {
		return err
	}
	if !fits || held.ID == "" {
		own.Wrong++
		own.Error = "Name or password is wrong."
		s.Rec.Check(trace.Check{Name: "directory.password", Text: "Name and password are right", Section: "our rule", OK: false})
		return nil
	}
	if !p.Active {
		return explain.New(explain.MatchInactive, explain.Fact("person", p.Name))
	}
	g.Guessed(ctx, byName, byAddress, byAll)
	s.Rec.Check(trace.Check{Name: "directory.password", Text: "Name and password are right", Section: "our rule", OK: true})
	if err := g.usedPassword(ctx, &held, password, current); err != nil {
		return err
	}
	own.Person, own.At, own.AMR, own.Wrong = p.ID, g.Now(), []string{"pwd"}, 0
	has, err := g.hasFactor(ctx, p.ID)
	switch {
	case err != nil:
		return err
	case has:
		own.Stage = stageFactor
	case s.Provider.Directory.SecondFactor == "required" || g.wantsTwo(s):
		return g.beginEnrolment(own)
	default:
		own.Stage = stageDone
	}
	return nil
}

// wantsTwo says whether the application demands a second factor by its request.
func (g *Room) wantsTwo(s *signin.SignIn) bool {
	c := s.State.Wish.Context
	return c != nil && !s.State.Wish.Preferred &&
		slices.ContainsFunc(c.Classes, func(v string) bool { return slices.Contains(bridge.StrongContexts, v) })
}

// usedPassword renews a hash of another scheme, now that the password is at hand, and notes the use.
func (g *Room) usedPassword(ctx context.Context, held *store.Credential, password string, current bool) error {
	fresh := held.Secret
	if !current {
		var err error
		if fresh, err = g.NewPasswordHash(ctx, password); err != nil {
			return err
		}
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		return persons.UsePassword(tx, held, fresh, g.Now().UTC())
	})
}

// AskSecond asks somebody who came through another provider for their second factor at the gate, if they have one.
func (g *Room) AskSecond(ctx context.Context, s *signin.SignIn, who bridge.Identity) (*signin.Next, error) {
	if s.Person.ID == "" || g.signin.TwoFactor(s, who) || s.Row.Flow == "provider" {
		return nil, nil
	}
	has, err := g.hasFactor(ctx, s.Person.ID)
	if err != nil || !has {
		return nil, err
	}
	own := &ownSignIn{Stage: stageFactor, Person: s.Person.ID, Name: s.Person.Shown}
	s.Rec.Decide(trace.Decision{About: "strength", Result: "asked for the second factor at the gate", By: "an access rule"})
	if err := g.offerPasskey(ctx, s, own); err != nil {
		return nil, err
	}
	raw, err := json.Marshal(own)
	if err != nil {
		return nil, err
	}
	s.WaitForSecond(raw)
	next := &signin.Next{To: signin.Redirect(g.ownAddress(s.ID))}
	return next, g.signin.Keep(ctx, s, next)
}

// enrolment is a second factor's secret as people type it, and as a picture.
func enrolment(name, secret string) (text, picture string, err error) {
	code, err := qr.Encode(totp.Address(name, secret), qr.M)
	if err != nil {
		return "", "", err
	}
	var groups []string
	for i := 0; i < len(secret); i += 4 {
		groups = append(groups, secret[i:min(i+4, len(secret))])
	}
	return strings.Join(groups, " "), "data:image/png;base64," + base64.StdEncoding.EncodeToString(code.PNG()), nil
}
