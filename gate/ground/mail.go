package ground

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	netmail "net/mail"
	"strings"
	"time"

	"github.com/wneessen/go-mail"
	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/config"
	"innergate/core/words"
	"innergate/store"
)

const (
	settingMail = "mail"
	mailTimeout = 15 * time.Second
)

// How long a code that was sent to a mail address counts, and how many are sent in one sign-in.
const (
	ProofLife    = 15 * time.Minute
	CodesPerSign = 3
)

// keptMail is the setting as it is stored.
type keptMail struct {
	config.Mail
	Sealed []byte `json:"sealed,omitempty"`
}

// KeptMail is how mail is sent; nil where it is not set.
func (g *Ground) KeptMail(ctx context.Context) (*keptMail, error) {
	var row store.Setting
	if err := g.Store.Read(ctx).Where("name = ?", settingMail).Limit(1).Find(&row).Error; err != nil || row.Name == "" {
		return nil, store.Clear(err)
	}
	var m keptMail
	return &m, json.Unmarshal([]byte(row.Value), &m)
}

// MailSettings are how the gate sends mail, without the password.
func (g *Ground) MailSettings(ctx context.Context) (*api.MailSettings, error) {
	m, err := g.KeptMail(ctx)
	if err != nil || m == nil {
		return &api.MailSettings{Mail: config.Mail{Encryption: "starttls"}}, err
	}
	return &api.MailSettings{Mail: m.Mail, On: true, HasPassword: len(m.Sealed) > 0}, nil
}

// SetMail says how the gate sends mail; an empty server ends it. A password that is not given stays, as long as it goes
// to the same server.
func (g *Ground) SetMail(ctx context.Context, who Actor, in api.SaveMail) (*api.MailSettings, error) {
	held, err := g.KeptMail(ctx)
	if err != nil {
		return nil, err
	}
	before := ""
	if held != nil {
		before = MustJSON(held.Mail)
	}
	fresh := keptMail{Mail: in.Mail}
	after := ""
	if strings.TrimSpace(in.Server) != "" {
		if err := fresh.Validate(); err != nil {
			return nil, Invalid(err)
		}
		switch {
		case in.Password != nil && len(*in.Password) > 1000:
			return nil, BadRequest("password-long", "The password has more than 1000 characters.", "")
		case in.Password != nil && *in.Password != "":
			fresh.Sealed = g.Store.Sealer.Seal(store.PlaceSetting, settingMail, []byte(*in.Password))
		case in.Password == nil && held != nil && held.Server == fresh.Server && held.Encryption == fresh.Encryption:
			fresh.Sealed = held.Sealed
		}
		if fresh.Username == "" {
			fresh.Sealed = nil
		}
		after = MustJSON(fresh.Mail)
	}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		if after == "" {
			return g.StoreSetting(tx, who, settingMail, "how mail is sent", "", before, "")
		}
		return g.StoreSetting(tx, who, settingMail, "how mail is sent", MustJSON(fresh), before, after)
	})
	if err != nil {
		return nil, err
	}
	return g.MailSettings(ctx)
}

// TestMail sends a mail to see that it can be done, and says what the server answered.
func (g *Ground) TestMail(ctx context.Context, who Actor, to string) error {
	if _, err := netmail.ParseAddress(to); err != nil || len(to) > 320 {
		return BadRequest("mail-address", fmt.Sprintf("%q is no mail address.", words.Clip(to, 100)), "")
	}
	return g.SendMail(
		ctx, to, "A test by Inner Gate",
		"This was sent by "+who.Name+" to see that the gate at "+g.PublicURL+" can send mail. It can.\n",
	)
}

// SendMail hands a mail to the server.
func (g *Ground) SendMail(ctx context.Context, to, subject, text string) error {
	kept, err := g.KeptMail(ctx)
	if err != nil {
		return err
	}
	if kept == nil {
		return Problem(
			http.StatusConflict, "mail-off", "The gate sends no mail", "No mail server is set.",
			"Set one with `innergate mail set`, or on the page of the console's settings.",
		)
	}
	host, port, err := kept.Host()
	if err != nil {
		return err
	}
	m := mail.NewMsg()
	if err := m.From(kept.From); err != nil {
		return BadRequest("mail-from", "The sender's address is not good: "+err.Error()+".", "")
	}
	if err := m.To(to); err != nil {
		return BadRequest("mail-address", "The address is not good: "+err.Error()+".", "")
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
			return Problem(
				http.StatusConflict, "mail-password", "The password for the mail server is missing",
				"The mail server wants a password for "+kept.Username+", and none is kept.",
				"Enter it on the page of the console's settings, or with `innergate mail set`.",
			)
		}
		password, err := g.Store.Sealer.Open(store.PlaceSetting, settingMail, kept.Sealed)
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
		return Problem(
			http.StatusBadGateway, "mail-failed", "The mail could not be sent",
			fmt.Sprintf("The mail server %s did not take it: %s.", kept.Server, strings.TrimSuffix(words.Clip(err.Error(), 300), ".")),
			"Look at the server's address, encryption, user name and password.",
		)
	}
	return nil
}
