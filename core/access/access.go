// Package access decides who may use what: pure decisions with their reasons.
package access

import "innergate/core/explain"

// Reach says whom an application or a provider serves.
type Reach string

// The reaches that can be set.
const (
	Draft    Reach = "draft"    // rehearsals only
	InCircle Reach = "circle"   // a chosen few
	Everyone Reach = "everyone" // all who are let in by other rules
	Closed   Reach = "closed"   // nobody
)

// Reaches lists them in the order in which an application goes live.
var Reaches = []Reach{Draft, InCircle, Everyone, Closed}

// Serves decides whether a sign-in may go on. Kind is application or provider; a rehearsal reaches drafts too.
func (r Reach) Serves(kind, partner string, rehearsal bool) error {
	switch {
	case r == Everyone, (r == Draft || r == InCircle) && rehearsal:
		return nil
	case r == InCircle:
		return explain.New(reachCode(kind, "circle")).Of(partner)
	case r == Draft:
		return explain.New(reachCode(kind, "draft")).Of(partner)
	}
	return explain.New(reachCode(kind, "closed")).Of(partner)
}

// reachCode is the code for why an application or a provider is not to be reached.
func reachCode(kind, why string) explain.Code { return explain.Code("reach." + kind + "-" + why) }
