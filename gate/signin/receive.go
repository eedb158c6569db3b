package signin

import (
	"context"
	"errors"
	"maps"
	"net/netip"
	"net/url"
	"slices"
	"strings"

	"innergate/core/access"
	"innergate/core/bridge"
	"innergate/core/explain"
	"innergate/core/oidc"
	"innergate/core/saml"
	"innergate/core/span"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/messages"
	"innergate/gate/partners"
	"innergate/store"
)

// Arrival is a message that came for a sign-in.
type Arrival struct {
	response   *saml.IncomingResponse
	parameters oidc.Parameters
}

// receive has the provider's answer checked, and notes whom it vouches for. Where a provider answers too weakly for what
// was only preferred, or with a sign-in longer ago than the application allows, it is asked once more.
func (g *Room) receive(a *Arrival) Phase {
	return func(ctx context.Context, s *SignIn) (*Next, error) {
		if err := s.awaited(); err != nil {
			return nil, err
		}
		who, err := g.ProviderSide(s.Provider).Receive(ctx, s, a)
		switch {
		case g.tooStrict(s, err):
			return g.send(ctx, s)
		case err != nil:
			return nil, err
		}
		who.Means = bridge.Meanings(s.Provider.Contexts, who.Context, who.AMR)
		if err := g.strongEnough(s, who); err != nil {
			return nil, err
		}
		if again, err := g.tooOld(s, who); err != nil {
			return nil, err
		} else if again {
			return g.send(ctx, s)
		}
		if s.relayLost != "" { // told of once the answer is known to be the provider's
			g.partners.See(ctx, s.Provider.ID, store.SeenRelayLost, s.relayLost, s.Reference)
		}
		s.Vouched(who, g.Now())
		return nil, nil
	}
}

// awaited takes up what the provider's answer must fit. Where the provider began by itself, nothing was asked.
func (s *SignIn) awaited() error {
	if !s.Known {
		s.asked = &awaiting{Provider: s.Provider.ID}
		return nil
	}
	var err error
	s.asked, err = Due[*awaiting](s)
	return err
}

// tooStrict says whether a provider could not meet a context that was only preferred, and has it asked without.
func (g *Room) tooStrict(s *SignIn, err error) bool {
	wish := &s.State.Wish
	var f *explain.Failure
	if !errors.As(err, &f) || f.Code != explain.SAMLStatusNoContext && f.Code != explain.OIDCContextUnmet || !wish.Preferred ||
		s.asked.Again {
		return false
	}
	s.Rec.Decide(trace.Decision{
		About:  "strength",
		Result: "asked again without it",
		By:     "acr_values is a preference, and " + s.Provider.Name + " can't meet it",
	})
	s.asked.Again = true
	s.adjustWish(func(w *bridge.Wish) { w.Context = nil })
	return true
}

// strongEnough holds what was vouched for against the context that the application demands, by the provider's table of contexts.
func (g *Room) strongEnough(s *SignIn, who bridge.Identity) error {
	for _, m := range who.Means {
		said := words.OrNone(strings.Join(append([]string{who.Context}, who.AMR...), " "))
		s.Rec.Decide(trace.Decision{About: "strength", Result: m, By: s.Provider.Name + " said " + said + ", by its table of contexts"})
	}
	wish := s.State.Wish
	if wish.Preferred || who.Meets(wish.Context) {
		return nil
	}
	wanted := strings.Join(wish.Context.Classes, " or ")
	if s.Provider.SAML != nil {
		return explain.New(explain.SAMLContextNotProven, explain.Pair("context", wanted, who.Proved())).Of(s.Provider.Name)
	}
	return explain.New(explain.OIDCContextUnmet, explain.Pair("acr", wanted, who.Proved())).Of(s.Provider.Name)
}

// tooOld says whether the person signed in longer ago than the application allows, and has them asked anew, once.
func (g *Room) tooOld(s *SignIn, who bridge.Identity) (again bool, err error) {
	wish := &s.State.Wish
	// Whoever signed in for this very request is fresh, however long the way back took. Clocks count where they were asked anew.
	since := s.Began
	if s.asked.Again {
		since = since.Add(-partners.Skew(0))
	}
	if wish.MaxAge == nil || !who.AuthnInstant.IsZero() &&
		(g.Now().Sub(who.AuthnInstant) <= *wish.MaxAge || !who.AuthnInstant.Before(since)) {
		return false, nil
	}
	if s.asked.Again && wish.Fresh || wish.Passive || who.AuthnInstant.IsZero() {
		allowed := "at most " + span.Words(*wish.MaxAge) + " ago"
		return false, explain.New(explain.BridgeTooOld, explain.Pair("signed in", allowed, words.Ago(g.Now(), who.AuthnInstant))).
			Of(s.Provider.Name)
	}
	s.Rec.Decide(trace.Decision{
		About:  "freshness",
		Result: "asked to sign in anew",
		By:     "the application allows a sign-in at most " + span.Words(*wish.MaxAge) + " ago (max_age)",
	})
	s.asked.Again = true
	s.adjustWish(func(w *bridge.Wish) { w.Fresh = true })
	return true, nil
}

// ReceiveSAML goes on with a response, or an artifact in place of one, that was posted to a provider's ACS.
func (g *Room) ReceiveSAML(ctx context.Context, b Browser, slug string, posted messages.Posted) *Next {
	stranger := g.Begin(b, "provider")
	stranger.Rec.Begin(trace.Receive)
	var err error
	if stranger.Provider, err = g.partners.SAMLProviderAt(ctx, slug); err != nil {
		return g.Walk(ctx, stranger, Failing(err))
	}
	if posted.Param == saml.ParamArtifact {
		s, err := g.joinArtifact(ctx, b, stranger, posted)
		return g.Walk(ctx, s, Failing(err), g.begun, g.receiveArtifact(posted.Value), g.Homeward)
	}
	s, response, err := g.joinResponse(ctx, b, stranger, posted)
	return g.Walk(ctx, s, Failing(err), g.begun, g.receive(&Arrival{response: response}), g.Homeward)
}

// joinResponse reads a posted response and finds the sign-in that it belongs to.
func (g *Room) joinResponse(
	ctx context.Context,
	b Browser,
	stranger *SignIn,
	posted messages.Posted,
) (*SignIn, *saml.IncomingResponse, error) {
	received, err := saml.DecodePost(posted.Param, posted.Value, posted.Relay, g.ACSLocation(stranger.Provider.Slug))
	if err != nil {
		return g.oneOfOurs(ctx, b, stranger, posted.Relay), nil, unreadable(err)
	}
	message := trace.Message{
		From:       trace.Provider,
		To:         trace.Gate,
		Name:       "Response",
		Binding:    "HTTP-POST",
		Address:    received.Location,
		Raw:        string(received.XML),
		RelayState: posted.Relay,
	}
	response, err := saml.OpenResponse(received)
	if err != nil {
		s := g.oneOfOurs(ctx, b, stranger, posted.Relay)
		s.Rec.Message(message)
		return s, nil, err
	}
	s, err := g.join(ctx, b, stranger, posted.Relay, response.ClaimedInResponseTo(), message)
	return s, response, err
}

// oneOfOurs is the sign-in to which an answer belongs that can't be read: the one of this browser that its RelayState names,
// where it waits for this provider, or else a stranger.
func (g *Room) oneOfOurs(ctx context.Context, b Browser, stranger *SignIn, relay string) *SignIn {
	if b.SignIns[relay] == "" {
		return stranger
	}
	if s, err := g.Resume(ctx, b, relay); err == nil && s.Row.ProviderID == stranger.Provider.ID {
		return s
	}
	return stranger
}

// withoutRelay finds the sign-in of this very browser whose request an answer is to, where the RelayState got lost on the way.
// Cookie and request tell it as surely.
func (g *Room) withoutRelay(ctx context.Context, b Browser, request string) (string, error) {
	if request == "" || len(b.SignIns) == 0 {
		return "", nil
	}
	var id string
	err := g.Store.Read(ctx).Model(&store.SignIn{}).Select("id").Where("id IN ? AND our_request_id = ?",
		slices.Collect(maps.Keys(b.SignIns)), request).Limit(1).Scan(&id).Error
	return id, store.Clear(err)
}

// join finds the sign-in that an arrival belongs to: one in flight in this browser, or one that the provider began. It
// returns a sign-in to fail with even where it fails.
func (g *Room) join(ctx context.Context, b Browser, stranger *SignIn, relay, request string, message trace.Message) (*SignIn, error) {
	came := relay
	if b.SignIns[relay] == "" {
		id, err := g.withoutRelay(ctx, b, request)
		switch {
		case err != nil:
			return stranger, err
		case id != "":
			relay = id
		case request == "":
			stranger.Rec.Message(message)
			return stranger, g.uninvited(ctx, stranger, relay)
		}
	}
	p := stranger.Provider
	s, err := g.Resume(ctx, b, relay)
	if err == nil && s.Row.ProviderID != p.ID {
		// An answer of one provider in another one's sign-in: a mix-up, or an attack.
		s.Row.BrowserHash, err = nil, explain.New(explain.SAMLOtherProvider, explain.Pair("provider", nameOf(s.Provider), p.Name))
	}
	s.Rec.Message(message)
	if err != nil && s.Provider == nil {
		s.Provider = p
	}
	if err == nil && came != relay {
		s.Rec.Check(trace.Check{Name: "saml.relay-state", Text: "RelayState came back as it was sent", Section: "SAML Bindings 3.5.3",
			Expected: relay, Got: words.Clip(came, 100)})
		s.Rec.Decide(trace.Decision{About: "sign-in", Result: "found without RelayState", By: "this browser's cookie, and InResponseTo"})
		s.relayLost = "it sent back " + words.OrNone(words.Clip(came, 60))
	}
	return s, err
}

// begun prepares the application's side of a sign-in that the provider began.
func (g *Room) begun(ctx context.Context, s *SignIn) (*Next, error) {
	if s.Known {
		return nil, nil
	}
	return g.ApplicationSide(s.App).Start(ctx, s, s.State.To)
}

// joinArtifact finds the sign-in that an artifact belongs to. Nobody is asked for the response behind it unless this
// browser waits for an answer of this provider, or the provider may begin by itself.
func (g *Room) joinArtifact(ctx context.Context, b Browser, stranger *SignIn, posted messages.Posted) (*SignIn, error) {
	return g.join(ctx, b, stranger, posted.Relay, "", trace.Message{
		From:       trace.Provider,
		To:         trace.Gate,
		Name:       "Artifact",
		Binding:    "HTTP-Artifact",
		Address:    g.ACSLocation(stranger.Provider.Slug),
		Raw:        posted.Value,
		RelayState: posted.Relay,
	})
}

// receiveArtifact fetches the response behind an artifact, and goes on with it as with a posted one.
func (g *Room) receiveArtifact(text string) Phase {
	return func(ctx context.Context, s *SignIn) (*Next, error) {
		s.Rec.Begin(trace.Receive)
		response, err := g.messages.FetchArtifact(ctx, s.Provider, s.Rec, text)
		if err != nil {
			return nil, err
		}
		return g.receive(&Arrival{response: response})(ctx, s)
	}
}

func nameOf(p *partners.Provider) string {
	if p == nil {
		return "none yet"
	}
	return p.Name
}

// uninvited prepares a sign-in that the provider began: RelayState names the application by its start address or short
// name.
func (g *Room) uninvited(ctx context.Context, s *SignIn, relay string) error {
	if !s.Provider.SAML.AllowUnsolicited {
		return explain.New(explain.SAMLUnsolicited)
	}
	slug, to := relay, ""
	if rest, ok := strings.CutPrefix(relay, g.PublicURL+"/start/"); ok {
		slug = rest
		if path, query, ok := strings.Cut(rest, "?"); ok {
			slug = path
			if v, err := url.ParseQuery(query); err == nil {
				to = v.Get("to")
			}
		}
	}
	app, err := g.partners.Application(ctx, slug)
	if ground.IsNotFound(err) {
		return explain.New(explain.SAMLUnsolicitedWhere, explain.Fact("RelayState", words.Clip(relay, 200)))
	}
	if err == nil && !slices.Contains(app.Providers, s.Provider.Slug) {
		return explain.New(explain.SAMLUnsolicitedProvider,
			explain.Pair("application", words.OrNone(strings.Join(app.Providers, ", ")), app.Name))
	}
	if err != nil {
		return err
	}
	s.App = app
	var at access.Who
	at.Network, _ = netip.ParseAddr(s.Browser.Address)
	if err := s.Provider.Reach.Admits(s.Provider.Circle, at, "provider", s.Provider.Name, s.Provider.Slug, false); err != nil {
		return err
	}
	if err := app.Reach.Admits(app.Circle, at, "application", app.Name, app.Slug, false); err != nil {
		return err
	}
	s.Rec.Decide(trace.Decision{About: "application", Result: app.Name, By: "RelayState " + relay})
	s.State.To = to
	return nil
}
