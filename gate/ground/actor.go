package ground

import (
	"innergate/store"
)

// Roles of administrators and tokens, from much to little.
const (
	RoleOwner    = "owner"    // everything, also administrators and tokens
	RoleEngineer = "engineer" // the configuration, rehearsals, traces with their values
	RoleViewer   = "viewer"   // reads, personal values masked
	RoleAssigner = "assigner" // assigns people to the applications named with it, and nothing else
)

// Allows reports whether a role includes another.
func Allows(have, need string) bool {
	rank := map[string]int{RoleAssigner: 1, RoleViewer: 2, RoleEngineer: 3, RoleOwner: 4}
	return rank[have] > 0 && rank[have] >= rank[need]
}

// Actor is who does something, for the journal and for what they may do.
//
// ID is who it is, whatever they are called: an administrator, a person or the subject of a provider, or a token; Name is
// only shown. Two actors are the same human where their Human is the same.
type Actor struct {
	ID   string
	Name string
	// Maker is who made the token that acts, by ID.
	Maker string
	Role  string
	From  string // network address
	Kind  string // administrator, token or system
	CSRF  string
	// Applications are those to which an assigner may assign people, by short name.
	Applications []string
	// Remark is why, in the actor's own words; it stands in the history of what they change.
	Remark string

	Approved bool              // a second person has looked at it
	IDs      map[string]string // by kind and short name: the identifiers of what is brought back
}

// Human is the ID of whoever is behind the actor: of a token, the one who made it.
func (a Actor) Human() string {
	if a.Maker != "" {
		return a.Maker
	}
	return a.ID
}

// Is says whether the actor is whoever did something: by ID, or, where that was done before IDs were kept, by name.
func (a Actor) Is(id, name string) bool { return id == a.Human() || id == "" && name == a.Name }

// ActsAsOwner says whether an owner makes a change with their own hands, or the gate itself by what is set. What was
// planned before and is made now is neither.
func (a Actor) ActsAsOwner() bool {
	if a.Kind == System.Kind {
		return a.Name == System.Name
	}
	return Allows(a.Role, RoleOwner)
}

// NewID is the identifier of something that the actor makes: a new one, or the one that it had before it was deleted.
func (a Actor) NewID(kind, slug string) string {
	if id := a.IDs[kind+" "+slug]; id != "" {
		return id
	}
	return store.NewID()
}

// System acts for the service itself.
var System = Actor{ID: "system", Name: "the service", Role: "owner", Kind: "system"}
