package gate

import (
	"context"
	"net/url"
	"regexp"
	"strings"
	"time"

	"innergate/api"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/jose"
	"innergate/core/oidc"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/store"
)

// What a message can be that is judged without a browser.
const (
	judgedResponse = "SAML response"
	judgedToken    = "ID token"
	judgedRequest  = "AuthnRequest"
	judgedAsking   = "authentication request"
	judgedAnswer   = "authentication response"
)

var tokenForm = regexp.MustCompile(`^[A-Za-z0-9_-]{10,}\.[A-Za-z0-9_-]{10,}\.[A-Za-z0-9_-]*$`)

// kindOfMessage says what was pasted, by its form alone.
func kindOfMessage(text string) string {
	text = strings.TrimSpace(text)
	query := text
	if _, after, ok := strings.Cut(text, "?"); ok {
		query = after
	}
	query, _, _ = strings.Cut(query, "#")
	has := func(name string) bool {
		return strings.HasPrefix(query, name+"=") || strings.Contains(query, "&"+name+"=")
	}
	switch {
	case strings.HasPrefix(text, "<"):
		if strings.Contains(text[:min(len(text), 600)], "AuthnRequest") {
			return judgedRequest
		}
	case tokenForm.MatchString(text):
		return judgedToken
	case has(saml.ParamRequest):
		return judgedRequest
	case has(saml.ParamResponse):
	case has("client_id") && has("redirect_uri"):
		return judgedAsking
	case has("state") && (has("code") || has("error")):
		return judgedAnswer
	}
	return judgedResponse
}

// judgeOther judges what is no SAML response. The last value says whether it was one of these.
func (g *Gate) judgeOther(ctx context.Context, q *api.Judge, out *api.Judged) (*api.Judged, bool, error) {
	if q.Trace != "" {
		return nil, false, nil
	}
	if strings.HasPrefix(strings.TrimSpace(q.Message), "{") {
		value, _, err := saml.FromArchive(strings.NewReader(q.Message))
		if err != nil {
			return nil, true, badRequest("not-decodable", capitalise(err.Error())+".", "A browser's archive (HAR) is taken, or a message by itself.")
		}
		q.Message = value
	}
	out.Kind = kindOfMessage(q.Message)
	if out.At = g.Now().UTC(); q.At != nil {
		out.At = q.At.UTC()
	}
	rec := trace.NewRecorder(out.At, func() time.Time { return out.At })
	var err error
	switch out.Kind {
	case judgedToken:
		err = g.judgeToken(ctx, q, out, rec)
	case judgedRequest:
		err = g.judgeRequest(ctx, q, out, rec)
	case judgedAsking:
		err = g.judgeAsking(ctx, q, out, rec)
	case judgedAnswer:
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
func (g *Gate) judgedThen(ctx context.Context, q *api.Judge, out *api.Judged) (*api.Judged, error) {
	if out.Then.Refused != nil {
		out.Good, out.Explanation = false, out.Then.Refused
		return out, nil
	}
	d := out.Then.Access
	if d == nil || d.Result != "refuse" {
		return out, nil
	}
	sides, _, err := g.previewSides(ctx, api.Preview{Application: q.Application, Provider: out.Provider, DraftApplication: q.DraftApplication})
	if err != nil {
		return nil, err
	}
	if a, ok := sides[0].(*application); ok {
		out.Good = false
		return g.judgedSo(out, a.refusal(*d, out.Then.Person, out.Then.Profile["groups"]))
	}
	return out, nil
}

// openidProvider is the OpenID provider whose rules hold: a draft, the one that was named, or the one whose issuer a token names.
func (g *Gate) judgedOpenID(ctx context.Context, q *api.Judge, issuer string) (*provider, error) {
	if q.DraftProvider != nil {
		_, draft, err := g.previewSides(ctx, api.Preview{Provider: q.Provider, DraftProvider: q.DraftProvider})
		if err != nil {
			return nil, err
		}
		if p := draft[1].(*provider); p.OIDC != nil {
			return p, nil
		}
		return nil, badRequest("not-openid", "The draft is of a provider that does not speak OpenID Connect.", "")
	}
	if q.Provider != "" {
		p, err := g.provider(ctx, q.Provider)
		if err == nil && p.OIDC == nil {
			err = badRequest("not-openid", p.Name+" does not speak OpenID Connect.", "Name the provider that made it.")
		}
		return p, err
	}
	var rows []store.Provider
	if err := g.Store.Read(ctx).Where("kind = ?", config.KindOIDC).Order("slug").Limit(1000).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	for _, row := range rows {
		if p, err := g.provider(ctx, row.Slug); err == nil && issuer != "" && p.OIDC.Issuers().Accepts(issuer) {
			return p, nil
		}
	}
	return nil, badRequest("provider-unknown", "It names the issuer "+clipText(orNone(issuer), 200)+", which is no provider's here.", "Name the provider whose rules are to hold.")
}

// judgeToken holds an ID token against a provider's rules. Which request it answers can't be seen from here, so its nonce is taken at its word.
func (g *Gate) judgeToken(ctx context.Context, q *api.Judge, out *api.Judged, rec *trace.Recorder) error {
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
	set, _, err := g.keySet(ctx, p.OIDC.KeysURL, false)
	if err != nil {
		return ofPartner(err, p.Name)
	}
	t, err := oidc.CheckIDToken(text, oidc.IDTokenRules{Partner: p.Name, Issuers: p.OIDC.Issuers(), ClientID: p.OIDC.ClientID, Nonce: nonce, Alone: true, Keys: set, Algorithms: p.OIDC.Algorithms, Now: out.At, Skew: skew(p.OIDC.ClockSkewSeconds)}, rec)
	if err != nil {
		return err
	}
	var found oidc.Claims
	if err := found.Add("ID token", t.Claims); err != nil {
		return explain.New("oidc.claims-unreadable", explain.Fact("claims", err.Error())).Of(p.Name)
	}
	who := identity{Attributes: found.Values, Subject: "sub\x1f" + t.Subject, Shown: t.Subject, AuthnInstant: t.AuthTime, Context: t.ACR, AMR: t.AMR}
	preview := api.Preview{Provider: p.Slug, Application: q.Application, DraftProvider: q.DraftProvider, DraftApplication: q.DraftApplication}
	if q.DraftProvider != nil && p.id == "" {
		preview.Provider = ""
	}
	out.Then, err = g.previewOf(ctx, preview, who.Attributes, who, nil)
	return err
}

// judgeRequest holds an application's AuthnRequest against its rules.
func (g *Gate) judgeRequest(ctx context.Context, q *api.Judge, out *api.Judged, rec *trace.Recorder) error {
	received, err := receivedRequest(q.Message, g.SSOLocation())
	if err != nil {
		return badRequest("not-decodable", capitalise(err.Error())+".", "Copy the whole address, or the whole value of SAMLRequest.")
	}
	in, err := saml.OpenRequest(received)
	if err != nil {
		return err
	}
	app, err := g.judgedApplication(ctx, q, func() (*application, error) { return g.applicationByEntity(ctx, in.ClaimedIssuer()) })
	if isNotFound(err) {
		return explain.New("saml.application-unknown", explain.Fact("issuer", in.ClaimedIssuer()))
	}
	if err != nil {
		return err
	}
	if app.SAML == nil {
		return badRequest("not-saml", app.Name+" does not speak SAML.", "")
	}
	out.Application, received.Location = app.Slug, g.ssoLocation(app)
	a := app.SAML
	req, err := in.Check(saml.RequestRules{
		Partner: app.Name, Issuer: saml.EntityID(a.EntityID), ACS: a.ACS, AttributeSet: a.AttributeSets, WantSigned: a.RequireSignedRequests, Location: received.Location,
		Trust:  saml.Trust{Certificates: app.signing, AllowSHA1: a.AllowSHA1, EnforceDates: a.EnforceCertificateDates},
		MaxAge: 10 * time.Minute, Skew: skew(a.ClockSkewSeconds), Now: out.At,
	}, rec)
	if err != nil {
		return err
	}
	return req.Refusal
}

// receivedRequest undoes the binding of a pasted request. One that stands alone, as XML or base64, is taken as posted.
func receivedRequest(text, location string) (*saml.Received, error) {
	text = strings.TrimSpace(text)
	if strings.HasPrefix(text, "<") {
		return &saml.Received{Binding: saml.BindingPost, Param: saml.ParamRequest, XML: []byte(text), Location: location}, nil
	}
	query := text
	if _, after, ok := strings.Cut(text, "?"); ok {
		query = after
	}
	query, _, _ = strings.Cut(query, "#")
	received, err := saml.DecodeRedirect(query, location)
	if err == nil {
		return received, nil
	}
	values, parse := url.ParseQuery(query)
	if parse != nil || values.Get(saml.ParamRequest) == "" {
		return nil, err
	}
	posted, post := saml.DecodePost(saml.ParamRequest, values.Get(saml.ParamRequest), values.Get("RelayState"), location)
	if post != nil {
		return nil, err
	}
	return posted, nil
}

func (g *Gate) judgedApplication(ctx context.Context, q *api.Judge, find func() (*application, error)) (*application, error) {
	switch {
	case q.DraftApplication != nil:
		_, draft, err := g.previewSides(ctx, api.Preview{Application: q.Application, DraftApplication: q.DraftApplication})
		if err != nil {
			return nil, err
		}
		a := draft[0].(*application)
		if a.SAML != nil {
			a.signing = config.Parsed(a.SAML.Certificates, "signing")
		}
		return a, nil
	case q.Application != "":
		a, err := g.application(ctx, q.Application)
		if err == nil && a.SAML == nil && a.OIDC == nil {
			return nil, badRequest("no-protocol", a.Name+" speaks no protocol, so that there is no message of it to judge.", "Name another application.")
		}
		return a, err
	}
	return find()
}

// judgeAsking holds a client's authentication request against its rules.
func (g *Gate) judgeAsking(ctx context.Context, q *api.Judge, out *api.Judged, rec *trace.Recorder) error {
	p, err := pastedParameters(q.Message)
	if err != nil {
		return err
	}
	app, err := g.judgedApplication(ctx, q, func() (*application, error) { return g.applicationByClient(ctx, p["client_id"]) })
	if isNotFound(err) {
		return explain.New("oidc.client-unknown", explain.Fact("client ID", clipText(p["client_id"], 200)))
	}
	if err != nil {
		return err
	}
	if app.OIDC == nil {
		return badRequest("not-openid", app.Name+" does not speak OpenID Connect.", "")
	}
	out.Application = app.Slug
	if !rec.Check(trace.Check{Name: "oidc.client", Text: "The request names the application's client ID", Section: "OpenID Connect Core 3.1.2.1", Expected: app.OIDC.ClientID, Got: p["client_id"], OK: p["client_id"] == app.OIDC.ClientID}) {
		return explain.New("oidc.client-unknown", explain.Fact("client ID", clipText(p["client_id"], 200))).Of(app.Name)
	}
	_, err = oidc.ReadRequest(p, registered(app), rec)
	return err
}

// judgeAnswer reads a provider's answer to our redirect URI. Its state belongs to a browser and its code can't be used again, so what can be judged is who answers, and what.
func (g *Gate) judgeAnswer(ctx context.Context, q *api.Judge, out *api.Judged, rec *trace.Recorder) error {
	rec.Begin(trace.Receive)
	p, err := pastedParameters(q.Message)
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
	_, err = oidc.ReadAnswer(p, oidc.AnswerRules{Partner: held.Name, Issuers: held.OIDC.Issuers(), IssuerPromised: held.OIDC.IssuerInAnswer, State: p["state"]}, rec)
	return err
}

func pastedParameters(text string) (oidc.Parameters, error) {
	text = strings.TrimSpace(text)
	if _, after, ok := strings.Cut(text, "?"); ok {
		text = after
	}
	text, _, _ = strings.Cut(text, "#")
	return oidc.ReadParameters(text)
}
