package bridge

import (
	"innergate/core/explain"
	"innergate/core/trace"
)

// Unshown is a provider whose people hold a ticket, where somebody showed none, or none that counts: that sign-in goes on by another way.
type Unshown struct {
	// Provider is its ID.
	Provider string           `json:"provider"`
	Code     explain.Code     `json:"code"`
	Evidence []trace.Evidence `json:"evidence,omitempty"`
}

// Failure is why, as a failure of the provider that bears this name.
func (u Unshown) Failure(name string) error { return explain.New(u.Code, u.Evidence...).Of(name) }
