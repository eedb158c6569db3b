package persons

import (
	"context"
	"fmt"
	"net/http"
	"strings"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/passwords"
	"innergate/core/people"
	"innergate/gate/ground"
	"innergate/store"
)

// CredentialViews lists what a person proves who they are with, without the secrets.
func (g *Room) CredentialViews(ctx context.Context, personID string) ([]api.Credential, error) {
	var rows []store.Credential
	if err := g.Store.Read(ctx).Where("person_id = ?", personID).Order("id").Limit(50).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := []api.Credential{}
	recovery := -1
	for _, r := range rows {
		if r.Kind == "recovery" {
			if recovery < 0 {
				recovery = len(out)
				out = append(out, api.Credential{ID: r.ID, Kind: r.Kind, Created: r.CreatedAt})
			}
			out[recovery].Left++
			continue
		}
		out = append(out, api.Credential{ID: r.ID, Kind: r.Kind, Name: r.Name, Created: r.CreatedAt, LastUsed: r.LastUsed})
	}
	return out, nil
}

// setLogin gives a person a name in the gate's own directory, or takes it away with all credentials.
func (g *Room) setLogin(tx *gorm.DB, row *store.Person, login string) error {
	login = strings.TrimSpace(login)
	if login == "" {
		if row.Login == nil {
			return nil
		}
		row.Login = nil
		return tx.Exec("DELETE FROM credentials WHERE person_id = ?", row.ID).Error
	}
	key := people.Key(login)
	if !ground.NameForm.MatchString(login) || key == "" {
		return ground.BadRequest("login", "The sign-in name must have 1 to 64 letters, digits, spaces, dots, dashes or @.", "")
	}
	other, err := store.One[store.Person](tx, "login = ? AND id <> ?", key, row.ID)
	if err != nil {
		return err
	}
	if other.ID != "" {
		return ground.Problem(
			http.StatusConflict, "login-taken", "The sign-in name is taken",
			fmt.Sprintf("%s signs in as %s, or as something that looks like it.", other.Name, key),
			"Choose another name.",
		)
	}
	row.Login = &key
	return nil
}

// checkForeignHash says whether a password's hash of another system can be taken over.
func checkForeignHash(hash string) error {
	_, err := passwords.Read(hash)
	return err
}
