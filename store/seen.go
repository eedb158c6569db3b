package store

import "time"

// What partners do that their engineers should know of, by kind.
const (
	SeenRelayLost      = "relay-lost"      // a provider loses RelayState
	SeenContextUnmet   = "context-unmet"   // an application demands a context that was not proven
	SeenTokenRefused   = "token-refused"   // a client's requests at the token endpoint are refused
	SeenCodeUnfetched  = "code-unfetched"  // a client does not fetch its tokens
	SeenLogoutUnsigned = "logout-unsigned" // a partner's logout messages are not signed
	SeenValueDropped   = "value-dropped"   // a provider says what it may not speak for
	SeenTicketRefused  = "ticket-refused"  // tickets of a realm's people are not taken
	SeenSender         = "sender"          // a provider that pushes its people has habits of its own
	SeenScopeUnknown   = "scope-unknown"   // a client asks for scopes that it does not have
)

// Seen is something that a partner does, with the last trace in which it did.
type Seen struct {
	OwnerID   string `gorm:"primaryKey"`
	Kind      string `gorm:"primaryKey"`
	Detail    string `gorm:"primaryKey"`
	Reference string
	FirstAt   time.Time
	LastAt    time.Time `gorm:"index"`
}
