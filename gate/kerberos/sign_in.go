package kerberos

import (
	"context"
	"errors"
	"strings"
	"time"

	"innergate/core/bridge"
	"innergate/core/claims"
	"innergate/core/explain"
	"innergate/core/kerberos"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/gate/signin"
	"innergate/store"
)

// amr are the ways in which somebody has proven who they are who shows a ticket (RFC 8176: Windows integrated authentication, which is
// this protocol).
var amr = []string{"wia"}

// Send brings the browser to the address at which it is asked for a ticket.
func (g Side) Send(_ context.Context, s *signin.SignIn) (*signin.Next, error) {
	s.WaitHere([]byte("{}"))
	s.Rec.Decide(trace.Decision{About: "sign-in", Result: "the browser is asked for a ticket", By: s.Provider.Name + " has a realm"})
	return &signin.Next{To: signin.Redirect(g.address(s.ID))}, nil
}

func (g *Room) address(id string) string { return g.PublicURL + "/sign-in/" + id + "/ticket" }

// Receive is not asked of a realm: the ticket comes to an address of its own.
func (g Side) Receive(context.Context, *signin.SignIn, *signin.Arrival) (bridge.Identity, error) {
	return bridge.Identity{}, explain.New(explain.BrowserLost)
}

// resume finds a sign-in that waits for a ticket.
func (g *Room) resume(ctx context.Context, b signin.Browser, id string) (*signin.SignIn, error) {
	s, err := g.signin.Resume(ctx, b, id)
	if err != nil {
		return s, err
	}
	if _, err := signin.Due[*signin.Here](s); err != nil {
		return s, err
	}
	if s.Provider == nil || s.Provider.Kerberos == nil {
		return s, explain.New(explain.BrowserLost)
	}
	return s, nil
}

// Waits says whether a sign-in of this browser waits for a ticket, before one is asked for, and what the page is about. Otherwise it
// returns what the browser gets.
func (g *Room) Waits(ctx context.Context, b signin.Browser, id string) (*Page, *signin.Next) {
	s, err := g.resume(ctx, b, id)
	if err != nil {
		return nil, g.signin.Walk(ctx, s, signin.Failing(err))
	}
	return &Page{SignIn: s.ID, Provider: s.Provider.Name}, nil
}

// Page is what stands beside the question for a ticket, for whoever has none. GoesOn is where the browser goes then by itself.
type Page struct{ SignIn, Provider, GoesOn string }

// Show takes what a browser showed, the value of its Authorization header. It returns the token with which the gate answers, if the
// ticket was taken, and what the browser gets.
func (g *Room) Show(ctx context.Context, b signin.Browser, id, header string) (answer string, next *signin.Next) {
	s, err := g.resume(ctx, b, id)
	next = g.signin.Walk(ctx, s, signin.Failing(err), func(ctx context.Context, s *signin.SignIn) (*signin.Next, error) {
		s.Rec.Begin(trace.Receive)
		who, err := g.verify(ctx, s, header)
		if err != nil {
			return g.otherwise(ctx, s, err)
		}
		answer = who.Answer
		vouched := g.identity(s, who)
		if c := s.State.Wish.Context; !s.State.Wish.Preferred && !c.Met(vouched.Context) {
			return g.otherwise(ctx, s, explain.New(explain.SAMLContextNotMet,
				explain.Pair("context", strings.Join(c.Classes, ", "), vouched.Context)).Of(s.App.Name))
		}
		if most := s.State.Wish.MaxAge; most != nil && g.Now().Sub(who.SignedIn) > *most {
			return g.otherwise(ctx, s, explain.New(explain.BridgeNoFresh).Of(s.Provider.Name))
		}
		s.Vouched(vouched, g.Now())
		return g.signin.Homeward(ctx, s)
	})
	return answer, next
}

// Without goes on for a browser that showed no ticket.
func (g *Room) Without(ctx context.Context, b signin.Browser, id string) *signin.Next {
	s, err := g.resume(ctx, b, id)
	return g.signin.Walk(ctx, s, signin.Failing(err), func(ctx context.Context, s *signin.SignIn) (*signin.Next, error) {
		s.Rec.Begin(trace.Receive)
		return g.otherwise(ctx, s, explain.New(explain.KerberosNoTicket, explain.Fact("header", "no ticket")).Of(s.Provider.Name))
	})
}

// otherwise goes on by another way: nobody is to stand at the end of the road whose ticket does not count. In a rehearsal, and where
// somebody showed a ticket a second time, it ends.
func (g *Room) otherwise(ctx context.Context, s *signin.SignIn, err error) (*signin.Next, error) {
	var f *explain.Failure
	if !errors.As(err, &f) {
		return nil, err
	}
	if f.Code != explain.KerberosNoTicket && strings.HasPrefix(string(f.Code), "kerberos.") {
		g.partners.See(ctx, s.Provider.ID, store.SeenTicketRefused, seen(f), s.Reference)
	}
	if s.Rehearsal != nil || f.Code == explain.KerberosReplayed {
		return nil, err
	}
	s.Rec.Decide(trace.Decision{About: "ticket", Result: "not taken; it goes on by another way", By: string(f.Code) + ": " + f.Error()})
	s.State.Unshown = append(s.State.Unshown, bridge.Unshown{Provider: s.Provider.ID, Code: f.Code, Evidence: f.Evidence})
	s.BackToChoosing()
	return g.signin.Outward(ctx, s)
}

// seen is what an engineer reads of a ticket that was not taken.
func seen(f *explain.Failure) string {
	text := string(f.Code)
	if len(f.Evidence) > 0 {
		text += ": " + f.Evidence[0].Expected + ", and got " + f.Evidence[0].Got
	}
	return text
}

// verify checks what was shown, and that it was not shown before. That it never counts twice is seen to where the sign-in settles, in
// the transaction of the whole gate.
func (g *Room) verify(ctx context.Context, s *signin.SignIn, header string) (*kerberos.Identity, error) {
	shown, err := kerberos.Read(header)
	if err != nil {
		var f *explain.Failure
		if errors.As(err, &f) {
			err = f.Of(s.Provider.Name)
		}
		return nil, err
	}
	keytab, err := g.partners.Keytab(ctx, s.Provider)
	if err != nil {
		return nil, err
	}
	who, err := kerberos.Rules{
		Partner: s.Provider.Name, Keytab: keytab, Hosts: g.partners.Hosts(s.Provider), Realms: s.Provider.Kerberos.Realms, Now: g.Now(),
		Skew: time.Duration(s.Provider.Kerberos.Skew()) * time.Second,
	}.Verify(shown, s.Rec)
	if err != nil {
		return nil, err
	}
	used, err := ground.WasUsed(g.Store.Read(ctx), issuer(s.Provider), who.UsedID)
	if err != nil {
		return nil, err
	}
	s.Rec.Check(trace.Check{Name: "kerberos.replay", Text: "It was not shown before", Section: "RFC 4120, section 3.2.3", OK: !used})
	if used {
		return nil, explain.New(explain.KerberosReplayed, explain.Fact("token", who.UsedID[:16])).Of(s.Provider.Name)
	}
	return who, nil
}

func issuer(p *partners.Provider) string { return "kerberos/" + p.ID }

// identity is whom a ticket vouches for, in words that no protocol owns.
func (g *Room) identity(s *signin.SignIn, who *kerberos.Identity) bridge.Identity {
	return bridge.Identity{
		Subject:      "principal\x1f" + who.Principal(),
		Shown:        who.Principal(),
		Attributes:   claims.Bag{"name": {who.Name}, "realm": {who.Realm}, "principal": {who.Principal()}},
		AuthnInstant: who.SignedIn,
		AMR:          amr,
		Context:      saml.ContextKerberos,
		Means:        bridge.Meanings(s.Provider.Contexts, saml.ContextKerberos, amr),
		UsedIssuer:   issuer(s.Provider),
		UsedID:       who.UsedID,
		UsedUntil:    who.UsedUntil.Add(signin.Life), // another sign-in in which it was shown may still be under way
	}
}
