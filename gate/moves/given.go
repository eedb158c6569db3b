package moves

import (
	"innergate/core/claims"
	"innergate/core/moves"
	"innergate/core/saml"
	"innergate/gate/signin"
)

// given is what the application gets of the person of a sign-in.
func given(s *signin.SignIn, subject saml.NameID, out []claims.Output) moves.Given {
	g := moves.Given{Person: s.Person.ID, Subject: subject.Value, Source: s.App.Subject.Source, Claims: claims.Bag{}}
	for _, o := range out {
		if o.Rule != nil && o.Rule.Set != "" {
			g.Claims[o.Rule.Set] = append(g.Claims[o.Rule.Set], o.Values...)
		}
	}
	return g
}
