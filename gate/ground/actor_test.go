package ground_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"innergate/gate/ground"
)

// TestActorsAreTheSameByIDAlone compares people under other names, their tokens, and others under the same name.
func TestActorsAreTheSameByIDAlone(t *testing.T) {
	t.Parallel()
	mira := ground.Actor{ID: "person/1", Name: "Mira Voss (Saltmere Staff)"}
	renamed := ground.Actor{ID: "person/1", Name: "M. Voss (Saltmere Staff)"}
	impostor := ground.Actor{ID: "person/2", Name: mira.Name}
	hers := ground.Actor{ID: "token/9", Name: "token ci", Maker: "person/1"}
	assert.True(t, renamed.Is(mira.Human(), mira.Name), "another display name is not another person")
	assert.True(t, hers.Is(mira.Human(), mira.Name), "nor is a token of one's own")
	assert.True(t, mira.Is(hers.Human(), hers.Name))
	assert.False(t, impostor.Is(mira.Human(), mira.Name))
	assert.True(t, impostor.Is("", mira.Name), "what was done before IDs were kept is compared by name")
}

// TestOwnersActWithTheirOwnHands tells owners from what was planned before and is made now.
func TestOwnersActWithTheirOwnHands(t *testing.T) {
	t.Parallel()
	assert.True(t, ground.System.ActsAsOwner())
	assert.True(t, ground.Actor{Name: "Fenna", Role: ground.RoleOwner}.ActsAsOwner())
	assert.False(t, ground.Actor{Name: "Mira", Role: ground.RoleEngineer}.ActsAsOwner())
	assert.False(t, ground.Actor{Name: "Mira", Role: ground.RoleOwner, Kind: ground.System.Kind}.ActsAsOwner(), "a plan of hers")
}
