package server

import (
	"encoding/hex"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"innergate/core/explain"
	"innergate/core/saml"
	"innergate/gate/signin"
	"innergate/server/visit"
)

func (s *Server) protocols() {
	a := s.app
	a.Get("/saml/idp/metadata", func(c fiber.Ctx) error { return s.metadata(c, "", "") })
	a.Post("/saml/idp/artifact", s.artifact)
	for _, base := range []string{"/saml/idp", "/saml/idp/:application"} {
		a.Get(base+"/sso", s.begins(s.sso))
		a.Post(base+"/sso", s.ssoPosted)
		a.Post(base+"/sso"+again, s.begins(s.postedAgain(s.ssoAgain)))
		a.Get(base+"/slo", s.slo)
		a.Post(base+"/slo", s.slo)
		a.Post(base+"/slo"+again, s.postedAgain(s.sloAgain))
	}
	a.Get("/saml/idp/:application/metadata", func(c fiber.Ctx) error { return s.metadata(c, "application", c.Params("application")) })
	a.Get("/saml/sp/:provider/metadata", func(c fiber.Ctx) error { return s.metadata(c, "provider", c.Params("provider")) })
	a.Post("/saml/sp/:provider/acs", s.acsPosted)
	a.Get("/saml/sp/:provider/acs", func(c fiber.Ctx) error {
		if c.Query(saml.ParamArtifact) != "" {
			return s.artifactArrived(c)
		}
		return s.page(
			c,
			http.StatusOK,
			"message.html",
			pageData{
				Title: "This address takes sign-in responses",
				Text: "It is the assertion consumer service (ACS) of Inner Gate for one provider. A provider sends responses here by " +
					"HTTP-POST; there is nothing to see in a browser.",
			},
		)
	})
	a.Post("/saml/sp/:provider/acs"+again, s.postedAgain(s.acsAgain))
	a.Get("/saml/sp/:provider/slo", s.providerSLO)
	a.Post("/saml/sp/:provider/slo", s.providerSLO)
	a.Post("/saml/sp/:provider/slo"+again, s.postedAgain(s.sloAgain))
	a.Get("/sign-out", func(c fiber.Ctx) error {
		return s.next(c, s.Gate.SignOut.SignOutHere(c.Context(), s.browser(c), false))
	})
	a.Post("/sign-out", func(c fiber.Ctx) error {
		if err := s.SameOrigin(c); err != nil {
			return err
		}
		return s.onward(c, s.Gate.SignOut.SignOutHere(c.Context(), s.browser(c), true))
	})
	a.Get("/guard/:application/enter", s.begins(func(c fiber.Ctx) error {
		bind, err := hex.DecodeString(c.Query("bind"))
		if err != nil {
			bind = nil
		}
		return s.next(c, s.Gate.Guarded.EnterGuarded(c.Context(), s.browser(c), c.Params("application"), c.Query("to"), bind))
	}))
	a.Get("/sign-out/guard/:ticket", func(c fiber.Ctx) error {
		return s.next(c, s.Gate.Guarded.LeaveGuarded(c.Context(), s.browser(c), c.Params("ticket")))
	})
	a.Get("/start/:application", s.begins(func(c fiber.Ctx) error {
		return s.next(c, s.Gate.SignIn.Start(c.Context(), s.browser(c), c.Params("application"), c.Query("to")))
	}))
	a.Get("/rehearse/:token", s.rehearsalPage)
	a.Post("/rehearse/:token", s.rehearsalBegin)
	a.Post("/sign-in/:id/name", func(c fiber.Ctx) error {
		if err := s.SameOrigin(c); err != nil {
			return err
		}
		return s.onward(c, s.Gate.SignIn.Named(c.Context(), s.browser(c), c.Params("id"), strings.Clone(c.FormValue("name"))))
	})
	a.Post("/sign-in/:id/choose", func(c fiber.Ctx) error {
		if err := s.SameOrigin(c); err != nil {
			return err
		}
		return s.onward(c, s.Gate.SignIn.Chosen(c.Context(), s.browser(c), c.Params("id"), c.FormValue("provider")))
	})
}

// metadata hands out our metadata. A fetch from a partner's own address is remembered, unless an administrator looks.
func (s *Server) metadata(c fiber.Ctx, side, slug string) error {
	slug = strings.Clone(slug)
	counts := c.Cookies(s.CookieName("console")) == "" && c.Get("Authorization") == ""
	doc, err := s.Gate.Exchange.HandOutMetadata(c.Context(), side, slug, c.Query("signed") != "", counts, s.Address(c))
	if err != nil {
		return err
	}
	name := "inner-gate-idp.xml"
	if side != "" {
		name = "inner-gate-" + map[string]string{"application": "idp", "provider": "sp"}[side] + "-" + slug + ".xml"
	}
	c.Set("Content-Disposition", `inline; filename="`+name+`"`)
	c.Set("Content-Type", "application/samlmetadata+xml")
	return c.Send(doc)
}

// sso takes a request by HTTP-Redirect. Opened without one it explains itself.
func (s *Server) sso(c fiber.Ctx) error {
	_, query, _ := strings.Cut(c.OriginalURL(), "?")
	if query == "" {
		return s.page(
			c,
			http.StatusOK,
			"message.html",
			pageData{
				Title: "This address takes sign-in requests",
				Text: "It is the single sign-on service of Inner Gate. Applications send people here with a request; please start at " +
					"the application that you want to use.",
			},
		)
	}
	received, err := saml.DecodeRedirect(query, s.ssoLocation(c))
	if err != nil {
		return s.next(c, s.Gate.SignIn.Unreadable(c.Context(), s.browser(c), "sp", "", err))
	}
	if received.Param != saml.ParamRequest {
		return s.next(
			c,
			s.Gate.SignIn.FailArrival(
				c.Context(), s.browser(c), "sp", "",
				explain.New(explain.SAMLNotARequest, explain.Pair("message", "SAMLRequest", received.Param)),
			),
		)
	}
	return s.next(c, s.Gate.SignIn.AskSAML(c.Context(), s.browser(c), received))
}

// ssoLocation is the address at which a request came: the common one, or that of one application.
func (s *Server) ssoLocation(c fiber.Ctx) string {
	if app := c.Params("application"); app != "" {
		return s.Gate.PublicURL + "/saml/idp/" + strings.Clone(url.PathEscape(app)) + "/sso"
	}
	return s.Gate.SSOLocation()
}

// artifact answers applications that ask for the message behind an artifact (SAML Bindings, section 3.6).
func (s *Server) artifact(c fiber.Ctx) error {
	if !strings.HasPrefix(c.Get("Content-Type"), "text/xml") {
		return fiber.ErrUnsupportedMediaType
	}
	return s.soap(c, func(doc []byte) ([]byte, error) { return s.Gate.Messages.ResolveArtifact(c.Context(), doc) })
}

func (s *Server) rehearsalPage(c fiber.Ctx) error {
	token := c.Params("token")
	p := s.Gate.Rehearsal.OpenRehearsal(c.Context(), s.browser(c), token)
	if p.Failure != nil {
		return s.failurePage(c, p.Failure)
	}
	return s.page(c, http.StatusOK, "rehearse.html", pageData{Title: "Rehearsal", Rehearsal: p, Action: "/rehearse/" + token})
}

func (s *Server) rehearsalBegin(c fiber.Ctx) error {
	if err := s.SameOrigin(c); err != nil {
		return err
	}
	next, cookie := s.Gate.Rehearsal.BeginRehearsal(c.Context(), s.browser(c), c.Params("token"))
	return s.rehearses(c, next, cookie)
}

// rehearses goes on in a rehearsal that this browser has begun.
func (s *Server) rehearses(c fiber.Ctx, next *signin.Next, cookie string) error {
	if cookie != "" && !next.DropRehearsal {
		s.SetCookie(c, s.CookieName("rehearsal"), cookie, time.Hour)
	}
	return s.onward(c, next)
}

const (
	signInPrefix  = "s-"
	signOutPrefix = "o-"

	signOutCookieLife = 10 * time.Minute
)

// browser reads what we know of the one who asks out of cookies and address.
func (s *Server) browser(c fiber.Ctx) signin.Browser {
	b := signin.Browser{Address: s.Address(c), SignIns: map[string]string{}, SignOuts: map[string]string{}}
	prefix, outs := s.CookieName(signInPrefix), s.CookieName(signOutPrefix)
	for name, value := range c.Request().Header.Cookies() {
		if id, ok := strings.CutPrefix(string(name), outs); ok && len(b.SignOuts) < 8 {
			b.SignOuts[strings.Clone(id)] = string(value)
		}
		if id, ok := strings.CutPrefix(string(name), prefix); ok && len(b.SignIns) < 64 {
			b.SignIns[strings.Clone(id)] = string(value)
		}
	}
	b.Rehearsal = strings.Clone(c.Cookies(s.CookieName("rehearsal")))
	b.Session = strings.Clone(c.Cookies(s.CookieName("session")))
	b.Device = strings.Clone(c.Get("User-Agent"))
	b.Way = strings.Clone(c.Cookies(s.CookieName("way")))
	return b
}

func (s *Server) cookies(c fiber.Ctx, n *signin.Next) {
	if n.SetSignIn != "" {
		s.SetCookie(c, s.CookieName(signInPrefix+n.SetSignIn), n.Secret, 20*time.Minute)
	}
	for _, id := range n.DropSignIns {
		s.DropCookie(c, s.CookieName(signInPrefix+id))
	}
	if n.Console != "" {
		s.SetCookie(c, s.CookieName("console"), n.Console, visit.ConsoleCookieLife)
	}
	if n.DropRehearsal {
		s.DropCookie(c, s.CookieName("rehearsal"))
	}
	if n.Session != "" {
		life := time.Duration(0)
		if !n.SessionEnds.IsZero() {
			life = time.Until(n.SessionEnds)
		}
		s.SetCookie(c, s.CookieName("session"), n.Session, life)
	}
	if n.Way != "" {
		s.SetCookie(c, s.CookieName("way"), n.Way, 180*24*time.Hour)
	}
	if n.DropSession {
		s.DropCookie(c, s.CookieName("session"))
	}
	if n.SetSignOut != "" {
		s.SetCookie(c, s.CookieName(signOutPrefix+n.SetSignOut), n.Secret, signOutCookieLife)
	}
	if n.DropSignOut != "" {
		s.DropCookie(c, s.CookieName(signOutPrefix+n.DropSignOut))
	}
	c.Set("Cache-Control", "no-store")
}

// next sends what the gate decided.
func (s *Server) next(c fiber.Ctx, n *signin.Next) error {
	s.cookies(c, n)
	switch to := n.To.(type) {
	case signin.Redirect:
		return c.Redirect().Status(http.StatusSeeOther).To(string(to))
	case *signin.Form:
		return s.page(c, http.StatusOK, "send.html", pageData{Title: "One moment", Form: to})
	case *signin.Choice:
		return s.page(c, http.StatusOK, "choose.html", pageData{Title: "Sign in", Choice: to})
	case *signin.Confirm:
		return s.page(c, http.StatusOK, "confirm.html", pageData{Title: "Go on?", Confirm: to})
	case *signin.AskProfile:
		return s.page(c, http.StatusOK, "profile.html", pageData{Title: "Your profile", Ask: to})
	case *signin.SignOut:
		return s.signedOut(c, to)
	case signin.Done:
		return s.page(c, http.StatusOK, "message.html", pageData{Title: "Done", Text: string(to)})
	case *signin.FailurePage:
		return s.failurePage(c, to)
	}
	return fmt.Errorf("a sign-in has nowhere to go: %T", n.To)
}

// onward is next after a form of our own. A page stands between, because browsers hold the redirects that follow a form
// against the form's own policy.
func (s *Server) onward(c fiber.Ctx, n *signin.Next) error {
	to, redirects := n.To.(signin.Redirect)
	if !redirects {
		return s.next(c, n)
	}
	s.cookies(c, n)
	return s.page(c, http.StatusOK, "onward.html", pageData{Title: "One moment", Location: trusted(string(to))})
}

func (s *Server) failurePage(c fiber.Ctx, f *signin.FailurePage) error {
	lang := s.languageOf(c)
	d := pageData{
		Title:     "You could not be signed in",
		Text:      f.Explanation.Person,
		More:      said(lang, "What happened: %s.", f.Explanation.Title),
		Reference: f.Reference,
		Back:      f.Back,
		BackName:  f.Application,
	}
	switch back := f.Return.(type) {
	case *signin.Form:
		d.Form = back
	case signin.Redirect:
		d.Location = trusted(string(back))
	}
	switch {
	case f.SigningOut:
		d.Title, d.SignOutHere = "The sign-out did not work", true
	case f.Application != "":
		d.Title = said(lang, "You could not be signed in to %s", f.Application)
	}
	return s.page(c, f.Status, "message.html", d)
}
