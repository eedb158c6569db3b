package changes

import (
	"context"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"net/http"
	"strings"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/config"
	"innergate/core/files"
	"innergate/core/keys"
	"innergate/gate/ground"
	"innergate/gate/keyring"
	"innergate/gate/partners"
	"innergate/store"
)

// sealMark begins a secret that stands sealed in a file.
const sealMark = "sealed-1."

// leastSecret is how long a client secret of ours must be that is not made by the gate itself.
const leastSecret = 24

// mostSecret is how long a secret may be: a password is short, a keytab in base64 or a certificate with its key is not.
const mostSecret = 90_000

// readySecret is a secret of a file with its value.
type readySecret struct {
	ref     files.Secret
	value   string
	changed bool // it was not held already
}

// SealSecret seals a secret for this gate, so that it can stand in a file: nobody else can open it, and it fits nothing
// else.
func (g *Room) SealSecret(ctx context.Context, who ground.Actor, in api.SealSecret) (*api.SealedSecret, error) {
	set := files.Read([]files.Text{{Text: ground.MustJSON(map[string]any{"secrets": []map[string]string{{"for": in.For, "env": "X"}}})}})
	if len(set.Problems) > 0 {
		return nil, ground.BadRequest(
			"secret-for", fmt.Sprintf("%q has no secret.", in.For),
			"Name it as providers/NAME, applications/NAME, mail or notices.",
		)
	}
	if in.Value == "" || len(in.Value) > mostSecret {
		return nil, ground.BadRequest("secret-empty", "A secret has 1 to 90,000 characters.", "")
	}
	return &api.SealedSecret{For: in.For, Sealed: g.seal(in.For, in.Value)}, nil
}

func (g *Room) seal(owner, value string) string {
	return sealMark + base64.RawURLEncoding.EncodeToString(g.Store.Sealer.Seal(store.PlaceFile, owner, []byte(value)))
}

// sealedSecrets are those that can be handed out again, sealed for this gate: not client secrets of ours, of which only
// hashes are kept.
func (g *Room) sealedSecrets(ctx context.Context, who ground.Actor) ([]files.Secret, error) {
	if !ground.Allows(who.Role, ground.RoleOwner) {
		return nil, ground.Problem(
			http.StatusForbidden, "role", "Not allowed", "Secrets, even sealed ones, go out to owners only.",
			"Export without them, or ask an owner.",
		)
	}
	var out []files.Secret
	for _, kind := range []string{"provider", "application"} {
		var rows []struct {
			Slug string
			store.Secret
		}
		if err := g.Store.Read(ctx).Raw("SELECT o.slug, s.* FROM secrets s JOIN "+kind+
			"s o ON o.id = s.owner_id WHERE s.state = ? AND length(s.sealed) > 0 ORDER BY o.slug",
			keyring.KeyActive).Scan(&rows).Error; err != nil {
			return nil, store.Clear(err)
		}
		for _, r := range rows {
			value, err := g.partners.OpenSecret(r.Secret)
			if err != nil {
				return nil, err
			}
			owner := kind + "s/" + r.Slug
			out = append(out, files.Secret{For: owner, Sealed: g.seal(owner, value)})
		}
	}
	if err := g.Taken(ctx, who, "configuration", "the configuration with its secrets, sealed"); err != nil {
		return nil, err
	}
	m, err := g.KeptMail(ctx)
	if err != nil {
		return nil, err
	}
	n, err := g.KeptNotices(ctx)
	if err != nil {
		return nil, err
	}
	kept := map[string][]byte{"notices": n.Sealed}
	if m != nil {
		kept["mail"] = m.Sealed
	}
	for _, name := range []string{"mail", "notices"} {
		if len(kept[name]) == 0 {
			continue
		}
		value, err := g.Store.Sealer.Open(store.PlaceSetting, name, kept[name])
		if err != nil {
			return nil, err
		}
		out = append(out, files.Secret{For: name, Sealed: g.seal(name, string(value))})
	}
	return out, nil
}

// readySecrets finds the value of every secret that files name.
func (g *Room) readySecrets(
	ctx context.Context,
	tx *gorm.DB,
	who ground.Actor,
	set *files.Set,
	values map[string]string,
) ([]readySecret, error) {
	var out []readySecret
	var problems config.Problems
	for _, s := range set.Secrets {
		r := readySecret{ref: s}
		at := config.Problem{File: s.At.File, Line: s.At.Line, Field: "secrets (" + s.For + ")"}
		switch {
		case s.Sealed != "":
			raw, err := base64.RawURLEncoding.DecodeString(strings.TrimPrefix(s.Sealed, sealMark))
			var plain []byte
			if err == nil {
				plain, err = g.Store.Sealer.Open(store.PlaceFile, s.For, raw)
			}
			if err != nil || !strings.HasPrefix(s.Sealed, sealMark) {
				at.Message = "it was not sealed by this gate for " + s.For +
					", or with a master key that is gone; seal it again with `innergate config seal " + s.For + "`"
				problems = append(problems, at)
				continue
			}
			r.value = string(plain)
		case values[s.Key()] == "" && s.Env != "":
			at.Message = fmt.Sprintf(
				"the environment variable %s is not set where the command runs; it must hold the secret of %s. Set it, or put a value "+
					"there that `innergate config seal %s` made",
				s.Env,
				s.For,
				s.For,
			)
			problems = append(problems, at)
			continue
		case values[s.Key()] == "":
			at.Message = fmt.Sprintf(
				"the file %s was not handed over or is empty; it must hold the secret of %s and nothing else. Load with the command "+
					"line, which reads it, or put a value there that `innergate config seal %s` made",
				s.File,
				s.For,
				s.For,
			)
			problems = append(problems, at)
			continue
		default:
			r.value = strings.TrimRight(values[s.Key()], "\r\n")
		}
		if (s.For == "mail" || s.For == "notices") && !ground.Allows(who.Role, ground.RoleOwner) {
			return nil, ground.Problem(
				http.StatusForbidden, "role", "Not allowed",
				fmt.Sprintf("The secret of %s needs the role owner; yours is %s. Nothing was changed.", s.For, who.Role),
				"Take it out of the file, or ask an owner.",
			)
		}
		out = append(out, r)
	}
	if len(problems) > 0 {
		return nil, ground.Invalid(problems)
	}
	return out, nil
}

// keepReady keeps a secret that is not held yet.
func (g *Room) keepReady(tx *gorm.DB, who ground.Actor, s *readySecret) error {
	if s.ref.For == "mail" || s.ref.For == "notices" {
		return g.keepBeside(tx, who, s)
	}
	kind, slug, _ := strings.Cut(s.ref.For, "s/")
	var owner store.Object
	if err := tx.Table(kind+"s").Where("slug = ?", slug).Limit(1).Find(&owner).Error; err != nil {
		return err
	}
	wrong := func(message string) error {
		return ground.Invalid(
			config.Problems{{File: s.ref.At.File, Line: s.ref.At.Line, Field: "secrets (" + s.ref.For + ")", Message: message}},
		)
	}
	if owner.ID == "" {
		return wrong(fmt.Sprintf("there is no %s %q, neither here nor in the files", kind, slug))
	}
	var rows []store.Secret
	if err := tx.Where("owner_id = ?", owner.ID).Find(&rows).Error; err != nil {
		return err
	}
	row := store.Secret{
		ID:        store.NewID(),
		OwnerKind: kind,
		OwnerID:   owner.ID,
		State:     keyring.KeyActive,
		By:        who.Name,
		CreatedAt: g.Now().UTC(),
	}
	if len(s.value) >= 20 {
		row.Hint = s.value[:3]
	}
	ours := false
	if kind == "application" {
		a, err := ground.DecodeBody[config.Application](owner.Body)
		if err != nil {
			return err
		}
		switch {
		case a.OIDC != nil && a.OIDC.HasSecret():
			ours = true
		case a.Guarded == nil:
			return wrong("it takes no secret: it is neither a client that authenticates with one nor a guarded application")
		}
	}
	for _, h := range rows {
		if ours && keys.SecretFits(h.Hash, s.value) {
			return nil
		}
		if !ours && h.State == keyring.KeyActive {
			value, err := g.partners.OpenSecret(h)
			if err != nil {
				return err
			}
			if subtle.ConstantTimeCompare([]byte(value), []byte(s.value)) == 1 {
				return nil
			}
		}
	}
	s.changed = true
	if ours {
		if len(s.value) < leastSecret {
			return wrong(fmt.Sprintf("a client secret of ours has at least %d characters", leastSecret))
		}
		if len(rows) >= partners.SecretsAtOnce {
			return wrong("two secrets are valid already, the most that can be at once; take one back first")
		}
		row.Hash = keys.HashSecret(s.value)
		return g.partners.WriteSecret(tx, who, &row, owner.Name, "loaded")
	}
	if err := partners.ForgetSecrets(tx, owner.ID, keyring.KeyActive); err != nil {
		return err
	}
	row.Sealed = g.Store.Sealer.Seal(store.PlaceSecret, row.ID, []byte(s.value))
	return g.partners.WriteSecret(tx, who, &row, owner.Name, "loaded")
}

// keepBeside keeps the secret of a setting beside it.
func (g *Room) keepBeside(tx *gorm.DB, who ground.Actor, s *readySecret) error {
	row, err := store.One[store.Setting](tx, "name = ?", s.ref.For)
	if err != nil {
		return err
	}
	if row.Value == "" {
		return ground.Invalid(config.Problems{
			{
				File:    s.ref.At.File,
				Line:    s.ref.At.Line,
				Field:   "secrets (" + s.ref.For + ")",
				Message: "there is no such setting yet; set it in the file as well",
			},
		})
	}
	heldSecret, err := ground.DecodeBody[struct {
		Sealed []byte `json:"sealed"`
	}](row.Value)
	if err != nil {
		return err
	}
	if len(heldSecret.Sealed) > 0 {
		value, err := g.Store.Sealer.Open(store.PlaceSetting, s.ref.For, heldSecret.Sealed)
		if err == nil && subtle.ConstantTimeCompare(value, []byte(s.value)) == 1 {
			return nil
		}
	}
	s.changed = true
	sealed := base64.StdEncoding.EncodeToString(g.Store.Sealer.Seal(store.PlaceSetting, s.ref.For, []byte(s.value)))
	if err := ground.SealInSetting(tx, s.ref.For, sealed); err != nil {
		return err
	}
	if err := ground.Journal(tx, g.Now(), who, "loaded", "secret", "setting/"+s.ref.For, specOf(s.ref.For).words, "", ""); err != nil {
		return err
	}
	return store.Changed(tx)
}
