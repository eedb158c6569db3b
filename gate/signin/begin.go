package signin

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"time"

	"gorm.io/gorm"

	"innergate/core/access"
	"innergate/core/bridge"
	"innergate/core/claims"
	"innergate/core/explain"
	"innergate/core/oidc"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/gate/sessions"
	"innergate/store"
)

const (
	Life        = 15 * time.Minute
	maxRelay    = 4096
	cookiesKept = 8
)

// Browser is what the server knows of the one who asks.
type Browser struct {
	Address string
	// SignIns are the secrets of sign-ins in flight that this browser holds, by sign-in ID.
	SignIns map[string]string
	// Rehearsal is the value of the rehearsal cookie.
	Rehearsal string
	// Way is the provider that the browser took the last time, by short name.
	Way string
	// Session is the token of the browser's session at the gate, Device what the browser says it is.
	Session, Device string
	// SignOuts are the secrets of sign-outs under way, by ID.
	SignOuts map[string]string
}

// Next tells the server what to send to the browser. Exactly one of Redirect, Form, Choice, Confirm, Ask, Done and
// Failure is set, but a Failure may carry a Form that takes the person back to the application.
type Next struct {
	Redirect string
	Form     *Form
	Choice   *Choice
	Confirm  *Confirm
	Ask      *AskProfile
	Console  string // the token of the console session that begins; Redirect leads there
	Done     string // nothing more to do; what to tell the person
	Failure  *FailurePage

	// SetSignIn is the sign-in whose secret the browser must keep; DropSignIns are those to forget.
	SetSignIn   string
	Secret      string
	DropSignIns []string
	// DropRehearsal ends the rehearsal in this browser.
	DropRehearsal bool
	// Way is the provider that the browser is to remember.
	Way string
	// Session is the token of the session that the browser has from now on, for longer than the browser runs until
	// SessionEnds (zero for as long as it runs). DropSession ends it.
	Session     string
	SessionEnds time.Time
	DropSession bool
	// SetSignOut is the sign-out under way whose secret the browser must keep, DropSignOut one to forget; SignedOut is
	// the page at its end.
	SetSignOut, DropSignOut string
	SignedOut               *SignOut
}

// Form is sent by the browser to another party: posted, or, where Method is get, as a query.
type Form struct {
	Method string
	Action string
	Fields [][2]string
}

// Choice asks the person which provider to use.
type Choice struct {
	Application string
	SignIn      string
	Providers   []ProviderChoice
	// Field asks for a name or mail address; Name is what was given before, and Again is set where it did not lead to
	// one way.
	Field bool
	Name  string
	Again bool
	// Portal is set where people sign in to see their own page.
	Portal bool
}

// ProviderChoice is one provider to choose. Last is set for the one that this browser took the last time.
type ProviderChoice struct {
	Slug, Name string
	Last       bool
}

// Confirm asks the person whether to go on to the application.
type Confirm struct {
	Application, Person      string
	SignIn                   string
	HomePage, Privacy, Terms string
	Hands                    []string // what is handed on, in words
	Native                   bool     // the answer goes to a program on this very machine
	Device                   bool     // another device showed the code that the person typed
}

// FailurePage is what the person is told.
type FailurePage struct {
	Reference   string
	Explanation explain.Explanation
	Application string
	Back        string // where to start again, if anywhere
	Return      *Form  // the protocol's own answer to the application
	ReturnTo    string // the same as an address
	Status      int
	SigningOut  bool // it was a sign-out that failed
}

// SignIn is one sign-in on its way through the steps.
type SignIn struct {
	ID, Reference string
	Row           store.SignIn
	App           *partners.Application
	Provider      *partners.Provider
	Rehearsal     *store.Rehearsal
	Rec           *trace.Recorder
	Began         time.Time
	Person        Person
	State         state
	Browser       Browser
	Known         bool // its trace is in the store already
	// subject is what the provider vouched for, as links hold it.
	subject, subjectShown string
	// session is the session that was there, once somebody has looked; the others are of the one that the sign-in ends
	// in: its ID and end, its name towards the application, the identifier that goes there, and the token that the
	// browser gets.
	session      *sessions.HeldSession
	looked       bool
	SessionID    string
	sessionEnds  time.Time
	sessionIndex string
	sessionToken string
	sessionKept  bool
	sent         saml.NameID
	Dropped      []string           // sign-ins that the browser is to forget
	routes       *access.Routes     // a draft that is asked about, in place of those that are live
	instead      *partners.Provider // a provider as a rehearsal has it, in place of what is set
}

// state is what must be known when the provider's answer comes. It travels sealed.
type state struct {
	Request *saml.AuthnRequest `json:"request,omitempty"` // of the application, if it asked
	To      string             `json:"to,omitempty"`      // RelayState for an unsolicited response
	Wish    bridge.Wish        `json:"wish"`
	// What we asked of the provider.
	FreshSince   time.Time              `json:"freshSince,omitzero"`
	Context      *saml.RequestedContext `json:"context,omitempty"`
	NameIDFormat string                 `json:"nameIdFormat,omitempty"`
	Began        time.Time              `json:"began"`
	Nonce        string                 `json:"nonce,omitempty"`
	Verifier     string                 `json:"verifier,omitempty"`
	MaxAge       *time.Duration         `json:"maxAge,omitempty"`
	ACR          []string               `json:"acr,omitempty"` // demanded of an OpenID provider
	// Asked is the request of an OpenID Connect application.
	Asked *oidc.Request `json:"asked,omitempty"`
	// Who is what the provider vouched for, while the person is asked to confirm; Agreed is set when they have.
	Who    *bridge.Identity `json:"who,omitempty"`
	Agreed bool             `json:"agreed,omitempty"`
	// Device is the hash of the device code that this sign-in is for.
	Device []byte `json:"device,omitempty"`
	// Bind is the hash of what the browser keeps at a guarded application's host.
	Bind []byte `json:"bind,omitempty"`
	// Name is what the person gave to be recognised by, before they have proven anything.
	Name string `json:"name,omitempty"`
	// Console is set where somebody comes in to the console.
	Console bool `json:"console,omitempty"`
	// Anew is set once the provider was asked again, more strictly or without what it could not give.
	Anew bool `json:"anew,omitempty"`
	// Strengthened is set once the provider was asked for a second factor; Second once the person proved one at the
	// gate.
	Strengthened bool `json:"strengthened,omitempty"`
	Second       bool `json:"second,omitempty"`
	// Own is how far somebody is in signing in at the gate itself.
	Own *OwnSignIn `json:"own,omitempty"`
	// Completed is what the person added to their profile when they were asked.
	Completed claims.Bag `json:"completed,omitempty"`
	// Proof is a mail address of theirs that is being proven.
	Proof *mailProof `json:"proof,omitempty"`
	// Admitted is set when somebody new has confirmed the profile that is made of them.
	Admitted bool `json:"admitted,omitempty"`
}

// Begin starts the record of a sign-in.
func (g *Room) Begin(b Browser, flow string) *SignIn {
	g.Metrics.Begun.Add(1)
	now := g.Now()
	s := &SignIn{ID: store.NewIDAt(now), Reference: trace.NewReference(), Rec: trace.NewRecorder(now, g.Now), Began: now, Browser: b}
	s.Row = store.SignIn{
		ID:        s.ID,
		Reference: s.Reference,
		Address:   b.Address,
		Flow:      flow,
		CreatedAt: now.UTC(),
		ExpiresAt: now.Add(Life).UTC(),
	}
	s.State.Began = now
	return s
}

// Failed ends a sign-in with its explanation. It is the only place that does: it records the failure, keeps the trace
// and chooses what the person or the application is told.
func (g *Room) Failed(ctx context.Context, s *SignIn, err error) *Next {
	var f *explain.Failure
	if !errors.As(err, &f) {
		g.Log.ErrorContext(ctx, "a sign-in failed inside", "reference", s.Reference, "error", err)
		f = explain.New("gate.failed", explain.Fact("error", "see the log"))
	}
	partner := ""
	if s.App != nil {
		partner = s.App.Name
	}
	if s.Provider != nil && (s.Rec.Step() == trace.Receive || s.Rec.Step() == trace.Send) {
		partner = s.Provider.Name
	}
	f.Of(partner)
	s.Rec.Fail(f.Record())
	g.Metrics.Refused.Add(1)
	explanation := f.Explain()
	page := &FailurePage{Reference: s.Reference, Explanation: explanation, Status: http.StatusBadRequest, SigningOut: s.Row.Flow == "slo"}
	if explanation.Side == explain.Ours && f.Code == "gate.failed" {
		page.Status = http.StatusInternalServerError
	}
	if f.Code == "gate.busy" {
		page.Status = http.StatusTooManyRequests
	}
	next := &Next{Failure: page}
	if s.App != nil {
		page.Application, page.Back = s.App.Name, s.App.StartURL
		if explanation.Status != "" || explanation.OAuth != "" || s.Rec.Step() != trace.Ask {
			answer := g.ApplicationSide(s.App).Refuse(ctx, s, f)
			// Where nobody was asked anything yet, the application gets its answer at once.
			early := s.Rec.Step() == trace.Ask || s.Rec.Step() == trace.Route
			if answer != nil && (early || s.State.Wish.Passive) {
				next = answer
			} else if answer != nil {
				page.Return, page.ReturnTo = answer.Form, answer.Redirect
			}
		}
	}
	// A stray answer must not end somebody's sign-in.
	if !explain.Stray(f.Code) && s.Row.BrowserHash != nil {
		next.DropSignIns = append(next.DropSignIns, s.ID)
		g.endRow(ctx, s)
		next.DropRehearsal = s.Rehearsal != nil
	}
	g.KeepTrace(ctx, s, "refused", f.Code)
	g.Outcomes.Failed(ctx, s, f, explanation)
	return next
}

func (g *Room) endRow(ctx context.Context, s *SignIn) {
	now := g.Now().UTC()
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Model(&store.SignIn{}).Where("id = ?", s.ID).Update("finished_at", now).Error
	})
	if err != nil {
		g.Log.ErrorContext(ctx, "a sign-in could not be ended", "reference", s.Reference, "error", err)
	}
}

// AskSAML takes an application's AuthnRequest.
func (g *Room) AskSAML(ctx context.Context, b Browser, received *saml.Received) *Next {
	s := g.Begin(b, "sp")
	if err := g.askSAML(ctx, s, received); err != nil {
		return g.Failed(ctx, s, err)
	}
	return g.Route(ctx, s, "")
}

func (g *Room) askSAML(ctx context.Context, s *SignIn, received *saml.Received) error {
	s.Rec.Message(trace.Message{
		From:       trace.Application,
		To:         trace.Gate,
		Name:       "AuthnRequest",
		Binding:    saml.BindingName(received.Binding),
		Address:    received.Location,
		Raw:        string(received.XML),
		RelayState: received.RelayState,
		Signature:  received.SignatureInWords(),
	})
	in, err := saml.OpenRequest(received)
	if err != nil {
		return err
	}
	if len(received.RelayState) > maxRelay {
		return explain.New("relay.too-long", explain.Pair("bytes", fmt.Sprint(maxRelay), fmt.Sprint(len(received.RelayState))))
	}
	app, err := g.partners.ApplicationByEntity(ctx, in.ClaimedIssuer())
	if ground.IsNotFound(err) {
		// What is only proposed may name itself anew; it is known to its own rehearsal.
		app, err = g.rehearsedAs(
			ctx,
			s.Browser,
			err,
			func(a *partners.Application) bool { return a.SAML != nil && a.SAML.EntityID == in.ClaimedIssuer() },
		)
	}
	if ground.IsNotFound(err) {
		return explain.New("saml.application-unknown", explain.Fact("issuer", in.ClaimedIssuer()))
	}
	if err != nil {
		return err
	}
	s.App = app
	if err := g.JoinRehearsal(ctx, s); err != nil {
		return err
	}
	app = s.App
	a := app.SAML
	// An application to which we are an entity of our own comes to addresses of its own, all others to the common one.
	if !s.Rec.Check(trace.Check{
		Name:     "saml.our-address",
		Text:     "The request came to the address that this application was given",
		Section:  "our rule",
		Expected: g.partners.SSOAddress(app),
		Got:      received.Location,
		OK:       received.Location == g.partners.SSOAddress(app),
	}) {
		return explain.New("saml.destination-mismatch", explain.Pair("Destination", g.partners.SSOAddress(app), received.Location)).
			Of(app.Name)
	}
	req, err := in.Check(saml.RequestRules{
		Partner: app.Name, Issuer: saml.EntityID(a.EntityID), ACS: a.ACS, AttributeSet: a.AttributeSets,
		WantSigned: a.RequireSignedRequests, Location: received.Location,
		Trust:  saml.Trust{Certificates: app.Signing, AllowSHA1: a.AllowSHA1, EnforceDates: a.EnforceCertificateDates},
		MaxAge: 10 * time.Minute, Skew: partners.Skew(a.ClockSkewSeconds), Now: g.Now(),
	}, s.Rec)
	if err != nil {
		return err
	}
	g.keyring.NoteUse(app.ID, req.Certificate)
	s.State.Request = req
	s.Row.ApplicationID, s.Row.RequestID = app.ID, req.ID
	if req.Refusal != nil {
		return req.Refusal
	}
	s.State.Wish = bridge.Wish{
		Fresh:      req.ForceAuthn,
		Passive:    req.IsPassive,
		Context:    req.RequestedContext,
		Subject:    req.Subject,
		ProxyCount: req.ProxyCount,
		Requesters: req.RequesterIDs,
		Providers:  req.Providers,
	}
	if p := req.NameIDPolicy; p != nil && p.Format != "" && p.Format != saml.FormatUnspecified {
		set := bridge.SubjectFormat(app.Subject.Source, app.Subject.Format)
		if !s.Rec.Check(trace.Check{
			Name:     "saml.nameid-policy",
			Text:     "The NameID format asked for is the one set",
			Section:  "SAML Core 3.4.1.1",
			Expected: set,
			Got:      p.Format,
			OK:       p.Format == set,
		}) {
			return explain.New("saml.nameid-policy", explain.Pair("NameID format", set, p.Format))
		}
	}
	return nil
}

// Start begins at the gate, as a tile does: the person signs in and the application gets an unsolicited response, or,
// if it takes none, the person is sent to the application's own address.
func (g *Room) Start(ctx context.Context, b Browser, slug, to string) *Next {
	s := g.Begin(b, "idp")
	app, err := g.partners.Application(ctx, slug)
	if err != nil {
		if ground.IsNotFound(err) {
			err = explain.New("saml.application-unknown", explain.Fact("short name", slug))
		}
		return g.Failed(ctx, s, err)
	}
	s.App = app
	next, err := g.ApplicationSide(app).Start(ctx, s, to)
	if err != nil {
		return g.Failed(ctx, s, err)
	}
	if next != nil {
		return next
	}
	return g.Route(ctx, s, "")
}

// Route finds the provider and sends the person there.
func (g *Room) Route(ctx context.Context, s *SignIn, chosen string) *Next {
	s.Rec.Begin(trace.Route)
	if err := g.noLoop(ctx, s); err != nil {
		return g.Failed(ctx, s, err)
	}
	if err := g.JoinRehearsal(ctx, s); err != nil {
		return g.Failed(ctx, s, err)
	}
	if err := g.reached(ctx, s); err != nil {
		return g.Failed(ctx, s, err)
	}
	if err := g.partners.InTime(s.App.Name, s.App.Until); err != nil {
		return g.Failed(ctx, s, err)
	}
	w, err := g.ways(ctx, s)
	if err != nil {
		return g.Failed(ctx, s, err)
	}
	if chosen == "" {
		if next := g.fromSession(ctx, s, w.open); next != nil {
			return next
		}
	}
	if chosen == "" && s.Rehearsal != nil {
		chosen = s.Rehearsal.ProviderID
	}
	routes, err := g.routesOf(ctx, s)
	if err != nil {
		return g.Failed(ctx, s, err)
	}
	s.Provider = s.straight(w, routes, chosen)
	if s.Provider == nil && s.State.Wish.Passive {
		return g.Failed(ctx, s, explain.New("route.no-passive"))
	}
	if s.Provider == nil {
		return g.choose(ctx, s, w, routes)
	}
	s.Row.ProviderID = s.Provider.ID
	by := routeReason(chosen, len(w.open))
	if w.by != "" && chosen == "" {
		by = w.by
	}
	s.Rec.Decide(trace.Decision{About: "provider", Result: s.Provider.Name, By: by, Passed: w.passed})
	return g.sendOn(ctx, s)
}

// reached asks the application's reach, with what is known so far.
func (g *Room) reached(ctx context.Context, s *SignIn) error {
	if s.App.Reach != access.InCircle || s.Rehearsal != nil {
		return s.App.Reach.Serves("application", s.App.Name, s.Rehearsal != nil)
	}
	r, err := g.recognise(ctx, s)
	if err != nil {
		return err
	}
	if r.by != "" && s.State.Name != "" {
		r.who.Known = false // a name that was only given proves nothing, and must not tell whether somebody is in
	}
	return s.App.Reach.Admits(s.App.Circle, r.who, "application", s.App.Name, s.App.Slug, false)
}

func routeReason(chosen string, open int) string {
	if open == 1 {
		return "the only provider that serves the application"
	}
	if chosen != "" {
		return "chosen"
	}
	return ""
}

// candidates lists the application's providers that can be used now, and says why others can't. Where a provider's
// circle depends on who it is and that is not known, it is passed over, and the person is asked.
func (g *Room) candidates(
	ctx context.Context,
	s *SignIn,
	who access.Who,
) (open []*partners.Provider, passed []string, asks bool, err error) {
	var last error
	for _, slug := range s.App.Providers {
		p, err := g.providerIn(ctx, s, slug)
		if ground.IsNotFound(err) {
			passed = append(passed, slug+": it was deleted")
			continue
		}
		if err != nil {
			return nil, nil, false, err
		}
		if p.Reach == access.InCircle && s.Rehearsal == nil {
			verdict, why := p.Circle.Holds(who, p.Slug)
			if verdict != access.Inside {
				asks = asks || verdict == access.Open
				passed, last = append(
					passed,
					p.Name+": circle, "+why,
				), explain.New("reach.provider-circle", explain.Fact("reason", why)).
					Of(p.Name)
				continue
			}
		} else if err := p.Reach.Serves("provider", p.Name, s.Rehearsal != nil); err != nil {
			passed, last = append(passed, p.Name+": "+string(p.Reach)), err
			continue
		}
		if err := g.partners.InTime(p.Name, p.Until); err != nil {
			passed, last = append(passed, p.Name+": its metadata is over"), err
			continue
		}
		if len(p.Missing()) > 0 {
			passed = append(passed, p.Name+": "+p.Missing()[0])
			continue
		}
		if list := s.State.Wish.Providers; len(list) > 0 && !slices.Contains(list, p.Authority()) {
			passed, last = append(
				passed,
				p.Name+": not among those that the application lists",
			), explain.New(
				"saml.provider-not-listed",
				explain.Fact("listed", fmt.Sprint(list)),
			)
			continue
		}
		open = append(open, p)
	}
	// Whoever is in a circle takes that way in place of the one for those outside.
	for _, p := range open {
		if p.Reach == access.InCircle && s.Rehearsal == nil && p.Circle.Instead != "" {
			open = slices.DeleteFunc(slices.Clone(open), func(other *partners.Provider) bool { return other.Slug == p.Circle.Instead })
			passed = append(passed, p.Circle.Instead+": for those outside the circle of "+p.Name)
		}
	}
	if len(open) == 0 && !asks {
		s.Rec.Decide(trace.Decision{About: "provider", Result: "none", Passed: passed})
		if last == nil || len(s.App.Providers) > 1 {
			last = explain.New("route.none")
		}
		return nil, nil, false, last
	}
	return open, passed, asks, nil
}

// choose keeps the sign-in and asks the person which way to take, or who they are.
func (g *Room) choose(ctx context.Context, s *SignIn, w *ways, routes *access.Routes) *Next {
	next := &Next{Choice: s.choice(w, routes)}
	s.Rec.Decide(trace.Decision{About: "provider", Result: "the person is asked", Passed: w.passed})
	if err := g.Keep(ctx, s, next); err != nil {
		return g.Failed(ctx, s, err)
	}
	return next
}

// Chosen goes on with the provider that the person chose.
func (g *Room) Chosen(ctx context.Context, b Browser, id, slug string) *Next {
	s, err := g.Resume(ctx, b, id)
	if err != nil {
		return g.Failed(ctx, s, err)
	}
	return g.Route(ctx, s, slug)
}

// sendOn asks the provider and keeps the sign-in until the answer comes.
func (g *Room) sendOn(ctx context.Context, s *SignIn) *Next {
	s.Rec.Begin(trace.Send)
	next, err := g.ProviderSide(s.Provider).Send(ctx, s)
	if err != nil {
		return g.Failed(ctx, s, err)
	}
	if err := g.Keep(ctx, s, next); err != nil {
		return g.Failed(ctx, s, err)
	}
	return next
}

// SignOut is what a browser that signs out is shown.
type SignOut struct {
	Title, Text string
	Person      string // who is signed in, where they are asked
	// Ask is set where the person has to say that they want to sign out; Request is what came, to be agreed to.
	Ask     bool
	Request string
	// Told and Untold are the applications that know that the sign-in has ended, and those that may not.
	Told, Untold []string
	// Frames are addresses of applications that are told by way of the browser (OpenID Connect Front-Channel Logout
	// 1.0).
	Frames []string
	// Onward is where the person goes next, Name what that is.
	Onward, Name string
}
