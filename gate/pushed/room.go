// Package pushed takes people and groups that providers push to the gate over SCIM 2.0 (RFC 7644): what comes goes through the provider's
// mapping, and may speak for what the provider may speak for. Who is pushed as inactive has nothing open any more.
package pushed

import (
	"errors"
	"fmt"
	"net/http"

	"innergate/core/explain"
	"innergate/core/scim"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/gate/persons"
	"innergate/gate/signin"
)

// Room holds what the package needs of the gate; see the package.
type Room struct {
	*ground.Ground
	partners *partners.Room
	persons  *persons.Room
	signin   *signin.Room
}

// New makes the room over those that it stands on.
func New(g *ground.Ground, partners *partners.Room, persons *persons.Room, signin *signin.Room) *Room {
	return &Room{Ground: g, partners: partners, persons: persons, signin: signin}
}

// Sender is a provider that has proven who it is.
type Sender struct {
	*partners.Provider
	// Base is the address of its service here.
	Base string
}

// refusal is an error as the protocol tells it. What the catalogue explains is told in its words.
func refusal(err error) error {
	var told *scim.Error
	if err == nil || errors.As(err, &told) {
		return err
	}
	var f *explain.Failure
	if errors.As(err, &f) {
		e := f.Explain()
		kind, status := scim.InvalidValue, http.StatusBadRequest
		switch f.Code {
		case explain.MatchAlreadyLinked, explain.MatchSeveral, explain.MatchDiffers, explain.MatchForeignDomain, explain.MatchForeignScope,
			explain.MatchMailUnverified:
			kind, status = scim.Uniqueness, http.StatusConflict
		}
		return &scim.Error{Status: status, Type: kind, Detail: fmt.Sprintf("%s: %s", e.Code, e.Cause)}
	}
	return err
}

func bad(status int, kind, format string, args ...any) *scim.Error {
	return &scim.Error{Status: status, Type: kind, Detail: fmt.Sprintf(format, args...)}
}

func notThere() *scim.Error { return bad(http.StatusNotFound, "", "There is no such resource.") }
