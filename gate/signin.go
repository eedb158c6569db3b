package gate

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"time"

	"gorm.io/gorm"

	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/explain"
	"innergate/core/oidc"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/store"
)

const (
	signInLife  = 15 * time.Minute
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

// Next tells the server what to send to the browser. Exactly one of Redirect, Form, Choice, Confirm, Ask, Done and Failure is set, but a Failure may carry a Form that takes the
// person back to the application.
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
	// Session is the token of the session that the browser has from now on, for longer than the browser runs until SessionEnds (zero for as long as it runs). DropSession ends it.
	Session     string
	SessionEnds time.Time
	DropSession bool
	// SetSignOut is the sign-out under way whose secret the browser must keep, DropSignOut one to forget; SignedOut is the page at its end.
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
	// Field asks for a name or mail address; Name is what was given before, and Again is set where it did not lead to one way.
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

// wish is what an application wants of a sign-in, in words that no protocol owns.
type wish struct {
	Fresh   bool                   `json:"fresh,omitempty"`
	Passive bool                   `json:"passive,omitempty"`
	Context *saml.RequestedContext `json:"context,omitempty"`
	// Preferred is set where the context is only preferred (acr_values) and not demanded.
	Preferred bool `json:"preferred,omitempty"`
	// MaxAge is how long ago the person may have signed in.
	MaxAge *time.Duration `json:"maxAge,omitempty"`
	// Choose has the person choose an account anew.
	Choose    bool   `json:"choose,omitempty"`
	LoginHint string `json:"loginHint,omitempty"`
	Locales   string `json:"locales,omitempty"`
	// Subject is the identifier that the application named.
	Subject    *saml.NameID `json:"subject,omitempty"`
	ProxyCount *int         `json:"proxyCount,omitempty"`
	Requesters []string     `json:"requesters,omitempty"`
	Providers  []string     `json:"providers,omitempty"` // by their entity IDs
}

// identity is what a provider vouched for, in words that no protocol owns.
type identity struct {
	Subject string // the key by which a link knows it, empty if it can't be known again
	Shown   string // the identifier, for people
	// Person is the ID of one of the gate's own people, who need no matching.
	Person       string
	Attributes   claims.Bag
	AuthnInstant time.Time
	Context      string
	AMR          []string
	Authorities  []string
	// Session is the provider's own name for its session, Hint what it wants to see when somebody signs out.
	Session    string
	Hint       string
	SessionEnd time.Time
	// UsedIssuer and UsedID must not come again before UsedUntil.
	UsedIssuer, UsedID string
	UsedUntil          time.Time
	// NameID is the identifier as a SAML provider wrote it, by which it is asked to sign the person out.
	NameID *saml.NameID `json:",omitempty"`
	// SessionID is the session at the gate in which this was vouched for before, if it was.
	SessionID string `json:",omitempty"`
}

// signIn is one sign-in on its way through the steps.
type signIn struct {
	id, reference string
	row           store.SignIn
	app           *application
	provider      *provider
	rehearsal     *store.Rehearsal
	rec           *trace.Recorder
	began         time.Time
	person        person
	state         state
	browser       Browser
	known         bool // its trace is in the store already
	// subject is what the provider vouched for, as links hold it.
	subject, subjectShown string
	// session is the session that was there, once somebody has looked; the others are of the one that the sign-in ends in: its ID and end, its name towards the application, the
	// identifier that goes there, and the token that the browser gets.
	session      *heldSession
	looked       bool
	sessionID    string
	sessionEnds  time.Time
	sessionIndex string
	sessionToken string
	sessionKept  bool
	sent         saml.NameID
	dropped      []string       // sign-ins that the browser is to forget
	routes       *access.Routes // a draft that is asked about, in place of those that are live
	instead      *provider      // a provider as a rehearsal has it, in place of what is set
}

// state is what must be known when the provider's answer comes. It travels sealed.
type state struct {
	Request *saml.AuthnRequest `json:"request,omitempty"` // of the application, if it asked
	To      string             `json:"to,omitempty"`      // RelayState for an unsolicited response
	Wish    wish               `json:"wish"`
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
	Who    *identity `json:"who,omitempty"`
	Agreed bool      `json:"agreed,omitempty"`
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
	// Strengthened is set once the provider was asked for a second factor; Second once the person proved one at the gate.
	Strengthened bool `json:"strengthened,omitempty"`
	Second       bool `json:"second,omitempty"`
	// Own is how far somebody is in signing in at the gate itself.
	Own *ownSignIn `json:"own,omitempty"`
	// Completed is what the person added to their profile when they were asked.
	Completed claims.Bag `json:"completed,omitempty"`
	// Proof is a mail address of theirs that is being proven.
	Proof *mailProof `json:"proof,omitempty"`
	// Admitted is set when somebody new has confirmed the profile that is made of them.
	Admitted bool `json:"admitted,omitempty"`
}

// begin starts the record of a sign-in.
func (g *Gate) begin(b Browser, flow string) *signIn {
	g.Metrics.Begun.Add(1)
	now := g.Now()
	s := &signIn{id: store.NewIDAt(now), reference: newReference(), rec: trace.NewRecorder(now, g.Now), began: now, browser: b}
	s.row = store.SignIn{ID: s.id, Reference: s.reference, Address: b.Address, Flow: flow, CreatedAt: now.UTC(), ExpiresAt: now.Add(signInLife).UTC()}
	s.state.Began = now
	return s
}

// failed ends a sign-in with its explanation. It is the only place that does: it records the failure, keeps the trace and chooses what the person or the
// application is told.
func (g *Gate) failed(ctx context.Context, s *signIn, err error) *Next {
	var f *explain.Failure
	if !errors.As(err, &f) {
		g.Log.ErrorContext(ctx, "a sign-in failed inside", "reference", s.reference, "error", err)
		f = explain.New("gate.failed", explain.Fact("error", "see the log"))
	}
	partner := ""
	if s.app != nil {
		partner = s.app.Name
	}
	if s.provider != nil && (s.rec.Step() == trace.Receive || s.rec.Step() == trace.Send) {
		partner = s.provider.Name
	}
	f.Of(partner)
	s.rec.Fail(f.Record())
	g.Metrics.Refused.Add(1)
	explanation := f.Explain()
	page := &FailurePage{Reference: s.reference, Explanation: explanation, Status: http.StatusBadRequest, SigningOut: s.row.Flow == "slo"}
	if explanation.Side == explain.Ours && f.Code == "gate.failed" {
		page.Status = http.StatusInternalServerError
	}
	if f.Code == "gate.busy" {
		page.Status = http.StatusTooManyRequests
	}
	next := &Next{Failure: page}
	if s.app != nil {
		page.Application, page.Back = s.app.Name, s.app.StartURL
		if explanation.Status != "" || explanation.OAuth != "" || s.rec.Step() != trace.Ask {
			answer := g.applicationSide(s.app).refuse(ctx, s, f)
			// Where nobody was asked anything yet, the application gets its answer at once.
			early := s.rec.Step() == trace.Ask || s.rec.Step() == trace.Route
			if answer != nil && (early || s.state.Wish.Passive) {
				next = answer
			} else if answer != nil {
				page.Return, page.ReturnTo = answer.Form, answer.Redirect
			}
		}
	}
	// A stray answer must not end somebody's sign-in.
	if !stray(f.Code) && s.row.BrowserHash != nil {
		next.DropSignIns = append(next.DropSignIns, s.id)
		g.endRow(ctx, s)
		next.DropRehearsal = s.rehearsal != nil
	}
	g.keepTrace(ctx, s, "refused", f.Code)
	g.onNoteMoveFailed(ctx, s, f, explanation)
	return next
}

// stray tells failures that say nothing about the sign-in itself, only about who came with an answer.
func stray(code string) bool {
	return code == "browser.lost" || code == "browser.finished" || code == "saml.request-repeated" || code == "oidc.state"
}

func (g *Gate) endRow(ctx context.Context, s *signIn) {
	now := g.Now().UTC()
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Model(&store.SignIn{}).Where("id = ?", s.id).Update("finished_at", now).Error
	})
	if err != nil {
		g.Log.ErrorContext(ctx, "a sign-in could not be ended", "reference", s.reference, "error", err)
	}
}

// AskSAML takes an application's AuthnRequest.
func (g *Gate) AskSAML(ctx context.Context, b Browser, received *saml.Received) *Next {
	s := g.begin(b, "sp")
	if err := g.askSAML(ctx, s, received); err != nil {
		return g.failed(ctx, s, err)
	}
	return g.route(ctx, s, "")
}

func (g *Gate) askSAML(ctx context.Context, s *signIn, received *saml.Received) error {
	s.rec.Message(trace.Message{From: trace.Application, To: trace.Gate, Name: "AuthnRequest", Binding: saml.BindingName(received.Binding), Address: received.Location, Raw: string(received.XML), RelayState: received.RelayState, Signature: received.SignatureInWords()})
	in, err := saml.OpenRequest(received)
	if err != nil {
		return err
	}
	if len(received.RelayState) > maxRelay {
		return explain.New("relay.too-long", explain.Pair("bytes", fmt.Sprint(maxRelay), fmt.Sprint(len(received.RelayState))))
	}
	app, err := g.applicationByEntity(ctx, in.ClaimedIssuer())
	if isNotFound(err) {
		// What is only proposed may name itself anew; it is known to its own rehearsal.
		app, err = g.rehearsedAs(ctx, s.browser, err, func(a *application) bool { return a.SAML != nil && a.SAML.EntityID == in.ClaimedIssuer() })
	}
	if isNotFound(err) {
		return explain.New("saml.application-unknown", explain.Fact("issuer", in.ClaimedIssuer()))
	}
	if err != nil {
		return err
	}
	s.app = app
	if err := g.joinRehearsal(ctx, s); err != nil {
		return err
	}
	app = s.app
	a := app.SAML
	// An application to which we are an entity of our own comes to addresses of its own, all others to the common one.
	if !s.rec.Check(trace.Check{Name: "saml.our-address", Text: "The request came to the address that this application was given", Section: "our rule", Expected: g.ssoLocation(app), Got: received.Location, OK: received.Location == g.ssoLocation(app)}) {
		return explain.New("saml.destination-mismatch", explain.Pair("Destination", g.ssoLocation(app), received.Location)).Of(app.Name)
	}
	req, err := in.Check(saml.RequestRules{
		Partner: app.Name, Issuer: saml.EntityID(a.EntityID), ACS: a.ACS, AttributeSet: a.AttributeSets, WantSigned: a.RequireSignedRequests, Location: received.Location,
		Trust:  saml.Trust{Certificates: app.signing, AllowSHA1: a.AllowSHA1, EnforceDates: a.EnforceCertificateDates},
		MaxAge: 10 * time.Minute, Skew: skew(a.ClockSkewSeconds), Now: g.Now(),
	}, s.rec)
	if err != nil {
		return err
	}
	g.used(app.id, req.Certificate)
	s.state.Request = req
	s.row.ApplicationID, s.row.RequestID = app.id, req.ID
	if req.Refusal != nil {
		return req.Refusal
	}
	s.state.Wish = wish{Fresh: req.ForceAuthn, Passive: req.IsPassive, Context: req.RequestedContext, Subject: req.Subject, ProxyCount: req.ProxyCount, Requesters: req.RequesterIDs, Providers: req.Providers}
	if p := req.NameIDPolicy; p != nil && p.Format != "" && p.Format != saml.FormatUnspecified {
		set := subjectFormat(app.Subject.Source, app.Subject.Format)
		if !s.rec.Check(trace.Check{Name: "saml.nameid-policy", Text: "The NameID format asked for is the one set", Section: "SAML Core 3.4.1.1", Expected: set, Got: p.Format, OK: p.Format == set}) {
			return explain.New("saml.nameid-policy", explain.Pair("NameID format", set, p.Format))
		}
	}
	return nil
}

func skew(seconds int) time.Duration {
	if seconds == 0 {
		seconds = 60
	}
	return time.Duration(seconds) * time.Second
}

func subjectFormat(source, format string) string {
	switch {
	case format != "":
		return format
	case source == "pairwise":
		return saml.FormatPersistent
	case source == "transient":
		return saml.FormatTransient
	}
	return saml.FormatUnspecified
}

func isNotFound(err error) bool {
	var p interface{ NotFound() bool }
	return errors.As(err, &p) && p.NotFound()
}

// Start begins at the gate, as a tile does: the person signs in and the application gets an unsolicited response, or, if it takes none, the person is sent
// to the application's own address.
func (g *Gate) Start(ctx context.Context, b Browser, slug, to string) *Next {
	s := g.begin(b, "idp")
	app, err := g.application(ctx, slug)
	if err != nil {
		if isNotFound(err) {
			err = explain.New("saml.application-unknown", explain.Fact("short name", slug))
		}
		return g.failed(ctx, s, err)
	}
	s.app = app
	next, err := g.applicationSide(app).start(ctx, s, to)
	if err != nil {
		return g.failed(ctx, s, err)
	}
	if next != nil {
		return next
	}
	return g.route(ctx, s, "")
}

// route finds the provider and sends the person there.
func (g *Gate) route(ctx context.Context, s *signIn, chosen string) *Next {
	s.rec.Begin(trace.Route)
	if err := g.noLoop(ctx, s); err != nil {
		return g.failed(ctx, s, err)
	}
	if err := g.joinRehearsal(ctx, s); err != nil {
		return g.failed(ctx, s, err)
	}
	if err := g.reached(ctx, s); err != nil {
		return g.failed(ctx, s, err)
	}
	if err := g.inTime(s.app.Name, s.app.until); err != nil {
		return g.failed(ctx, s, err)
	}
	w, err := g.ways(ctx, s)
	if err != nil {
		return g.failed(ctx, s, err)
	}
	if chosen == "" {
		if next := g.fromSession(ctx, s, w.open); next != nil {
			return next
		}
	}
	if chosen == "" && s.rehearsal != nil {
		chosen = s.rehearsal.ProviderID
	}
	routes, err := g.routesOf(ctx, s)
	if err != nil {
		return g.failed(ctx, s, err)
	}
	s.provider = s.straight(w, routes, chosen)
	if s.provider == nil && s.state.Wish.Passive {
		return g.failed(ctx, s, explain.New("route.no-passive"))
	}
	if s.provider == nil {
		return g.choose(ctx, s, w, routes)
	}
	s.row.ProviderID = s.provider.id
	by := routeReason(chosen, len(w.open))
	if w.by != "" && chosen == "" {
		by = w.by
	}
	s.rec.Decide(trace.Decision{About: "provider", Result: s.provider.Name, By: by, Passed: w.passed})
	return g.sendOn(ctx, s)
}

// reached asks the application's reach, with what is known so far.
func (g *Gate) reached(ctx context.Context, s *signIn) error {
	if s.app.Reach != access.InCircle || s.rehearsal != nil {
		return s.app.Reach.Serves("application", s.app.Name, s.rehearsal != nil)
	}
	r, err := g.recognise(ctx, s)
	if err != nil {
		return err
	}
	if r.by != "" && s.state.Name != "" {
		r.who.Known = false // a name that was only given proves nothing, and must not tell whether somebody is in
	}
	return s.app.Reach.Admits(s.app.Circle, r.who, "application", s.app.Name, s.app.Slug, false)
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

// candidates lists the application's providers that can be used now, and says why others can't. Where a provider's circle depends on who it is and that is not known, it is passed over, and
// the person is asked.
func (g *Gate) candidates(ctx context.Context, s *signIn, who access.Who) (open []*provider, passed []string, asks bool, err error) {
	var last error
	for _, slug := range s.app.Providers {
		p, err := g.providerIn(ctx, s, slug)
		if isNotFound(err) {
			passed = append(passed, slug+": it was deleted")
			continue
		}
		if err != nil {
			return nil, nil, false, err
		}
		if p.Reach == access.InCircle && s.rehearsal == nil {
			verdict, why := p.Circle.Holds(who, p.Slug)
			if verdict != access.Inside {
				asks = asks || verdict == access.Open
				passed, last = append(passed, p.Name+": circle, "+why), explain.New("reach.provider-circle", explain.Fact("reason", why)).Of(p.Name)
				continue
			}
		} else if err := p.Reach.Serves("provider", p.Name, s.rehearsal != nil); err != nil {
			passed, last = append(passed, p.Name+": "+string(p.Reach)), err
			continue
		}
		if err := g.inTime(p.Name, p.until); err != nil {
			passed, last = append(passed, p.Name+": its metadata is over"), err
			continue
		}
		if len(p.Missing()) > 0 {
			passed = append(passed, p.Name+": "+p.Missing()[0])
			continue
		}
		if list := s.state.Wish.Providers; len(list) > 0 && !slices.Contains(list, p.Authority()) {
			passed, last = append(passed, p.Name+": not among those that the application lists"), explain.New("saml.provider-not-listed", explain.Fact("listed", fmt.Sprint(list)))
			continue
		}
		open = append(open, p)
	}
	// Whoever is in a circle takes that way in place of the one for those outside.
	for _, p := range open {
		if p.Reach == access.InCircle && s.rehearsal == nil && p.Circle.Instead != "" {
			open = slices.DeleteFunc(slices.Clone(open), func(other *provider) bool { return other.Slug == p.Circle.Instead })
			passed = append(passed, p.Circle.Instead+": for those outside the circle of "+p.Name)
		}
	}
	if len(open) == 0 && !asks {
		s.rec.Decide(trace.Decision{About: "provider", Result: "none", Passed: passed})
		if last == nil || len(s.app.Providers) > 1 {
			last = explain.New("route.none")
		}
		return nil, nil, false, last
	}
	return open, passed, asks, nil
}

// choose keeps the sign-in and asks the person which way to take, or who they are.
func (g *Gate) choose(ctx context.Context, s *signIn, w *ways, routes *access.Routes) *Next {
	next := &Next{Choice: s.choice(w, routes)}
	s.rec.Decide(trace.Decision{About: "provider", Result: "the person is asked", Passed: w.passed})
	if err := g.keep(ctx, s, next); err != nil {
		return g.failed(ctx, s, err)
	}
	return next
}

// Chosen goes on with the provider that the person chose.
func (g *Gate) Chosen(ctx context.Context, b Browser, id, slug string) *Next {
	s, err := g.resume(ctx, b, id)
	if err != nil {
		return g.failed(ctx, s, err)
	}
	return g.route(ctx, s, slug)
}

// sendOn asks the provider and keeps the sign-in until the answer comes.
func (g *Gate) sendOn(ctx context.Context, s *signIn) *Next {
	s.rec.Begin(trace.Send)
	next, err := g.providerSide(s.provider).send(ctx, s)
	if err != nil {
		return g.failed(ctx, s, err)
	}
	if err := g.keep(ctx, s, next); err != nil {
		return g.failed(ctx, s, err)
	}
	return next
}
