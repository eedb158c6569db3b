package partners

import (
	"fmt"
	"net/http"

	"gorm.io/gorm"

	"innergate/core/access"
	"innergate/core/config"
	"innergate/core/files"
	"innergate/gate/ground"
	"innergate/store"
)

// secondWanted says whether the operator wants a second person to look at changes of what serves people.
func secondWanted(tx *gorm.DB) (bool, error) {
	row, err := store.One[store.Setting](tx, "name = ?", files.SettingReview)
	if err != nil || row.Value == "" {
		return false, err
	}
	r, err := ground.DecodeBody[config.Review](row.Value)
	return r.Second, err
}

// Serves says whether something that is open so serves people.
func Serves(r access.Reach) bool { return r == access.InCircle || r == access.Everyone }

// Reviewed refuses a change of something that serves people by one person alone, where the operator wants a second one
// to look at it.
func Reviewed(tx *gorm.DB, who ground.Actor, name string, before, after access.Reach) error {
	if who.Approved || who.Kind == ground.System.Kind || !Serves(before) && !Serves(after) {
		return nil
	}
	if second, err := secondWanted(tx); err != nil || !second {
		return err
	}
	return ground.Problem(
		http.StatusConflict,
		"needs-second",
		"A second person must look at it",
		fmt.Sprintf(
			"%s serves people, and here changes of what does need two: one who proposes and one who approves. Nothing was changed.",
			name,
		),
		"Propose the change: on its page, or with `innergate history propose`.",
	)
}

// OwnersWhereTwo refuses a change that is no application's or provider's own, and decides all the same what one that
// serves people gets: a rule set, a route, a secret, a link of a person, a member of a group. It can't be proposed; where
// a second person is wanted, owners make it, who may also say that none is wanted.
func OwnersWhereTwo(tx *gorm.DB, who ground.Actor, what string, touches bool) error {
	if !touches || who.Approved || who.Kind == ground.System.Kind || ground.Allows(who.Role, ground.RoleOwner) {
		return nil
	}
	if second, err := secondWanted(tx); err != nil || !second {
		return err
	}
	return ground.Problem(
		http.StatusConflict,
		"needs-owner",
		"An owner must do this",
		what+" decides what applications get that serve people, and here such changes need two. This one can't be proposed.",
		"Ask an owner to make it.",
	)
}

// AnyOpen says whether any application serves people.
func AnyOpen(tx *gorm.DB) (bool, error) {
	row, err := store.One[store.Application](tx, "reach IN ?", []access.Reach{access.InCircle, access.Everyone})
	return row.ID != "", err
}

// OpenByID says whether the application or provider with an ID serves people.
func OpenByID(tx *gorm.DB, id string) (bool, error) {
	a, err := store.One[store.Application](tx, "id = ?", id)
	if err != nil || a.ID != "" {
		return Serves(access.Reach(a.Reach)), err
	}
	p, err := store.One[store.Provider](tx, "id = ?", id)
	return Serves(access.Reach(p.Reach)), err
}

// OwnersForSecret is for whoever keeps secrets of a partner elsewhere.
func (g *Room) OwnersForSecret(tx *gorm.DB, who ground.Actor, owner string) error {
	return ownersForSecret(tx, who, owner)
}

// ownersForSecret leaves the secrets of what serves people to owners, where a second person is wanted.
func ownersForSecret(tx *gorm.DB, who ground.Actor, owner string) error {
	open, err := OpenByID(tx, owner)
	if err != nil {
		return err
	}
	return OwnersWhereTwo(tx, who, "A client secret", open)
}
