package server_test

import (
	"bytes"
	"compress/flate"
	"context"
	"encoding/base64"
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/core/config"
	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/core/xmlsig"
	"innergate/demo"
)

// TestArtifactTowardsTheApplication has Crew Rota ask for its answer by artifact and fetch it by SOAP.
func TestArtifactTowardsTheApplication(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), context.Background()
	w.Rota.Artifact = true
	doc, err := w.Rota.Metadata()
	require.NoError(t, err)
	_, err = w.Client().TakeApplication(ctx, "crew-rota", api.TakeIn{Text: string(doc)})
	require.NoError(t, err)
	assert.Empty(t, signedIn(ctx, w, "mvoss"))
	x := newest(t, w)
	assert.Equal(t, "signed-in", x.Outcome)
	assert.Equal(t, "HTTP-Artifact", x.Entries[len(x.Entries)-1].Message.Binding)

	// The artifact is the addressee's alone, once, and for a minute.
	b := atProvider(t, w, "zoberg")
	b.HTTP.CheckRedirect = func(r *http.Request, _ []*http.Request) error {
		if r.URL.Query().Get(saml.ParamArtifact) != "" {
			return http.ErrUseLastResponse
		}
		return nil
	}
	require.NoError(t, b.Submit(ctx, nil))
	form := b.Text[strings.Index(b.Text, `name="SAMLart" value="`)+len(`name="SAMLart" value="`):]
	artifact := strings.NewReplacer("&#43;", "+", "&#x2B;", "+").Replace(form[:strings.IndexByte(form, '"')])
	_, err = saml.ParseArtifact(artifact)
	require.NoError(t, err)
	stranger := newSigner(t)
	resolve := func(issuer string, key *xmlsig.Signer) string {
		_, ask, err := saml.NewArtifactResolve(saml.EntityID(issuer), w.URL+"/saml/idp/artifact", artifact, time.Now(), key)
		require.NoError(t, err)
		answer, err := http.Post(w.URL+"/saml/idp/artifact", "text/xml", bytes.NewReader(ask))
		require.NoError(t, err)
		defer answer.Body.Close()
		body, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		assert.Equal(t, 200, answer.StatusCode, string(body))
		assert.Contains(t, string(body), "status:Success")
		return string(body)
	}
	_, err = w.Client().
		AddApplication(ctx, config.Application{Name: "Other",
			SAML: &config.SAMLApplication{EntityID: "https://other.example",
				Certificates: []config.Certificate{{PEM: string(keys.EncodeCertificate(stranger.Certificate))}}}})
	require.NoError(t, err)
	for name, got := range map[string]string{
		"another application": resolve("https://other.example", stranger), "a stranger": resolve("https://nobody.example", stranger),
		"the addressee's name with another key": resolve(w.Rota.EntityID(), stranger),
		"the addressee unsigned":                resolve(w.Rota.EntityID(), nil),
	} {
		assert.NotContains(t, got, "Assertion>", name)
	}
	got := resolve(w.Rota.EntityID(), w.Rota.Signer())
	assert.Contains(t, got, "zoberg")
	assert.NotContains(t, resolve(w.Rota.EntityID(), w.Rota.Signer()), "zoberg", "once only")
	for _, bad := range []string{"", "<x/>", "<!DOCTYPE x><x/>"} {
		answer, err := http.Post(w.URL+"/saml/idp/artifact", "text/xml", strings.NewReader(bad))
		require.NoError(t, err)
		answer.Body.Close()
		assert.Equal(t, 500, answer.StatusCode)
	}
	answer, err := http.Post(w.URL+"/saml/idp/artifact", "application/json", strings.NewReader("{}"))
	require.NoError(t, err)
	answer.Body.Close()
	assert.Equal(t, 415, answer.StatusCode)
}

func newSigner(t testing.TB) *xmlsig.Signer {
	k, err := keys.Generate(keys.P256)
	require.NoError(t, err)
	der, err := keys.SelfSigned(k, "stranger", time.Now(), time.Hour)
	require.NoError(t, err)
	return &xmlsig.Signer{Key: k, Certificate: der}
}

// TestArtifactFromTheProvider asks Saltmere Staff for answers by artifact, which the gate fetches from it.
func TestArtifactFromTheProvider(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), context.Background()
	changeProvider(t, w, func(p *config.Provider) { p.SAML.ResponseBinding = "HTTP-Artifact" })
	assert.Empty(t, signedIn(ctx, w, "mvoss"))
	x := newest(t, w)
	names := []string{}
	for _, e := range x.Entries {
		if e.Message != nil {
			names = append(names, e.Message.Name)
		}
	}
	assert.Equal(t, []string{"AuthnRequest", "AuthnRequest", "Artifact", "ArtifactResolve", "ArtifactResponse", "Response"}, names)

	// The same mistakes are found as in a posted response.
	for mistake, code := range map[string]string{"audience": "saml.audience-mismatch", "wrong-key": "saml.signature-wrong-key",
		"unsigned": "saml.signature-missing", "expired": "saml.expired"} {
		w.Staff.SetMistake(mistake)
		signedIn(ctx, w, "mvoss")
		assert.Equal(t, code, newest(t, w).Code, mistake)
	}
	w.Staff.SetMistake("")

	// An artifact of another party, one that was used, one without a sign-in, and a provider that can't be reached.
	begin := func() (*demo.Walker, *url.URL) {
		b := demo.NewWalker(nil)
		require.NoError(t, b.Get(ctx, w.RotaURL+"/sign-in"))
		var at *url.URL
		b.HTTP.CheckRedirect = func(r *http.Request, _ []*http.Request) error {
			if r.URL.Query().Get(saml.ParamArtifact) != "" {
				at = r.URL
				return http.ErrUseLastResponse
			}
			return nil
		}
		require.NoError(t, b.Submit(ctx, url.Values{"person": {"mvoss"}}))
		require.NotNil(t, at)
		b.HTTP.CheckRedirect = nil
		return b, at
	}
	b, at := begin()
	q := at.Query()
	q.Set(saml.ParamArtifact, saml.NewArtifact("https://elsewhere.example", 0).String())
	require.NoError(t, b.Get(ctx, w.URL+at.Path+"?"+q.Encode()))
	assert.Equal(t, "saml.artifact-source", newest(t, w).Code)

	b, at = begin()
	require.NoError(t, b.Get(ctx, at.String()))
	require.NoError(t, b.Onward(ctx))
	assert.Equal(t, "mvoss", b.Inner("nameid"))
	other := demo.NewWalker(nil)
	require.NoError(t, other.Get(ctx, at.String()))
	assert.Equal(t, "saml.unsolicited-where", newest(t, w).Code, "in a browser that did not begin it, it counts as begun by the provider")

	b, at = begin()
	changeProvider(t, w, func(p *config.Provider) { p.SAML.Artifact[0].Location = "http://127.0.0.1:1/artifact" })
	require.NoError(t, b.Get(ctx, at.String()))
	assert.Equal(t, "saml.back-channel", newest(t, w).Code)
}

func TestSheetComparedAndRemembered(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), context.Background()
	c := w.Client()
	require.NoError(t, w.Fetch())
	sheet, err := c.Exchange(ctx, "applications", "crew-rota")
	require.NoError(t, err)
	require.Len(t, sheet.HandedOut, 1, "the application fetched its metadata")
	assert.True(t, sheet.HandedOut[0].Current)
	require.NoError(t, c.NoteSheet(ctx, "applications", "crew-rota"))
	assert.Contains(t, sheet.Requested, `<md:RequestedAttribute`)
	assert.Contains(t, sheet.Requested, `Name="mail"`)
	for _, a := range sheet.Attributes {
		assert.NotEmpty(t, a.Sample, a.Name)
	}
	byField := map[string]string{}
	for _, v := range sheet.Values {
		byField[v.Field] = v.Value
	}
	// As their form shows it: other labels, and a slash too many.
	got, err := c.CompareSheet(
		ctx,
		"applications",
		"crew-rota",
		"Issuer URL: "+byField["entity"]+"/\nLogin URL\n  "+byField["sso"]+"\nThumbprint: "+strings.ToUpper(
			strings.ReplaceAll(fingerprintOf(sheet), ":", ""),
		)+"\n",
	)
	require.NoError(t, err)
	require.Len(t, got.Values, 3)
	assert.False(t, got.Equal)
	assert.Equal(t, "IdP entity ID", got.Values[0].Name)
	assert.False(t, got.Values[0].Difference.Equal)
	assert.True(t, got.Values[1].Difference.Equal)
	assert.True(t, got.Values[2].Difference.Equal, "a fingerprint is the same in every spelling")
	assert.Empty(t, got.Absent)
	// Their form shows their own values beside ours: those are held against what is registered of them.
	theirs, err := c.CompareSheet(ctx, "applications", "crew-rota", "Entity ID: "+w.Rota.EntityID()+"\nACS URL: "+w.Rota.ACS()+
		"x\nIdP entity ID: "+byField["entity"]+"\nSSO URL: "+byField["sso"]+"\n")
	require.NoError(t, err)
	require.Len(t, theirs.Values, 4)
	assert.Equal(t, "Entity ID of Crew Rota, as it is registered", theirs.Values[0].Name)
	assert.True(t, theirs.Values[0].Difference.Equal)
	assert.Equal(t, "ACS of Crew Rota, as it is registered", theirs.Values[1].Name)
	assert.False(t, theirs.Values[1].Difference.Equal)
	assert.True(t, theirs.Values[2].Difference.Equal)
	assert.True(t, theirs.Values[3].Difference.Equal)
	notes := map[string]string{}
	for _, v := range sheet.Values {
		if v.Kind == "note" {
			notes[v.Name] = v.Value
		}
	}
	assert.Contains(t, notes["What we sign"], "the assertion, with RSA-SHA256 (http://www.w3.org/2001/04/xmldsig-more#rsa-sha256)")
	assert.Equal(t, "nothing", notes["What we encrypt"])
	assert.Contains(t, notes["Your AuthnRequests"], "must be signed")
	assert.Contains(t, notes["What signing out needs"], "Ours go to "+w.Rota.SLO())
	own, err := c.OurMetadata(ctx, "idp", "crew-rota", false)
	require.NoError(t, err)
	whole, err := c.CompareSheet(ctx, "applications", "crew-rota", string(own))
	require.NoError(t, err)
	assert.True(t, whole.Equal)
	_, err = c.CompareSheet(ctx, "applications", "crew-rota", "hello")
	assert.ErrorContains(t, err, "No value in the text")

	// After our certificate changed, what was handed out before no longer holds, and it is said what.
	k, err := c.MakeKey(ctx, api.NewKey{Purpose: "saml-signing"})
	require.NoError(t, err)
	_, err = c.StepKey(ctx, k.ID, "publish")
	require.NoError(t, err)
	sheet, err = c.Exchange(ctx, "applications", "crew-rota")
	require.NoError(t, err)
	require.Len(t, sheet.HandedOut, 2)
	assert.False(t, sheet.HandedOut[0].Current)
	assert.Equal(t, "certificate for signing", sheet.HandedOut[0].Differences[0].Field)
	assert.Contains(t, sheet.Markdown, "Signing certificate (next)")
	for _, d := range sheet.Downloads {
		path := strings.TrimPrefix(d.URL, w.URL)
		answer, body := send(t, http.DefaultClient, "GET", w.URL+path, w.Token, "")
		assert.Equal(t, 200, answer.StatusCode, d.Name)
		assert.NotEmpty(t, body)
	}
}

func fingerprintOf(s *api.ExchangeSheet) string {
	for _, v := range s.Values {
		if v.Kind == "fingerprint" {
			return v.Value
		}
	}
	return ""
}

func TestTemplatesThroughTheService(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), context.Background()
	c := w.Client()
	list, err := c.Templates(ctx)
	require.NoError(t, err)
	require.Greater(t, len(list.Items), 5)
	made, err := c.StartTemplate(
		ctx,
		"number-in-address",
		api.StartTemplate{Name: "Harbour App", Values: map[string]string{"host": "app.harbours.example", "number": "10042"}},
	)
	require.NoError(t, err)
	a, err := c.Application(ctx, made.Slug)
	require.NoError(t, err)
	assert.Equal(t, "https://app.harbours.example/saml/10042/acs", a.SAML.ACS[0].Location)
	sheet, err := c.Exchange(ctx, "applications", made.Slug)
	require.NoError(t, err)
	assert.Contains(t, sheet.Steps[0], w.URL+"/saml/idp/sso")
	assert.Contains(t, sheet.Markdown, "customer 10042")
	_, err = c.StartTemplate(ctx, "number-in-address", api.StartTemplate{Name: "Second"})
	assert.ErrorContains(t, err, "values.host: it is missing")
	saved, err := c.NewTemplate(
		ctx,
		api.NewTemplate{
			Name:   "Our harbours",
			From:   "applications/" + made.Slug,
			Blanks: []config.Blank{{Name: "customer", Sample: "10042"}},
		},
	)
	require.NoError(t, err)
	_, err = c.NewTemplate(ctx, api.NewTemplate{Name: "Our harbours", From: "applications/" + made.Slug})
	assert.ErrorContains(t, err, "already")
	again, err := c.StartTemplate(ctx, saved.Slug, api.StartTemplate{Name: "Third", Values: map[string]string{"customer": "7"}})
	require.NoError(t, err)
	b, err := c.Application(ctx, again.Slug)
	require.NoError(t, err)
	assert.Equal(t, "https://app.harbours.example/saml/7", b.SAML.EntityID)
	require.NoError(t, c.Delete(ctx, "templates", saved.Slug))
	assert.ErrorContains(t, c.Delete(ctx, "templates", "role-pairs"), "comes with the program")
}

// TestPartnersChangedMetadataIsNoticedExplainedAndApplied: Saltmere Staff announces a new certificate and later signs
// with it.
func TestPartnersChangedMetadataIsNoticedExplainedAndApplied(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), context.Background()
	c := w.Client()
	r, err := c.Refresh(ctx, "providers", "saltmere-staff")
	require.NoError(t, err)
	require.Equal(t, "unchanged", r.Outcome, "%v", r.Sentences)
	require.NoError(t, w.Staff.AnnounceKey())
	r, err = c.Refresh(ctx, "providers", "saltmere-staff")
	require.NoError(t, err)
	require.Equal(t, "waiting", r.Outcome)
	assert.Contains(t, r.Sentences[0], "Certificate for signing added")
	p, err := c.Provider(ctx, "saltmere-staff")
	require.NoError(t, err)
	_, err = c.UseDocument(ctx, "providers", "saltmere-staff", p.Watch.Waiting.ID)
	require.NoError(t, err)
	assert.Empty(t, signedIn(ctx, w, "mvoss"))
	w.Staff.ChangeKey()
	assert.Empty(t, signedIn(ctx, w, "mvoss"), "both certificates are trusted, so the change is not felt")
	r, err = c.Refresh(ctx, "providers", "saltmere-staff")
	require.NoError(t, err)
	assert.Contains(t, strings.Join(r.Sentences, ""), "removed")
	r, err = c.Refresh(ctx, "applications", "crew-rota")
	require.NoError(t, err)
	assert.Equal(t, "unchanged", r.Outcome, "%v", r.Sentences)
	o, err := c.Overview(ctx)
	require.NoError(t, err)
	found := false
	for _, f := range o.Findings {
		found = found || f.Code == "metadata.waiting"
	}
	assert.True(t, found, "the overview tells of it")
}

func TestLogoutAddresses(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), context.Background()
	answer, body := send(t, http.DefaultClient, "GET", w.URL+"/sign-out", "", "")
	assert.Equal(t, 200, answer.StatusCode)
	assert.Contains(t, body, "You are signed out here")
	_, body = send(t, http.DefaultClient, "GET", w.URL+"/saml/idp/slo", "", "")
	assert.Contains(t, body, "takes logout messages")
	a, err := w.Client().Application(ctx, "crew-rota")
	require.NoError(t, err)
	logout := func(destination string, signer *xmlsig.Signer) *http.Response {
		_, doc, err := saml.Logout{
			Issuer:      saml.EntityID(a.SAML.EntityID),
			Destination: destination,
			Now:         time.Now(),
		}.Request(
			saml.NameID{Value: "mvoss"},
			nil,
		)
		require.NoError(t, err)
		location, err := saml.EncodeRedirect(w.URL+"/saml/idp/slo", saml.ParamRequest, doc, "relay", signer)
		require.NoError(t, err)
		client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
		answer, err := client.Get(location)
		require.NoError(t, err)
		answer.Body.Close()
		return answer
	}
	change(t, w, func(a *config.Application) { a.SAML.SLO = nil })
	assert.Equal(t, 200, logout(w.URL+"/saml/idp/slo", w.Rota.Signer()).StatusCode, "without an address for the answer there is a page")
	change(t, w, func(a *config.Application) {
		a.SAML.SLO = []saml.Endpoint{{Binding: saml.BindingRedirect, Location: w.RotaURL + "/slo"}}
	})
	got := logout(w.URL+"/saml/idp/slo", w.Rota.Signer())
	require.Equal(t, 303, got.StatusCode)
	to, err := got.Location()
	require.NoError(t, err)
	assert.Equal(t, "relay", to.Query().Get("RelayState"))
	assert.NotEmpty(t, to.Query().Get("Signature"))
	packed, err := base64.StdEncoding.DecodeString(to.Query().Get(saml.ParamResponse))
	require.NoError(t, err)
	doc, err := io.ReadAll(flate.NewReader(bytes.NewReader(packed)))
	require.NoError(t, err)
	assert.Contains(t, string(doc), "status:Success")
	assert.NotContains(t, string(doc), "PartialLogout", "nobody is signed in, so there is nobody to tell")
	assert.Equal(t, 400, logout(w.URL+"/saml/idp/slo", nil).StatusCode)
	assert.Equal(t, "saml.logout-unsigned", newest(t, w).Code)
	assert.Equal(t, 400, logout(w.URL+"/saml/idp/slo/", w.Rota.Signer()).StatusCode)
	assert.Equal(t, 400, logout(w.URL+"/saml/idp/slo", newSigner(t)).StatusCode)
}
