package gate

import (
	"context"
	"encoding/base64"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"
	"rsc.io/qr"

	"innergate/core/claims"
	"innergate/core/explain"
	"innergate/core/people"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/store"
)

// directoryProvider signs in the gate's own people, on pages of the gate's own.
type directoryProvider struct{ *Gate }

// The stages of signing in at the gate itself.
const (
	stagePassword = "password"
	stageFactor   = "factor" // a code of the authenticator, or a recovery code
	stageEnrol    = "enrol"  // a second factor is set up
	stageCodes    = "codes"  // recovery codes are shown, once
	stageDone     = "done"
	stageRouted   = "routed" // the address that was entered belongs to another provider
)

const (
	contextPassword = "urn:oasis:names:tc:SAML:2.0:ac:classes:PasswordProtectedTransport"
	contextTwo      = "urn:oasis:names:tc:SAML:2.0:ac:classes:TimeSyncToken"
	contextMFA      = "https://refeds.org/profile/mfa"
	maxWrong        = 5 // wrong entries in one sign-in, after which it ends
)

// ownSignIn is how far somebody is in signing in at the gate itself. It travels sealed with the sign-in.
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
	// Stronger is set where somebody from another provider proves a second factor here.
	Stronger bool `json:"stronger,omitempty"`
	// Routed is the provider, by short name, to which the address that was entered belongs.
	Routed string `json:"routed,omitempty"`
}

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

func (g directoryProvider) send(ctx context.Context, s *signIn) (*Next, error) {
	if s.state.Wish.Passive {
		return nil, explain.New("route.no-passive")
	}
	s.state.Own = &ownSignIn{Stage: stagePassword, Name: s.state.Name}
	if err := g.offerPasskey(ctx, s); err != nil {
		return nil, err
	}
	s.rec.Decide(trace.Decision{About: "sign-in", Result: "on a page of the gate's own", By: s.provider.Name + " is the gate's own directory"})
	return &Next{Redirect: g.ownAddress(s.id)}, nil
}

func (g *Gate) ownAddress(id string) string { return g.PublicURL + "/sign-in/" + id + "/own" }

// receive is not asked of a directory: nothing comes back from anywhere.
func (g directoryProvider) receive(context.Context, *signIn, *arrival) (identity, error) {
	return identity{}, explain.New("browser.lost")
}

// ShowOwn shows where somebody stands, or goes on where all is proven.
func (g *Gate) ShowOwn(ctx context.Context, b Browser, id string) (*OwnPage, *Next) {
	s, err := g.resumeOwn(ctx, b, id)
	if err != nil {
		return nil, g.failed(ctx, s, err)
	}
	own := s.state.Own
	if own.Stage == stageDone {
		return nil, g.goOn(ctx, s)
	}
	page := &OwnPage{SignIn: s.id, Provider: s.provider.Name, Application: s.app.Name, Stage: own.Stage, Name: own.Name, Error: own.Error, Codes: own.Codes}
	if s.provider.Directory != nil {
		page.Help = s.provider.Directory.Help
	}
	if o := own.Passkey; o != nil {
		page.PasskeyAct, page.PasskeyOptions = o.Act, string(o.Options)
	}
	if own.Stage == stageRouted {
		p, err := g.provider(ctx, own.Routed)
		if err != nil {
			return nil, g.failed(ctx, s, err)
		}
		page.Routed, page.RoutedTo = p.Name, p.Slug
	}
	if own.Stage == stageFactor {
		held, _, err := g.totpOf(ctx, own.Person)
		if err != nil {
			return nil, g.failed(ctx, s, err)
		}
		page.Authenticator = held != nil
	}
	if own.Stage == stageEnrol {
		if page.Secret, page.Picture, err = enrolment(own.Name, own.Secret); err != nil {
			return nil, g.failed(ctx, s, err)
		}
	}
	return page, nil
}

func (g *Gate) resumeOwn(ctx context.Context, b Browser, id string) (*signIn, error) {
	s, err := g.resume(ctx, b, id)
	if err == nil && s.state.Own == nil {
		err = explain.New("browser.finished")
	}
	return s, err
}

// goOn ends the gate's own part: what was proven is as if a provider had vouched for it.
func (g *Gate) goOn(ctx context.Context, s *signIn) *Next {
	own := s.state.Own
	if own.Stronger {
		s.state.Second, s.state.Own = true, nil
		s.rec.Decide(trace.Decision{About: "strength", Result: "a second factor was proven at the gate", By: strings.Join(own.AMR, ", ")})
		return g.finish(ctx, s, *s.state.Who)
	}
	who := identity{Person: own.Person, Subject: "person\x1f" + own.Person, Shown: own.Name, Attributes: claims.Bag{}, AuthnInstant: own.At, AMR: own.AMR, Context: own.context(s.state.Wish.Context), UsedIssuer: "directory/" + s.provider.id, UsedID: s.id, UsedUntil: g.Now().Add(2 * signInLife)}
	if c := s.state.Wish.Context; !s.state.Wish.Preferred && !c.Met(who.Context) {
		return g.failed(ctx, s, explain.New("saml.context-not-met", explain.Pair("context", strings.Join(c.Classes, ", "), who.Context)).Of(s.app.Name))
	}
	return g.finish(ctx, s, who)
}

// context is the authentication context that was reached: of those that are true the first that was asked for, or else the strongest.
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

// EnterOwn takes what somebody entered on a page of ours. It only notes what came of it; the page that follows goes on, so that nothing is sent twice. Fields are name and
// password, code, or passkey (what the browser said of one, as JSON).
func (g *Gate) EnterOwn(ctx context.Context, b Browser, id string, field func(string) string) *Next {
	s, err := g.resumeOwn(ctx, b, id)
	if err != nil {
		return g.failed(ctx, s, err)
	}
	own := s.state.Own
	own.Error = ""
	answer := field("passkey")
	if own.Stage == stageRouted { // another name after all
		own.Stage, own.Routed = stagePassword, ""
	}
	switch own.Stage {
	case stagePassword, stageFactor:
		if answer != "" {
			err = g.enterPasskey(ctx, s, answer)
		} else if own.Stage == stageFactor {
			err = g.enterFactor(ctx, s, field("code"))
		} else {
			err = g.enterPassword(ctx, s, field("name"), field("password"))
		}
	case stageEnrol:
		if answer != "" {
			err = g.enrolPasskey(ctx, s, answer)
		} else {
			err = g.enterEnrolment(ctx, s, field("code"))
		}
	case stageCodes:
		own.Codes, own.Stage = nil, stageDone
	}
	if err == nil {
		err = g.offerPasskey(ctx, s)
	}
	if err == nil && own.Wrong >= maxWrong {
		err = explain.New("directory.wrong").Of(s.provider.Name)
	}
	if err != nil {
		return g.failed(ctx, s, err)
	}
	next := &Next{Redirect: g.ownAddress(s.id)}
	if err := g.keep(ctx, s, next); err != nil {
		return g.failed(ctx, s, err)
	}
	return next
}

// tooMany turns the refusal of too many tries into one that a person reads.
func tooMany(err error, what string) error {
	if err == nil {
		return nil
	}
	return explain.New("directory.too-many", explain.Fact("name", what))
}

// enterPassword checks name and password. Unknown names take as long as wrong passwords, and say the same.
func (g *Gate) enterPassword(ctx context.Context, s *signIn, name, password string) error {
	own := s.state.Own
	own.Name = clipText(strings.TrimSpace(name), 64)
	if to, err := g.routedElsewhere(ctx, s, own.Name); err != nil {
		return err
	} else if to != nil {
		// Whether the person is known is not looked at, and no password is tried.
		own.Stage, own.Routed = stageRouted, to.Slug
		s.rec.Decide(trace.Decision{About: "provider", Result: to.Name, By: "the mail address that was entered is routed there"})
		return nil
	}
	key := people.Key(own.Name)
	byName, byAddress := "own:"+key, "own-address:"+b4(s.browser.Address)
	if err := tooMany(g.guessing(ctx, byName, 10), own.Name); err != nil {
		return err
	}
	if err := tooMany(g.guessing(ctx, byAddress, 100), own.Name); err != nil {
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
	fits, current, err := g.passwordFits(ctx, held.Secret, password)
	if err != nil {
		return err
	}
	if !fits || held.ID == "" {
		own.Wrong++
		own.Error = "Name or password is wrong."
		s.rec.Check(trace.Check{Name: "directory.password", Text: "Name and password are right", Section: "our rule", OK: false})
		return nil
	}
	if !p.Active {
		return explain.New("match.inactive", explain.Fact("person", p.Name))
	}
	g.guessed(ctx, byName, byAddress)
	s.rec.Check(trace.Check{Name: "directory.password", Text: "Name and password are right", Section: "our rule", OK: true})
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
	case s.provider.Directory.SecondFactor == "required" || g.wantsTwo(s):
		return g.beginEnrolment(own)
	default:
		own.Stage = stageDone
	}
	return nil
}

// b4 is the address to count by: whoever has an IPv6 network has very many addresses in it.
func b4(address string) string {
	if strings.Count(address, ":") > 3 {
		return strings.Join(strings.SplitN(address, ":", 5)[:4], ":")
	}
	return address
}

// wantsTwo says whether the application demands a second factor by its request.
func (g *Gate) wantsTwo(s *signIn) bool {
	c := s.state.Wish.Context
	return c != nil && !s.state.Wish.Preferred && slices.ContainsFunc(c.Classes, func(v string) bool { return slices.Contains(strongContexts, v) })
}

// usedPassword renews a hash of another scheme, now that the password is at hand, and notes the use.
func (g *Gate) usedPassword(ctx context.Context, held *store.Credential, password string, current bool) error {
	fresh := held.Secret
	if !current {
		var err error
		if fresh, err = g.newPasswordHash(ctx, password); err != nil {
			return err
		}
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Exec("UPDATE credentials SET secret = ?, last_used = ? WHERE id = ? AND secret = ?", fresh, g.Now().UTC(), held.ID, held.Secret).Error
	})
}

// askSecond asks somebody who came through another provider for their second factor at the gate, if they have one.
func (g *Gate) askSecond(ctx context.Context, s *signIn, who identity) (*Next, error) {
	if s.person.id == "" || s.state.Second || s.row.Flow == "provider" {
		return nil, nil
	}
	has, err := g.hasFactor(ctx, s.person.id)
	if err != nil || !has {
		return nil, err
	}
	s.state.Who = &who
	s.state.Own = &ownSignIn{Stage: stageFactor, Person: s.person.id, Name: s.person.shown, Stronger: true}
	s.rec.Decide(trace.Decision{About: "strength", Result: "asked for the second factor at the gate", By: "an access rule"})
	if err := g.offerPasskey(ctx, s); err != nil {
		return nil, err
	}
	next := &Next{Redirect: g.ownAddress(s.id)}
	return next, g.keep(ctx, s, next)
}

// enrolment is a second factor's secret as people type it, and as a picture.
func enrolment(name, secret string) (text, picture string, err error) {
	code, err := qr.Encode(otpAddress(name, secret), qr.M)
	if err != nil {
		return "", "", err
	}
	var groups []string
	for i := 0; i < len(secret); i += 4 {
		groups = append(groups, secret[i:min(i+4, len(secret))])
	}
	return strings.Join(groups, " "), "data:image/png;base64," + base64.StdEncoding.EncodeToString(code.PNG()), nil
}
