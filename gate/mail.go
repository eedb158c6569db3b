package gate

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/json"
	"fmt"
	"math/big"
	"net/http"
	netmail "net/mail"
	"strings"
	"time"

	"github.com/wneessen/go-mail"
	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/config"
	"innergate/core/keys"
	"innergate/store"
)

const (
	settingMail  = "mail"
	mailTimeout  = 15 * time.Second
	proofLife    = 15 * time.Minute
	codesPerSign = 3 // codes sent in one sign-in
)

// keptMail is the setting as it is stored.
type keptMail struct {
	config.Mail
	Sealed []byte `json:"sealed,omitempty"`
}

func (g *Gate) keptMail(ctx context.Context) (*keptMail, error) {
	var row store.Setting
	if err := g.Store.Read(ctx).Where("name = ?", settingMail).Limit(1).Find(&row).Error; err != nil || row.Name == "" {
		return nil, store.Clear(err)
	}
	var m keptMail
	return &m, json.Unmarshal([]byte(row.Value), &m)
}

// MailSettings are how the gate sends mail, without the password.
func (g *Gate) MailSettings(ctx context.Context) (*api.MailSettings, error) {
	m, err := g.keptMail(ctx)
	if err != nil || m == nil {
		return &api.MailSettings{Mail: config.Mail{Encryption: "starttls"}}, err
	}
	return &api.MailSettings{Mail: m.Mail, On: true, HasPassword: len(m.Sealed) > 0}, nil
}

// SetMail says how the gate sends mail; an empty server ends it. A password that is not given stays, as long as it goes to the same server.
func (g *Gate) SetMail(ctx context.Context, who Actor, in api.SaveMail) (*api.MailSettings, error) {
	held, err := g.keptMail(ctx)
	if err != nil {
		return nil, err
	}
	before := ""
	if held != nil {
		before = mustJSON(held.Mail)
	}
	fresh := keptMail{Mail: in.Mail}
	after := ""
	if strings.TrimSpace(in.Server) != "" {
		if err := fresh.Validate(); err != nil {
			return nil, invalid(err)
		}
		switch {
		case in.Password != nil && len(*in.Password) > 1000:
			return nil, badRequest("password-long", "The password has more than 1000 characters.", "")
		case in.Password != nil && *in.Password != "":
			fresh.Sealed = g.Store.Sealer.Seal("mail", []byte(*in.Password))
		case in.Password == nil && held != nil && held.Server == fresh.Server && held.Encryption == fresh.Encryption:
			fresh.Sealed = held.Sealed
		}
		if fresh.Username == "" {
			fresh.Sealed = nil
		}
		after = mustJSON(fresh.Mail)
	}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		if after == "" {
			return g.storeSetting(tx, who, settingMail, "how mail is sent", "", before, "")
		}
		return g.storeSetting(tx, who, settingMail, "how mail is sent", mustJSON(fresh), before, after)
	})
	if err != nil {
		return nil, err
	}
	return g.MailSettings(ctx)
}

// TestMail sends a mail to see that it can be done, and says what the server answered.
func (g *Gate) TestMail(ctx context.Context, who Actor, to string) error {
	if _, err := netmail.ParseAddress(to); err != nil || len(to) > 320 {
		return badRequest("mail-address", fmt.Sprintf("%q is no mail address.", clipText(to, 100)), "")
	}
	return g.sendMail(ctx, to, "A test by Inner Gate", "This was sent by "+who.Name+" to see that the gate at "+g.PublicURL+" can send mail. It can.\n")
}

// sendMail hands a mail to the server.
func (g *Gate) sendMail(ctx context.Context, to, subject, text string) error {
	kept, err := g.keptMail(ctx)
	if err != nil {
		return err
	}
	if kept == nil {
		return problem(http.StatusConflict, "mail-off", "The gate sends no mail", "No mail server is set.", "Set one with `innergate mail set`, or on the page of the console's settings.")
	}
	host, port, err := kept.Host()
	if err != nil {
		return err
	}
	m := mail.NewMsg()
	if err := m.From(kept.From); err != nil {
		return badRequest("mail-from", "The sender's address is not good: "+err.Error()+".", "")
	}
	if err := m.To(to); err != nil {
		return badRequest("mail-address", "The address is not good: "+err.Error()+".", "")
	}
	m.Subject(subject)
	m.SetDate()
	m.SetMessageID()
	m.SetBodyString(mail.TypeTextPlain, text)
	o := []mail.Option{mail.WithTimeout(mailTimeout), mail.WithTLSPolicy(mail.TLSMandatory), mail.WithPort(port), mail.WithoutNoop()}
	switch kept.Encryption {
	case "tls":
		o = append(o, mail.WithSSL())
	case "none":
		o = append(o, mail.WithTLSPolicy(mail.NoTLS))
	}
	if kept.Username != "" {
		if len(kept.Sealed) == 0 {
			return problem(http.StatusConflict, "mail-password", "The password for the mail server is missing", "The mail server wants a password for "+kept.Username+", and none is kept.", "Enter it on the page of the console's settings, or with `innergate mail set`.")
		}
		password, err := g.Store.Sealer.Open("mail", kept.Sealed)
		if err != nil {
			return err
		}
		auth := mail.SMTPAuthAutoDiscover
		if kept.Encryption == "none" {
			auth = mail.SMTPAuthPlainNoEnc // it stays on this machine
		}
		o = append(o, mail.WithSMTPAuth(auth), mail.WithUsername(kept.Username), mail.WithPassword(string(password)))
	}
	c, err := mail.NewClient(host, o...)
	if err != nil {
		return err
	}
	ctx, stop := context.WithTimeout(ctx, mailTimeout)
	defer stop()
	if err := c.DialAndSendWithContext(ctx, m); err != nil {
		return problem(http.StatusBadGateway, "mail-failed", "The mail could not be sent", fmt.Sprintf("The mail server %s did not take it: %s.", kept.Server, strings.TrimSuffix(clipText(err.Error(), 300), ".")), "Look at the server's address, encryption, user name and password.")
	}
	return nil
}

// mailProof is a mail address that somebody says is theirs, until they have entered the code that was sent to it. It is kept with the sign-in.
type mailProof struct {
	Address string    `json:"address"`
	Hash    []byte    `json:"hash"`
	Until   time.Time `json:"until"`
	Sent    int       `json:"sent"`
	Wrong   int       `json:"wrong"`
}

// proveMail sends a code to an address. What goes wrong is said in words for the person.
func (g *Gate) proveMail(ctx context.Context, s *signIn, address string) (string, error) {
	var held mailProof
	if s.state.Proof != nil {
		held = *s.state.Proof
	}
	if held.Sent >= codesPerSign {
		return "No more codes are sent in this sign-in. Please begin again.", nil
	}
	for name, limit := range map[string]int{"mail-from:" + b4(s.browser.Address): 20, "mail-to:" + strings.ToLower(address): 5} {
		if g.guessing(ctx, name, limit) != nil {
			return "Too many codes were sent. Please wait a quarter of an hour.", nil
		}
	}
	n, err := rand.Int(rand.Reader, big.NewInt(1_000_000))
	if err != nil {
		return "", err
	}
	code := fmt.Sprintf("%06d", n)
	s.state.Proof = &mailProof{Address: address, Hash: keys.HashSecret(s.id + code), Until: g.Now().Add(proofLife), Sent: held.Sent + 1, Wrong: held.Wrong}
	if err := g.sendMail(ctx, address, "Your code for "+s.app.Name, "Somebody, most likely you, is about to use "+s.app.Name+" for the first time and gave this mail address.\n\nThe code is "+code[:3]+" "+code[3:]+"\n\nIt is good for 15 minutes, on the page that asks for it. If this was not you, nothing happens without the code.\n"); err != nil {
		s.state.Proof.Hash = nil
		g.Log.Warn("a code could not be sent", "reference", s.reference, "error", err)
		return "The code could not be sent. Please check the address, or try again later.", nil
	}
	return "", nil
}

// provenMail says whether this is the code that was sent. A wrong one counts.
func (g *Gate) provenMail(s *signIn, code string) bool {
	p := s.state.Proof
	code = strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' {
			return r
		}
		return -1
	}, code)
	if len(p.Hash) > 0 && p.Wrong < maxWrong && g.Now().Before(p.Until) && subtle.ConstantTimeCompare(p.Hash, keys.HashSecret(s.id+code)) == 1 {
		return true
	}
	p.Wrong++
	return false
}
