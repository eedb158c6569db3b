package messages

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
	"innergate/gate/keyring"
	"innergate/gate/partners"
	"innergate/store"
)

const artifactLife = time.Minute

// KeepArtifact lets a response wait for the application that it is for, and returns the artifact by which that asks for
// it.
func (g *Room) KeepArtifact(ctx context.Context, app *partners.Application, doc []byte) (string, error) {
	a := saml.NewArtifact(g.partners.IDPEntity(app), 0)
	text := a.String()
	row := store.Artifact{Handle: text, ApplicationID: app.ID, ExpiresAt: g.Now().Add(artifactLife).UTC()}
	row.Sealed = g.Store.Sealer.Seal(store.PlaceArtifact, text, doc)
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
	issuer, approval := g.IDPEntityID(), keyring.Ourselves
	message, app, err := g.resolveArtifact(ctx, in, rec)
	if app != nil {
		issuer, approval = g.partners.IDPEntity(app), app.Approval()
	}
	if err != nil {
		var f *explain.Failure
		if !errors.As(err, &f) {
			return nil, err
		}
		// The trace of the sign-in is closed; the log tells why the application got nothing.
		g.Log.WarnContext(ctx, "an artifact was not given out", "issuer", in.ClaimedIssuer(), "code", f.Code)
	}
	signer, err := g.keyring.Signer(ctx, approval, "", "")
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
		Trust: app.Trust(),
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
	doc, err := g.Store.Sealer.Open(store.PlaceArtifact, artifact.String(), rows[0].Sealed)
	return doc, app, err
}

// FetchArtifact asks a provider for the response behind an artifact (SAML Core, section 3.5), and records both messages.
func (g *Room) FetchArtifact(
	ctx context.Context,
	provider *partners.Provider,
	rec *trace.Recorder,
	text string,
) (*saml.IncomingResponse, error) {
	p := provider.SAML
	artifact, err := saml.ParseArtifact(text)
	if err != nil {
		return nil, explain.New(explain.SAMLUnreadable, explain.Fact("reason", err.Error())).Of(provider.Name)
	}
	if !rec.Check(trace.Check{
		Name:     "saml.artifact-source",
		Text:     "The artifact is the provider's",
		Section:  "SAML Bindings 3.6.4",
		Expected: p.EntityID,
		OK:       artifact.Issuer(saml.EntityID(p.EntityID)),
	}) {
		return nil, explain.New(explain.SAMLArtifactSource).Of(provider.Name)
	}
	endpoint := artifact.Endpoint(p.Artifact)
	if endpoint == nil {
		return nil, explain.New(explain.SAMLArtifactEndpoint, explain.Fact("index", strconv.Itoa(artifact.Index))).Of(provider.Name)
	}
	signer, err := g.keyring.Signer(ctx, provider.Sending(), p.SignatureAlgorithm, p.DigestAlgorithm)
	if err != nil {
		return nil, err
	}
	id, doc, err := saml.NewArtifactResolve(g.partners.SPEntity(provider), endpoint.Location, text, g.Now(), signer)
	if err != nil {
		return nil, err
	}
	rec.Message(trace.Message{
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
			Of(provider.Name)
	}
	rec.Message(trace.Message{
		From:    trace.Provider,
		To:      trace.Gate,
		Name:    "ArtifactResponse",
		Binding: "SOAP",
		Address: endpoint.Location,
		Raw:     string(got.Body),
	})
	return saml.OpenArtifactResponse(got.Body, id, g.ACSLocation(provider.Slug), saml.ResponseRules{
		Partner: provider.Name, Issuer: saml.EntityID(p.EntityID), Now: g.Now(), Skew: partners.Skew(p.ClockSkewSeconds),
		Trust: provider.Trust(),
	}, rec)
}
