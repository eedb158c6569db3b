// Package gate is the root of the service's use cases: it makes the rooms, one over the other, and runs what is due.
// Each room is a package of its own; none knows of HTTP servers or command lines.
package gate

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"strings"
	"sync/atomic"
	"time"

	"innergate/core/passwords"
	"innergate/gate/accounts"
	"innergate/gate/changes"
	"innergate/gate/checkups"
	"innergate/gate/configuration"
	"innergate/gate/console"
	"innergate/gate/copies"
	"innergate/gate/directory"
	"innergate/gate/exchange"
	"innergate/gate/grants"
	"innergate/gate/ground"
	"innergate/gate/guarded"
	"innergate/gate/issued"
	"innergate/gate/kerberos"
	"innergate/gate/keyring"
	"innergate/gate/ldapdir"
	"innergate/gate/messages"
	"innergate/gate/moves"
	"innergate/gate/node"
	"innergate/gate/partners"
	"innergate/gate/persons"
	"innergate/gate/portal"
	"innergate/gate/pushed"
	"innergate/gate/readings"
	"innergate/gate/rehearsal"
	"innergate/gate/sessions"
	"innergate/gate/signin"
	"innergate/gate/signout"
	"innergate/gate/sources"
	"innergate/gate/traces"
	"innergate/gate/watch"
	"innergate/nodes"
	"innergate/store"
)

// Options is what a Gate needs.
type Options = ground.Options

// Gate is one running Inner Gate: its rooms in the order in which they stand on each other.
type Gate struct {
	*ground.Ground
	Keyring       *keyring.Room
	Partners      *partners.Room
	Messages      *messages.Room
	Traces        *traces.Room
	Sessions      *sessions.Room
	Persons       *persons.Room
	Accounts      *accounts.Room
	Grants        *grants.Room
	SignIn        *signin.Room
	Directory     *directory.Room
	LDAP          *ldapdir.Room
	Kerberos      *kerberos.Room
	Readings      *readings.Room
	Pushed        *pushed.Room
	Console       *console.Room
	SignOut       *signout.Room
	Guarded       *guarded.Room
	Configuration *configuration.Room
	Watch         *watch.Room
	Sources       *sources.Room
	Changes       *changes.Room
	Rehearsal     *rehearsal.Room
	Exchange      *exchange.Room
	Moves         *moves.Room
	Checkups      *checkups.Room
	Portal        *portal.Room
	Node          *node.Room
	Copies        *copies.Room
}

// New makes a gate and sees that it has its first keys.
func New(ctx context.Context, o Options) (*Gate, error) {
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	o.InFlight = cmp.Or(o.InFlight, 500)
	o.StrangerTraces = cmp.Or(o.StrangerTraces, 300)
	o.KeepTraces = cmp.Or(o.KeepTraces, 200_000)
	o.PasswordCost = cmp.Or(o.PasswordCost, passwords.Usual)
	var err error
	if o.PublicURL, err = publicURL(o.PublicURL); err != nil {
		return nil, err
	}
	g, err := over(&ground.Ground{Options: o})
	if err != nil {
		return nil, err
	}
	o.Store.LogTo(o.Log)
	// What has to be there before the gate is asked anything; each may be begun again.
	for _, begin := range []func(context.Context) error{g.Keyring.Ensure, g.Partners.ConfirmOnce, g.LookBack, g.Configuration.LayOutAll} {
		if err := o.Store.Patiently(ctx, func() error { return begin(ctx) }); err != nil {
			return nil, err
		}
	}
	return g, nil
}

// publicURL checks the address at which people reach the gate, and takes the slash from its end.
func publicURL(text string) (string, error) {
	u, err := url.Parse(text)
	if err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" || u.RawQuery != "" || u.Fragment != "" ||
		strings.Trim(u.Path, "/") != "" {
		return "", fmt.Errorf(
			"the public URL %q must be an http or https address with a host and nothing behind it, such as https://gate.saltmere.example",
			text,
		)
	}
	return u.Scheme + "://" + u.Host, nil
}

// over makes the rooms over a ground, and gives those below what those above do for them.
func over(base *ground.Ground) (*Gate, error) {
	g := &Gate{Ground: base}
	g.Keyring = keyring.New(base)
	g.Partners = partners.New(base, g.Keyring)
	g.Messages = messages.New(base, g.Keyring, g.Partners)
	g.Traces = traces.New(base, g.Partners)
	g.Sessions = sessions.New(base, g.Partners)
	g.Persons = persons.New(base, g.Partners)
	g.Accounts = accounts.New(base, g.Partners, g.Traces)
	g.Grants = grants.New(base, g.Keyring, g.Partners, g.Traces, g.Persons)
	g.SignIn = signin.New(base, g.Keyring, g.Partners, g.Messages, g.Traces, g.Sessions, g.Persons, g.Grants)
	var err error
	if g.Directory, err = directory.New(base, g.Partners, g.Persons, g.SignIn); err != nil {
		return nil, err
	}
	g.LDAP = ldapdir.New(base, g.Partners, g.SignIn)
	g.Kerberos = kerberos.New(base, g.Partners, g.SignIn)
	g.Readings = readings.New(base, g.Partners, g.Persons, g.SignIn, g.LDAP)
	g.Pushed = pushed.New(base, g.Partners, g.Persons, g.SignIn)
	g.Console = console.New(base, g.Partners, g.Grants, g.Directory)
	g.SignOut = signout.New(base, g.Keyring, g.Partners, g.Messages, g.Sessions, g.Grants, g.SignIn)
	g.Guarded = guarded.New(base, g.Keyring, g.Partners, g.Sessions, g.Persons, g.SignIn, g.SignOut)
	g.Configuration = configuration.New(base, g.Partners, g.Sessions, g.Persons)
	g.Watch = watch.New(base, g.Partners, g.Configuration)
	g.Sources = sources.New(base, g.Partners, g.Configuration, g.Watch)
	g.Changes = changes.New(base, g.Partners, g.Persons, g.Grants, g.Console, g.Configuration, g.Watch, g.Sources)
	g.Rehearsal = rehearsal.New(base, g.Partners, g.Traces, g.Sessions, g.Persons, g.SignIn, g.SignOut, g.Changes, g.Accounts)
	g.Exchange = exchange.New(
		base, g.Keyring, g.Partners, g.Traces, g.Grants, g.Console, g.SignOut, g.Configuration, g.Watch, g.Changes,
		g.Rehearsal,
	)
	g.Moves = moves.New(base, g.Partners, g.Traces, g.Persons, g.Configuration, g.Changes, g.Rehearsal)
	g.Checkups = checkups.New(base, g.Keyring, g.Partners, g.Traces, g.Configuration, g.Watch, g.Sources, g.Exchange)
	g.Node, g.Copies = node.New(base), copies.New(base)
	g.Portal = portal.New(base, g.Partners, g.Sessions, g.Persons, g.SignIn, g.Directory, g.LDAP)

	g.Grants.Refusals, g.Persons.Traces = g.SignIn, g.Traces
	g.SignIn.Outcomes, g.SignIn.SecondFactor, g.SignIn.Consoles = g.Moves, g.Directory, g.Console
	g.SignIn.Guarded, g.SignIn.Own = guarded.Side{Room: g.Guarded}, directory.Side{Room: g.Directory}
	g.SignIn.LDAP, g.SignIn.Lookups, g.Watch.Directories = ldapdir.Side{Room: g.LDAP}, g.LDAP, g.LDAP
	g.SignIn.Tickets, g.SignIn.Links = kerberos.Side{Room: g.Kerberos}, portal.Links{}
	g.Configuration.Views, g.Checkups.Nodes = g.Checkups, g.Node.Found
	g.Watch.Sources, g.Checkups.Accounts = g.Sources, g.Accounts.Found
	g.Changes.Shadow = g.shadow
	return g, nil
}

// Join makes the gate one of some nodes that keep the records together.
func (g *Gate) Join(ctx context.Context, together node.Nodes, o nodes.Options) error {
	g.Spread.Store(true)
	if err := g.Node.Begin(ctx, together, o, g.Traces.Answers()); err != nil {
		return err
	}
	g.Traces.Elsewhere = g.Node
	return nil
}

// shadow is the room of changes over another store, in a second set of rooms: what they do there is only looked at.
func (g *Gate) shadow(s *store.Store) (*changes.Room, error) {
	o := g.Options
	o.Store = s
	aside, err := over(&ground.Ground{Options: o})
	if err != nil {
		return nil, err
	}
	return aside.Changes, nil
}

// Tidy deletes what has expired and what is over its number, room by room and a part at a time: between any two parts
// whoever signs in takes the writer's turn. It is called from time to time. Of some nodes the one that leads tidies up the records,
// each its own traces.
func (g *Gate) Tidy(ctx context.Context) error {
	now := g.Now().UTC()
	if !g.Node.Leads(ctx) {
		return g.tidyTraces(ctx, now)
	}
	for _, tidy := range []func(*ground.Tidying) error{
		g.Ground.Tidy, g.Messages.Tidy, g.Sessions.Tidy, g.Persons.Tidy, issued.Tidy, g.SignIn.Tidy, g.Console.Tidy, g.SignOut.Tidy,
		g.Guarded.Tidy, g.Sources.Tidy, g.Changes.Tidy, g.Rehearsal.Tidy, g.Moves.Tidy, g.Checkups.Tidy, g.Node.Tidy, g.Accounts.Tidy,
	} {
		if err := ground.InParts(ctx, now, g.Store.Write, tidy); err != nil {
			return err
		}
	}
	return g.tidyTraces(ctx, now)
}

// tidyTraces does so in the file of traces.
func (g *Gate) tidyTraces(ctx context.Context, now time.Time) error {
	return errors.Join(ground.InParts(ctx, now, g.Store.Traces.Write, g.Traces.Tidy),
		ground.InParts(ctx, now, g.Store.Traces.Write, g.Accounts.TidyTalks))
}

// WriteUsed writes down which certificates verified something and which client secrets were used since the last time.
func (g *Gate) WriteUsed(ctx context.Context) error {
	return errors.Join(g.Partners.WriteUsedSecrets(ctx), g.Keyring.WriteUsed(ctx))
}

// due is something that is looked after from time to time.
type due struct {
	do    func(context.Context) error
	every int    // of how many turns
	fails string // what is written to the log
}

const (
	turn         = 2 * time.Second
	analyzeTurns = int(6 * time.Hour / turn)
	renewTurns   = int(time.Hour / turn)
)

// planned is what a turn does before anything else, once for all nodes.
func (g *Gate) planned() []due {
	return []due{
		{g.Configuration.RevertDue, 1, "what was set for some time could not be taken back"},
		{g.Changes.ApplyDue, 1, "changes that were planned could not be made"},
		{g.Moves.MovesDue, 1, "waves of moves could not be opened or settled"},
		{g.Keyring.SwitchDue, 1, "a planned switch of keys failed"},
		{g.Readings.Due, 15, "people could not be read by schedule"},
		{g.Pushed.Due, 1, "groups that were pushed could not be worked out"},
		{g.Accounts.CompareDue, 15, "accounts could not be compared by schedule"},
		{g.Sessions.EndIdle, 15, "sessions that lie idle could not be ended"},
		{g.Store.Analyze, analyzeTurns, "the database could not look at its tables"},
	}
}

// everywhere is what each node does for itself.
func (g *Gate) everywhere() []due {
	return []due{
		{g.Traces.EndUnfetched, 5, "sign-ins whose tokens nobody fetched could not be ended"},
		{g.Node.Look, 1, "which nodes there are could not be read"},
		{g.Node.Renew, renewTurns, "the node's certificate could not be renewed"},
		{g.boundLog, 1, "the database's write-ahead log could not be kept small"},
		{g.Store.Traces.Analyze, analyzeTurns, "the database could not look at the traces' tables"},
		{g.WriteUsed, 15, "the last use of keys and secrets could not be written down"},
	}
}

// Turn does once what is done from time to time, except what asks partners and the checkup. The first that fails ends it.
func (g *Gate) Turn(ctx context.Context) error {
	for _, d := range append(g.planned(), g.everywhere()...) {
		if err := d.do(ctx); err != nil {
			return fmt.Errorf("%s: %w", d.fails, err)
		}
	}
	return nil
}

// boundLog keeps the write-ahead log at its size, and tells when somebody who reads for long hinders that.
func (g *Gate) boundLog(ctx context.Context) error {
	for name, bound := range map[string]func(context.Context) (store.Log, error){
		store.FileName: g.Store.BoundLog, store.TracesFileName: g.Store.Traces.BoundLog,
	} {
		log, err := bound(ctx)
		if err != nil {
			return err
		}
		if log.Held && log.Size > 4*store.LogSize {
			g.Log.WarnContext(ctx, "the database's write-ahead log grows, since somebody reads for long", "file", name, "MiB", log.Size>>20)
		}
	}
	return nil
}

// Run does what must be done from time to time until the context ends: what was planned, planned switches of keys,
// looking at partners' metadata and at sources, the checkup, telling applications of sessions that have ended, and
// writing down which certificates were used.
func (g *Gate) Run(ctx context.Context) {
	go g.whileLeading(ctx, g.SignOut.TellAlways)
	go g.whileLeading(ctx, g.Accounts.Always)
	var checked checkups.State
	check := func(ctx context.Context) error { return g.Checkups.CheckWhatChanged(ctx, &checked) }
	const refreshing = "refreshing metadata failed"
	partners := []due{
		{g.Sources.RefreshSourcesDue, 1, refreshing},
		{g.Watch.RefreshDue, 1, refreshing},
		{g.Checkups.LookOutsideDue, 1, refreshing},
	}
	var busy busy
	tick := time.NewTicker(turn)
	defer tick.Stop()
	started := time.Now()
	for n := 1; ; n++ {
		g.doDue(ctx, n, []due{{func(ctx context.Context) error {
			return g.WatchClock(ctx, started.Add(time.Since(started))) // by the clock that nobody sets
		}, 1, "a jump of the clock could not be written down"}})
		g.doDue(ctx, n, g.everywhere())
		if g.Node.Leads(ctx) {
			g.doDue(ctx, n, g.planned())
			g.besides(ctx, n, check, partners, &busy)
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

// whileLeading does something as long as this process does what is done once: telling applications of sessions that have ended, and
// keeping their accounts.
func (g *Gate) whileLeading(ctx context.Context, do func(context.Context)) {
	for ctx.Err() == nil {
		if !g.Node.Leads(ctx) {
			select {
			case <-time.After(turn):
			case <-ctx.Done():
			}
			continue
		}
		leading, stop := context.WithCancel(ctx)
		done := make(chan struct{})
		go func() { defer close(done); do(leading) }()
		for leading.Err() == nil && g.Node.Leads(ctx) {
			select {
			case <-time.After(turn):
			case <-ctx.Done():
				stop()
			}
		}
		stop()
		<-done
	}
}

// busy is what is being done beside the turns.
type busy struct{ checking, looking, loading atomic.Bool }

// besides does at a turn what may take longer than one.
func (g *Gate) besides(ctx context.Context, n int, check func(context.Context) error, partners []due, b *busy) {
	g.beside(&b.checking, func() { g.doDue(ctx, n, []due{{check, 1, "the checkup failed"}}) })
	g.beside(&b.loading, func() {
		g.doDue(ctx, n, []due{{g.Changes.ContinueLoads, 1, "large changes that were begun could not be looked for"}})
	})
	if n%5 == 1 {
		g.beside(&b.looking, func() { g.doDue(ctx, 1, partners) })
	}
}

// beside does something that may take long beside the turns, unless it is still being done.
func (g *Gate) beside(busy *atomic.Bool, do func()) {
	if busy.CompareAndSwap(false, true) {
		go func() {
			defer busy.Store(false)
			do()
		}()
	}
}

// doDue does what is due at the n-th turn.
func (g *Gate) doDue(ctx context.Context, n int, list []due) {
	for _, d := range list {
		if n%d.every != 0 {
			continue
		}
		if err := d.do(ctx); err != nil && ctx.Err() == nil {
			g.Log.ErrorContext(ctx, d.fails, "error", err)
		}
	}
}
