package rehearsal

import (
	"context"
	"strings"
	"time"

	"innergate/api"
	"innergate/core/bridge"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/jose"
	"innergate/core/oidc"
	"innergate/core/pasted"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/grants"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/store"
)

// judgeOther judges what is no SAML response. The last value says whether it was one of these.
func (g *Room) judgeOther(ctx context.Context, q *api.Judge, out *api.Judged) (*api.Judged, bool, error) {
	if q.Trace != "" {
		return nil, false, nil
	}
	if strings.HasPrefix(strings.TrimSpace(q.Message), "{") {
		value, _, err := saml.FromArchive(strings.NewReader(q.Message))
		if err != nil {
			return nil, true, ground.BadRequest(
				"not-decodable", words.Capitalise(err.Error())+".",
				"A browser's archive (HAR) is taken, or a message by itself.",
			)
		}
		q.Message = value
	}
	out.Kind = pasted.KindOfMessage(q.Message)
	if out.At = g.Now().UTC(); q.At != nil {
		out.At = q.At.UTC()
	}
	rec := trace.NewRecorder(out.At, func() time.Time { return out.At })
	var err error
	switch out.Kind {
	case pasted.JudgedToken:
		err = g.judgeToken(ctx, q, out, rec)
	case pasted.JudgedRequest:
		err = g.judgeRequest(ctx, q, out, rec)
	case pasted.JudgedAsking:
		err = g.judgeAsking(ctx, q, out, rec)
	case pasted.JudgedAnswer:
		err = g.judgeAnswer(ctx, q, out, rec)
	default:
		return nil, false, nil
	}
	for _, e := range rec.Entries() {
		out.Entries = append(out.Entries, api.TraceEntry{Entry: e})
	}
	if err != nil {
		judged, err := g.judgedSo(out, err)
		return judged, true, err
	}
	if out.Good = true; out.Then != nil {
		judged, err := g.judgedThen(ctx, q, out)
		return judged, true, err
	}
	return out, true, nil
}

// judgedThen takes back the verdict where the person would not get in.
func (g *Room) judgedThen(ctx context.Context, q *api.Judge, out *api.Judged) (*api.Judged, error) {
	if out.Then.Refused != nil {
		out.Good, out.Explanation = false, out.Then.Refused
		return out, nil
	}
	d := out.Then.Access
	if d == nil || d.Result != "refuse" {
		return out, nil
	}
	sides, _, err := g.previewSides(
		ctx,
		api.Preview{Application: q.Application, Provider: out.Provider, DraftApplication: q.DraftApplication},
	)
	if err != nil {
		return nil, err
	}
	if a, ok := sides[0].(*partners.Application); ok {
		out.Good = false
		return g.judgedSo(out, a.Refusal(*d, out.Then.Person, out.Then.Profile["groups"]))
	}
	return out, nil
}

// openidProvider is the OpenID provider whose rules hold: a draft, the one that was named, or the one whose issuer a
// token names.
func (g *Room) judgedOpenID(ctx context.Context, q *api.Judge, issuer string) (*partners.Provider, error) {
	if q.DraftProvider != nil {
		_, draft, err := g.previewSides(ctx, api.Preview{Provider: q.Provider, DraftProvider: q.DraftProvider})
		if err != nil {
			return nil, err
		}
		if p := draft[1].(*partners.Provider); p.OIDC != nil {
			return p, nil
		}
		return nil, ground.BadRequest("not-openid", "The draft is of a provider that does not speak OpenID Connect.", "")
	}
	if q.Provider != "" {
		p, err := g.partners.Provider(ctx, q.Provider)
		if err == nil && p.OIDC == nil {
			err = ground.BadRequest("not-openid", p.Name+" does not speak OpenID Connect.", "Name the provider that made it.")
		}
		return p, err
	}
	var rows []store.Provider
	if err := g.Store.Read(ctx).Where("kind = ?", config.KindOIDC).Order("slug").Limit(1000).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	for _, row := range rows {
		if p, err := g.partners.Provider(ctx, row.Slug); err == nil && issuer != "" && p.OIDC.Issuers().Accepts(issuer) {
			return p, nil
		}
	}
	return nil, ground.BadRequest(
		"provider-unknown",
		"It names the issuer "+words.Clip(words.OrNone(issuer), 200)+", which is no provider's here.",
		"Name the provider whose rules are to hold.",
	)
}

// judgeToken holds an ID token against a provider's rules. Which request it answers can't be seen from here, so its
// nonce is taken at its word.
func (g *Room) judgeToken(ctx context.Context, q *api.Judge, out *api.Judged, rec *trace.Recorder) error {
	rec.Begin(trace.Receive)
	text := strings.TrimSpace(q.Message)
	parsed, err := jose.Parse(text)
	if err != nil {
		return err
	}
	issuer, _ := parsed.Claims.Text("iss")
	nonce, _ := parsed.Claims.Text("nonce")
	p, err := g.judgedOpenID(ctx, q, issuer)
	if err != nil {
		return err
	}
	out.Provider = p.Slug
	set, _, err := g.partners.KeySet(ctx, p.OIDC.KeysURL, false)
	if err != nil {
		return explain.OfPartner(err, p.Name)
	}
	t, err := oidc.CheckIDToken(
		text,
		oidc.IDTokenRules{
			Partner:    p.Name,
			Issuers:    p.OIDC.Issuers(),
			ClientID:   p.OIDC.ClientID,
			Nonce:      nonce,
			Alone:      true,
			Keys:       set,
			Algorithms: p.OIDC.Algorithms,
			Now:        out.At,
			Skew:       partners.Skew(p.OIDC.ClockSkewSeconds),
		},
		rec,
	)
	if err != nil {
		return err
	}
	var found oidc.Claims
	if err := found.Add("ID token", t.Claims); err != nil {
		return explain.New(explain.OIDCClaimsUnreadable, explain.Fact("claims", err.Error())).Of(p.Name)
	}
	link, err := bridge.OpenIDLink(p.OIDC.Issuer, t.Issuer, "", t.Subject)
	if err != nil {
		return explain.New(explain.OIDCClaimsUnreadable, explain.Fact("claims", err.Error())).Of(p.Name)
	}
	who := bridge.Identity{
		Attributes:   found.Values,
		Subject:      link,
		Shown:        t.Subject,
		AuthnInstant: t.AuthTime,
		Context:      t.ACR,
		AMR:          t.AMR,
	}
	preview := api.Preview{
		Provider:         p.Slug,
		Application:      q.Application,
		DraftProvider:    q.DraftProvider,
		DraftApplication: q.DraftApplication,
	}
	if q.DraftProvider != nil && p.ID == "" {
		preview.Provider = ""
	}
	out.Then, err = g.previewOf(ctx, preview, who.Attributes, who, nil)
	return err
}

// judgeRequest holds an application's AuthnRequest against its rules.
func (g *Room) judgeRequest(ctx context.Context, q *api.Judge, out *api.Judged, rec *trace.Recorder) error {
	received, err := pasted.ReceivedRequest(q.Message, g.SSOLocation())
	if err != nil {
		return ground.BadRequest(
			"not-decodable", words.Capitalise(err.Error())+".",
			"Copy the whole address, or the whole value of SAMLRequest.",
		)
	}
	in, err := saml.OpenRequest(received)
	if err != nil {
		return err
	}
	app, err := g.judgedApplication(
		ctx,
		q,
		func() (*partners.Application, error) { return g.partners.ApplicationByEntity(ctx, in.ClaimedIssuer()) },
	)
	if ground.IsNotFound(err) {
		return explain.New(explain.SAMLApplicationUnknown, explain.Fact("issuer", in.ClaimedIssuer()))
	}
	if err != nil {
		return err
	}
	if app.SAML == nil {
		return ground.BadRequest("not-saml", app.Name+" does not speak SAML.", "")
	}
	out.Application, received.Location = app.Slug, g.partners.SSOAddress(app)
	a := app.SAML
	req, err := in.Check(saml.RequestRules{
		Partner: app.Name, Issuer: saml.EntityID(a.EntityID), ACS: a.ACS, AttributeSet: a.AttributeSets,
		WantSigned: a.RequireSignedRequests, Location: received.Location,
		Trust:  app.Trust(),
		MaxAge: 10 * time.Minute, Skew: partners.Skew(a.ClockSkewSeconds), Now: out.At,
	}, rec)
	if err != nil {
		return err
	}
	return req.Refusal
}

func (g *Room) judgedApplication(
	ctx context.Context,
	q *api.Judge,
	find func() (*partners.Application, error),
) (*partners.Application, error) {
	switch {
	case q.DraftApplication != nil:
		_, draft, err := g.previewSides(ctx, api.Preview{Application: q.Application, DraftApplication: q.DraftApplication})
		if err != nil {
			return nil, err
		}
		a := draft[0].(*partners.Application)
		if a.SAML != nil {
			a.Signing = config.Parsed(a.SAML.Certificates, "signing")
		}
		return a, nil
	case q.Application != "":
		a, err := g.partners.Application(ctx, q.Application)
		if err == nil && a.SAML == nil && a.OIDC == nil {
			return nil, ground.BadRequest(
				"no-protocol", a.Name+" speaks no protocol, so that there is no message of it to judge.",
				"Name another application.",
			)
		}
		return a, err
	}
	return find()
}

// judgeAsking holds a client's authentication request against its rules.
func (g *Room) judgeAsking(ctx context.Context, q *api.Judge, out *api.Judged, rec *trace.Recorder) error {
	p, err := pasted.PastedParameters(q.Message)
	if err != nil {
		return err
	}
	app, err := g.judgedApplication(
		ctx,
		q,
		func() (*partners.Application, error) { return g.partners.ApplicationByClient(ctx, p["client_id"]) },
	)
	if ground.IsNotFound(err) {
		return explain.New(explain.OIDCClientUnknown, explain.Fact("client ID", words.Clip(p["client_id"], 200)))
	}
	if err != nil {
		return err
	}
	if app.OIDC == nil {
		return ground.BadRequest("not-openid", app.Name+" does not speak OpenID Connect.", "")
	}
	out.Application = app.Slug
	if !rec.Check(trace.Check{
		Name:     "oidc.client",
		Text:     "The request names the application's client ID",
		Section:  "OpenID Connect Core 3.1.2.1",
		Expected: app.OIDC.ClientID,
		Got:      p["client_id"],
		OK:       p["client_id"] == app.OIDC.ClientID,
	}) {
		return explain.New(explain.OIDCClientUnknown, explain.Fact("client ID", words.Clip(p["client_id"], 200))).Of(app.Name)
	}
	_, err = oidc.ReadRequest(p, grants.Registered(app), rec)
	return err
}

// judgeAnswer reads a provider's answer to our redirect URI. Its state belongs to a browser and its code can't be used
// again, so what can be judged is who answers, and what.
func (g *Room) judgeAnswer(ctx context.Context, q *api.Judge, out *api.Judged, rec *trace.Recorder) error {
	rec.Begin(trace.Receive)
	p, err := pasted.PastedParameters(q.Message)
	if err != nil {
		return err
	}
	if q.Provider == "" && q.DraftProvider == nil {
		base := g.PublicURL + "/oidc/callback/"
		if rest, ok := strings.CutPrefix(strings.TrimSpace(q.Message), base); ok {
			q.Provider, _, _ = strings.Cut(rest, "?")
		}
	}
	held, err := g.judgedOpenID(ctx, q, p["iss"])
	if err != nil {
		return err
	}
	out.Provider = held.Slug
	_, err = oidc.ReadAnswer(
		p,
		oidc.AnswerRules{Partner: held.Name, Issuers: held.OIDC.Issuers(), IssuerPromised: held.OIDC.IssuerInAnswer, State: p["state"]},
		rec,
	)
	return err
}
