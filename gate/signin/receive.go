package signin

import (
	"context"
	"errors"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/core/access"
	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/oidc"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/store"
)

const (
	ArrivalLife       = 2 * time.Minute
	arrivalsByAddress = 200
	arrivalsInAll     = 5000
	arrivalBytesInAll = 128 << 20
)

// Arrival is a message that came for a sign-in.
type Arrival struct {
	response   *saml.IncomingResponse
	parameters oidc.Parameters
}

// KeepArrival stores what another site had the browser post, and returns the handle under which the browser's next,
// same-site request finds it: only that one carries our cookies.
func (g *Room) KeepArrival(ctx context.Context, address, place, param, value, relay string) (string, error) {
	handle := keys.NewSecret()
	now := g.Now().UTC()
	a := store.Arrival{Handle: handle, Address: address, Place: place, Param: param, Value: []byte(value), Relay: relay, CreatedAt: now}
	return handle, g.Store.Write(ctx, func(tx *gorm.DB) error {
		var mine int64
		var all struct{ Count, Bytes int64 }
		if err := tx.Raw("SELECT count(*) FROM (SELECT 1 FROM arrivals WHERE address = ? LIMIT ?)", address,
			arrivalsByAddress).Scan(&mine).Error; err != nil {
			return err
		}
		if err := tx.Raw("SELECT count(*) AS count, coalesce(sum(length(value)), 0) AS bytes FROM arrivals").Scan(&all).Error; err != nil {
			return err
		}
		if mine >= arrivalsByAddress || all.Count >= arrivalsInAll || all.Bytes+int64(len(value)) > arrivalBytesInAll {
			return explain.New("gate.busy", explain.Fact("address", address))
		}
		return tx.Create(&a).Error
	})
}

// TakeArrival uses a handle up.
func (g *Room) TakeArrival(ctx context.Context, handle, place string) (*store.Arrival, error) {
	var rows []store.Arrival
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Raw("DELETE FROM arrivals WHERE handle = ? AND place = ? RETURNING *", handle, place).Scan(&rows).Error
	})
	if err != nil {
		return nil, err
	}
	if len(rows) == 0 || g.Now().Sub(rows[0].CreatedAt) > ArrivalLife {
		return nil, explain.New("browser.finished")
	}
	return &rows[0], nil
}

// FailArrival is the answer where a posted message could not even be kept.
func (g *Room) FailArrival(ctx context.Context, b Browser, err error) *Next {
	return g.Failed(ctx, g.Begin(b, "sp"), err)
}

// AskPosted goes on with an AuthnRequest that was posted.
func (g *Room) AskPosted(ctx context.Context, b Browser, handle, location string) *Next {
	a, err := g.TakeArrival(ctx, handle, "sso")
	if err != nil {
		return g.Failed(ctx, g.Begin(b, "sp"), err)
	}
	received, err := saml.DecodePost(a.Param, string(a.Value), a.Relay, location)
	if err != nil {
		return g.Unreadable(ctx, b, err)
	}
	return g.AskSAML(ctx, b, received)
}

// Unreadable is the answer to a message whose transport form can't be undone.
func (g *Room) Unreadable(ctx context.Context, b Browser, err error) *Next {
	return g.Failed(ctx, g.Begin(b, "sp"), explain.New("saml.unreadable", explain.Fact("reason", err.Error())))
}

// ReceiveSAML goes on with a response that was posted to a provider's ACS.
func (g *Room) ReceiveSAML(ctx context.Context, b Browser, slug, handle string) *Next {
	stranger := g.Begin(b, "provider")
	stranger.Rec.Begin(trace.Receive)
	kept, err := g.TakeArrival(ctx, handle, "acs/"+slug)
	if err != nil {
		return g.Failed(ctx, stranger, err)
	}
	p, err := g.partners.Provider(ctx, slug)
	if err == nil && p.SAML == nil {
		err = explain.New("saml.provider-unknown", explain.Pair("provider", "a SAML provider", p.Name+" ("+p.Kind+")"))
	}
	if err != nil {
		return g.Failed(ctx, stranger, err)
	}
	stranger.Provider = p
	if kept.Param == saml.ParamArtifact {
		return g.receiveArtifact(ctx, b, stranger, kept)
	}
	received, err := saml.DecodePost(kept.Param, string(kept.Value), kept.Relay, g.ACSLocation(slug))
	if err != nil {
		return g.Failed(ctx, stranger, explain.New("saml.unreadable", explain.Fact("reason", err.Error())))
	}
	message := trace.Message{
		From:       trace.Provider,
		To:         trace.Gate,
		Name:       "Response",
		Binding:    "HTTP-POST",
		Address:    received.Location,
		Raw:        string(received.XML),
		RelayState: kept.Relay,
	}
	response, err := saml.OpenResponse(received)
	if err != nil {
		stranger.Rec.Message(message)
		return g.Failed(ctx, stranger, err)
	}
	s, next := g.join(ctx, b, stranger, kept.Relay, response.ClaimedInResponseTo() != "", message)
	if next != nil {
		return next
	}
	return g.receiveResponse(ctx, s, response)
}

func (g *Room) receiveResponse(ctx context.Context, s *SignIn, response *saml.IncomingResponse) *Next {
	return g.received(ctx, s, &Arrival{response: response})
}

// received has the provider's answer checked, and goes on with whom it vouches for. Where a provider answers too weakly
// for what was only preferred, or with a sign-in longer ago than the application allows, it is asked once more.
func (g *Room) received(ctx context.Context, s *SignIn, a *Arrival) *Next {
	who, err := g.ProviderSide(s.Provider).Receive(ctx, s, a)
	wish := &s.State.Wish
	var f *explain.Failure
	switch {
	case errors.As(err, &f) && (f.Code == "saml.status-no-context" || f.Code == "oidc.context-unmet") && wish.Preferred && !s.State.Anew:
		s.Rec.Decide(trace.Decision{
			About:  "strength",
			Result: "asked again without it",
			By:     "acr_values is a preference, and " + s.Provider.Name + " can't meet it",
		})
		s.State.Anew, wish.Context = true, nil
		return g.sendOn(ctx, s)
	case err != nil:
		return g.Failed(ctx, s, err)
	case wish.MaxAge != nil && (who.AuthnInstant.IsZero() || g.Now().Sub(who.AuthnInstant) > *wish.MaxAge+time.Minute):
		if s.State.Anew && wish.Fresh || wish.Passive || who.AuthnInstant.IsZero() {
			return g.Failed(
				ctx,
				s,
				explain.New("bridge.too-old",
					explain.Pair("signed in", "at most "+wish.MaxAge.String()+" ago", words.Ago(g.Now(), who.AuthnInstant))).
					Of(s.Provider.Name),
			)
		}
		s.Rec.Decide(trace.Decision{
			About:  "freshness",
			Result: "asked to sign in anew",
			By:     "the application allows a sign-in at most " + wish.MaxAge.String() + " ago (max_age)",
		})
		s.State.Anew, wish.Fresh = true, true
		return g.sendOn(ctx, s)
	}
	return g.Finish(ctx, s, who)
}

// join finds the sign-in that an arrival belongs to: one in flight in this browser, or one that the provider began.
func (g *Room) join(ctx context.Context, b Browser, stranger *SignIn, relay string, answers bool, message trace.Message) (*SignIn, *Next) {
	p := stranger.Provider
	if answers || b.SignIns[relay] != "" {
		resumed, err := g.Resume(ctx, b, relay)
		if err == nil && resumed.Row.ProviderID != p.ID {
			// An answer of one provider in another one's sign-in: a mix-up, or an attack.
			resumed.Row.BrowserHash, err = nil, explain.New(
				"saml.provider-unknown",
				explain.Pair("provider", nameOf(resumed.Provider), p.Name),
			)
		}
		resumed.Rec.Message(message)
		if err != nil {
			if resumed.Provider == nil {
				resumed.Provider = p
			}
			return nil, g.Failed(ctx, resumed, err)
		}
		return resumed, nil
	}
	stranger.Rec.Message(message)
	next, err := g.uninvited(ctx, stranger, relay)
	if err != nil {
		return nil, g.Failed(ctx, stranger, err)
	}
	return stranger, next
}

func nameOf(p *partners.Provider) string {
	if p == nil {
		return "none yet"
	}
	return p.Name
}

// uninvited prepares a sign-in that the provider began: RelayState names the application by its start address or short
// name.
func (g *Room) uninvited(ctx context.Context, s *SignIn, relay string) (*Next, error) {
	if !s.Provider.SAML.AllowUnsolicited {
		return nil, explain.New("saml.unsolicited")
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
	if ground.IsNotFound(err) || err == nil && !slices.Contains(app.Providers, s.Provider.Slug) {
		return nil, explain.New("saml.unsolicited-where", explain.Fact("RelayState", relay))
	}
	if err != nil {
		return nil, err
	}
	s.App = app
	var at access.Who
	at.Network, _ = netip.ParseAddr(s.Browser.Address)
	if err := s.Provider.Reach.Admits(s.Provider.Circle, at, "provider", s.Provider.Name, s.Provider.Slug, false); err != nil {
		return nil, err
	}
	if err := app.Reach.Admits(app.Circle, at, "application", app.Name, app.Slug, false); err != nil {
		return nil, err
	}
	s.Rec.Decide(trace.Decision{About: "application", Result: app.Name, By: "RelayState " + relay})
	return g.ApplicationSide(app).Start(ctx, s, to)
}
