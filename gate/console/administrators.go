package console

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/address"
	"innergate/core/keys"
	"innergate/gate/directory"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/store"
)

func knownRole(role string) error {
	if !ground.Allows(role, ground.RoleAssigner) {
		return ground.BadRequest("role-unknown", fmt.Sprintf("%q is no role; owner, engineer, viewer and assigner are.", role), "")
	}
	return nil
}

// knownScope checks a role with the applications that it is for: an assigner needs some, other roles have none.
func (g *Room) knownScope(ctx context.Context, role string, applications []string) error {
	if err := knownRole(role); err != nil {
		return err
	}
	if (role == ground.RoleAssigner) != (len(applications) > 0) || len(applications) > 200 {
		return ground.BadRequest(
			"role-applications",
			"The role assigner needs the applications that it is for (at most 200); other roles have none.", "",
		)
	}
	for _, slug := range applications {
		if _, err := g.partners.Application(ctx, slug); err != nil {
			return ground.BadRequest("application-unknown", fmt.Sprintf("There is no application with the short name %q.", slug), "")
		}
	}
	return nil
}

// scopeText keeps an assigner's applications; no others have any.
func scopeText(applications []string) string {
	if len(applications) == 0 {
		return ""
	}
	return ground.MustJSON(applications)
}

// SetupNeeded reports whether there is no administrator yet.
func (g *Room) SetupNeeded(ctx context.Context) (bool, error) {
	var n int64
	err := g.Store.Read(ctx).Model(&store.Administrator{}).Limit(1).Count(&n).Error
	return n == 0, store.Clear(err)
}

// NewSetupLink makes the one-time link for the first administrator. It is good until the service stops.
func (g *Room) NewSetupLink() string {
	token := keys.NewSecret()
	hash := keys.HashSecret(token)
	g.setupHash.Store(&hash)
	return g.PublicURL + "/console/set-up#" + token
}

// SetUp makes the first administrator.
func (g *Room) SetUp(ctx context.Context, s api.Setup, from string) error {
	if err := g.Guessing(ctx, "setup:"+from, 20); err != nil {
		return err
	}
	hash := g.setupHash.Load()
	if hash == nil || !keys.SecretFits(*hash, s.Token) {
		return ground.Problem(
			http.StatusForbidden, "setup-link", "The set-up link is not good",
			"The set-up link was used already, or is not the one that the service printed.",
			"Start the service again on an empty data folder to get a new link.",
		)
	}
	err := g.firstAdministrator(ctx, s.Name, s.Password, from)
	if err == nil {
		g.setupHash.Store(nil)
	}
	return err
}

// SetUpHere makes the first administrator for somebody who holds the gate's data.
func (g *Room) SetUpHere(ctx context.Context, name, password string) error {
	return g.firstAdministrator(ctx, name, password, "the gate's own machine")
}

func (g *Room) firstAdministrator(ctx context.Context, name, secret, from string) error {
	if err := directory.CheckCredentials(name, secret); err != nil {
		return err
	}
	password, err := g.directory.NewPasswordHash(ctx, secret)
	if err != nil {
		return err
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		var n int64
		if err := tx.Model(&store.Administrator{}).Count(&n).Error; err != nil {
			return err
		}
		if n > 0 {
			return ground.Problem(
				http.StatusForbidden, "setup-done", "The gate is set up already", "There is an administrator already.",
				"Sign in, or ask an owner to add you.",
			)
		}
		a := store.Administrator{ID: store.NewID(), Name: name, Role: ground.RoleOwner, PasswordHash: password, CreatedAt: g.Now().UTC()}
		if err := tx.Create(&a).Error; err != nil {
			return err
		}
		return ground.Journal(
			tx,
			g.Now(),
			ground.Actor{Name: name, From: from},
			"set up",
			"administrator",
			a.ID,
			a.Name,
			"",
			ground.RoleOwner,
		)
	})
}

const (
	consoleIdle = 8 * time.Hour
	consoleLife = 24 * time.Hour
)

// SignInAdministrator checks a password and makes a session. Unknown names take as long as wrong passwords.
func (g *Room) SignInAdministrator(ctx context.Context, name, password, from string) (token string, me *api.Me, err error) {
	// Guesses are counted by network, so that nobody locks an administrator out for everybody; those of all networks
	// together only where they are very many.
	network := address.Network(from)
	byName, byAddress, byAll := "password:"+strings.ToLower(name)+" "+network, "address:"+network, "password:"+strings.ToLower(name)
	if err := g.GuessingAll(ctx, map[string]int{byName: 10, byAddress: 50, byAll: 1000}); err != nil {
		return "", nil, err
	}
	a, err := store.One[store.Administrator](g.Store.Read(ctx), "name = ?", name)
	if err != nil {
		return "", nil, err
	}
	fits, _, err := g.directory.PasswordFits(ctx, a.PasswordHash, password)
	if err != nil {
		return "", nil, err
	}
	if !fits || a.ID == "" {
		return "", nil, ground.Problem(
			http.StatusUnauthorized, "wrong-password", "Name or password is wrong", "Name or password is wrong.", "",
		)
	}
	g.Guessed(ctx, byName, byAddress, byAll)
	token = keys.NewSecret()
	now := g.Now().UTC()
	s := store.ConsoleSession{
		TokenHash:       keys.HashSecret(token),
		AdministratorID: a.ID,
		CSRF:            keys.NewSecret(),
		CreatedAt:       now,
		LastUsed:        now,
		ExpiresAt:       now.Add(consoleLife),
	}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Create(&s).Error; err != nil {
			return err
		}
		if err := tx.Model(&a).Update("last_sign_in", now).Error; err != nil {
			return err
		}
		return ground.Journal(tx, now, ground.Actor{ID: "administrator/" + a.ID, Name: a.Name, From: from}, "signed in", "administrator",
			a.ID, a.Name, "", "")
	})
	return token, &api.Me{
		Name:         a.Name,
		Role:         a.Role,
		Applications: partners.RolesOf(a.Applications),
		CSRF:         s.CSRF,
		Kind:         "administrator",
	}, err
}

var errUnauthorised = ground.Problem(
	http.StatusUnauthorized, "not-signed-in", "You are not signed in",
	"This needs an administrator's session or an API token.", "Sign in again, or give a token.",
)

// SessionActor finds who a console session belongs to.
func (g *Room) SessionActor(ctx context.Context, token, from string) (*ground.Actor, error) {
	if token == "" {
		return nil, errUnauthorised
	}
	s, err := store.One[store.ConsoleSession](g.Store.Read(ctx), "token_hash = ?", keys.HashSecret(token))
	if err != nil {
		return nil, err
	}
	now := g.Now().UTC()
	if s.AdministratorID == "" && s.GrantID == "" || now.After(s.ExpiresAt) || now.Sub(s.LastUsed) > consoleIdle {
		return nil, errUnauthorised
	}
	who, err := g.sessionOwner(ctx, s, from)
	if err != nil {
		return nil, err
	}
	if now.Sub(s.LastUsed) > time.Minute {
		if err := g.Store.Write(ctx, func(tx *gorm.DB) error {
			return tx.Model(&store.ConsoleSession{}).Where("token_hash = ?", s.TokenHash).Update("last_used", now).Error
		}); err != nil {
			return nil, err
		}
	}
	who.CSRF = s.CSRF
	return who, nil
}

func (g *Room) sessionOwner(ctx context.Context, s store.ConsoleSession, from string) (*ground.Actor, error) {
	if s.GrantID != "" {
		h, err := g.grants.GrantByID(ctx, s.GrantID)
		if err != nil {
			return nil, err
		}
		return g.grantActor(ctx, h, from)
	}
	a, err := store.One[store.Administrator](g.Store.Read(ctx), "id = ?", s.AdministratorID)
	if err != nil {
		return nil, err
	}
	if a.ID == "" {
		return nil, errUnauthorised
	}
	return &ground.Actor{ID: "administrator/" + a.ID, Name: a.Name, Role: a.Role, Applications: partners.RolesOf(a.Applications),
		From: from, Kind: "administrator"}, nil
}

// SignOutAdministrator ends a session.
func (g *Room) SignOutAdministrator(ctx context.Context, token string) error {
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Where("token_hash = ?", keys.HashSecret(token)).Delete(&store.ConsoleSession{}).Error
	})
}

// Administrators lists them.
func (g *Room) Administrators(ctx context.Context) (*api.List[api.Administrator], error) {
	var rows []store.Administrator
	if err := g.Store.Read(ctx).Order("name").Limit(200).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := &api.List[api.Administrator]{Items: []api.Administrator{}}
	for _, a := range rows {
		out.Items = append(
			out.Items,
			api.Administrator{
				ID:           a.ID,
				Name:         a.Name,
				Role:         a.Role,
				Applications: partners.RolesOf(a.Applications),
				Created:      a.CreatedAt,
				LastSignIn:   a.LastSignIn,
			},
		)
	}
	return out, nil
}

// AddAdministrator adds one.
func (g *Room) AddAdministrator(ctx context.Context, who ground.Actor, n api.NewAdministrator) (*api.Administrator, error) {
	if err := g.knownScope(ctx, n.Role, n.Applications); err != nil {
		return nil, err
	}
	if err := directory.CheckCredentials(n.Name, n.Password); err != nil {
		return nil, err
	}
	hash, err := g.directory.NewPasswordHash(ctx, n.Password)
	if err != nil {
		return nil, err
	}
	a := store.Administrator{
		ID:           store.NewID(),
		Name:         n.Name,
		Role:         n.Role,
		Applications: scopeText(n.Applications),
		PasswordHash: hash,
		CreatedAt:    g.Now().UTC(),
	}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Create(&a).Error; err != nil {
			return err
		}
		return ground.Journal(tx, g.Now(), who, "added", "administrator", a.ID, a.Name, "", a.Role)
	})
	if errors.Is(err, store.ErrDuplicate) {
		return nil, ground.Problem(
			http.StatusConflict, "name-taken", "The name is taken",
			fmt.Sprintf("There is an administrator %q already.", n.Name), "Choose another name.",
		)
	}
	return &api.Administrator{
		ID:           a.ID,
		Name:         a.Name,
		Role:         a.Role,
		Applications: partners.RolesOf(a.Applications),
		Created:      a.CreatedAt,
	}, err
}

// ChangeAdministrator changes a role or a password, and ends the sessions of the one concerned. The last owner stays
// one.
func (g *Room) ChangeAdministrator(ctx context.Context, who ground.Actor, id string, c api.ChangeAdministrator) error {
	var a store.Administrator
	if err := g.Store.Read(ctx).Where("id = ?", id).Take(&a).Error; err != nil {
		return ground.Missing(err, "administrator", id)
	}
	hash := ""
	if c.Role != "" {
		if err := g.knownScope(ctx, c.Role, c.Applications); err != nil {
			return err
		}
	}
	if c.Password != "" {
		if err := directory.CheckPassword(a.Name, c.Password); err != nil {
			return err
		}
		var err error
		if hash, err = g.directory.NewPasswordHash(ctx, c.Password); err != nil {
			return err
		}
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		var a store.Administrator
		if err := tx.Where("id = ?", id).Take(&a).Error; err != nil {
			return ground.Missing(err, "administrator", id)
		}
		before := a.Role
		if c.Role != "" {
			a.Role, a.Applications = c.Role, scopeText(c.Applications)
		}
		if hash != "" {
			a.PasswordHash = hash
		}
		if err := tx.Save(&a).Error; err != nil {
			return err
		}
		if err := ownerLeft(tx); err != nil {
			return err
		}
		if err := endTokens(tx, g.Now(), who, a.ID, a.Role); err != nil {
			return err
		}
		if err := tx.Where("administrator_id = ?", id).Delete(&store.ConsoleSession{}).Error; err != nil {
			return err
		}
		return ground.Journal(tx, g.Now(), who, "changed", "administrator", a.ID, a.Name, before, a.Role)
	})
}

func ownerLeft(tx *gorm.DB) error {
	var owners int64
	if err := tx.Model(&store.Administrator{}).Where("role = ?", ground.RoleOwner).Count(&owners).Error; err != nil {
		return err
	}
	if owners == 0 {
		return ground.Problem(
			http.StatusConflict, "last-owner", "Somebody must stay owner",
			"This is the last owner; without one nobody could add administrators.",
			"Make somebody else an owner first.",
		)
	}
	return nil
}

// RemoveAdministrator takes one away, with all sessions.
func (g *Room) RemoveAdministrator(ctx context.Context, who ground.Actor, id string) error {
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		var a store.Administrator
		if err := tx.Where("id = ?", id).Take(&a).Error; err != nil {
			return ground.Missing(err, "administrator", id)
		}
		if err := tx.Delete(&a).Error; err != nil {
			return err
		}
		if err := ownerLeft(tx); err != nil {
			return err
		}
		if err := endTokens(tx, g.Now(), who, a.ID, ""); err != nil {
			return err
		}
		if err := tx.Where("administrator_id = ?", id).Delete(&store.ConsoleSession{}).Error; err != nil {
			return err
		}
		return ground.Journal(tx, g.Now(), who, "removed", "administrator", a.ID, a.Name, a.Role, "")
	})
}

// ForgetApplication takes an application out of what assigners may assign to, so that another one under its name is not
// theirs.
func ForgetApplication(tx *gorm.DB, slug string) error {
	for _, model := range []any{&store.Administrator{}, &store.APIToken{}} {
		var rows []struct{ ID, Applications string }
		if err := tx.Model(model).Where("applications <> ''").Select("id", "applications").Find(&rows).Error; err != nil {
			return err
		}
		for _, r := range rows {
			held := partners.RolesOf(r.Applications)
			left := slices.DeleteFunc(slices.Clone(held), func(one string) bool { return one == slug })
			if len(left) == len(held) {
				continue
			}
			if err := tx.Model(model).Where("id = ?", r.ID).Update("applications", scopeText(left)).Error; err != nil {
				return err
			}
		}
	}
	return nil
}
