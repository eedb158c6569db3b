package server

import (
	"errors"
	"html/template"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"innergate/api"
	"innergate/core/explain"
)

// portal are the pages of whoever is signed in at the gate: what they may use, and what is kept of them.
func (s *Server) portal() {
	s.app.Get("/", func(c fiber.Ctx) error {
		p, err := s.Gate.Portal.Portal(c.Context(), s.browser(c), strings.Clone(c.Query("q")))
		if err != nil {
			return err
		}
		if p.Next != nil {
			return s.next(c, p.Next)
		}
		return s.page(c, http.StatusOK, "portal.html", pageData{Title: "Your applications", Portal: p})
	})
	s.app.Get("/account", func(c fiber.Ctx) error {
		a, err := s.Gate.Portal.OwnAccount(c.Context(), s.browser(c))
		if err != nil {
			return err
		}
		if a.Next != nil {
			return s.next(c, a.Next)
		}
		return s.page(c, http.StatusOK, "account.html", pageData{Title: "About you", Account: a})
	})
	s.app.Post("/tiles", func(c fiber.Ctx) error {
		if err := s.SameOrigin(c); err != nil {
			return err
		}
		n, err := strconv.Atoi(c.FormValue("tile"))
		if err != nil {
			return fiber.ErrBadRequest
		}
		return s.backTo(
			c, "/",
			s.Gate.Portal.MarkTile(c.Context(), s.browser(c), strings.Clone(c.FormValue("application")), n, c.FormValue("on") == "1"),
		)
	})
	s.app.Post("/account/credentials", func(c fiber.Ctx) error {
		if err := s.SameOrigin(c); err != nil {
			return err
		}
		return s.backTo(c, "/account", s.Gate.Portal.RemoveOwn(c.Context(), s.browser(c), strings.Clone(c.FormValue("remove"))))
	})
	s.app.Post("/account/password", func(c fiber.Ctx) error {
		if err := s.SameOrigin(c); err != nil {
			return err
		}
		field := func(name string) string { return strings.Clone(c.FormValue(name)) }
		said, err := s.Gate.Portal.ChangeOwn(c.Context(), s.browser(c), field("directory"), field("old"), field("password"), field("again"))
		var f *explain.Failure
		switch {
		case errors.As(err, &f):
			said = f.Explain().Person
		case err != nil:
			return err
		}
		if said != "" {
			return s.page(c, http.StatusBadRequest, "message.html", pageData{Title: "Your password was not changed", Text: said,
				Location: "/account", BackName: "About you"})
		}
		return s.page(c, http.StatusOK, "message.html", pageData{Title: "Your password is changed", Text: "From now on the new one counts.",
			Location: "/account", BackName: "About you"})
	})
	s.app.Post("/account/sessions", func(c fiber.Ctx) error {
		if err := s.SameOrigin(c); err != nil {
			return err
		}
		return s.backTo(c, "/account", s.Gate.Portal.EndOwn(c.Context(), s.browser(c), strings.Clone(c.FormValue("end"))))
	})
}

// backTo goes back to a page after a form, or says why it did not work.
func (s *Server) backTo(c fiber.Ctx, page string, err error) error {
	var p *api.Problem
	switch {
	case errors.As(err, &p):
		return s.page(c, p.Status, "message.html", pageData{Title: p.Title, Text: strings.TrimSpace(p.Detail + " " + p.Remedy)})
	case err != nil:
		return err
	}
	return c.Redirect().Status(http.StatusSeeOther).To(page)
}

// picture lets a checked data: address of a picture through.
func picture(address string) template.URL { return template.URL(address) }

// moment writes a time for people, to the minute.
func moment(lang string, t time.Time) string {
	if lang == "de" {
		return t.UTC().Format("02.01.2006 15:04") + " UTC"
	}
	return t.UTC().Format("2 January 2006 15:04") + " UTC"
}
