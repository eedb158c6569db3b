package sessions

import (
	"fmt"
	"time"

	"innergate/core/bridge"
	"innergate/core/span"
	"innergate/core/words"
	"innergate/gate/partners"
)

// AsksAnew says why what a provider vouched for in a session does not count for what an application wishes, which was
// last gone to at a time, or nothing.
func (vouched *Proof) AsksAnew(w *bridge.Wish, p *partners.Provider, app *partners.Application, last, now time.Time) string {
	who := &vouched.Identity
	age := now.Sub(who.AuthnInstant)
	switch {
	case w.Fresh:
		return "the application wants a fresh sign-in"
	case w.Choose:
		return "the application wants the person to choose"
	case p.SAML != nil && p.SAML.ForceAuthn, p.OIDC != nil && p.OIDC.Fresh:
		return "it is set to ask anew each time"
	case !who.SessionEnd.IsZero() && !now.Before(who.SessionEnd):
		return "its own session is over since " + who.SessionEnd.UTC().Format(time.RFC3339)
	case w.MaxAge != nil && (who.AuthnInstant.IsZero() || age > *w.MaxAge):
		return "signed in " + words.Ago(now, who.AuthnInstant) + ", and the application allows " + span.Words(*w.MaxAge)
	case w.Context != nil && !w.Preferred && !who.Meets(w.Context):
		return "the application asks for " + fmt.Sprint(w.Context.Classes) + ", and it proved " + who.Proved()
	}
	rules := app.Session
	if rules == nil {
		return ""
	}
	if since := vouched.Since(); rules.MaxMinutes > 0 && now.Sub(since) > time.Duration(rules.MaxMinutes)*time.Minute {
		return "signed in " + words.Ago(now, since) + ", and this application is set to " + fmt.Sprint(rules.MaxMinutes) + " minutes"
	}
	if rules.IdleMinutes > 0 && !last.IsZero() && now.Sub(last) > time.Duration(rules.IdleMinutes)*time.Minute {
		return "the application was last used " + words.Ago(now, last) + ", and is set to " + fmt.Sprint(rules.IdleMinutes) + " minutes"
	}
	return ""
}
