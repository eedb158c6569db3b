package keyring

import (
	"innergate/core/explain"
)

// Approval stands for a partner whose values somebody of ours has set, or for the gate itself. Nothing is signed without
// one, so that what the other side has left, or one of ours has proposed and nobody approved, gets no signature for a
// place that only its author chose. Rooms get it with the partner that it is of; where partners are read from those that
// are set, and nowhere else, it is given.
type Approval struct {
	given bool
	owner string
}

// Approve gives the approval of a partner, by its ID, that was read from those that are set.
func Approve(owner string) Approval { return Approval{true, owner} }

// Ourselves is the approval of what the gate says of itself.
var Ourselves = Approval{given: true}

// Given says whether there is an approval.
func (a Approval) Given() bool { return a.given }

// Owner is the ID of the partner; it is empty for the gate itself.
func (a Approval) Owner() string { return a.owner }

func (a Approval) check() error {
	if !a.given {
		return explain.New(explain.RehearsalUnapproved)
	}
	return nil
}
