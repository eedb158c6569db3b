package server_test

import (
	"context"
	"encoding/base64"
	"log/slog"
	"net/http"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"software.sslmate.com/src/go-pkcs12"

	"innergate/api"
	"innergate/client"
	"innergate/core/config"
	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/demo"
	"innergate/testbed"
)

// signedIn signs somebody in at Crew Rota and says how it went.
func signedIn(ctx context.Context, w *demo.World, user string) string {
	b := w.Walker()
	if err := b.SignIn(ctx, w.RotaURL+"/sign-in", user); err != nil {
		return err.Error()
	}
	if got := b.Inner("nameid"); got != user {
		text := b.Text[strings.LastIndex(b.Text, "<main"):]
		if list, err := w.Client().Traces(ctx, client.Page{Limit: 1, Filters: map[string]string{"outcome": "refused"}}); err == nil &&
			len(list.Items) > 0 {
			text += " (last refusal: " + list.Items[0].Code + ")"
		}
		return text
	}
	return ""
}

// TestRolloverWhileSignInsRun replaces the signing key and the encryption key while people sign in all the time, and
// sees that not one sign-in fails.
func TestRolloverWhileSignInsRun(t *testing.T) {
	t.Parallel()
	w := testbed.World(
		t,
		demo.Options{
			InFlight:     100000,
			HoldMetadata: 20 * time.Millisecond,
			Log:          slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelError})),
		},
	)
	ctx, c := context.Background(), w.Client()
	var running sync.WaitGroup
	var done, failed atomic.Int64
	var first atomic.Value
	stop := make(chan struct{})
	for range 3 {
		running.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
				}
				if why := signedIn(ctx, w, "mvoss"); why != "" {
					failed.Add(1)
					first.CompareAndSwap(nil, why)
				}
				done.Add(1)
			}
		})
	}
	some := func() {
		before := done.Load()
		require.Eventually(t, func() bool { return done.Load() >= before+12 }, testbed.Patience, 5*time.Millisecond)
	}
	some()
	for _, purpose := range []string{keys.PurposeSigning, keys.PurposeEncryption} {
		before, err := c.Rollover(ctx, purpose, "")
		require.NoError(t, err)
		assert.Equal(t, "make", before.Step)
		next, err := c.MakeKey(ctx, api.NewKey{Purpose: purpose, Kind: "rsa-3072"})
		require.NoError(t, err)
		_, err = c.SwitchKey(ctx, next.ID, api.SwitchKey{})
		assert.ErrorContains(t, err, "Publish it first")
		some()
		_, err = c.StepKey(ctx, next.ID, "publish")
		require.NoError(t, err)
		// Partners fetch the metadata by themselves; who has the next certificate shows.
		require.Eventually(t, func() bool {
			r, err := c.Rollover(ctx, purpose, "")
			return err == nil && r.Step == "wait" && r.Count > 0 && r.Have == r.Count
		}, testbed.Patience, 20*time.Millisecond, "everybody gets the next certificate")
		_, err = c.SwitchKey(ctx, next.ID, api.SwitchKey{})
		require.NoError(t, err)
		some()
		// Taken back, and forward again.
		_, err = c.StepKey(ctx, next.ID, "undo")
		require.NoError(t, err)
		back, err := c.Rollover(ctx, purpose, "")
		require.NoError(t, err)
		assert.Equal(t, before.Active.ID, back.Active.ID)
		some()
		_, err = c.SwitchKey(ctx, next.ID, api.SwitchKey{})
		require.NoError(t, err)
		some()
		after, err := c.Rollover(ctx, purpose, "")
		require.NoError(t, err)
		assert.Equal(t, "keep", after.Step)
		require.Len(t, after.Retiring, 1)
		_, err = c.StepKey(ctx, after.Retiring[0].ID, "retire")
		require.NoError(t, err)
		some()
		_, err = c.StepKey(ctx, next.ID, "undo")
		assert.ErrorContains(t, err, "no key to go back to", "retiring is the step that can't be taken back")
	}
	close(stop)
	running.Wait()
	assert.Zero(t, failed.Load(), "of %d sign-ins, the first that failed: %v", done.Load(), first.Load())
	assert.Greater(t, done.Load(), int64(100))
	verdict, err := w.Gate.VerifyJournal(ctx, "")
	require.NoError(t, err)
	assert.True(t, verdict.Whole, verdict.Broken)
	assert.Greater(t, verdict.Lines, int64(10))
}

func TestSwitchAtATime(t *testing.T) {
	t.Parallel()
	var shift atomic.Int64
	w := testbed.World(t, demo.Options{Now: func() time.Time { return time.Now().Add(time.Duration(shift.Load())) }})
	ctx, c := context.Background(), w.Client()
	k, err := c.MakeKey(ctx, api.NewKey{Purpose: keys.PurposeSigning, Kind: "p-256"})
	require.NoError(t, err)
	_, err = c.MakeKey(ctx, api.NewKey{Purpose: keys.PurposeSigning})
	assert.ErrorContains(t, err, "next key was made already")
	_, err = c.StepKey(ctx, k.ID, "publish")
	require.NoError(t, err)
	past := time.Now().Add(-time.Hour)
	_, err = c.SwitchKey(ctx, k.ID, api.SwitchKey{At: &past, Anyway: true})
	assert.ErrorContains(t, err, "must lie ahead")
	at := time.Now().Add(time.Hour)
	planned, err := c.SwitchKey(ctx, k.ID, api.SwitchKey{At: &at, Anyway: true})
	require.NoError(t, err)
	assert.Equal(t, "next", planned.State)
	_, err = c.StepKey(ctx, k.ID, "undo")
	require.NoError(t, err)
	require.NoError(t, w.Gate.Keyring.SwitchDue(ctx))
	_, err = c.SwitchKey(ctx, k.ID, api.SwitchKey{At: &at, Anyway: true})
	require.NoError(t, err)
	require.NoError(t, w.Fetch())
	shift.Store(int64(61 * time.Minute))
	require.Eventually(t, func() bool {
		r, err := c.Rollover(ctx, keys.PurposeSigning, "")
		return err == nil && r.Active.ID == k.ID
	}, testbed.Patience, 50*time.Millisecond, "the service switches by itself")
	assert.Empty(t, signedIn(ctx, w, "mvoss"), "an application of RSA days takes a signature of P-256")
}

// TestOneConfirmsByHand: a partner that does not fetch metadata is confirmed by somebody.
func TestOneConfirmsByHand(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), context.Background()
	c := w.Client()
	k, err := c.MakeKey(ctx, api.NewKey{Purpose: keys.PurposeSigning})
	require.NoError(t, err)
	assert.ErrorContains(t, c.ConfirmHolder(ctx, k.ID, "applications", "crew-rota", true), "published")
	_, err = c.StepKey(ctx, k.ID, "publish")
	require.NoError(t, err)
	require.NoError(t, c.ConfirmHolder(ctx, k.ID, "applications", "crew-rota", true))
	r, err := c.Rollover(ctx, keys.PurposeSigning, "")
	require.NoError(t, err)
	assert.Equal(t, [2]int{1, 2}, [2]int{r.Have, r.Count})
	assert.False(t, r.Partners[0].Has, "those without it come first")
	assert.Equal(t, "confirmed", r.Partners[1].How)
	require.NoError(t, c.ConfirmHolder(ctx, k.ID, "applications", "crew-rota", false))
	_, err = c.StepKey(ctx, k.ID, "undo")
	require.NoError(t, err)
	require.NoError(t, c.DiscardKey(ctx, k.ID))
	assert.Error(t, c.DiscardKey(ctx, k.ID))
}

func TestImportCertifyAndExport(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), context.Background()
	c := w.Client()
	signer, err := keys.Generate(keys.P384)
	require.NoError(t, err)
	der, err := keys.SelfSigned(signer, "made elsewhere", time.Now(), time.Hour)
	require.NoError(t, err)
	cert, err := keys.ParseCertificate(der)
	require.NoError(t, err)
	p12, err := pkcs12.Modern.Encode(signer, cert, nil, "ebb")
	require.NoError(t, err)
	in := api.ImportKey{Purpose: keys.PurposeSigning, Data: base64.StdEncoding.EncodeToString(p12), Password: "flood"}
	_, err = c.ImportKey(ctx, in)
	assert.ErrorContains(t, err, "another password")
	in.Purpose, in.Password = keys.PurposeEncryption, "ebb"
	_, err = c.ImportKey(ctx, in)
	assert.ErrorContains(t, err, "must be an RSA key")
	in.Purpose = keys.PurposeSigning
	k, err := c.ImportKey(ctx, in)
	require.NoError(t, err)
	assert.Equal(t, "p-384", k.Kind)
	assert.Equal(t, keys.Fingerprint(der), k.SHA256)

	request, err := c.KeyRequest(ctx, k.ID, "gate.saltmere.example")
	require.NoError(t, err)
	assert.Contains(t, string(request), "CERTIFICATE REQUEST")
	later, err := keys.SelfSigned(signer, "from an authority", time.Now(), 48*time.Hour)
	require.NoError(t, err)
	foreign, err := keys.Generate(keys.P384)
	require.NoError(t, err)
	wrong, err := keys.SelfSigned(foreign, "another", time.Now(), time.Hour)
	require.NoError(t, err)
	_, err = c.CertifyKey(ctx, k.ID, string(keys.EncodeCertificate(wrong)))
	assert.ErrorContains(t, err, "does not fit")
	k, err = c.CertifyKey(ctx, k.ID, string(keys.EncodeCertificate(later)))
	require.NoError(t, err)
	assert.Equal(t, keys.Fingerprint(later), k.SHA256)
	for form, want := range map[string]string{"pem": "-----BEGIN CERTIFICATE", "der": string(later),
		"base64": base64.StdEncoding.EncodeToString(later), "chain": "-----BEGIN CERTIFICATE"} {
		got, err := c.KeyCertificate(ctx, k.ID, form)
		require.NoError(t, err)
		assert.Contains(t, string(got), want, form)
	}
	_, err = c.KeyCertificate(ctx, k.ID, "gif")
	assert.ErrorContains(t, err, "no form")
	_, err = c.StepKey(ctx, k.ID, "publish")
	require.NoError(t, err)
	_, err = c.CertifyKey(ctx, k.ID, string(keys.EncodeCertificate(later)))
	assert.ErrorContains(t, err, "stays as it is")
	require.NoError(t, w.Fetch())
	_, err = c.SwitchKey(ctx, k.ID, api.SwitchKey{Anyway: true})
	require.NoError(t, err)
	assert.Empty(t, signedIn(ctx, w, "mvoss"))
	_, err = c.MakeKey(ctx, api.NewKey{Purpose: keys.PurposeSigning, Kind: "rsa-512"})
	assert.ErrorContains(t, err, "Choose rsa-2048")
}

// TestOwnKeyAndEntityID gives one application a key and an entity ID that only it sees.
func TestOwnKeyAndEntityID(t *testing.T) {
	t.Parallel()
	w := testbed.World(t, demo.Options{HoldMetadata: time.Millisecond})
	ctx, c := context.Background(), w.Client()
	change(t, w, func(a *config.Application) { a.SAML.OwnEntityID = true })
	assert.Empty(t, signedIn(ctx, w, "mvoss"), "the application reads the new entity ID from the same metadata address")
	sheet, err := c.Exchange(ctx, "applications", "crew-rota")
	require.NoError(t, err)
	assert.Equal(t, w.URL+"/saml/idp/crew-rota", sheet.Values[0].Value)
	common, err := c.OurMetadata(ctx, "", "", false)
	require.NoError(t, err)
	assert.NotContains(t, string(common), "crew-rota")

	k, err := c.MakeKey(ctx, api.NewKey{Purpose: keys.PurposeSigning, For: "applications/crew-rota"})
	require.NoError(t, err)
	assert.Equal(t, "crew-rota", k.For.Slug)
	_, err = c.StepKey(ctx, k.ID, "publish")
	require.NoError(t, err)
	assert.Empty(t, signedIn(ctx, w, "mvoss"))
	_, err = c.SwitchKey(ctx, k.ID, api.SwitchKey{Anyway: true})
	require.NoError(t, err)
	assert.Empty(t, signedIn(ctx, w, "mvoss"))
	doc, err := c.OurMetadata(ctx, "idp", "crew-rota", false)
	require.NoError(t, err)
	own := saml.ReadMetadata(doc, time.Now()).Entities[0]
	require.Len(t, own.Roles[0].Certificates("signing"), 1)
	assert.Equal(t, k.SHA256, keys.Fingerprint(own.Roles[0].Certificates("signing")[0].Raw))
	assert.NotContains(t, string(common), base64.StdEncoding.EncodeToString(own.Roles[0].Certificates("signing")[0].Raw))
	_, err = c.StepKey(ctx, k.ID, "undo")
	require.NoError(t, err)
	assert.Empty(t, signedIn(ctx, w, "mvoss"), "back to the key for everybody")
	// A request of this application at the common address is refused: it has one of its own.
	change(t, w, func(a *config.Application) { a.SAML.OwnEntityID = false })
	answer, body := send(t, http.DefaultClient, "GET", w.URL+"/saml/idp/crew-rota/sso", "", "")
	assert.Equal(t, 200, answer.StatusCode)
	assert.Contains(t, body, "takes sign-in requests")
	require.NoError(t, w.Fetch())
	assert.Empty(t, signedIn(ctx, w, "mvoss"))
}

func TestTrustedCertificatesAreListedAndTheirUseIsNoted(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), context.Background()
	require.Empty(t, signedIn(ctx, w, "mvoss"))
	require.NoError(t, w.Gate.WriteUsed(ctx))
	list, err := w.Client().Certificates(ctx, page("", 10))
	require.NoError(t, err)
	require.Len(t, list.Items, 3)
	for _, x := range list.Items {
		if x.Use == "encryption" {
			assert.Nil(t, x.LastUsed)
			continue
		}
		require.NotNil(t, x.LastUsed, x.Owner.Name)
		assert.WithinDuration(t, time.Now(), *x.LastUsed, time.Minute)
	}
	found, err := w.Client().Certificates(ctx, page(list.Items[2].SHA256[:20], 10))
	require.NoError(t, err)
	assert.NotEmpty(t, found.Items)
	first, err := w.Client().Certificates(ctx, page("", 1))
	require.NoError(t, err)
	p := page("", 5)
	p.After = first.Next
	rest, err := w.Client().Certificates(ctx, p)
	require.NoError(t, err)
	assert.Len(t, rest.Items, 2)
}

func page(search string, limit int) client.Page { return client.Page{Search: search, Limit: limit} }

// TestASwitchStopsWherePartnersLackTheCertificate names those who are not known to have it, goes on where it is told to, and leaves
// a finding with the way back; a planned switch waits for them.
func TestASwitchStopsWherePartnersLackTheCertificate(t *testing.T) {
	t.Parallel()
	var shift atomic.Int64
	w := testbed.World(t, demo.Options{Now: func() time.Time { return time.Now().Add(time.Duration(shift.Load())) }})
	ctx, c := t.Context(), w.Client()
	k, err := c.MakeKey(ctx, api.NewKey{Purpose: keys.PurposeSigning})
	require.NoError(t, err)
	_, err = c.StepKey(ctx, k.ID, "publish")
	require.NoError(t, err)
	found := func() []string {
		var codes []string
		a, err := c.Application(ctx, "crew-rota")
		require.NoError(t, err)
		for _, f := range a.Findings {
			if strings.HasPrefix(f.Code, "our-certificate.") {
				codes = append(codes, f.Code)
			}
		}
		return codes
	}
	_, err = c.SwitchKey(ctx, k.ID, api.SwitchKey{})
	refused(t, err, "certificate-not-held", "")
	assert.ErrorContains(t, err, "Crew Rota")
	assert.ErrorContains(t, err, "Saltmere Staff")
	assert.Empty(t, found())

	at := time.Now().Add(time.Hour)
	_, err = c.SwitchKey(ctx, k.ID, api.SwitchKey{At: &at})
	require.NoError(t, err)
	shift.Store(int64(61 * time.Minute))
	require.NoError(t, w.Gate.Keyring.SwitchDue(ctx))
	r, err := c.Rollover(ctx, keys.PurposeSigning, "")
	require.NoError(t, err)
	assert.Equal(t, "scheduled", r.Step, "it waits")
	assert.Equal(t, []string{"our-certificate.waited-for"}, found())
	_, err = c.StepKey(ctx, k.ID, "undo")
	require.NoError(t, err)

	_, err = c.SwitchKey(ctx, k.ID, api.SwitchKey{Anyway: true})
	require.NoError(t, err)
	assert.Equal(t, []string{"our-certificate.not-held"}, found())
	require.NoError(t, c.ConfirmHolder(ctx, k.ID, "applications", "crew-rota", true))
	assert.Empty(t, found())
	_, err = c.StepKey(ctx, k.ID, "undo")
	require.NoError(t, err)
	assert.Empty(t, found(), "taken back")
}
