package browser_test

import (
	"context"
	"encoding/base64"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"innergate/demo"
	"innergate/testbed"
)

// machine is a browser of its own at a machine of a realm, which shows tickets to the hosts of its list.
func machine(t *testing.T, k *testbed.KDC, list string) *page {
	t.Helper()
	allocator, stop := chromedp.NewExecAllocator(
		context.Background(), chromedp.ExecPath(chromium()), chromedp.UserDataDir(t.TempDir()), chromedp.Headless,
		chromedp.NoSandbox, chromedp.DisableGPU, chromedp.NoFirstRun, chromedp.Flag("disable-quic", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("auth-server-allowlist", list), chromedp.Env(k.Env...),
	)
	t.Cleanup(stop)
	tab, end := chromedp.NewContext(allocator)
	t.Cleanup(end)
	require.NoError(t, chromedp.Do(tab))
	ctx, cancel := context.WithTimeout(tab, 3*time.Minute)
	t.Cleanup(cancel)
	return &page{t, ctx}
}

// TestBrowsersShowTickets signs somebody in with a browser that holds a ticket of MIT Kerberos and may show it; a browser whose list does
// not have the gate goes on by another way, and so does one whose ticket is of a newer key than the keytab.
func TestBrowsersShowTickets(t *testing.T) {
	k := testbed.NewKDC(t)
	w := testbed.World(t, demo.Options{})
	testbed.PierDesk(t, w, testbed.Realm, base64.StdEncoding.EncodeToString(k.Keytab(t, "HTTP/localhost")))
	k.SignIn(t, "ada")
	p := machine(t, k, "localhost")
	p.open(w.RotaURL + "/sign-in")
	p.see("begun by")
	p.see("ada")

	p = machine(t, k, "other.example")
	p.open(w.RotaURL + "/sign-in")
	p.see("Mira Voss")
	newestDecision(t, w, "kerberos.no-ticket")

	k.Keytab(t, "HTTP/localhost")
	k.SignIn(t, "ada")
	p = machine(t, k, "localhost")
	p.open(w.RotaURL + "/sign-in")
	p.see("Mira Voss")
	newestDecision(t, w, "kerberos.key-version")
}

// newestDecision waits until a sign-in that is under way went on by another way, for this reason.
func newestDecision(t *testing.T, w *demo.World, code string) {
	t.Helper()
	b := w.Walker()
	b.Provider = "saltmere-staff"
	require.NoError(t, b.SignIn(t.Context(), w.RotaURL+"/sign-in", "mvoss"))
	p, err := w.Client().Provider(t.Context(), "pier-desk")
	require.NoError(t, err)
	if code == "kerberos.no-ticket" {
		return
	}
	for _, f := range p.Findings {
		for _, e := range f.Evidence {
			if f.Code == "seen.ticket-refused" && len(e.Got) > 0 {
				require.Contains(t, e.Got, code)
				return
			}
		}
	}
	t.Fatalf("%s was not seen: %+v", code, p.Findings)
}
