// Package accounts keeps people's accounts and groups at applications in step with whoever may use them, over SCIM 2.0 (RFC 7644). What
// changes is noted by the database in the transaction of the change; here it is worked out what that means for which accounts, and
// sent: exactly, within seconds, and again after any stop.
package accounts

import (
	"context"
	"sync"
	"time"

	"innergate/core/scim"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/gate/traces"
	"innergate/store"
)

// How an account stands.
const (
	InStep   = "step"     // as it should be, as far as is known
	Approval = "approval" // it waits for somebody's approval
	Due      = "due"      // it is to be sent
	Again    = "again"    // it failed, and is tried again
	Failed   = "failed"   // it failed, and is not tried again by itself
	Foreign  = "foreign"  // an account there that is none of ours
	Ignored  = "ignored"  // somebody said that it is to be left alone
)

// What an account is of.
const (
	OfPerson  = "person"
	OfGroup   = "group"
	OfForeign = "foreign" // of nobody known here
)

// What is to be sent.
const (
	Create     = "create"
	Change     = "change"
	Deactivate = "deactivate"
	Remove     = "delete"
)

// Room holds what the package needs of the gate; see the package.
type Room struct {
	*ground.Ground
	partners *partners.Room
	traces   *traces.Room
	holder   string        // names this process where an application's accounts are sent by one at a time
	wake     chan struct{} // something may be to be done
	kinds    sync.Map      // application ID → *abilities
	tokens   sync.Map      // application ID → *accessToken
	paces    sync.Map      // application ID → *pace
	mu       sync.Mutex
	// comparing are the comparisons at work in this process, by the application's ID, with what ends them.
	comparing map[string]context.CancelFunc
}

// New makes the room over those that it stands on.
func New(g *ground.Ground, partners *partners.Room, traces *traces.Room) *Room {
	return &Room{Ground: g, partners: partners, traces: traces, holder: store.NewID(), wake: make(chan struct{}, 1),
		comparing: map[string]context.CancelFunc{}}
}

// nudge has whoever works look at once.
func (g *Room) nudge() {
	signal(g.wake)
}

// signal wakes whoever waits on a channel, once for however many reasons.
func signal(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

// switched are the applications whose accounts are kept.
func (g *Room) switched(ctx context.Context) ([]*partners.Application, error) {
	var ids []string
	if err := g.Store.Read(ctx).Raw("SELECT application_id FROM account_switches ORDER BY application_id").Scan(&ids).Error; err != nil {
		return nil, store.Clear(err)
	}
	var out []*partners.Application
	for _, id := range ids {
		app, err := g.partners.ApplicationByID(ctx, id)
		if ground.IsNotFound(err) {
			continue
		}
		if err != nil {
			return nil, err
		}
		if app.Accounts != nil {
			out = append(out, app)
		}
	}
	return out, nil
}

// app finds an application whose accounts are kept.
func (g *Room) app(ctx context.Context, slug string) (*partners.Application, error) {
	app, err := g.partners.Application(ctx, slug)
	if err == nil && app.Accounts == nil {
		err = ground.Conflict("no-accounts", "Accounts of "+app.Name+" are not kept in step.",
			"Enter the address of its SCIM service on the station accounts.")
	}
	return app, err
}

// never is when what failed for good is tried again.
var never = time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC)

// abilities are what an application says that it can do, as it was last read.
type abilities struct {
	At     time.Time `json:"-"`
	Can    scim.Abilities
	Asked  bool // it answered what it can do
	Users  []scim.Schema
	Joined []string // the schemas that extend users there
	users  *scim.Kind
	plans  sync.Map // by the names of a mapping → *scim.Plan
}
