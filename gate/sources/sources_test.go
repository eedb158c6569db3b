package sources_test

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/core/config"
	"innergate/core/files"
	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/core/xmlsig"
	"innergate/core/xmltree"
	"innergate/gate/fetch"
	"innergate/gate/ground"
	"innergate/store"
	"innergate/testbed"
)

// aggregate makes a document of many service providers; change alters one of them.
func aggregate(t testing.TB, entities int, until time.Time, signer *xmlsig.Signer, change string) string {
	t.Helper()
	var b strings.Builder
	fmt.Fprintf(&b, `<EntitiesDescriptor xmlns="%s" ID="all" Name="harbours" cacheDuration="PT1H"`, saml.NSMetadata)
	if !until.IsZero() {
		fmt.Fprintf(&b, ` validUntil="%s"`, until.UTC().Format(time.RFC3339))
	}
	b.WriteString(">")
	for i := range entities {
		path := "acs"
		if i == 1 {
			path += change
		}
		fmt.Fprintf(
			&b,
			`<EntityDescriptor entityID="https://port-%03d.example/saml"><SPSSODescriptor `+
				`protocolSupportEnumeration="%s"><Extensions><u:UIInfo xmlns:u="%s"><u:DisplayName xml:lang="en">Port `+
				`%03d</u:DisplayName></u:UIInfo></Extensions><AssertionConsumerService index="0" Binding="%s" `+
				`Location="https://port-%03d.example/%s"/></SPSSODescriptor></EntityDescriptor>`,
			i,
			saml.NSProtocol,
			saml.NSMDUI,
			i,
			saml.BindingPost,
			i,
			path,
		)
	}
	b.WriteString("</EntitiesDescriptor>")
	if signer == nil {
		return b.String()
	}
	root, err := xmltree.Parse([]byte(b.String()), xmltree.Limits{Bytes: 1 << 26, Elements: 1 << 20})
	require.NoError(t, err)
	require.NoError(t, signer.Sign(root, nil))
	return string(root.Bytes())
}

// settled waits until a source is not being read any more.
func settled(t testing.TB, l *testbed.Lab, slug string) *api.Source {
	t.Helper()
	var s *api.Source
	require.Eventually(t, func() bool {
		var err error
		s, err = l.Sources.Source(context.Background(), slug)
		require.NoError(t, err)
		return s.Job == nil
	}, testbed.Patience, 2*time.Millisecond)
	return s
}

func newSource(t testing.TB, l *testbed.Lab, address string, cert []byte) {
	_, err := l.Sources.SaveSource(
		context.Background(),
		testbed.Owner,
		"",
		config.Source{Name: "Harbours", URL: address, Certificate: string(keys.EncodeCertificate(cert))},
	)
	require.NoError(t, err)
}

func TestAggregateIsReadRefreshedAndAdopted(t *testing.T) {
	t.Parallel()
	l, ctx, p, signer := testbed.NewLab(t), context.Background(), testbed.NewPublisher(t), testbed.NewPair(t, "harbours")
	p.Publish(aggregate(t, 30, l.Clock.Add(20*24*time.Hour), signer.Signer, ""), 0)
	newSource(t, l, p.URL, signer.Cert.Raw)
	_, err := l.Sources.RefreshSource(ctx, "harbours")
	require.NoError(t, err)
	s := settled(t, l, "harbours")
	require.Empty(t, s.Error)
	assert.Equal(t, 30, s.Entities)
	assert.Equal(t, "harbours", s.PublishedName)
	assert.WithinDuration(t, l.Clock.Add(time.Hour), *s.Due, time.Second, "cacheDuration is heeded")

	list, err := l.Sources.SourceEntities(ctx, "harbours", store.Page{Limit: 10}, "sp")
	require.NoError(t, err)
	assert.Len(t, list.Items, 10)
	rest, err := l.Sources.SourceEntities(ctx, "harbours", store.Page{Limit: 30, After: list.Next}, "sp")
	require.NoError(t, err)
	assert.Len(t, rest.Items, 20)
	found, err := l.Sources.SourceEntities(ctx, "harbours", store.Page{Search: "port-007"}, "")
	require.NoError(t, err)
	require.Len(t, found.Items, 1)

	// Configured by hand before: an entry of the source never replaces it.
	_, err = l.Configuration.SaveApplication(
		ctx,
		testbed.Owner,
		"",
		config.Application{Slug: "by-hand", Name: "By hand", SAML: &config.SAMLApplication{EntityID: "https://port-002.example/saml"}},
		0,
	)
	require.NoError(t, err)
	made, err := l.Sources.Adopt(
		ctx,
		testbed.Owner,
		"harbours",
		api.Adopt{
			As:        "application",
			EntityIDs: []string{"https://port-001.example/saml", "https://port-002.example/saml", "https://nowhere.example"},
		},
	)
	require.NoError(t, err)
	assert.Equal(t, []string{"created", "there", "refused"}, []string{made.Items[0].Outcome, made.Items[1].Outcome, made.Items[2].Outcome})
	byHand, err := l.Checkups.Application(ctx, "by-hand")
	require.NoError(t, err)
	assert.Empty(t, byHand.SAML.ACS)
	v, err := l.Checkups.Application(ctx, made.Items[0].Slug)
	require.NoError(t, err)
	assert.Equal(t, "draft", string(v.Reach))
	assert.Equal(t, "source:harbours", v.Watch.URL)
	wrong, err := l.Sources.Adopt(ctx, testbed.Owner, "harbours",
		api.Adopt{As: "provider", EntityIDs: []string{"https://port-003.example/saml"}})
	require.NoError(t, err)
	assert.Contains(t, wrong.Items[0].Reason, "metadata of a service provider")

	// The source changes: what was adopted follows by its policy, what was made by hand does not.
	p.Publish(aggregate(t, 29, l.Clock.Add(21*24*time.Hour), signer.Signer, "/new"), 0)
	l.Clock = l.Clock.Add(2 * time.Hour)
	require.NoError(t, l.Sources.RefreshSourcesDue(ctx))
	s = settled(t, l, "harbours")
	require.Empty(t, s.Error)
	assert.Equal(t, 29, s.Entities, "what is gone from the source is gone here")
	require.NoError(t, l.Watch.RefreshDue(ctx))
	v, err = l.Checkups.Application(ctx, v.Slug)
	require.NoError(t, err)
	require.NotNil(t, v.Watch.Waiting, "an address asks")
	assert.Contains(t, v.Watch.Waiting.Sentences[0], "https://port-001.example/acs/new")
	assert.Equal(t, 409, testbed.Status(l.Sources.DeleteSource(ctx, testbed.Owner, "harbours")), "a source in use stays")
	require.NotNil(t, v.Watch.ValidUntil, "the end is inherited from the source")
	l.Clock = v.Watch.ValidUntil.Add(time.Minute)
	v, err = l.Checkups.Application(ctx, v.Slug)
	require.NoError(t, err)
	assert.Contains(t, fmt.Sprint(v.Findings), "metadata.expired")
	l.Clock = l.Clock.Add(-48 * time.Hour)
	require.NoError(t, l.Configuration.DeleteApplication(ctx, testbed.Owner, v.Slug))
	require.NoError(t, l.Sources.DeleteSource(ctx, testbed.Owner, "harbours"))
}

func TestAggregateIsRefusedAndWhatIsHeldStays(t *testing.T) {
	t.Parallel()
	signer, other := testbed.NewPair(t, "harbours"), testbed.NewPair(t, "other")
	good := func(l *testbed.Lab) string { return aggregate(t, 5, l.Clock.Add(10*24*time.Hour), signer.Signer, "") }
	for name, c := range map[string]struct {
		body func(l *testbed.Lab) string
		code string
		says string
	}{
		"signed by another": {func(l *testbed.Lab) string {
			return aggregate(t, 6, l.Clock.Add(11*24*time.Hour), other.Signer, "")
		}, "metadata.signature", "not made by any key"},
		"not signed": {func(l *testbed.Lab) string {
			return aggregate(t, 6, l.Clock.Add(11*24*time.Hour), nil, "")
		}, "metadata.signature", "no signature"},
		"changed afterwards": {func(l *testbed.Lab) string {
			return strings.Replace(good(l), "port-003", "port-666", 1)
		}, "metadata.signature", "digest differs"},
		"no end": {func(*testbed.Lab) string { return aggregate(t, 6, time.Time{}, signer.Signer, "") }, "source.no-end", "no validUntil"},
		"end too far": {func(l *testbed.Lab) string {
			return aggregate(t, 6, l.Clock.Add(31*24*time.Hour), signer.Signer, "")
		}, "source.end-too-far", "more than 30 days"},
		"over": {func(l *testbed.Lab) string {
			return aggregate(t, 6, l.Clock.Add(-time.Hour), signer.Signer, "")
		}, "metadata.expired", "is over"},
		"an older copy": {func(l *testbed.Lab) string {
			return aggregate(t, 6, l.Clock.Add(9*24*time.Hour), signer.Signer, "")
		}, "source.older", "an older one"},
		"truncated":  {func(l *testbed.Lab) string { return good(l)[:2000] }, "metadata.signature", "can't be used"},
		"a web page": {func(*testbed.Lab) string { return "<!DOCTYPE html><html>Sign in</html>" }, "metadata.signature", "document type"},
	} {
		t.Run(name, func(t *testing.T) {
			l, ctx, p := testbed.NewLab(t), context.Background(), testbed.NewPublisher(t)
			p.Publish(good(l), 0)
			newSource(t, l, p.URL, signer.Cert.Raw)
			_, err := l.Sources.RefreshSource(ctx, "harbours")
			require.NoError(t, err)
			require.Equal(t, 5, settled(t, l, "harbours").Entities)
			p.Publish(c.body(l), 0)
			_, err = l.Sources.RefreshSource(ctx, "harbours")
			require.NoError(t, err)
			s := settled(t, l, "harbours")
			assert.Equal(t, c.code, s.Code)
			assert.Contains(t, s.Error, c.says)
			assert.Equal(t, 1, s.Failures)
			assert.Len(t, s.Findings, 1)
			list, err := l.Sources.SourceEntities(ctx, "harbours", store.Page{}, "")
			require.NoError(t, err)
			assert.Len(t, list.Items, 5, "what was held is there as before")
			p.Publish(good(l), 0)
			_, err = l.Sources.RefreshSource(ctx, "harbours")
			require.NoError(t, err)
			assert.Zero(t, settled(t, l, "harbours").Failures)
		})
	}
}

// TestDownloadsThatNeverEnd: one that stalls, one that never ends, one that is cancelled.
func TestDownloadsThatNeverEnd(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	release := make(chan struct{})
	var begun atomic.Int64
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Write([]byte("<EntitiesDescriptor>"))
		w.(http.Flusher).Flush()
		begun.Add(1)
		if r.URL.Path == "/endless" {
			for bytes := bytes.Repeat([]byte(" "), 1<<16); ; {
				if _, err := w.Write(bytes); err != nil {
					return
				}
			}
		}
		select {
		case <-release:
		case <-r.Context().Done():
		}
	}))
	t.Cleanup(func() { close(release); s.Close() })
	_, err := l.Fetch.Do(ctx, fetch.Want{URL: s.URL + "/stalls", Stall: 50 * time.Millisecond})
	assert.ErrorContains(t, err, "stopped sending")
	_, err = l.Fetch.Do(ctx, fetch.Want{URL: s.URL + "/endless", MaxBytes: 1 << 20})
	assert.ErrorContains(t, err, "larger than")
	newSource(t, l, s.URL+"/stalls", testbed.NewPair(t, "x").Cert.Raw)
	before := begun.Load()
	_, err = l.Sources.RefreshSource(ctx, "harbours")
	require.NoError(t, err)
	require.Eventually(t, func() bool { return begun.Load() > before }, testbed.Patience, time.Millisecond)
	src, err := l.Sources.Source(ctx, "harbours")
	require.NoError(t, err)
	require.NotNil(t, src.Job)
	assert.Equal(t, "fetching", src.Job.Stage)
	require.NoError(t, l.Sources.CancelSource(ctx, "harbours"))
	after := settled(t, l, "harbours")
	assert.Zero(t, after.Failures, "cancelling is no failure")
	assert.Equal(t, 409, testbed.Status(l.Sources.CancelSource(ctx, "harbours")))
}

func TestSourceThatRedirectsToAPrivateAddress(t *testing.T) {
	t.Parallel()
	l, ctx, p := testbed.NewLab(t), context.Background(), testbed.NewPublisher(t)
	p.Publish("<x/>", 0)
	l.Fetch.AllowPrivate = false
	newSource(t, l, p.URL, testbed.NewPair(t, "x").Cert.Raw)
	_, err := l.Sources.RefreshSource(ctx, "harbours")
	require.NoError(t, err)
	s := settled(t, l, "harbours")
	assert.Equal(t, "metadata.fetch", s.Code)
	assert.Contains(t, s.Error, "private network")
	assert.Zero(t, p.Asked.Load())
}

func TestUploadedFile(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	_, err := l.Sources.SaveSource(ctx, testbed.Owner, "", config.Source{Name: "Old list", Kind: "file"})
	require.NoError(t, err)
	_, err = l.Sources.RefreshSource(ctx, "old-list")
	assert.Equal(t, 400, testbed.Status(err), "nothing was uploaded")
	doc := []byte(aggregate(t, 12, time.Time{}, nil, ""))
	require.NoError(t, l.Sources.UploadSource(ctx, "old-list", 0, doc[:1000]))
	assert.Equal(t, 409, testbed.Status(l.Sources.UploadSource(ctx, "old-list", 500, doc[500:])))
	require.NoError(t, l.Sources.UploadSource(ctx, "old-list", 1000, doc[1000:]))
	assert.Equal(t, 400, testbed.Status(l.Sources.UploadSource(ctx, "old-list", 300<<20, doc)))
	_, err = l.Sources.RefreshSource(ctx, "old-list")
	require.NoError(t, err)
	s := settled(t, l, "old-list")
	assert.Empty(t, s.Error)
	assert.Equal(t, 12, s.Entities)
	text, err := l.Sources.SourceDocument(ctx, "old-list", "https://port-003.example/saml")
	require.NoError(t, err)
	assert.Empty(t, saml.ReadMetadata(text, l.Clock).Problems[1:], "one without a certificate")
	_, err = l.Sources.LookUp(ctx, testbed.Owner, "old-list", "urn:x")
	assert.Equal(t, 400, testbed.Status(err))
}

// TestMetadataQuery asks a service for one entity at a time.
func TestMetadataQuery(t *testing.T) {
	t.Parallel()
	l, ctx, signer, other := testbed.NewLab(t), context.Background(), testbed.NewPair(t, "harbours"), testbed.NewPair(t, "other")
	valid, answer := 24*time.Hour, "https://port.example/saml?x=1"
	by := signer.Signer
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		wanted, err := url.PathUnescape(strings.TrimPrefix(r.URL.EscapedPath(), "/entities/"))
		if err != nil || r.Header.Get("Accept") != "application/samlmetadata+xml" || !strings.HasPrefix(wanted, "https://port.example/") {
			http.NotFound(w, r)
			return
		}
		doc := testbed.IDP{ID: answer, SSO: "https://port.example/sso", Valid: valid, Signer: by}.Document(t, l.Clock)
		w.Write([]byte(doc))
	}))
	t.Cleanup(s.Close)
	_, err := l.Sources.SaveSource(
		ctx,
		testbed.Owner,
		"",
		config.Source{Name: "Query", Kind: "query", URL: s.URL, Certificate: string(keys.EncodeCertificate(signer.Cert.Raw))},
	)
	require.NoError(t, err)
	e, err := l.Sources.LookUp(ctx, testbed.Owner, "query", answer)
	require.NoError(t, err)
	assert.Equal(t, []string{"idp"}, e.Roles)
	made, err := l.Sources.Adopt(ctx, testbed.Owner, "query", api.Adopt{As: "provider", EntityIDs: []string{answer}})
	require.NoError(t, err)
	require.Equal(t, "created", made.Items[0].Outcome, made.Items[0].Reason)
	r, err := l.Watch.Refresh(ctx, ground.System, "provider", made.Items[0].Slug)
	require.NoError(t, err)
	assert.Equal(t, "unchanged", r.Outcome, r.Error)
	for says, change := range map[string]func(){
		"404":                          func() { answer = "https://elsewhere.example" },
		"answered with something else": func() { answer = "https://port.example/other" },
		"not made by any key":          func() { by = other.Signer },
		"no validUntil":                func() { valid = 0 },
		"more than 30 days":            func() { valid = 40 * 24 * time.Hour },
		"an older one":                 func() { valid = time.Hour },
	} {
		valid, by, answer = 24*time.Hour, signer.Signer, "https://port.example/saml?x=1"
		asked := answer
		change()
		if says == "404" {
			asked = answer
		}
		_, err = l.Sources.LookUp(ctx, testbed.Owner, "query", asked)
		assert.ErrorContains(t, err, says)
	}
}

// TestSourcesAndTemplatesAreConfiguration exports and loads them, twice with the same result.
func TestSourcesAndTemplatesAreConfiguration(t *testing.T) {
	t.Parallel()
	l, other, ctx := testbed.NewLab(t), testbed.NewLab(t), context.Background()
	newSource(t, l, "https://md.harbours.example/all.xml", testbed.NewPair(t, "harbours").Cert.Raw)
	made, err := l.Sources.StartTemplate(
		ctx,
		testbed.Owner,
		"sp-initiated-only",
		api.StartTemplate{Name: "Port", Values: map[string]string{"start": "https://port.example/"}},
	)
	require.NoError(t, err)
	_, err = l.Sources.NewTemplate(
		ctx,
		testbed.Owner,
		api.NewTemplate{
			Name:   "Ports",
			From:   "applications/" + made.Slug,
			Blanks: []config.Blank{{Name: "start", Sample: "https://port.example/"}},
		},
	)
	require.NoError(t, err)
	text, err := l.Changes.ExportConfig(ctx, testbed.Owner, false, false)
	require.NoError(t, err)
	r, err := other.Changes.LoadConfig(ctx, testbed.Owner, api.LoadConfig{Files: text.Files})
	require.NoError(t, err)
	assert.Equal(t, []string{"source harbours", "template ports", "application port"}, r.Named(files.Create))
	r, err = other.Changes.LoadConfig(ctx, testbed.Owner, api.LoadConfig{Files: text.Files})
	require.NoError(t, err)
	assert.Equal(t, 3, r.Unchanged)
	assert.Empty(t, r.Steps)
	again, err := other.Changes.ExportConfig(ctx, testbed.Owner, false, false)
	require.NoError(t, err)
	assert.Equal(t, text, again)
}
