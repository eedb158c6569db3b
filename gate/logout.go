package gate

import (
	"context"
	"time"

	"innergate/core/explain"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/core/xmlsig"
)

// LogoutPage is what a person is told at a sign-out address.
type LogoutPage struct {
	Title, Text string
	Next        *Next
}

// LogoutSAML answers an application's LogoutRequest. The gate keeps no session of its own yet, so nothing is left to end here; that other applications and the
// provider were not told is said honestly, as a partial logout.
func (g *Gate) LogoutSAML(ctx context.Context, b Browser, received *saml.Received) *LogoutPage {
	s := g.begin(b, "slo")
	next, app, err := g.logout(ctx, s, received)
	if err != nil {
		return &LogoutPage{Next: g.failed(ctx, s, err)}
	}
	if next == nil {
		return &LogoutPage{Title: "You are signed out of " + app.Name, Text: "Inner Gate keeps no session of its own. Your provider may still know you; close the browser, or sign out there as well."}
	}
	return &LogoutPage{Next: next}
}

func (g *Gate) logout(ctx context.Context, s *signIn, received *saml.Received) (*Next, *application, error) {
	s.rec.Message(trace.Message{From: trace.Application, To: trace.Gate, Name: "LogoutRequest", Binding: saml.BindingName(received.Binding), Address: received.Location, Raw: string(received.XML), RelayState: received.RelayState, Signature: received.SignatureInWords()})
	in, err := saml.OpenLogoutRequest(received)
	if err != nil {
		return nil, nil, err
	}
	app, err := g.applicationByEntity(ctx, in.ClaimedIssuer())
	if isNotFound(err) {
		return nil, nil, explain.New("saml.application-unknown", explain.Fact("issuer", in.ClaimedIssuer()))
	}
	if err != nil {
		return nil, nil, err
	}
	a := app.SAML
	req, err := in.Check(saml.RequestRules{
		Partner: app.Name, Issuer: saml.EntityID(a.EntityID), Location: g.sloLocation(app), MaxAge: 10 * time.Minute, Skew: skew(a.ClockSkewSeconds), Now: g.Now(),
		Trust: saml.Trust{Certificates: app.signing, AllowSHA1: a.AllowSHA1, EnforceDates: a.EnforceCertificateDates},
	}, s.rec)
	if err != nil {
		s.app = app
		return nil, nil, err
	}
	g.used(app.id, req.Certificate)
	binding := saml.BindingRedirect
	if received.Binding == saml.BindingPost {
		binding = saml.BindingPost
	}
	endpoint := saml.DefaultEndpoint(a.SLO, binding)
	if endpoint == nil || endpoint.Binding != saml.BindingRedirect && endpoint.Binding != saml.BindingPost {
		return nil, app, nil
	}
	location := endpoint.ResponseLocation
	if location == "" {
		location = endpoint.Location
	}
	signer, err := g.signer(ctx, app.id, a.SignatureAlgorithm, a.DigestAlgorithm)
	if err != nil {
		return nil, nil, err
	}
	var enveloped *xmlsig.Signer
	if endpoint.Binding == saml.BindingPost {
		enveloped = signer
	}
	doc, err := saml.NewLogoutResponse(g.idpEntity(app), location, req.ID, true, "Inner Gate keeps no session; the provider and other applications were not told.", g.Now(), enveloped)
	if err != nil {
		return nil, nil, err
	}
	if enveloped != nil {
		return &Next{Form: responseForm(location, doc, req.RelayState)}, app, nil
	}
	redirect, err := saml.EncodeRedirect(location, saml.ParamResponse, doc, req.RelayState, signer)
	return &Next{Redirect: redirect}, app, err
}
