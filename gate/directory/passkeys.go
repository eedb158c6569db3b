package directory

import (
	"context"
	"encoding/json"
	"errors"
	"net"
	"net/url"

	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"
	"gorm.io/gorm"

	"innergate/core/address"
	"innergate/core/explain"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/persons"
	"innergate/gate/signin"
	"innergate/store"
)

// maxPasskey is the most octets of a browser's answer about a passkey.
const maxPasskey = 32 << 10

// passkeyParty is what the gate is towards authenticators (Web Authentication Level 3, section 1.2.6), or nil where its
// public URL names no host: passkeys are bound to a host name, so they can't be had at a bare address.
func passkeyParty(publicURL string) (*webauthn.WebAuthn, error) {
	u, err := url.Parse(publicURL)
	if err != nil || net.ParseIP(u.Hostname()) != nil {
		return nil, err
	}
	return webauthn.New(&webauthn.Config{
		RPID:                  u.Hostname(),
		RPDisplayName:         "Inner Gate",
		RPOrigins:             []string{publicURL},
		AttestationPreference: protocol.PreferNoAttestation,
	})
}

// PasskeysPossible says whether browsers can have passkeys for the gate's public URL.
func (g *Room) PasskeysPossible() bool { return g.party != nil }

// passkeyHolder is a person as authenticators know them.
type passkeyHolder struct {
	person      *store.Person
	credentials []webauthn.Credential
	rows        map[string]store.Credential // by the passkey's ID
}

func (h *passkeyHolder) WebAuthnID() []byte { return []byte(h.person.ID) }

func (h *passkeyHolder) WebAuthnName() string { return persons.LoginOf(h.person) }

func (h *passkeyHolder) WebAuthnDisplayName() string { return h.person.Name }

func (h *passkeyHolder) WebAuthnCredentials() []webauthn.Credential { return h.credentials }

func (g *Room) passkeyHolder(ctx context.Context, personID string) (*passkeyHolder, error) {
	p, _, err := g.persons.PersonByID(ctx, personID)
	if err != nil {
		return nil, err
	}
	h := &passkeyHolder{person: p, rows: map[string]store.Credential{}}
	var rows []store.Credential
	if err := g.Store.Read(ctx).Where("person_id = ? AND kind = 'passkey'", personID).Order("id").Limit(50).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	for _, r := range rows {
		plain, err := g.Store.Sealer.Open(store.PlacePasskey, r.ID, r.Sealed)
		if err != nil {
			return nil, err
		}
		var c webauthn.Credential
		if err := json.Unmarshal(plain, &c); err != nil {
			return nil, err
		}
		h.credentials = append(h.credentials, c)
		h.rows[string(c.ID)] = r
	}
	return h, nil
}

// offerPasskey makes what the browser is asked for at the stage where somebody stands, where there is anything to ask.
func (g *Room) offerPasskey(ctx context.Context, s *signin.SignIn, own *ownSignIn) error {
	own.Passkey = nil
	if g.party == nil {
		return nil
	}
	use := "second"
	if d := s.Provider.Directory; d != nil {
		use = d.PasskeyUse()
	}
	var o passkeyOffer
	var asked any
	var session *webauthn.SessionData
	var err error
	switch {
	case own.Stage == stagePassword && use == "alone":
		o.Act = "get"
		asked, session, err = g.party.BeginDiscoverableLogin(webauthn.WithUserVerification(protocol.VerificationRequired))
	case own.Stage == stageFactor:
		var h *passkeyHolder
		if h, err = g.passkeyHolder(ctx, own.Person); err != nil || len(h.credentials) == 0 {
			return err
		}
		o.Act = "get"
		asked, session, err = g.party.BeginLogin(h, webauthn.WithUserVerification(protocol.VerificationPreferred))
	case own.Stage == stageEnrol && use != "off":
		var h *passkeyHolder
		if h, err = g.passkeyHolder(ctx, own.Person); err != nil {
			return err
		}
		pick := protocol.AuthenticatorSelection{
			ResidentKey:      protocol.ResidentKeyRequirementPreferred,
			UserVerification: protocol.VerificationPreferred,
		}
		if use == "alone" {
			pick = protocol.AuthenticatorSelection{
				ResidentKey:        protocol.ResidentKeyRequirementRequired,
				RequireResidentKey: protocol.ResidentKeyRequired(),
				UserVerification:   protocol.VerificationRequired,
			}
		}
		o.Act = "create"
		asked, session, err = g.party.BeginRegistration(h, webauthn.WithAuthenticatorSelection(pick))
	default:
		return nil
	}
	if err != nil {
		return err
	}
	if o.Options, err = json.Marshal(asked); err != nil {
		return err
	}
	o.Session = *session
	own.Passkey = &o
	return nil
}

// errPasskey is a passkey that was not taken, with the reason for the trace.
type errPasskey struct{ why string }

func (e errPasskey) Error() string { return e.why }

// provePasskey checks what a browser answered, and uses it up. Without a person it finds the person by the passkey.
func (g *Room) provePasskey(ctx context.Context, own *ownSignIn, answer string) (*store.Person, *webauthn.Credential, error) {
	parsed, err := protocol.ParseCredentialRequestResponseBytes([]byte(answer))
	if err != nil {
		return nil, nil, errPasskey{"it can't be read: " + reason(err)}
	}
	var h *passkeyHolder
	var used *webauthn.Credential
	if own.Stage == stagePassword {
		_, used, err = g.party.ValidatePasskeyLogin(func(id, handle []byte) (webauthn.User, error) {
			row, err := store.One[store.Credential](g.Store.Read(ctx), "lookup = ? AND kind = 'passkey' AND person_id = ?", id,
				string(handle))
			if err != nil {
				return nil, err
			}
			if row.ID == "" {
				return nil, errPasskey{"no passkey like this is known"}
			}
			h, err = g.passkeyHolder(ctx, row.PersonID)
			return h, err
		}, own.Passkey.Session, parsed)
	} else {
		if h, err = g.passkeyHolder(ctx, own.Person); err != nil {
			return nil, nil, err
		}
		used, err = g.party.ValidateLogin(h, own.Passkey.Session, parsed)
	}
	if err != nil {
		return nil, nil, errPasskey{reason(err)}
	}
	row, sealed, now := h.rows[string(used.ID)], []byte(nil), g.Now().UTC()
	if used.Authenticator.CloneWarning {
		return nil, nil, errPasskey{"its counter went back, so there may be a copy of it"}
	}
	if sealed, err = g.sealPasskey(row.ID, used); err != nil {
		return nil, nil, err
	}
	// The counter goes up in one write, so that of two answers with the same one only the first counts; synced passkeys
	// have none.
	var taken int64
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		var err error
		taken, err = persons.UsePasskey(tx, row.ID, sealed, used.Authenticator.SignCount, now)
		return err
	})
	if err == nil && taken == 0 {
		err = errPasskey{"it was used in another place at the same moment, or taken away"}
	}
	return h.person, used, err
}

func (g *Room) sealPasskey(id string, c *webauthn.Credential) ([]byte, error) {
	plain, err := json.Marshal(c)
	return g.Store.Sealer.Seal(store.PlacePasskey, id, plain), err
}

// reason is what a trace says of a passkey that was not taken.
func reason(err error) string {
	var mine errPasskey
	if errors.As(err, &mine) {
		return mine.why
	}
	var p *protocol.Error
	if errors.As(err, &p) && p.DevInfo != "" {
		return words.Clip(p.Details+": "+p.DevInfo, 300)
	}
	return words.Clip(err.Error(), 300)
}

// methods are the authentication methods that a passkey stands for (RFC 8176): one that is synced is a key in software.
func passkeyMethods(c *webauthn.Credential, verified bool) []string {
	m := []string{"hwk", "user"}
	if c.Flags.BackupEligible {
		m[0] = "swk"
	}
	if verified {
		m = append(m, "mfa")
	}
	return m
}

// enterPasskey takes a browser's answer where a password or a code could be entered.
func (g *Room) enterPasskey(ctx context.Context, s *signin.SignIn, own *ownSignIn, answer string) error {
	byAddress, byPerson := "own-address:"+address.Network(s.Browser.Address), "factor:"+own.Person
	if err := tooMany(g.Guessing(ctx, byAddress, 100), "this network address"); err != nil {
		return err
	}
	var p *store.Person
	var used *webauthn.Credential
	err := error(errPasskey{"none was asked for"})
	if own.Passkey != nil && own.Passkey.Act == "get" && len(answer) <= maxPasskey {
		p, used, err = g.provePasskey(ctx, own, answer)
	}
	var no errPasskey
	if err != nil && !errors.As(err, &no) {
		return err
	}
	s.Rec.Check(trace.Check{
		Name:    "directory.passkey",
		Text:    "The passkey is one of the person's, for this gate, and was used just now",
		Section: "Web Authentication 7.2",
		Got:     no.why,
		OK:      err == nil,
	})
	if err != nil {
		own.Wrong++
		own.Error = "This passkey could not be taken: it is not known here, or not good any more."
		return nil
	}
	if !p.Active || p.Login == nil {
		return explain.New(explain.MatchInactive, explain.Fact("person", p.Name))
	}
	g.Guessed(ctx, byAddress, byPerson)
	alone := own.Stage == stagePassword
	if alone {
		own.Person, own.Name, own.At = p.ID, persons.LoginOf(p), g.Now()
	}
	own.AMR = append(own.AMR, passkeyMethods(used, alone)...)
	if !alone {
		own.AMR = append(own.AMR, "mfa")
	}
	own.Stage, own.Wrong = stageDone, 0
	return nil
}

// enrolPasskey takes a new passkey as the second factor.
func (g *Room) enrolPasskey(ctx context.Context, s *signin.SignIn, own *ownSignIn, answer string) error {
	var made *webauthn.Credential
	err := error(errPasskey{"none was asked for"})
	if own.Passkey != nil && own.Passkey.Act == "create" && len(answer) <= maxPasskey {
		made, err = g.newPasskey(ctx, own, answer)
	}
	var no errPasskey
	if err != nil && !errors.As(err, &no) {
		return err
	}
	s.Rec.Check(trace.Check{
		Name:    "directory.passkey",
		Text:    "The new passkey was made for this gate and this person",
		Section: "Web Authentication 7.1",
		Got:     no.why,
		OK:      err == nil,
	})
	if err != nil {
		own.Wrong++
		own.Error = "The passkey could not be taken. Please try again, or use an authenticator."
		return nil
	}
	c := store.Credential{
		ID:       store.NewID(),
		PersonID: own.Person,
		Kind:     "passkey",
		Name:     "kept on one device",
		Lookup:   made.ID,
		Counter:  int64(made.Authenticator.SignCount),
	}
	if made.Flags.BackupEligible {
		c.Name = "synced between devices"
	}
	if c.Sealed, err = g.sealPasskey(c.ID, made); err != nil {
		return err
	}
	if own.Codes, err = g.enrol(ctx, &c); err != nil {
		return err
	}
	own.Secret, own.Stage, own.Wrong = "", stageCodes, 0
	own.AMR = append(own.AMR, append(passkeyMethods(made, false), "mfa")...)
	s.Rec.Decide(trace.Decision{About: "strength", Result: "a passkey was set up", By: s.Provider.Name})
	return nil
}

func (g *Room) newPasskey(ctx context.Context, own *ownSignIn, answer string) (*webauthn.Credential, error) {
	parsed, err := protocol.ParseCredentialCreationResponseBytes([]byte(answer))
	if err != nil {
		return nil, errPasskey{"it can't be read: " + reason(err)}
	}
	h, err := g.passkeyHolder(ctx, own.Person)
	if err != nil {
		return nil, err
	}
	made, err := g.party.CreateCredential(h, own.Passkey.Session, parsed)
	if err != nil {
		return nil, errPasskey{reason(err)}
	}
	var other int64
	if err := g.Store.Read(ctx).Model(&store.Credential{}).Where("lookup = ? AND kind = 'passkey'",
		made.ID).Count(&other).Error; err != nil {
		return nil, store.Clear(err)
	}
	if other > 0 {
		return nil, errPasskey{"a passkey with this ID is known already"}
	}
	// Who made the authenticator is not asked for and not kept.
	made.Attestation, made.Authenticator.AAGUID = webauthn.CredentialAttestation{}, nil
	return made, nil
}
