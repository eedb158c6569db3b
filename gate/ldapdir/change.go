package ldapdir

import (
	"context"
	"errors"
	"maps"
	"slices"

	"github.com/go-ldap/ldap/v3"

	"innergate/core/explain"
	"innergate/core/ldapdir"
	"innergate/core/trace"
	"innergate/gate/partners"
	"innergate/gate/signin"
)

// change changes the password of somebody who has to, by the old one, and goes on with the new one.
func (g *Room) change(ctx context.Context, s *signin.SignIn, h *here, old, fresh, again string) error {
	if fresh != again {
		h.Error = "The two passwords differ."
		return nil
	}
	if old == "" || fresh == "" || len(old) > mostEntered || len(fresh) > mostEntered {
		h.Error = "Enter both passwords."
		return nil
	}
	counted := guesses(s, h.Name)
	if g.GuessingAll(ctx, counted) != nil {
		return explain.New(explain.DirectoryTooMany, explain.Fact("name", h.Name))
	}
	said, err := g.setPassword(ctx, s.Provider, h.DN, old, fresh, s.Rec)
	if err != nil {
		return err
	}
	s.Rec.Check(trace.Check{Name: "ldap.password-change", Text: "The directory takes the new password",
		Section: "RFC 3062, section 2", Got: said, OK: said == ""})
	if said != "" {
		h.Error = said
		if said == wrongOld {
			h.Wrong++
		}
		return nil
	}
	who, got, err := g.try(ctx, s, h.Name, fresh)
	if err != nil {
		return err
	}
	if got.state == ldapdir.Wrong {
		return explain.New(explain.LDAPRefused, explain.Pair("account", h.Name, "the new password was taken, and is "+
			"wrong now")).Of(s.Provider.Name)
	}
	if err := refusal(got, s.Provider.Name, h.Name); err != nil {
		return err
	}
	g.Guessed(ctx, slices.Collect(maps.Keys(counted))...)
	return g.vouch(ctx, s, h, who, got)
}

const wrongOld = "Your old password is wrong."

// setPassword changes a password as the person whose it is (RFC 3062), and says in words why the directory did not take it.
func (g *Room) setPassword(ctx context.Context, p *partners.Provider, dn, old, fresh string, rec *trace.Recorder) (string, error) {
	own, err := g.linesOf(p).open(ctx, &p.Provider, nil, g.Now(), rec)
	if err != nil {
		return "", err
	}
	defer own.Close()
	got, err := bind(own.Conn, dn, old)
	if err != nil {
		return "", explain.New(explain.LDAPUnreachable, explain.Fact("reason", reason(err))).Of(p.Name)
	}
	if got.state == ldapdir.Wrong {
		return wrongOld, nil
	}
	if got.state != ldapdir.Good && got.state != ldapdir.MustChange {
		return "", refusal(got, p.Name, dn)
	}
	_, err = own.PasswordModify(ldap.NewPasswordModifyRequest("", old, fresh))
	var e *ldap.Error
	switch {
	case err == nil:
		return "", nil
	case errors.As(err, &e) && e.ResultCode < ldap.ErrorNetwork:
		return ldapdir.ChangeRefused(-1, diagnostic(e)), nil
	}
	return "", explain.New(explain.LDAPUnreachable, explain.Fact("reason", reason(err))).Of(p.Name)
}
