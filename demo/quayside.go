package demo

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"time"

	"innergate/client"
	"innergate/standin"
)

// quays is the address of a desk on the quays, in the network from which a route of the demo leads to tickets.
const quays = "127.0.41.7"

// quaysideService is the name under which the desks' browsers ask for tickets to the gate.
func (w *World) quaysideService() (string, error) {
	at, err := url.Parse(w.URL)
	return "HTTP/" + at.Hostname(), err
}

// AtQuayside is the browser of a desk on the quays, at which somebody has signed in; empty for nobody.
func (w *World) AtQuayside(person string) *Walker {
	dialer := &net.Dialer{Timeout: 5 * time.Second, LocalAddr: &net.TCPAddr{IP: net.ParseIP(quays)}}
	transport := &http.Transport{DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
		_, port, err := net.SplitHostPort(address)
		if err != nil {
			return nil, err
		}
		return dialer.DialContext(ctx, network, "127.0.0.1:"+port)
	}}
	if held, ok := w.transport.(*http.Transport); ok {
		transport.TLSClientConfig = held.TLSClientConfig
	}
	b := NewWalker(transport)
	b.Ticket = func(service string) (string, error) { return w.Quayside.Show(person, service) }
	return b
}

// quaysidePage is where somebody who looks at the demo sits down at a desk.
func (w *World) quaysidePage() http.Handler {
	starts := map[string]string{"Crew Rota": w.RotaURL + "/sign-in", "Cargo Ledger": w.LedgerURL + "/sign-in",
		"Berth Board": w.BerthsURL + "/"}
	page := &standin.QuaysidePage{Realm: w.Quayside, People: []string{"wfell", "rmoor"},
		Applications: []string{"Crew Rota", "Cargo Ledger", "Berth Board"}}
	page.Open = func(ctx context.Context, person, application string) (string, error) {
		b := w.AtQuayside(person)
		if err := b.SignIn(ctx, starts[application], ""); err != nil {
			return "", err
		}
		return fmt.Sprintf("%s: %s", b.Address.Host, b.Words()), nil
	}
	return page.Handler()
}

// checkQuayside signs somebody in by a ticket, with values from the harbour's directory, at each application that has this way; sends
// whoever has none on by another way; and has a clock that is wrong explained.
func checkQuayside(ctx context.Context, w *World, step func(string, ...any)) error {
	for _, one := range []struct{ name, start, shows, want string }{
		{"Cargo Ledger", w.LedgerURL + "/sign-in", "claim-email", "wfell@harbour.example"},
		{"Crew Rota", w.RotaURL + "/sign-in", "nameid", "wfell@harbour.example"},
		{"Berth Board", w.BerthsURL + "/", "person", "wfell@harbour.example"},
		{"Dockhand", w.DockhandURL + "/sign-in", "claim-preferred_username", "wfell@harbour.example"},
	} {
		b := w.AtQuayside("wfell")
		if err := b.SignIn(ctx, one.start, ""); err != nil {
			return err
		}
		if got := b.Inner(one.shows); got != one.want {
			return fmt.Errorf("%s should have received %s by a ticket and shows %q: %s", one.name, one.want, got, b.Text)
		}
		step("Kerberos: %s received %s, who was asked nothing", one.name, one.want)
	}
	b := w.AtQuayside("")
	if err := b.Get(ctx, w.RotaURL+"/sign-in"); err != nil {
		return err
	}
	if err := b.Onward(ctx); err != nil {
		return err
	}
	b.Provider = "saltmere-staff"
	if err := b.Choose(ctx, "mvoss"); err != nil {
		return err
	}
	if got := b.Inner("nameid"); got != "mvoss" {
		return fmt.Errorf("who has no ticket should go on by another way, and ends at %s: %s", b.Address, b.Text)
	}
	step("Kerberos: who has no ticket went on by Saltmere Staff")
	w.Quayside.Make(standin.QuaysideClock)
	defer w.Quayside.Make("")
	b = w.AtQuayside("wfell")
	if err := b.Get(ctx, w.RotaURL+"/sign-in"); err != nil {
		return err
	}
	if err := b.Onward(ctx); err != nil {
		return err
	}
	b.Provider = "saltmere-staff"
	if err := b.Choose(ctx, "mvoss"); err != nil {
		return err
	}
	list, err := w.Client().Traces(ctx, client.Page{Limit: 1})
	if err != nil {
		return err
	}
	x, err := w.Client().Trace(ctx, list.Items[0].Reference)
	if err != nil {
		return err
	}
	for _, e := range x.Entries {
		if e.Check != nil && e.Check.Name == "kerberos.clock" && !e.Check.OK {
			step("Kerberos: a clock that is %s off is explained", e.Check.Got)
			return nil
		}
	}
	return fmt.Errorf("a clock that is wrong should be explained in the trace %s", x.Reference)
}
