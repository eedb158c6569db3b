package watch_test

import (
	"context"
	"crypto/x509"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/core/config"
	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/gate/ground"
	"innergate/testbed"
)

func TestRefreshByPolicy(t *testing.T) {
	t.Parallel()
	first, second, signer := testbed.NewPair(t, "first"), testbed.NewPair(t, "second"), testbed.NewPair(t, "signer")
	pinned := string(keys.EncodeCertificate(signer.Cert.Raw))
	for name, c := range map[string]struct {
		watch   config.Watch
		change  func(*testbed.IDP)
		outcome string
		says    string
		holds   int // certificates held afterwards
	}{
		"unsigned keys ask": {config.Watch{}, func(i *testbed.IDP) {
			i.Certs = append(i.Certs, second.Cert)
		}, "waiting", "Certificate for signing added", 1},
		"certificates on request": {config.Watch{Policy: "certificates"}, func(i *testbed.IDP) {
			i.Certs = append(i.Certs, second.Cert)
		}, "applied", "Certificate for signing added", 2},
		"signed keys are taken": {config.Watch{Certificate: pinned}, func(i *testbed.IDP) {
			i.Certs = append(i.Certs, second.Cert)
		}, "applied", "Certificate for signing added", 2},
		"signed addresses ask": {config.Watch{Certificate: pinned}, func(i *testbed.IDP) {
			i.SSO += "/new"
		}, "waiting", "SSO URL by HTTP-POST changed from", 1},
		"certificates now, rest asks": {config.Watch{Policy: "certificates"}, func(i *testbed.IDP) {
			i.SSO += "/new"
			i.Certs = append(i.Certs, second.Cert)
		}, "partly", "SSO URL", 2},
		"everything at once": {config.Watch{Policy: "apply"}, func(i *testbed.IDP) {
			i.SSO += "/new"
			i.Certs = []*x509.Certificate{second.Cert}
		}, "applied", "Certificate for signing changed from", 1},
		"the last certificate never": {config.Watch{Policy: "apply"}, func(i *testbed.IDP) {
			i.Certs = nil
		}, "waiting", "Certificate for signing removed", 1},
		"nothing but dates": {config.Watch{}, func(i *testbed.IDP) { i.Valid = 48 * time.Hour }, "unchanged", "", 1},
		"signature missing": {config.Watch{Certificate: pinned}, func(i *testbed.IDP) {
			i.Signer = nil
			i.Certs = append(i.Certs, second.Cert)
		}, "failed", "must be signed by the pinned certificate", 1},
		"signed by somebody else": {config.Watch{Certificate: pinned}, func(i *testbed.IDP) {
			i.Signer = second.Signer
			i.Certs = append(i.Certs, second.Cert)
		}, "failed", "must be signed by the pinned certificate", 1},
		"another entity": {config.Watch{Policy: "apply"}, func(i *testbed.IDP) {
			i.ID += "/other"
			i.Certs = []*x509.Certificate{second.Cert}
		}, "failed", "no longer gives metadata of", 1},
		"over": {config.Watch{Policy: "apply"}, func(i *testbed.IDP) {
			i.Valid = -time.Hour
			i.Certs = []*x509.Certificate{second.Cert}
		}, "failed", "is over", 1},
		"an address that can't be taken": {config.Watch{Policy: "apply"}, func(i *testbed.IDP) {
			i.SSO = "https://id.example/#x"
		}, "failed", "can't be taken", 1},
	} {
		t.Run(name, func(t *testing.T) {
			l, ctx, p := testbed.NewLab(t), context.Background(), testbed.NewPublisher(t)
			i := testbed.IDP{
				ID:     "https://id.example",
				SSO:    "https://id.example/sso",
				Certs:  []*x509.Certificate{first.Cert},
				Valid:  24 * time.Hour,
				Signer: signer.Signer,
			}
			p.Publish(i.Document(t, l.Clock), 0)
			_, err := l.Configuration.SaveProvider(ctx, testbed.Owner, "", config.Provider{Name: "Ferry"}, 0)
			require.NoError(t, err)
			taken, err := l.Watch.TakeProvider(ctx, testbed.Owner, "ferry", api.TakeIn{URL: p.URL})
			require.NoError(t, err)
			require.Equal(t, p.URL, taken.SAML.Metadata.URL, "the address is remembered")
			c.watch.URL = p.URL
			taken.SAML.Metadata = &c.watch
			_, err = l.Configuration.SaveProvider(ctx, testbed.Owner, "ferry", taken.Provider, 0)
			require.NoError(t, err)
			r, err := l.Watch.Refresh(ctx, ground.System, "provider", "ferry")
			require.NoError(t, err)
			require.Equal(t, "unchanged", r.Outcome, r.Error)

			c.change(&i)
			p.Publish(i.Document(t, l.Clock), 0)
			r, err = l.Watch.Refresh(ctx, ground.System, "provider", "ferry")
			require.NoError(t, err)
			assert.Equal(t, c.outcome, r.Outcome, r.Error)
			assert.Contains(t, strings.Join(r.Sentences, "\n")+r.Error, c.says)
			after, err := l.Checkups.Provider(ctx, "ferry")
			require.NoError(t, err)
			assert.Len(t, after.SAML.Certificates, c.holds)
			assert.Equal(t, "https://id.example", after.SAML.EntityID, "what is held is never replaced by another entity")
			again, err := l.Watch.Refresh(ctx, ground.System, "provider", "ferry")
			require.NoError(t, err)
			list, err := l.Watch.Documents(ctx, "provider", "ferry")
			require.NoError(t, err)
			codes := []string{}
			for _, f := range after.Findings {
				codes = append(codes, f.Code)
			}
			switch c.outcome {
			case "waiting", "partly":
				assert.Equal(t, "waiting", again.Outcome, "it goes on waiting, as one version")
				assert.Len(t, list.Items, 2)
				assert.Contains(t, codes, "metadata.waiting")
			case "failed":
				assert.Contains(t, codes, "metadata.refresh-failing")
				assert.LessOrEqual(t, len(list.Items), 2, "a refused version is kept once")
			default:
				assert.Equal(t, "unchanged", again.Outcome)
			}
		})
	}
}

// waitingLab has a change wait for a decision.
func waitingLab(t *testing.T) (*testbed.Lab, *testbed.Publisher, testbed.IDP, testbed.Pair) {
	l, ctx, p := testbed.NewLab(t), context.Background(), testbed.NewPublisher(t)
	first, second := testbed.NewPair(t, "first"), testbed.NewPair(t, "second")
	i := testbed.IDP{ID: "https://id.example", SSO: "https://id.example/sso", Certs: []*x509.Certificate{first.Cert}, Valid: 24 * time.Hour}
	p.Publish(i.Document(t, l.Clock), 0)
	_, err := l.Configuration.SaveProvider(ctx, testbed.Owner, "", config.Provider{Name: "Ferry"}, 0)
	require.NoError(t, err)
	_, err = l.Watch.TakeProvider(ctx, testbed.Owner, "ferry", api.TakeIn{URL: p.URL})
	require.NoError(t, err)
	i.Certs = append(i.Certs, second.Cert)
	p.Publish(i.Document(t, l.Clock), 0)
	r, err := l.Watch.Refresh(ctx, ground.System, "provider", "ferry")
	require.NoError(t, err)
	require.Equal(t, "waiting", r.Outcome)
	return l, p, i, second
}

func TestAWaitingVersionIsUsedAndAnOlderOneRestored(t *testing.T) {
	t.Parallel()
	l, _, _, _ := waitingLab(t)
	ctx := context.Background()
	v, err := l.Checkups.Provider(ctx, "ferry")
	require.NoError(t, err)
	require.NotNil(t, v.Watch.Waiting)
	id := v.Watch.Waiting.ID
	changes, err := l.Watch.DocumentChanges(ctx, "provider", "ferry", id)
	require.NoError(t, err)
	assert.Len(t, changes.Changes, 1)
	_, err = l.Watch.UseDocument(ctx, testbed.Owner, "provider", "ferry", id)
	require.NoError(t, err)
	v, err = l.Checkups.Provider(ctx, "ferry")
	require.NoError(t, err)
	assert.Len(t, v.SAML.Certificates, 2)
	assert.Nil(t, v.Watch.Waiting)

	list, err := l.Watch.Documents(ctx, "provider", "ferry")
	require.NoError(t, err)
	oldest := list.Items[len(list.Items)-1]
	_, err = l.Watch.UseDocument(ctx, testbed.Owner, "provider", "ferry", oldest.ID)
	require.NoError(t, err)
	v, err = l.Checkups.Provider(ctx, "ferry")
	require.NoError(t, err)
	assert.Len(t, v.SAML.Certificates, 1, "the older version is restored")
	r, err := l.Watch.Refresh(ctx, ground.System, "provider", "ferry")
	require.NoError(t, err)
	assert.Equal(t, "unchanged", r.Outcome, "what was taken back does not come again by itself")
	text, err := l.Watch.DocumentText(ctx, "provider", "ferry", oldest.ID)
	require.NoError(t, err)
	assert.Contains(t, string(text), "EntityDescriptor")
	_, err = l.Watch.DocumentText(ctx, "provider", "ferry", "01K")
	assert.Equal(t, 404, testbed.Status(err))
}

func TestADismissedVersionIsNotBroughtUpAgain(t *testing.T) {
	t.Parallel()
	l, p, i, _ := waitingLab(t)
	ctx := context.Background()
	v, err := l.Checkups.Provider(ctx, "ferry")
	require.NoError(t, err)
	require.NoError(t, l.Watch.DismissDocument(ctx, testbed.Owner, "provider", "ferry", v.Watch.Waiting.ID))
	assert.Equal(t, 409, testbed.Status(l.Watch.DismissDocument(ctx, testbed.Owner, "provider", "ferry", v.Watch.Waiting.ID)))
	p.Publish(i.Document(t, l.Clock.Add(time.Hour)), 0) // new dates, new ID, the same values
	r, err := l.Watch.Refresh(ctx, ground.System, "provider", "ferry")
	require.NoError(t, err)
	assert.Equal(t, "unchanged", r.Outcome)
	i.SSO += "/new"
	p.Publish(i.Document(t, l.Clock), 0)
	r, err = l.Watch.Refresh(ctx, ground.System, "provider", "ferry")
	require.NoError(t, err)
	assert.Equal(t, "waiting", r.Outcome, "something else that changed does ask")
}

// TestAFailingRefreshKeepsTheLastGoodCopyUntilItsEnd turns the clock past validUntil.
func TestAFailingRefreshKeepsTheLastGoodCopyUntilItsEnd(t *testing.T) {
	t.Parallel()
	l, p, _, _ := waitingLab(t)
	ctx := context.Background()
	p.Publish("", http.StatusBadGateway)
	for n := range 3 {
		r, err := l.Watch.Refresh(ctx, ground.System, "provider", "ferry")
		require.NoError(t, err)
		assert.Equal(t, "failed", r.Outcome)
		v, err := l.Checkups.Provider(ctx, "ferry")
		require.NoError(t, err)
		assert.Equal(t, n+1, v.Watch.Failures)
		assert.Len(t, v.SAML.Certificates, 1)
	}
	v, err := l.Checkups.Provider(ctx, "ferry")
	require.NoError(t, err)
	require.NotNil(t, v.Watch.ValidUntil)
	severities := map[string]string{}
	for _, f := range v.Findings {
		severities[f.Code] = f.Severity
	}
	assert.Equal(t, "broken", severities["metadata.refresh-failing"], "it ends within two days")
	l.Clock = v.Watch.ValidUntil.Add(time.Second)
	v, err = l.Checkups.Provider(ctx, "ferry")
	require.NoError(t, err)
	found := false
	for _, f := range v.Findings {
		found = found || f.Code == "metadata.expired"
	}
	assert.True(t, found)
}

// TestRefreshOfManyPartners: never more than four connections at once, and conditional requests the second time.
func TestRefreshOfManyPartners(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	var now, most, asked, unseen atomic.Int64
	cert := testbed.NewPair(t, "many").Cert
	var documents sync.Map
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		n := now.Add(1)
		defer now.Add(-1)
		for old := most.Load(); n > old && !most.CompareAndSwap(old, n); old = most.Load() {
		}
		time.Sleep(time.Millisecond)
		w.Header().Set("ETag", `"1"`)
		if r.Header.Get("If-None-Match") == `"1"` {
			unseen.Add(1)
			w.WriteHeader(http.StatusNotModified)
			return
		}
		doc, _ := documents.Load(r.URL.Path)
		w.Write([]byte(doc.(string)))
	}))
	t.Cleanup(s.Close)
	const partners = 120
	for n := range partners {
		path := fmt.Sprintf("/%d", n)
		i := testbed.IDP{ID: s.URL + path, SSO: s.URL + path + "/sso", Certs: []*x509.Certificate{cert}}
		documents.Store(path, i.Document(t, l.Clock))
		_, err := l.Configuration.SaveProvider(
			ctx,
			testbed.Owner,
			"",
			config.Provider{
				Slug: fmt.Sprintf("p%d", n),
				Name: "P",
				SAML: &config.SAMLProvider{
					EntityID:     i.ID,
					SSO:          []saml.Endpoint{{Binding: saml.BindingPost, Location: i.SSO}},
					Certificates: []config.Certificate{{Use: "signing", PEM: string(keys.EncodeCertificate(cert.Raw))}},
					Metadata:     &config.Watch{URL: s.URL + path},
				},
			},
			0,
		)
		require.NoError(t, err)
	}
	require.NoError(t, l.Watch.RefreshDue(ctx))
	assert.Zero(t, asked.Load(), "nothing is due yet")
	l.Clock = l.Clock.Add(7 * time.Hour)
	require.NoError(t, l.Watch.RefreshDue(ctx))
	assert.EqualValues(t, partners, asked.Load())
	assert.LessOrEqual(t, most.Load(), int64(4))
	l.Clock = l.Clock.Add(7 * time.Hour)
	require.NoError(t, l.Watch.RefreshDue(ctx))
	assert.EqualValues(t, partners, unseen.Load())
}

func TestTakeACertificateBesideTheMetadata(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	first, other := testbed.NewPair(t, "first"), testbed.NewPair(t, "other")
	later, err := keys.SelfSigned(other.Signer.Key, "later", l.Clock, 24*time.Hour)
	require.NoError(t, err)
	early, err := keys.SelfSigned(other.Signer.Key, "early", l.Clock.AddDate(-2, 0, 0), 24*time.Hour)
	require.NoError(t, err)
	i := testbed.IDP{ID: "https://id.example", SSO: "https://id.example/sso", Certs: []*x509.Certificate{first.Cert}}
	bare := i
	bare.Certs = nil
	for name, c := range map[string]struct {
		doc    testbed.IDP
		cert   []byte
		beside string
		code   string
		holds  int
	}{
		"same":        {i, first.Cert.Raw, "same", "metadata.certificate-same", 1},
		"newer":       {i, later, "newer", "metadata.certificate-newer", 2},
		"conflicting": {i, early, "conflicting", "metadata.certificate-conflicting", 1},
		"the only":    {bare, early, "newer", "metadata.certificate-added", 1},
	} {
		t.Run(name, func(t *testing.T) {
			u, _, err := l.Watch.UnderstandProvider(
				ctx,
				"",
				api.TakeIn{Text: c.doc.Document(t, l.Clock), Certificate: string(keys.EncodeCertificate(c.cert))},
			)
			require.NoError(t, err)
			assert.Equal(t, c.beside, u.Beside)
			assert.Contains(t, fmt.Sprint(u.Problems), c.code)
			assert.Len(t, u.Provider.SAML.Certificates, c.holds)
		})
	}
	_, _, err = l.Watch.UnderstandProvider(ctx, "", api.TakeIn{Text: i.Document(t, l.Clock), Certificate: "rubbish"})
	assert.Equal(t, 422, testbed.Status(err))

	// A certificate alone is added to what is held.
	_, err = l.Configuration.SaveProvider(ctx, testbed.Owner, "", config.Provider{Name: "Ferry"}, 0)
	require.NoError(t, err)
	_, err = l.Watch.TakeProvider(ctx, testbed.Owner, "ferry", api.TakeIn{Text: i.Document(t, l.Clock)})
	require.NoError(t, err)
	v, err := l.Watch.TakeProvider(ctx, testbed.Owner, "ferry", api.TakeIn{Text: string(keys.EncodeCertificate(later))})
	require.NoError(t, err)
	assert.Len(t, v.SAML.Certificates, 2)
}

func TestALoneRoleAsksForItsEntityID(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	whole := testbed.IDP{
		ID:    "https://id.example",
		SSO:   "https://id.example/sso",
		Certs: []*x509.Certificate{testbed.NewPair(t, "x").Cert},
	}.Document(t, l.Clock)
	cut := whole[strings.Index(whole, "<md:IDPSSODescriptor"):strings.Index(whole, "</md:EntityDescriptor>")]
	u, _, err := l.Watch.UnderstandProvider(ctx, "", api.TakeIn{Text: cut})
	require.NoError(t, err)
	assert.True(t, u.NeedsEntityID)
	assert.Nil(t, u.Provider)
	u, _, err = l.Watch.UnderstandProvider(ctx, "", api.TakeIn{Text: cut, EntityID: "https://id.example"})
	require.NoError(t, err)
	assert.Equal(t, "https://id.example", u.Provider.SAML.EntityID)
	own, err := l.Exchange.OurMetadata(ctx, "", "", false)
	require.NoError(t, err)
	u, _, err = l.Watch.UnderstandProvider(ctx, "", api.TakeIn{Text: string(own)})
	require.NoError(t, err)
	assert.Contains(t, fmt.Sprint(u.Problems), "metadata.our-entity-id")
	assert.Nil(t, u.Provider, "our own metadata is nobody else's")
}
