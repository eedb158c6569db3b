package browser_test

import (
	"context"
	"encoding/base64"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"innergate/client"
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

// newestDecision waits for a sign-in that is under way and went on by another way, for this reason.
func newestDecision(t *testing.T, w *demo.World, code string) {
	t.Helper()
	require.Eventually(t, func() bool {
		list, err := w.Client().Traces(t.Context(), client.Page{Limit: 5})
		require.NoError(t, err)
		for _, one := range list.Items {
			x, err := w.Client().Trace(t.Context(), one.Reference)
			require.NoError(t, err)
			for _, e := range x.Entries {
				if d := e.Decision; d != nil && d.About == "ticket" && strings.HasPrefix(d.By, code+": ") {
					return true
				}
			}
		}
		return false
	}, testbed.Patience, 50*time.Millisecond, code)
}
