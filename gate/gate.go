// Package gate holds the service's use cases on top of the core and the store: configuration, the sign-in engine, rehearsals, traces, keys,
// administrators and the journal. It knows nothing of HTTP servers or command lines.
package gate

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/go-webauthn/webauthn/webauthn"
	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/passwords"
	"innergate/core/people"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/store"
)

// Options is what a Gate needs. The zero limits mean the defaults given with each.
type Options struct {
	Store     *store.Store
	PublicURL string // without a trailing slash
	Version   string
	Now       func() time.Time
	Log       *slog.Logger
	Fetch     *Fetcher
	// InFlight is how many unfinished sign-ins one network address may have, default 500.
	InFlight int
	// StrangerTraces is how many traces a minute are kept of requests that nobody known made, default 300.
	StrangerTraces int
	// KeepTraces is how many traces are kept, default 200,000.
	KeepTraces int
	// KeySource makes the gate's private keys, default keys.Generate.
	KeySource keys.Source
	// PasswordCost is what new password hashes cost, default passwords.Usual.
	PasswordCost passwords.Cost
}

// Gate is one running Inner Gate.
type Gate struct {
	Options
	cached    atomic.Pointer[cache]
	lastLook  atomic.Pointer[look]
	hashing   chan struct{}
	strangers struct {
		sync.Mutex
		minute time.Time
		count  int
	}
	losses struct {
		sync.Mutex
		traceLoss
	}
	setupHash   atomic.Pointer[[]byte]
	sourceJobs  sync.Map // source ID → *sourceJob
	usedCerts   sync.Map // usedCertificate → time.Time, until it is written down
	usedSecrets sync.Map // secret ID → time.Time, until it is written down
	guards      sync.Map // hash of a token at a guarded application → *heldGuard
	keySets     keySets
	checking    sync.Mutex
	checkedAt   string        // the generation at which everything was last looked at; held by checking
	telling     chan struct{} // somebody ended sessions, and their applications are to be told
	importing   sync.Map      // import ID → whether it shall go on
	batching    sync.Map      // batch ID → true, while its rows are looked at
	party       *webauthn.WebAuthn
	setAside    bool // it only finds out what a change would do

	// What rooms above give to those below.
	onNoteMove       func(ctx context.Context, s *signIn, subject saml.NameID, out []claims.Output)
	onNoteMoveFailed func(ctx context.Context, s *signIn, f *explain.Failure, e explain.Explanation)
	onStopped        func(s *signIn) *Next
	guardedSide      applicationSide
	directorySide    providerSide
	second           func(ctx context.Context, s *signIn, who identity) (*Next, error)
	sourceDocument   func(ctx context.Context, slug, entityID string) (*Got, error)
	viewApplication  func(ctx context.Context, slug string) (*api.Application, error)
	viewProvider     func(ctx context.Context, slug string) (*api.Provider, error)
	refusedClient    func(from string, rec *trace.Recorder, app *application, code string) (*store.Trace, error)
	shadow           func(s *store.Store) *Gate
	Metrics          Metrics
}

// Metrics counts what the gate does.
type Metrics struct {
	Begun, SignedIn, Refused atomic.Int64
	// TracesLost are those that were not kept, so that sign-ins go on.
	TracesLost atomic.Int64
}

// New makes a gate and sees that it has its first keys.
func New(ctx context.Context, o Options) (*Gate, error) {
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if o.InFlight == 0 {
		o.InFlight = 500
	}
	if o.StrangerTraces == 0 {
		o.StrangerTraces = 300
	}
	if o.KeepTraces == 0 {
		o.KeepTraces = 200000
	}
	if o.PasswordCost == (passwords.Cost{}) {
		o.PasswordCost = passwords.Usual
	}
	u, err := url.Parse(o.PublicURL)
	if err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" || u.RawQuery != "" || u.Fragment != "" || strings.Trim(u.Path, "/") != "" {
		return nil, fmt.Errorf("the public URL %q must be an http or https address with a host and nothing behind it, such as https://gate.saltmere.example", o.PublicURL)
	}
	o.PublicURL = u.Scheme + "://" + u.Host
	g := &Gate{Options: o, hashing: make(chan struct{}, 2), telling: make(chan struct{}, 1)}
	g.connect()
	if g.party, err = passkeyParty(o.PublicURL); err != nil {
		return nil, err
	}
	if err := g.ensureKeys(ctx); err != nil {
		return nil, err
	}
	return g, g.layOutAll(ctx)
}

// IDPEntityID is our entity ID towards applications.
func (g *Gate) IDPEntityID() saml.EntityID { return saml.EntityID(g.PublicURL + "/saml/idp") }

// SPEntityID is our entity ID towards providers.
func (g *Gate) SPEntityID() saml.EntityID { return saml.EntityID(g.PublicURL + "/saml/sp") }

// SSOLocation is our address for AuthnRequests.
func (g *Gate) SSOLocation() string { return g.PublicURL + "/saml/idp/sso" }

// ACSLocation is our address for a provider's responses.
func (g *Gate) ACSLocation(provider string) string {
	return g.PublicURL + "/saml/sp/" + provider + "/acs"
}

// StartLocation is our address at which an application is begun as from a tile.
func (g *Gate) StartLocation(application string) string { return g.PublicURL + "/start/" + application }

// Secure tells whether people come by TLS, as far as the public URL says.
func (g *Gate) Secure() bool { return strings.HasPrefix(g.PublicURL, "https://") }

// Actor is who does something, for the journal and for what they may do.
type Actor struct {
	Name string
	Role string
	From string // network address
	Kind string // administrator, token or system
	CSRF string
	// Applications are those to which an assigner may assign people, by short name.
	Applications []string
	// Remark is why, in the actor's own words; it stands in the history of what they change.
	Remark string

	approved bool              // a second person has looked at it
	ids      map[string]string // by kind and short name: the identifiers of what is brought back
}

// newID is the identifier of something that the actor makes: a new one, or the one that it had before it was deleted.
func (a Actor) newID(kind, slug string) string {
	if id := a.ids[kind+" "+slug]; id != "" {
		return id
	}
	return store.NewID()
}

// System acts for the service itself.
var System = Actor{Name: "the service", Role: "owner", Kind: "system"}

// cache holds parsed configuration for one generation of the store.
type cache struct {
	generation string
	apps       sync.Map // slug or "entity:"+ID → *application
	providers  sync.Map
	keys       sync.Map // purpose → *ring
	people     atomic.Pointer[people.Settings]
	sessions   atomic.Pointer[config.Sessions]
	routes     atomic.Pointer[access.Routes]
	moves      atomic.Value                    // map[string]*activeMove, by application ID
	origins    atomic.Pointer[map[string]bool] // where registered pages lie, once somebody has asked
}

// look is what one call has seen of the configuration. A call asks whether it changed once, and again where this process wrote something or the call takes long.
type look struct {
	cache   *cache
	commits int64
	at      time.Time
	shared  bool // with other calls
}

type lookKey struct{}

const lookLife = 5 * time.Millisecond

// OneLook gives a call a context of its own in which the configuration is looked at once. It must not be shared between goroutines.
func OneLook(ctx context.Context) context.Context { return context.WithValue(ctx, lookKey{}, &look{}) }

// RecentLook is OneLook that begins with what another such call has just seen, as long as this process has written nothing since. It is for calls that come by the thousand: what
// another process writes is seen some milliseconds later.
func (g *Gate) RecentLook(ctx context.Context) context.Context {
	mine := &look{shared: true}
	if last := g.lastLook.Load(); last != nil {
		*mine = *last
	}
	return context.WithValue(ctx, lookKey{}, mine)
}

func (g *Gate) cache(ctx context.Context) (*cache, error) {
	look, _ := ctx.Value(lookKey{}).(*look)
	commits := g.Store.Commits()
	if look != nil && look.cache != nil && look.commits == commits && time.Since(look.at) < lookLife {
		return look.cache, nil
	}
	at := time.Now()
	c, err := g.cacheNow(ctx)
	if look != nil && err == nil {
		look.cache, look.commits, look.at = c, commits, at
		if look.shared {
			seen := *look
			g.lastLook.Store(&seen)
		}
	}
	return c, err
}

func (g *Gate) cacheNow(ctx context.Context) (*cache, error) {
	generation, err := g.Store.Generation(ctx)
	if err != nil {
		return nil, err
	}
	if c := g.cached.Load(); c != nil && c.generation == generation {
		return c, nil
	}
	c := &cache{generation: generation}
	g.cached.Store(c)
	return c, nil
}

// problem makes an error for the API.
func problem(status int, code, title, detail, remedy string) *api.Problem {
	return &api.Problem{Type: "about:blank", Title: title, Status: status, Detail: detail, Code: code, Remedy: remedy}
}

func notFound(kind, name string) error {
	return problem(http.StatusNotFound, "not-found", "Not found", fmt.Sprintf("There is no %s %q.", kind, name), "Look at the list for the right name.")
}

// missing explains a record that could not be read: it is not there, or something failed.
func missing(err error, kind, name string) error {
	if errors.Is(err, store.ErrNotFound) {
		return notFound(kind, name)
	}
	return store.Clear(err)
}

func badRequest(code, detail, remedy string) error {
	return problem(http.StatusBadRequest, code, "This can't be done as asked", detail, remedy)
}

// invalid turns a configuration's problems into one for the API.
func invalid(err error) error {
	var fields config.Problems
	if !errors.As(err, &fields) {
		return err
	}
	p := problem(http.StatusUnprocessableEntity, "invalid", "Some values can't be taken", "Some values can't be taken; nothing was changed.", "")
	p.Fields = fields
	return p
}

func mustJSON(v any) string {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err) // our own types always marshal
	}
	return string(b)
}

// Tidy deletes what has expired and what is over its number. It is called from time to time.
func (g *Gate) Tidy(ctx context.Context) error {
	now := g.Now().UTC()
	keep, err := g.traceRetention(ctx)
	if err != nil {
		return err
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		for _, d := range []struct {
			model any
			where string
			arg   any
		}{
			{&store.SignIn{}, "expires_at < ?", now.Add(-10 * time.Minute)}, {&store.Arrival{}, "created_at < ?", now.Add(-arrivalLife)}, {&store.UsedID{}, "expires_at < ?", now},
			{&store.Rehearsal{}, "expires_at < ?", now.Add(-24 * time.Hour)}, {&store.Artifact{}, "expires_at < ?", now}, {&store.ConsoleSession{}, "expires_at < ?", now}, {&store.PushedRequest{}, "expires_at < ?", now}, {&store.DeviceCode{}, "expires_at < ?", now.Add(-time.Hour)},
			{&store.Token{}, "expires_at < ?", now.Add(-24 * time.Hour)}, {&store.Grant{}, "expires_at < ?", now.Add(-24 * time.Hour)}, {&store.TraceAddition{}, "trace_id NOT IN (SELECT id FROM traces) AND at < ?", now.Add(-time.Hour)},
			{&store.Guess{}, "first_at < ?", now.Add(-guessWindow)}, {&store.OneTimeLink{}, "expires_at < ?", now},
			{&store.Session{}, "expires_at < ?", now.Add(-30 * 24 * time.Hour)}, {&store.SessionProof{}, "session_id NOT IN (SELECT id FROM sessions) AND at < ?", now}, {&store.SessionUse{}, "session_id NOT IN (SELECT id FROM sessions) AND first_at < ?", now}, {&store.SignOut{}, "expires_at < ?", now},
			{&store.MoveTrial{}, "expires_at < ?", now}, {&store.MoveRun{}, "expires_at < ?", now.Add(-time.Hour)}, {&store.MoveSample{}, "at < ? AND move_id NOT IN (SELECT id FROM moves WHERE state = 'open')", now}, {&store.GuardTicket{}, "expires_at < ?", now}, {&store.GuardSession{}, "expires_at < ?", now},
		} {
			if err := tx.Where(d.where, d.arg).Delete(d.model).Error; err != nil {
				return err
			}
		}
		if err := tx.Exec("DELETE FROM trace_additions WHERE id IN (SELECT id FROM (SELECT id, "+additionPlace+" FROM trace_additions WHERE trace_id IN (SELECT trace_id FROM trace_additions GROUP BY trace_id HAVING count(*) > ?)) WHERE n > ? AND left >= ?)",
			firstAdditions+lastAdditions, firstAdditions, lastAdditions).Error; err != nil {
			return err
		}
		g.tidyIncoming(now)
		g.tidyGuards()
		g.tidyStaged()
		if err := g.tidyImports(tx, now); err != nil {
			return err
		}
		return tidyTraces(tx, keep, now)
	})
}

// tellSoon has the applications of sessions that have ended told at once, and not only at the next turn.
func (g *Gate) tellSoon() {
	select {
	case g.telling <- struct{}{}:
	default:
	}
}

// Run does what must be done from time to time until the context ends: planned switches of keys, looking at partners' metadata and at sources, and writing down
// which certificates were used.
func (g *Gate) Run(ctx context.Context) {
	var refreshing, checking atomic.Bool
	var checked checkupState
	tick := time.NewTicker(2 * time.Second)
	defer tick.Stop()
	go g.tellAlways(ctx)
	for n := 0; ; n++ {
		if err := g.RevertDue(ctx); err != nil && ctx.Err() == nil {
			g.Log.ErrorContext(ctx, "what was set for some time could not be taken back", "error", err)
		}
		if err := g.ApplyDue(ctx); err != nil && ctx.Err() == nil {
			g.Log.ErrorContext(ctx, "changes that were planned could not be made", "error", err)
		}
		if err := g.MovesDue(ctx); err != nil && ctx.Err() == nil {
			g.Log.ErrorContext(ctx, "waves of moves could not be opened or settled", "error", err)
		}
		if err := g.SwitchDue(ctx); err != nil && ctx.Err() == nil {
			g.Log.ErrorContext(ctx, "a planned switch of keys failed", "error", err)
		}
		if n%15 == 14 {
			if err := g.WriteUsed(ctx); err != nil && ctx.Err() == nil {
				g.Log.ErrorContext(ctx, "the last use of keys and secrets could not be written down", "error", err)
			}
		}
		if checking.CompareAndSwap(false, true) {
			go func() {
				defer checking.Store(false)
				if err := g.checkWhatChanged(ctx, &checked); err != nil && ctx.Err() == nil {
					g.Log.ErrorContext(ctx, "the checkup failed", "error", err)
				}
			}()
		}
		if n%5 == 0 && refreshing.CompareAndSwap(false, true) {
			go func() {
				defer refreshing.Store(false)
				for _, f := range []func(context.Context) error{g.RefreshSourcesDue, g.RefreshDue, g.LookOutsideDue} {
					if err := f(ctx); err != nil && ctx.Err() == nil {
						g.Log.ErrorContext(ctx, "refreshing metadata failed", "error", err)
					}
				}
			}()
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

// tellAlways tells applications of sessions that have ended, at once where somebody says so, and every few seconds in case another process did.
func (g *Gate) tellAlways(ctx context.Context) {
	tick := time.NewTicker(3 * time.Second)
	defer tick.Stop()
	for {
		if err := g.TellEnded(ctx); err != nil && ctx.Err() == nil {
			g.Log.ErrorContext(ctx, "applications could not be told of sessions that have ended", "error", err)
		}
		select {
		case <-g.telling:
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

// connect gives the rooms below what those above do for them.
func (g *Gate) connect() {
	g.onNoteMove, g.onNoteMoveFailed, g.onStopped = g.noteMove, g.noteMoveFailed, g.stopped
	g.guardedSide, g.directorySide, g.second = guardedApplication{g}, directoryProvider{g}, g.askSecond
	g.sourceDocument, g.viewApplication, g.viewProvider, g.refusedClient = g.fromSource, g.Application, g.Provider, g.clientTrace
	g.shadow = func(s *store.Store) *Gate {
		o := g.Options
		o.Store = s
		shadow := &Gate{Options: o, hashing: g.hashing, telling: make(chan struct{}, 1), party: g.party, setAside: true}
		shadow.connect()
		return shadow
	}
}
