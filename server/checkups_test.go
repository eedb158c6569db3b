package server_test

import (
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/client"
	"innergate/core/access"
	"innergate/core/config"
	"innergate/demo"
	"innergate/testbed"
)

// found waits until a finding of this code stands in the list, or does not.
func found(t *testing.T, w *demo.World, code string, there bool) *api.KeptFinding {
	t.Helper()
	var hit *api.KeptFinding
	require.Eventually(t, func() bool {
		list, err := w.Client().Findings(t.Context(), client.Page{Filters: map[string]string{"code": code}})
		require.NoError(t, err)
		hit = nil
		if len(list.Items) > 0 {
			hit = &list.Items[0]
		}
		return (hit != nil) == there
	}, testbed.Patience, 50*time.Millisecond, "%s there: %v", code, there)
	return hit
}

func TestCheckupFindsAcceptsAndCorrects(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	c := w.Client()
	first, err := c.Checkup(ctx)
	require.NoError(t, err)
	assert.Zero(t, first.Broken+first.Attention, "the demo is sound: %v", first.Findings)
	assert.GreaterOrEqual(t, first.Objects, 8)

	// A change is looked at by itself, without a checkup being asked for.
	set(t, w, "saltmere-staff", func(p *config.Provider) { p.SAML.AllowSHA1 = true })
	f := found(t, w, "option.sha1", true)
	assert.Equal(t, []string{"provider", "saltmere-staff", "attention"}, []string{f.Kind, f.Slug, f.Severity})
	whole, err := c.Checkup(ctx)
	require.NoError(t, err)
	assert.Equal(t, 1, whole.Attention, "it stands once, and not again under each application of the provider: %v", whole.Findings)
	again := found(t, w, "option.sha1", true)
	assert.Equal(t, []any{f.ID, f.FirstSeen}, []any{again.ID, again.FirstSeen})

	// Accepted, it no longer counts; the acceptance can be taken back.
	for _, bad := range []api.AcceptFinding{{Reason: "", Until: time.Now().Add(time.Hour)},
		{Reason: "x", Until: time.Now().Add(-time.Hour)}, {Reason: "x", Until: time.Now().AddDate(2, 0, 0)}} {
		_, err = c.AcceptFinding(ctx, f.ID, bad)
		assert.Error(t, err)
	}
	_, err = c.AcceptFinding(ctx, f.ID, api.AcceptFinding{Reason: "the vendor changes over in May", Until: time.Now().AddDate(0, 1, 0)})
	require.NoError(t, err)
	whole, err = c.Checkup(ctx)
	require.NoError(t, err)
	assert.Equal(t, []int{0, 1}, []int{whole.Attention, whole.Accepted})
	_, err = c.ReopenFinding(ctx, f.ID)
	require.NoError(t, err)

	// The correction is shown first, and not made on what somebody changed in between.
	fix, err := c.Correction(ctx, f.ID)
	require.NoError(t, err)
	assert.Equal(t, []api.Change{{Field: "saml.allowSha1", Before: "true"}}, fix.Changes)
	set(t, w, "saltmere-staff", func(p *config.Provider) { p.Description = "changed meanwhile" })
	assert.ErrorContains(t, c.Correct(ctx, f.ID, fix.Revision), "changed")
	fix, err = c.Correction(ctx, f.ID)
	require.NoError(t, err)
	require.NoError(t, c.Correct(ctx, f.ID, fix.Revision))
	found(t, w, "option.sha1", false)
	p, err := c.Provider(ctx, "saltmere-staff")
	require.NoError(t, err)
	assert.False(t, p.SAML.AllowSHA1)
	assert.Equal(t, "changed meanwhile", p.Description)

	// What has no correction says so.
	f = found(t, w, "provider.no-proof", true)
	assert.False(t, f.Correctable)
	_, err = c.Correction(ctx, f.ID)
	assert.ErrorContains(t, err, "no change that would settle")

	// Viewers may look, nothing else.
	viewer, err := c.NewToken(ctx, api.NewToken{Name: "v", Role: "viewer", Days: 1})
	require.NoError(t, err)
	v := client.New(w.URL, viewer.Secret)
	_, err = v.Checkup(ctx)
	require.NoError(t, err)
	for what, err := range map[string]error{
		"accept": second(v.AcceptFinding(ctx, f.ID, api.AcceptFinding{Reason: "x", Until: time.Now().Add(time.Hour)})),
		"reopen": second(v.ReopenFinding(ctx, f.ID)), "correct": v.Correct(ctx, f.ID, 1),
		"look": second(v.LookOutside(ctx, w.StaffURL)), "notices": second(v.Notices(ctx)),
		"set notices": second(v.SetNotices(ctx, api.SaveNotices{})),
	} {
		problem := &api.Problem{}
		require.ErrorAs(t, err, &problem, what)
		assert.Equal(t, http.StatusForbidden, problem.Status, what)
	}
}

func TestCorrectionsOfApplications(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	c := w.Client()
	_, err := c.SetAccess(
		ctx,
		"cargo-ledger",
		access.Policy{
			To:    access.Everybody,
			Rules: []access.Rule{{Name: "all", Then: access.Allow}, {Name: "never asked", Then: access.Refuse}},
		},
	)
	require.NoError(t, err)
	held, err := c.Application(ctx, "cargo-ledger")
	require.NoError(t, err)
	a := held.Application
	a.OIDC.WithoutPKCE = true
	_, err = c.PutApplication(ctx, a, 0)
	require.NoError(t, err)
	for _, code := range []string{"access.unreachable", "option.no-pkce"} {
		f := found(t, w, code, true)
		require.True(t, f.Correctable)
		fix, err := c.Correction(ctx, f.ID)
		require.NoError(t, err)
		require.NotEmpty(t, fix.Changes)
		require.NoError(t, c.Correct(ctx, f.ID, fix.Revision))
		found(t, w, code, false)
	}
	held, err = c.Application(ctx, "cargo-ledger")
	require.NoError(t, err)
	assert.Len(t, held.Access.Rules, 1)
	assert.False(t, held.OIDC.WithoutPKCE)
}

// TestNewFindingsAreTold has a webhook and a mailbox get what is new, once.
func TestNewFindingsAreTold(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	c := w.Client()
	found(t, w, "provider.no-proof", true) // the first checkup has run
	bodies := make(chan []byte, 10)
	var refuse atomic.Bool
	hook := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		sum := hmac.New(sha256.New, []byte("hook secret"))
		sum.Write(b)
		if hex.EncodeToString(sum.Sum(nil)) != r.Header.Get("X-Innergate-Signature") || refuse.Load() {
			rw.WriteHeader(http.StatusForbidden)
			return
		}
		bodies <- b
	}))
	defer hook.Close()
	for _, bad := range []api.Notices{{Webhook: "not an address"}, {Mail: []string{"nobody"}}, {From: "loud"}, {Mail: make([]string, 21)}} {
		_, err := c.SetNotices(ctx, api.SaveNotices{Notices: bad})
		assert.Error(t, err, bad)
	}
	view, err := c.SetNotices(
		ctx,
		api.SaveNotices{Notices: api.Notices{Webhook: hook.URL, Mail: []string{"fenna@saltmere.example"}}, Secret: ptr("hook secret")},
	)
	require.NoError(t, err)
	assert.True(t, view.HasSecret)
	set(t, w, "saltmere-staff", func(p *config.Provider) { p.SAML.AllowSHA1 = true })
	var told struct {
		Gate     string
		Findings []api.KeptFinding
	}
	select {
	case b := <-bodies:
		require.NoError(t, json.Unmarshal(b, &told))
	case <-time.After(testbed.Patience):
		t.Fatal("nobody was told")
	}
	require.Len(t, told.Findings, 1, "remarks are not told")
	assert.Equal(t, "option.sha1", told.Findings[0].Code)
	require.Eventually(
		t,
		func() bool { return len(w.Mailbox.Letters("fenna@saltmere.example")) == 1 },
		testbed.Patience,
		20*time.Millisecond,
	)
	letter := w.Mailbox.Letters("")[0]
	assert.Contains(t, letter.Text, "SHA-1 is allowed")
	assert.Contains(t, letter.Subject, "1 new finding")

	// A webhook that refuses is shown, and tried again later.
	refuse.Store(true)
	set(t, w, "saltmere-staff", func(p *config.Provider) { p.SAML.AllowCBC = true })
	require.Eventually(t, func() bool {
		view, err = c.Notices(ctx)
		return err == nil && view.Error != ""
	}, testbed.Patience, 50*time.Millisecond)
	assert.Contains(t, view.Error, "403")
	require.Eventually(t, func() bool { return len(w.Mailbox.Letters("")) == 2 }, testbed.Patience, 20*time.Millisecond,
		"the mail goes out all the same")
	assert.Empty(t, bodies)
	// Another address does not get the secret of the first.
	view, err = c.SetNotices(ctx, api.SaveNotices{Notices: api.Notices{Webhook: hook.URL + "/other"}})
	require.NoError(t, err)
	assert.False(t, view.HasSecret)
}

// TestPartnersHostsAreWatched looks at hosts whose clock is wrong, whose certificate ends, is not trusted, or that are
// gone.
func TestPartnersHostsAreWatched(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	c := w.Client()
	var late atomic.Bool
	h := http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		if late.Load() {
			rw.Header().Set("Date", time.Now().Add(-5*time.Minute).UTC().Format(http.TimeFormat))
		}
		http.Redirect(rw, r, "https://elsewhere.example/", http.StatusFound)
	})
	plain := httptest.NewServer(h)
	secure := httptest.NewUnstartedServer(h)
	secure.TLS = &tls.Config{MinVersion: tls.VersionTLS12}
	secure.StartTLS()
	defer secure.Close()
	_, err := c.AddApplication(
		ctx,
		config.Application{
			Slug:      "watched",
			Name:      "Watched",
			Kind:      "oidc",
			Reach:     access.Everyone,
			Providers: []string{"saltmere-staff"},
			Access:    access.Policy{To: access.Everybody},
			OIDC:      &config.OIDCApplication{RedirectURIs: []string{plain.URL + "/cb", secure.URL + "/cb"}},
		},
	)
	require.NoError(t, err)
	look := func(origin string) api.OutsideHost {
		var list *api.List[api.OutsideHost]
		require.Eventually(
			t,
			func() bool { list, err = c.LookOutside(ctx, origin); return err == nil },
			testbed.Patience,
			50*time.Millisecond,
			"it is known once the application was inspected",
		)
		i := slices.IndexFunc(list.Items, func(h api.OutsideHost) bool { return h.Origin == origin })
		require.GreaterOrEqual(t, i, 0)
		return list.Items[i]
	}
	at := look(plain.URL)
	require.Empty(t, at.Error, "a redirect is an answer, and is not followed")
	require.NotNil(t, at.SkewSeconds)
	assert.LessOrEqual(t, max(*at.SkewSeconds, -*at.SkewSeconds), int64(1))
	assert.Equal(t, "Watched", at.UsedBy[0].Name)
	late.Store(true)
	at = look(plain.URL)
	assert.InDelta(t, -300, *at.SkewSeconds, 2)
	assert.Len(t, at.History, 2)
	// On a busy machine a look may end before the certificate is seen.
	seen := func() bool { return strings.Contains(look(secure.URL).Error, "certificate") }
	require.Eventually(t, seen, testbed.Patience, time.Millisecond)
	_, err = c.Checkup(ctx)
	require.NoError(t, err)
	f := found(t, w, "outside.clock", true)
	assert.Regexp(t, "(4 minutes 5[89] seconds|5 minutes( [12] seconds?)?) behind ours", f.Title, "an answer's date tells whole seconds")
	assert.Equal(t, "watched", f.Slug)
	assert.Equal(t, "broken", found(t, w, "outside.tls-untrusted", true).Severity)

	plain.Close()
	for range 3 {
		at = look(plain.URL)
	}
	assert.Equal(t, 3, at.Failures)
	_, err = c.Checkup(ctx)
	require.NoError(t, err)
	assert.Contains(t, found(t, w, "outside.unreachable", true).Detail, "3 looks failed")
	_, err = c.LookOutside(ctx, "http://169.254.169.254")
	assert.Error(t, err, "only hosts that a partner has are looked at")
}
