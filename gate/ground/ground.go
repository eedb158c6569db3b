// Package ground is what all rooms stand on: the store, the clock, addresses, who acts, problems, the journal,
// revisions, mail, and the configuration as it was parsed. In every room the receiver is g, for the gate that the
// room is part of.
package ground

import (
	"log/slog"
	"sync/atomic"
	"time"

	"innergate/core/keys"
	"innergate/core/passwords"
	"innergate/gate/fetch"
	"innergate/store"
)

// Options is what a Gate needs. The zero limits mean the defaults given with each.
type Options struct {
	Store     *store.Store
	PublicURL string // without a trailing slash
	Version   string
	Now       func() time.Time
	Log       *slog.Logger
	Fetch     *fetch.Fetcher
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

// Metrics counts what the gate does.
type Metrics struct {
	Begun, SignedIn, Refused atomic.Int64
	// TracesLost are those that were not kept, so that sign-ins go on.
	TracesLost atomic.Int64
}

// Ground is what all rooms stand on.
type Ground struct {
	Options
	Metrics  Metrics
	cached   atomic.Pointer[cache]
	lastLook atomic.Pointer[look]
	later    later
	clock    clock
	people   signedIn
	// Spread is set where the records are on several nodes, each with traces of its own: what is under way travels with the records.
	Spread atomic.Bool
}
