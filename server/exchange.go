package server

import (
	"errors"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"innergate/api"
	"innergate/gate/exchange"
)

const (
	handoverCookieLife = 60 * 24 * time.Hour
	trialCookieLife    = 2 * time.Hour
)

// handovers are the pages for engineers of the other side, and those on which people sign in both ways for a move. None
// of them needs an account.
func (s *Server) handovers() {
	a := s.app
	a.Get("/handover/:token", func(c fiber.Ctx) error {
		page, err := s.Gate.Exchange.Handover(c.Context(), s.browser(c), c.Params("token"), s.handoverCookie(c))
		return s.handoverPage(c, page, err)
	})
	a.Post("/handover/:token", func(c fiber.Ctx) error {
		if err := s.SameOrigin(c); err != nil {
			return err
		}
		id, err := s.Gate.Exchange.HandoverID(c.Context(), s.browser(c), c.Params("token"))
		if err != nil {
			return s.handoverPage(c, nil, err)
		}
		kept, err := s.Gate.Exchange.OpenHandover(c.Context(), s.browser(c), c.Params("token"), s.handoverCookie(c))
		if err != nil {
			return s.handoverPage(c, nil, err)
		}
		s.SetCookie(c, s.CookieName("handover-"+id), kept, handoverCookieLife)
		return c.Redirect().Status(http.StatusSeeOther).To("/handover/" + url.PathEscape(c.Params("token")))
	})
	a.Post("/handover/:token/compare", func(c fiber.Ctx) error {
		if err := s.SameOrigin(c); err != nil {
			return err
		}
		page, err := s.Gate.Exchange.CompareHandover(
			c.Context(), s.browser(c), c.Params("token"), s.handoverCookie(c), strings.Clone(c.FormValue("text")),
		)
		return s.handoverPage(c, page, err)
	})
	a.Post("/handover/:token/leave", func(c fiber.Ctx) error {
		if err := s.SameOrigin(c); err != nil {
			return err
		}
		page, err := s.Gate.Exchange.LeaveHandover(
			c.Context(),
			s.browser(c),
			c.Params("token"),
			s.handoverCookie(c),
			exchange.HandoverLeave{
				Text:        strings.Clone(c.FormValue("text")),
				Certificate: strings.Clone(c.FormValue("certificate")),
				ClientID:    strings.Clone(c.FormValue("client_id")),
				Secret:      strings.Clone(c.FormValue("client_secret")),
				Remark:      strings.Clone(c.FormValue("remark")),
			},
			c.FormValue("act") != "leave",
		)
		return s.handoverPage(c, page, err)
	})
	a.Post("/handover/:token/try", func(c fiber.Ctx) error {
		if err := s.SameOrigin(c); err != nil {
			return err
		}
		next, rehearsal, err := s.Gate.Exchange.TryHandover(c.Context(), s.browser(c), c.Params("token"), s.handoverCookie(c))
		if err != nil {
			return s.handoverPage(c, nil, err)
		}
		return s.rehearses(c, next, rehearsal)
	})
	a.Get("/handover/:token/certificate/:file", func(c fiber.Ctx) error {
		page, err := s.Gate.Exchange.Handover(c.Context(), s.browser(c), c.Params("token"), s.handoverCookie(c))
		if err != nil {
			return s.handoverPage(c, nil, err)
		}
		for _, cert := range page.Certificates {
			if cert.File == c.Params("file") {
				c.Set("Content-Disposition", `attachment; filename="`+cert.File+`"`)
				c.Set("Content-Type", "application/x-pem-file")
				return c.SendString(cert.PEM + "\n")
			}
		}
		return fiber.ErrNotFound
	})
	a.Get("/side-by-side/:token", func(c fiber.Ctx) error { return s.trialPage(c, strings.Clone(c.Params("token"))) })
	a.Get("/side-by-side", func(c fiber.Ctx) error {
		token, _, _ := strings.Cut(c.Cookies(s.CookieName("side")), "~")
		return s.trialPage(c, strings.Clone(token))
	})
	a.Post("/side-by-side/:token", func(c fiber.Ctx) error {
		if err := s.SameOrigin(c); err != nil {
			return err
		}
		token := strings.Clone(c.Params("token"))
		next, run, rehearsal, err := s.Gate.Moves.BeginTrial(c.Context(), s.browser(c), token, s.trialRun(c, token))
		if err != nil {
			return s.explained(c, err)
		}
		s.SetCookie(c, s.CookieName("side"), token+"~"+run, trialCookieLife)
		return s.rehearses(c, next, rehearsal)
	})
}

// handoverCookie is what this browser keeps of a link that it opened.
func (s *Server) handoverCookie(c fiber.Ctx) string {
	prefix := s.CookieName("handover-")
	var all []string
	for name, value := range c.Request().Header.Cookies() {
		if strings.HasPrefix(string(name), prefix) {
			all = append(all, string(value))
		}
	}
	if len(all) == 0 || len(all) > 50 {
		return ""
	}
	id, err := s.Gate.Exchange.HandoverID(c.Context(), s.browser(c), c.Params("token"))
	if err != nil {
		return ""
	}
	return strings.Clone(c.Cookies(prefix + id))
}

func (s *Server) handoverPage(c fiber.Ctx, page *exchange.HandoverPage, err error) error {
	if err != nil {
		return s.explained(c, err)
	}
	status := http.StatusOK
	if page.Wrong != "" {
		status = http.StatusUnprocessableEntity
	}
	c.Set("X-Robots-Tag", "noindex")
	return s.page(
		c,
		status,
		"handover.html",
		pageData{Title: "Connecting with " + page.Name, Handover: page, Action: "/handover/" + strings.Clone(c.Params("token"))},
	)
}

// trialRun is what this browser keeps of its way through a link.
func (s *Server) trialRun(c fiber.Ctx, token string) string {
	held, run, _ := strings.Cut(c.Cookies(s.CookieName("side")), "~")
	if held != token {
		return ""
	}
	return strings.Clone(run)
}

func (s *Server) trialPage(c fiber.Ctx, token string) error {
	page, err := s.Gate.Moves.OpenTrial(c.Context(), token, s.trialRun(c, token))
	if err != nil {
		return s.explained(c, err)
	}
	return s.page(c, http.StatusOK, "side.html", pageData{Title: "Sign in both ways", Trial: page, Action: "/side-by-side/" + token})
}

// explained is a plain page with what a problem says, in the reader's language where it is a known one.
func (s *Server) explained(c fiber.Ctx, err error) error {
	var p *api.Problem
	if !errors.As(err, &p) || p.Status >= 500 {
		return err
	}
	return s.page(c, p.Status, "message.html", pageData{Title: p.Title, Text: p.Detail, More: p.Remedy})
}
