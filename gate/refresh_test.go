package gate_test

import (
	"context"
	"crypto/sha256"
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
	"innergate/core/xmlsig"
	"innergate/gate/ground"
)

// pair is a key of a partner's with its certificate.
type pair struct {
	signer *xmlsig.Signer
	cert   *x509.Certificate
}

func newPair(t testing.TB, name string) pair {
	t.Helper()
	k, err := keys.Generate(keys.P256)
	require.NoError(t, err)
	der, err := keys.SelfSigned(k, name, time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC), 365*24*time.Hour)
	require.NoError(t, err)
	cert, err := keys.ParseCertificate(der)
	require.NoError(t, err)
	return pair{&xmlsig.Signer{Key: k}, cert}
}

// publisher is a partner that publishes its metadata.
type publisher struct {
	*httptest.Server
	mu     sync.Mutex
	body   string
	status int
	asked  atomic.Int64
	unseen atomic.Int64 // conditional requests that were answered by 304
}

func newPublisher(t testing.TB) *publisher {
	p := &publisher{}
	p.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		p.asked.Add(1)
		p.mu.Lock()
		defer p.mu.Unlock()
		if p.status != 0 {
			w.WriteHeader(p.status)
			return
		}
		tag := fmt.Sprintf(`"%x"`, sha256.Sum256([]byte(p.body)))
		w.Header().Set("ETag", tag)
		if r.Header.Get("If-None-Match") == tag {
			p.unseen.Add(1)
			w.WriteHeader(http.StatusNotModified)
			return
		}
		w.Write([]byte(p.body))
	}))
	t.Cleanup(p.Close)
	return p
}

func (p *publisher) publish(body string, status int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.body, p.status = body, status
}

type idp struct {
	id     string
	sso    string
	certs  []*x509.Certificate
	valid  time.Duration
	signer *xmlsig.Signer
}

func (i idp) document(t testing.TB, now time.Time) string {
	t.Helper()
	role := saml.Role{
		Kind:        saml.RoleIDP,
		DisplayName: "Ferry idp",
		Endpoints:   []saml.Endpoint{{Service: saml.ServiceSSO, Binding: saml.BindingPost, Location: i.sso}},
	}
	for _, c := range i.certs {
		role.Keys = append(role.Keys, saml.KeyDescriptor{Use: "signing", Certificate: c})
	}
	if i.valid < 0 {
		now, i.valid = now.Add(2*i.valid), -i.valid
	}
	doc, err := saml.WriteMetadata(saml.Entity{EntityID: i.id, Roles: []saml.Role{role}}, i.valid, now, i.signer)
	require.NoError(t, err)
	return string(doc)
}

func TestRefreshByPolicy(t *testing.T) {
	t.Parallel()
	first, second, signer := newPair(t, "first"), newPair(t, "second"), newPair(t, "signer")
	pinned := string(keys.EncodeCertificate(signer.cert.Raw))
	for name, c := range map[string]struct {
		watch   config.Watch
		change  func(*idp)
		outcome string
		says    string
		holds   int // certificates held afterwards
	}{
		"unsigned keys ask": {config.Watch{}, func(i *idp) {
			i.certs = append(i.certs, second.cert)
		}, "waiting", "Certificate for signing added", 1},
		"certificates on request": {config.Watch{Policy: "certificates"}, func(i *idp) {
			i.certs = append(i.certs, second.cert)
		}, "applied", "Certificate for signing added", 2},
		"signed keys are taken": {config.Watch{Certificate: pinned}, func(i *idp) {
			i.certs = append(i.certs, second.cert)
		}, "applied", "Certificate for signing added", 2},
		"signed addresses ask": {config.Watch{Certificate: pinned}, func(i *idp) {
			i.sso += "/new"
		}, "waiting", "SSO URL by HTTP-POST changed from", 1},
		"certificates now, rest asks": {config.Watch{Policy: "certificates"}, func(i *idp) {
			i.sso += "/new"
			i.certs = append(i.certs, second.cert)
		}, "partly", "SSO URL", 2},
		"everything at once": {config.Watch{Policy: "apply"}, func(i *idp) {
			i.sso += "/new"
			i.certs = []*x509.Certificate{second.cert}
		}, "applied", "Certificate for signing changed from", 1},
		"the last certificate never": {config.Watch{Policy: "apply"}, func(i *idp) {
			i.certs = nil
		}, "waiting", "Certificate for signing removed", 1},
		"nothing but dates": {config.Watch{}, func(i *idp) { i.valid = 48 * time.Hour }, "unchanged", "", 1},
		"signature missing": {config.Watch{Certificate: pinned}, func(i *idp) {
			i.signer = nil
			i.certs = append(i.certs, second.cert)
		}, "failed", "must be signed by the pinned certificate", 1},
		"signed by somebody else": {config.Watch{Certificate: pinned}, func(i *idp) {
			i.signer = second.signer
			i.certs = append(i.certs, second.cert)
		}, "failed", "must be signed by the pinned certificate", 1},
		"another entity": {config.Watch{Policy: "apply"}, func(i *idp) {
			i.id += "/other"
			i.certs = []*x509.Certificate{second.cert}
		}, "failed", "no longer gives metadata of", 1},
		"over": {config.Watch{Policy: "apply"}, func(i *idp) {
			i.valid = -time.Hour
			i.certs = []*x509.Certificate{second.cert}
		}, "failed", "is over", 1},
		"an address that can't be taken": {config.Watch{Policy: "apply"}, func(i *idp) {
			i.sso = "https://id.example/#x"
		}, "failed", "can't be taken", 1},
	} {
		t.Run(name, func(t *testing.T) {
			l, ctx, p := newLab(t), context.Background(), newPublisher(t)
			i := idp{
				id:     "https://id.example",
				sso:    "https://id.example/sso",
				certs:  []*x509.Certificate{first.cert},
				valid:  24 * time.Hour,
				signer: signer.signer,
			}
			p.publish(i.document(t, l.now), 0)
			_, err := l.Configuration.SaveProvider(ctx, owner, "", config.Provider{Name: "Ferry"}, 0)
			require.NoError(t, err)
			taken, err := l.Watch.TakeProvider(ctx, owner, "ferry", api.TakeIn{URL: p.URL})
			require.NoError(t, err)
			require.Equal(t, p.URL, taken.SAML.Metadata.URL, "the address is remembered")
			c.watch.URL = p.URL
			taken.SAML.Metadata = &c.watch
			_, err = l.Configuration.SaveProvider(ctx, owner, "ferry", taken.Provider, 0)
			require.NoError(t, err)
			r, err := l.Watch.Refresh(ctx, ground.System, "provider", "ferry")
			require.NoError(t, err)
			require.Equal(t, "unchanged", r.Outcome, r.Error)

			c.change(&i)
			p.publish(i.document(t, l.now), 0)
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
func waitingLab(t *testing.T) (*lab, *publisher, idp, pair) {
	l, ctx, p := newLab(t), context.Background(), newPublisher(t)
	first, second := newPair(t, "first"), newPair(t, "second")
	i := idp{id: "https://id.example", sso: "https://id.example/sso", certs: []*x509.Certificate{first.cert}, valid: 24 * time.Hour}
	p.publish(i.document(t, l.now), 0)
	_, err := l.Configuration.SaveProvider(ctx, owner, "", config.Provider{Name: "Ferry"}, 0)
	require.NoError(t, err)
	_, err = l.Watch.TakeProvider(ctx, owner, "ferry", api.TakeIn{URL: p.URL})
	require.NoError(t, err)
	i.certs = append(i.certs, second.cert)
	p.publish(i.document(t, l.now), 0)
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
	_, err = l.Watch.UseDocument(ctx, owner, "provider", "ferry", id)
	require.NoError(t, err)
	v, err = l.Checkups.Provider(ctx, "ferry")
	require.NoError(t, err)
	assert.Len(t, v.SAML.Certificates, 2)
	assert.Nil(t, v.Watch.Waiting)

	list, err := l.Watch.Documents(ctx, "provider", "ferry")
	require.NoError(t, err)
	oldest := list.Items[len(list.Items)-1]
	_, err = l.Watch.UseDocument(ctx, owner, "provider", "ferry", oldest.ID)
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
	assert.Equal(t, 404, status(err))
}

func TestADismissedVersionIsNotBroughtUpAgain(t *testing.T) {
	t.Parallel()
	l, p, i, _ := waitingLab(t)
	ctx := context.Background()
	v, err := l.Checkups.Provider(ctx, "ferry")
	require.NoError(t, err)
	require.NoError(t, l.Watch.DismissDocument(ctx, owner, "provider", "ferry", v.Watch.Waiting.ID))
	assert.Equal(t, 409, status(l.Watch.DismissDocument(ctx, owner, "provider", "ferry", v.Watch.Waiting.ID)))
	p.publish(i.document(t, l.now.Add(time.Hour)), 0) // new dates, new ID, the same values
	r, err := l.Watch.Refresh(ctx, ground.System, "provider", "ferry")
	require.NoError(t, err)
	assert.Equal(t, "unchanged", r.Outcome)
	i.sso += "/new"
	p.publish(i.document(t, l.now), 0)
	r, err = l.Watch.Refresh(ctx, ground.System, "provider", "ferry")
	require.NoError(t, err)
	assert.Equal(t, "waiting", r.Outcome, "something else that changed does ask")
}

// TestAFailingRefreshKeepsTheLastGoodCopyUntilItsEnd turns the clock past validUntil.
func TestAFailingRefreshKeepsTheLastGoodCopyUntilItsEnd(t *testing.T) {
	t.Parallel()
	l, p, _, _ := waitingLab(t)
	ctx := context.Background()
	p.publish("", http.StatusBadGateway)
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
	l.now = v.Watch.ValidUntil.Add(time.Second)
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
	l, ctx := newLab(t), context.Background()
	var now, most, asked, unseen atomic.Int64
	cert := newPair(t, "many").cert
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
		i := idp{id: s.URL + path, sso: s.URL + path + "/sso", certs: []*x509.Certificate{cert}}
		documents.Store(path, i.document(t, l.now))
		_, err := l.Configuration.SaveProvider(
			ctx,
			owner,
			"",
			config.Provider{
				Slug: fmt.Sprintf("p%d", n),
				Name: "P",
				SAML: &config.SAMLProvider{
					EntityID:     i.id,
					SSO:          []saml.Endpoint{{Binding: saml.BindingPost, Location: i.sso}},
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
	l.now = l.now.Add(7 * time.Hour)
	require.NoError(t, l.Watch.RefreshDue(ctx))
	assert.EqualValues(t, partners, asked.Load())
	assert.LessOrEqual(t, most.Load(), int64(4))
	l.now = l.now.Add(7 * time.Hour)
	require.NoError(t, l.Watch.RefreshDue(ctx))
	assert.EqualValues(t, partners, unseen.Load())
}

func TestTakeACertificateBesideTheMetadata(t *testing.T) {
	t.Parallel()
	l, ctx := newLab(t), context.Background()
	first, other := newPair(t, "first"), newPair(t, "other")
	later, err := keys.SelfSigned(other.signer.Key, "later", l.now, 24*time.Hour)
	require.NoError(t, err)
	early, err := keys.SelfSigned(other.signer.Key, "early", l.now.AddDate(-2, 0, 0), 24*time.Hour)
	require.NoError(t, err)
	i := idp{id: "https://id.example", sso: "https://id.example/sso", certs: []*x509.Certificate{first.cert}}
	bare := i
	bare.certs = nil
	for name, c := range map[string]struct {
		doc    idp
		cert   []byte
		beside string
		code   string
		holds  int
	}{
		"same":        {i, first.cert.Raw, "same", "metadata.certificate-same", 1},
		"newer":       {i, later, "newer", "metadata.certificate-newer", 2},
		"conflicting": {i, early, "conflicting", "metadata.certificate-conflicting", 1},
		"the only":    {bare, early, "newer", "metadata.certificate-added", 1},
	} {
		t.Run(name, func(t *testing.T) {
			u, _, err := l.Watch.UnderstandProvider(
				ctx,
				"",
				api.TakeIn{Text: c.doc.document(t, l.now), Certificate: string(keys.EncodeCertificate(c.cert))},
			)
			require.NoError(t, err)
			assert.Equal(t, c.beside, u.Beside)
			assert.Contains(t, fmt.Sprint(u.Problems), c.code)
			assert.Len(t, u.Provider.SAML.Certificates, c.holds)
		})
	}
	_, _, err = l.Watch.UnderstandProvider(ctx, "", api.TakeIn{Text: i.document(t, l.now), Certificate: "rubbish"})
	assert.Equal(t, 422, status(err))

	// A certificate alone is added to what is held.
	_, err = l.Configuration.SaveProvider(ctx, owner, "", config.Provider{Name: "Ferry"}, 0)
	require.NoError(t, err)
	_, err = l.Watch.TakeProvider(ctx, owner, "ferry", api.TakeIn{Text: i.document(t, l.now)})
	require.NoError(t, err)
	v, err := l.Watch.TakeProvider(ctx, owner, "ferry", api.TakeIn{Text: string(keys.EncodeCertificate(later))})
	require.NoError(t, err)
	assert.Len(t, v.SAML.Certificates, 2)
}

func TestALoneRoleAsksForItsEntityID(t *testing.T) {
	t.Parallel()
	l, ctx := newLab(t), context.Background()
	whole := idp{
		id:    "https://id.example",
		sso:   "https://id.example/sso",
		certs: []*x509.Certificate{newPair(t, "x").cert},
	}.document(t, l.now)
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
