package signin

import "context"

// A sign-in walks through these phases, the same for every pair of protocols. Each has a file that bears its name:
//
//	ask      what an application wants is read and checked: ask_saml.go, ask_openid.go, ask_here.go
//	route    a provider is found: by the session, the application's providers, routes, or the person
//	send     the provider is asked, and the sign-in is kept until the answer comes
//	receive  the answer is found its sign-in, and checked
//	match    whoever the provider vouched for is found among the persons, or is new
//	decide   reach and access rules let in, refuse, or want a stronger sign-in
//	admit    somebody new confirms the profile that is made of them
//	agree    whoever has to agree to what is handed on is asked: confirm.go
//	issue    the application gets its answer
//
// Outward and homeward are the two halves; between them the person is at the provider.
func (g *Room) outward() []Phase { return []Phase{g.route, g.send} }

func (g *Room) homeward() []Phase { return []Phase{g.match, g.decide, g.admit, g.agree, g.issue} }

// Phase does its part of a sign-in. It returns what the browser gets where the sign-in waits there for somebody, nothing
// where the next phase follows, or why the sign-in fails.
type Phase func(ctx context.Context, s *SignIn) (*Next, error)

// follow takes a sign-in through phases, until one has something for the browser.
func follow(ctx context.Context, s *SignIn, phases ...Phase) (*Next, error) {
	for _, phase := range phases {
		if next, err := phase(ctx, s); next != nil || err != nil {
			return next, err
		}
	}
	return nil, nil
}

// Walk takes a sign-in, or a sign-out, through phases for a browser that waits. It is the only place where one fails.
func (g *Room) Walk(ctx context.Context, s *SignIn, phases ...Phase) *Next {
	next, err := follow(ctx, s, phases...)
	if err != nil {
		return g.fail(ctx, s, err)
	}
	return next
}

// Outward finds a provider and sends the person there.
func (g *Room) Outward(ctx context.Context, s *SignIn) (*Next, error) {
	return follow(ctx, s, g.outward()...)
}

// Homeward takes what a provider vouched for to the application's answer.
func (g *Room) Homeward(ctx context.Context, s *SignIn) (*Next, error) {
	return follow(ctx, s, g.homeward()...)
}

// Failing is the phase in which something has failed already; without an error it does nothing.
func Failing(err error) Phase {
	return func(context.Context, *SignIn) (*Next, error) { return nil, err }
}

// resumed goes on with a sign-in in flight in this browser.
func (g *Room) resumed(ctx context.Context, b Browser, id string, phases ...Phase) *Next {
	s, err := g.Resume(ctx, b, id)
	return g.Walk(ctx, s, append([]Phase{Failing(err)}, phases...)...)
}
