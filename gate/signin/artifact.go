package signin

import (
	"context"
	"errors"
	"strconv"
	"time"

	"gorm.io/gorm"

	"innergate/core/explain"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/gate/fetch"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/store"
)

const artifactLife = time.Minute

// keepArtifact lets a response wait for the application that it is for, and returns the artifact by which that asks for
// it.
func (g *Room) keepArtifact(ctx context.Context, s *SignIn, doc []byte) (string, error) {
	a := saml.NewArtifact(g.partners.IDPEntity(s.App), 0)
	text := a.String()
	row := store.Artifact{Handle: text, ApplicationID: s.App.ID, ExpiresAt: g.Now().Add(artifactLife).UTC()}
	row.Sealed = g.Store.Sealer.Seal("artifact/"+text, doc)
	return text, g.Store.Write(ctx, func(tx *gorm.DB) error { return tx.Create(&row).Error })
}

// ResolveArtifact answers an application's ArtifactResolve. Whoever is not its addressee, or can't prove to be, or
// comes late or twice, gets a success without a message, and so learns nothing (SAML Core, section 3.5.3). The error is
// for what is no request at all.
func (g *Room) ResolveArtifact(ctx context.Context, doc []byte) ([]byte, error) {
	in, err := saml.OpenArtifactResolve(doc)
	if err != nil {
		return nil, err
	}
	rec := trace.NewRecorder(g.Now(), g.Now)
	issuer, owner := g.IDPEntityID(), ""
	message, app, err := g.resolveArtifact(ctx, in, rec)
	if app != nil {
		issuer, owner = g.partners.IDPEntity(app), app.ID
	}
	if err != nil {
		var f *explain.Failure
		if !errors.As(err, &f) {
			return nil, err
		}
		// The trace of the sign-in is closed; the log tells why the application got nothing.
		g.Log.WarnContext(ctx, "an artifact was not given out", "issuer", in.ClaimedIssuer(), "code", f.Code)
	}
	signer, err := g.keyring.Signer(ctx, owner, "", "")
	if err != nil {
		return nil, err
	}
	return saml.NewArtifactResponse(issuer, in.ClaimedID(), message, g.Now(), signer)
}

func (g *Room) resolveArtifact(ctx context.Context, in *saml.IncomingResolve, rec *trace.Recorder) ([]byte, *partners.Application, error) {
	app, err := g.partners.ApplicationByEntity(ctx, in.ClaimedIssuer())
	if ground.IsNotFound(err) {
		return nil, nil, explain.New(explain.SAMLApplicationUnknown, explain.Fact("issuer", in.ClaimedIssuer()))
	}
	if err != nil {
		return nil, nil, err
	}
	a := app.SAML
	artifact, err := in.Check(saml.RequestRules{
		Partner: app.Name, Issuer: saml.EntityID(a.EntityID), Location: g.PublicURL + "/saml/idp/artifact", MaxAge: 2 * time.Minute,
		Skew: partners.Skew(a.ClockSkewSeconds), Now: g.Now(),
		Trust: saml.Trust{Certificates: app.Signing, AllowSHA1: a.AllowSHA1, EnforceDates: a.EnforceCertificateDates},
	}, rec)
	if err != nil {
		return nil, app, err
	}
	// One conditional write gives it out: to its addressee, in time, once.
	var rows []store.Artifact
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Raw("DELETE FROM artifacts WHERE handle = ? AND application_id = ? AND expires_at > ? RETURNING *", artifact.String(),
			app.ID, g.Now().UTC()).
			Scan(&rows).
			Error
	})
	if err != nil {
		return nil, app, err
	}
	if len(rows) == 0 {
		return nil, app, explain.New(explain.SAMLArtifactEmpty)
	}
	doc, err := g.Store.Sealer.Open("artifact/"+artifact.String(), rows[0].Sealed)
	return doc, app, err
}

// joinArtifact finds the sign-in that an artifact belongs to. Nobody is asked for the response behind it unless this
// browser waits for an answer of this provider, or the provider may begin by itself.
func (g *Room) joinArtifact(ctx context.Context, b Browser, stranger *SignIn, kept *store.Arrival) (*SignIn, error) {
	return g.join(ctx, b, stranger, kept.Relay, false, trace.Message{
		From:       trace.Provider,
		To:         trace.Gate,
		Name:       "Artifact",
		Binding:    "HTTP-Artifact",
		Address:    g.ACSLocation(stranger.Provider.Slug),
		Raw:        string(kept.Value),
		RelayState: kept.Relay,
	})
}

// receiveArtifact fetches the response behind an artifact, and goes on with it as with a posted one.
func (g *Room) receiveArtifact(text string) Phase {
	return func(ctx context.Context, s *SignIn) (*Next, error) {
		s.Rec.Begin(trace.Receive)
		response, err := g.fetchArtifact(ctx, s, text)
		if err != nil {
			return nil, err
		}
		return g.receive(&Arrival{response: response})(ctx, s)
	}
}

func (g *Room) fetchArtifact(ctx context.Context, s *SignIn, text string) (*saml.IncomingResponse, error) {
	p := s.Provider.SAML
	artifact, err := saml.ParseArtifact(text)
	if err != nil {
		return nil, explain.New(explain.SAMLUnreadable, explain.Fact("reason", err.Error())).Of(s.Provider.Name)
	}
	if !s.Rec.Check(trace.Check{
		Name:     "saml.artifact-source",
		Text:     "The artifact is the provider's",
		Section:  "SAML Bindings 3.6.4",
		Expected: p.EntityID,
		OK:       artifact.Issuer(saml.EntityID(p.EntityID)),
	}) {
		return nil, explain.New(explain.SAMLArtifactSource).Of(s.Provider.Name)
	}
	endpoint := artifact.Endpoint(p.Artifact)
	if endpoint == nil {
		return nil, explain.New(explain.SAMLArtifactEndpoint, explain.Fact("index", strconv.Itoa(artifact.Index))).Of(s.Provider.Name)
	}
	signer, err := g.keyring.Signer(ctx, s.Provider.ID, p.SignatureAlgorithm, p.DigestAlgorithm)
	if err != nil {
		return nil, err
	}
	id, doc, err := saml.NewArtifactResolve(g.partners.SPEntity(s.Provider), endpoint.Location, text, g.Now(), signer)
	if err != nil {
		return nil, err
	}
	s.Rec.Message(trace.Message{
		From:      trace.Gate,
		To:        trace.Provider,
		Name:      "ArtifactResolve",
		Binding:   "SOAP",
		Address:   endpoint.Location,
		Raw:       string(doc),
		Signature: "signed",
	})
	got, err := g.Fetch.Do(
		ctx,
		fetch.Want{
			URL:         endpoint.Location,
			Post:        doc,
			ContentType: "text/xml; charset=utf-8",
			MaxBytes:    saml.MaxMessage,
			Header:      map[string]string{"SOAPAction": `"http://www.oasis-open.org/committees/security"`, "Accept": "text/xml"},
		},
	)
	if err != nil {
		return nil, explain.New(explain.SAMLBackChannel, explain.Fact("reason", err.Error()), explain.Fact("address", endpoint.Location)).
			Of(s.Provider.Name)
	}
	s.Rec.Message(trace.Message{
		From:    trace.Provider,
		To:      trace.Gate,
		Name:    "ArtifactResponse",
		Binding: "SOAP",
		Address: endpoint.Location,
		Raw:     string(got.Body),
	})
	return saml.OpenArtifactResponse(got.Body, id, g.ACSLocation(s.Provider.Slug), saml.ResponseRules{
		Partner: s.Provider.Name, Issuer: saml.EntityID(p.EntityID), Now: g.Now(), Skew: partners.Skew(p.ClockSkewSeconds),
		Trust: saml.Trust{Certificates: s.Provider.Signing, AllowSHA1: p.AllowSHA1, EnforceDates: p.EnforceCertificateDates},
	}, s.Rec)
}
