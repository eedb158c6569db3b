package directory

import (
	"context"
	"net/http"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/totp"
	"innergate/core/trace"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/gate/persons"
	"innergate/gate/signin"
	"innergate/store"
)

// Time-based codes (RFC 6238) as every authenticator makes them: SHA-1, six digits, half a minute.
const (
	recoveryCodes = 10
	linkLife      = 48 * time.Hour
)

func (g *Room) totpOf(ctx context.Context, personID string) (*store.Credential, string, error) {
	c, err := store.One[store.Credential](g.Store.Read(ctx), "person_id = ? AND kind = 'totp'", personID)
	if err != nil {
		return nil, "", err
	}
	if c.ID == "" {
		return nil, "", nil
	}
	secret, err := g.Store.Sealer.Open(store.PlaceTOTP, c.ID, c.Sealed)
	return &c, string(secret), err
}

func (g *Room) hasFactor(ctx context.Context, personID string) (bool, error) {
	var n int64
	err := g.Store.Read(ctx).
		Model(&store.Credential{}).
		Where("person_id = ? AND kind IN ('totp', 'passkey')", personID).
		Limit(1).
		Count(&n).
		Error
	return n > 0, store.Clear(err)
}

// enterFactor checks a code of the authenticator or a recovery code. Each counts once.
func (g *Room) enterFactor(ctx context.Context, s *signin.SignIn, own *ownSignIn, code string) error {
	counted := "factor:" + own.Person
	if err := tooMany(g.Guessing(ctx, counted, 10), own.Name); err != nil {
		return err
	}
	how, err := g.factorFits(ctx, own.Person, code)
	if err != nil {
		return err
	}
	s.Rec.Check(trace.Check{Name: "directory.factor", Text: "The second factor is right", Section: "RFC 6238", Got: how, OK: how != ""})
	if how == "" {
		own.Wrong++
		own.Error = "The code is wrong, or was used already."
		return nil
	}
	g.Guessed(ctx, counted)
	own.AMR = append(own.AMR, how, "mfa")
	own.Stage, own.Wrong = stageDone, 0
	return nil
}

// factorFits uses a code up: "otp" for one of the authenticator, "recovery" for a recovery code, or nothing.
func (g *Room) factorFits(ctx context.Context, personID, code string) (string, error) {
	c, secret, err := g.totpOf(ctx, personID)
	if err != nil {
		return "", err
	}
	now := g.Now().UTC()
	var step int64
	if c != nil {
		step = totp.Step(secret, code, now, c.Counter)
	}
	if step > 0 {
		var used int64
		err := g.Store.Write(ctx, func(tx *gorm.DB) error {
			var err error
			used, err = persons.CountCode(tx, c.ID, step, now)
			return err
		})
		if err != nil || used == 0 {
			return "", err
		}
		return "otp", nil
	}
	plain := strings.ToUpper(strings.NewReplacer(" ", "", "-", "").Replace(code))
	if len(plain) != 16 {
		return "", nil
	}
	var gone int64
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		var err error
		gone, err = persons.UseRecovery(tx, personID, keys.HashSecret(plain))
		return err
	})
	if err != nil || gone == 0 {
		return "", err
	}
	return "recovery", nil
}

// beginEnrolment sets a second factor up: its secret is shown, and counts once a code of it was given.
func (g *Room) beginEnrolment(own *ownSignIn) error {
	own.Stage, own.Secret = stageEnrol, totp.NewSecret()
	return nil
}

// enterEnrolment takes the first code of a second factor that is set up.
func (g *Room) enterEnrolment(ctx context.Context, s *signin.SignIn, own *ownSignIn, code string) error {
	step := totp.Step(own.Secret, code, g.Now(), 0)
	if step == 0 {
		own.Wrong++
		own.Error = "This is not the code that the authenticator shows for this secret. Is the clock of the device right?"
		return nil
	}
	var err error
	c := store.Credential{ID: store.NewID(), PersonID: own.Person, Kind: "totp", Counter: step}
	c.Sealed = g.Store.Sealer.Seal(store.PlaceTOTP, c.ID, []byte(own.Secret))
	if own.Codes, err = g.enrol(ctx, &c); err != nil {
		return err
	}
	own.Secret, own.Stage, own.Wrong = "", stageCodes, 0
	own.AMR = append(own.AMR, "otp", "mfa")
	s.Rec.Decide(trace.Decision{About: "strength", Result: "a second factor was set up", By: s.Provider.Name})
	return nil
}

// enrol keeps a second factor and makes new recovery codes, in one transaction. One that is there already is never
// replaced.
func (g *Room) enrol(ctx context.Context, c *store.Credential) ([]string, error) {
	now, personID := g.Now().UTC(), c.PersonID
	c.CreatedAt = now
	var codes []string
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		held, err := store.One[store.Credential](tx, "person_id = ? AND kind IN ('totp', 'passkey')", personID)
		if err != nil {
			return err
		}
		if held.ID != "" {
			return explain.New(explain.BrowserFinished)
		}
		if err := persons.AddCredential(tx, c); err != nil {
			return err
		}
		if err := persons.RemoveCredentials(tx, personID, "recovery"); err != nil {
			return err
		}
		for range recoveryCodes {
			plain := totp.NewSecret()[:16]
			codes = append(codes, strings.Join([]string{plain[:4], plain[4:8], plain[8:12], plain[12:]}, "-"))
			if err := persons.AddCredential(tx, &store.Credential{ID: store.NewID(), PersonID: personID, Kind: "recovery",
				Lookup: keys.HashSecret(plain), CreatedAt: now}); err != nil {
				return err
			}
		}
		return ground.Journal(
			tx,
			now,
			ground.Actor{ID: "person/" + personID, Name: "the person"},
			"set up a second factor",
			"person",
			personID,
			"",
			"",
			map[string]string{"totp": "codes of an authenticator", "passkey": "a passkey"}[c.Kind],
		)
	})
	return codes, err
}

// RemoveCredential takes a credential away; with the last second factor go the recovery codes.
func (g *Room) RemoveCredential(ctx context.Context, who ground.Actor, personID, id string) error {
	now := g.Now().UTC()
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		var c store.Credential
		if err := tx.Where("id = ? AND person_id = ?", id, personID).Take(&c).Error; err != nil {
			return ground.Missing(err, "credential", id)
		}
		if err := persons.RemoveCredential(tx, id); err != nil {
			return err
		}
		var left int64
		factors := tx.Model(&store.Credential{}).Where("person_id = ? AND kind IN ('totp', 'passkey')", personID)
		if err := factors.Count(&left).Error; err != nil {
			return err
		}
		if c.Kind == "recovery" || left == 0 {
			if err := persons.RemoveCredentials(tx, personID, "recovery"); err != nil {
				return err
			}
		}
		if err := persons.EndOf(tx, personID, "a credential was taken away", now); err != nil {
			return err
		}
		return ground.Journal(tx, now, who, "took a credential away from", "person", personID, "", c.Kind, "")
	})
}

// NewPersonLink makes a link with which a person sets a password, once. It is shown once.
func (g *Room) NewPersonLink(ctx context.Context, who ground.Actor, personID string) (*api.PersonLinkMade, error) {
	now := g.Now().UTC()
	token := keys.NewSecret()
	row := store.OneTimeLink{
		TokenHash: keys.HashSecret(token),
		PersonID:  personID,
		What:      "password",
		By:        who.Name,
		CreatedAt: now,
		ExpiresAt: now.Add(linkLife),
	}
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		open, err := partners.AnyOpen(tx)
		if err != nil {
			return err
		}
		if err := partners.OwnersWhereTwo(tx, who, "Who sets somebody's password", open); err != nil {
			return err
		}
		var p store.Person
		if err := tx.Where("id = ?", personID).Take(&p).Error; err != nil {
			return ground.Missing(err, "person", personID)
		}
		if p.Login == nil || !p.Active {
			return ground.Problem(
				http.StatusConflict, "no-login", "The person can't sign in here",
				p.Name+" is not active, or has no name in the gate's own directory.",
				"Give the person a sign-in name first.",
			)
		}
		if err := persons.NewOneTimeLink(tx, &row); err != nil {
			return err
		}
		return ground.Journal(tx, now, who, "made a link for", "person", p.ID, p.Name, "", "to set a password")
	})
	if err != nil {
		return nil, err
	}
	return &api.PersonLinkMade{Link: g.PublicURL + "/own/" + token, Expires: row.ExpiresAt}, nil
}

// LinkedPerson is whose link it is, or a refusal.
func (g *Room) LinkedPerson(ctx context.Context, token string) (*store.Person, error) {
	row, err := store.One[store.OneTimeLink](g.Store.Read(ctx), "token_hash = ?", keys.HashSecret(token))
	if err != nil {
		return nil, err
	}
	if row.PersonID == "" || g.Now().After(row.ExpiresAt) {
		return nil, ground.Problem(
			http.StatusForbidden, "link-over", "The link is not good any more",
			"This link was used already, or is over.", "Ask for a new one.",
		)
	}
	p, _, err := g.persons.PersonByID(ctx, row.PersonID)
	return p, err
}

// SetPassword sets a password by a one-time link, and ends what is open of the person.
func (g *Room) SetPassword(ctx context.Context, token, password, again string) error {
	p, err := g.LinkedPerson(ctx, token)
	if err != nil {
		return err
	}
	if password != again {
		return ground.BadRequest("passwords-differ", "The two entries are not the same.", "")
	}
	if err := CheckPassword(persons.LoginOf(p), password); err != nil {
		return err
	}
	hash, err := g.NewPasswordHash(ctx, password)
	if err != nil {
		return err
	}
	now := g.Now().UTC()
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		gone, err := persons.UseOneTimeLink(tx, keys.HashSecret(token), now)
		if err != nil {
			return err
		}
		if gone == 0 {
			return ground.Problem(
				http.StatusForbidden, "link-over", "The link is not good any more",
				"This link was used already, or is over.", "Ask for a new one.",
			)
		}
		if err := persons.RemoveCredentials(tx, p.ID, "password"); err != nil {
			return err
		}
		if err := persons.AddCredential(tx, &store.Credential{ID: store.NewID(), PersonID: p.ID, Kind: "password",
			Secret: hash, CreatedAt: now}); err != nil {
			return err
		}
		if err := persons.EndOf(tx, p.ID, "the password was changed", now); err != nil {
			return err
		}
		return ground.Journal(tx, now, ground.Actor{ID: "person/" + p.ID, Name: p.Name}, "set a password", "person", p.ID, p.Name, "", "")
	})
}
