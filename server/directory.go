package server

import (
	"errors"
	"html/template"
	"net/http"
	"strings"

	"github.com/gofiber/fiber/v3"

	"innergate/api"
)

// own are the pages on which people sign in at the gate itself. A form answers with a redirect to a page of ours, so
// that nothing that was entered is sent twice.
func (s *Server) own() {
	s.app.Get("/sign-in/:id/own", func(c fiber.Ctx) error {
		page, next := s.Gate.Directory.ShowOwn(c.Context(), s.browser(c), c.Params("id"))
		if next != nil {
			return s.onward(c, next) // this follows a form of ours
		}
		return s.page(c, http.StatusOK, "own.html", pageData{Title: "Sign in", Own: page, Picture: template.URL(page.Picture)})
	})
	s.app.Post("/sign-in/:id/own", func(c fiber.Ctx) error {
		if err := s.SameOrigin(c); err != nil {
			return err
		}
		return s.next(
			c,
			s.Gate.Directory.EnterOwn(
				c.Context(),
				s.browser(c),
				c.Params("id"),
				func(name string) string { return strings.Clone(c.FormValue(name)) },
			),
		)
	})
	s.app.Post("/sign-in/:id/profile", func(c fiber.Ctx) error {
		if err := s.SameOrigin(c); err != nil {
			return err
		}
		return s.onward(
			c,
			s.Gate.SignIn.CompletedProfile(
				c.Context(),
				s.browser(c),
				c.Params("id"),
				c.FormValue("answer"),
				func(name string) string { return strings.Clone(c.FormValue(name)) },
			),
		)
	})
	s.app.Get("/own/:token", func(c fiber.Ctx) error { return s.passwordPage(c, "") })
	s.app.Post("/own/:token", func(c fiber.Ctx) error {
		if err := s.SameOrigin(c); err != nil {
			return err
		}
		err := s.Gate.Directory.SetPassword(c.Context(), c.Params("token"), c.FormValue("password"), c.FormValue("again"))
		var p *api.Problem
		switch {
		case errors.As(err, &p) && p.Status == http.StatusBadRequest:
			return s.passwordPage(c, strings.TrimSpace(p.Detail+" "+p.Remedy))
		case err != nil:
			return s.linkOver(c, err)
		}
		return s.page(
			c,
			http.StatusOK,
			"message.html",
			pageData{Title: "Your password is set", Text: "You can sign in with it now. Whatever was open under the old one has ended."},
		)
	})
}

func (s *Server) passwordPage(c fiber.Ctx, wrong string) error {
	p, err := s.Gate.Directory.LinkedPerson(c.Context(), c.Params("token"))
	if err != nil {
		return s.linkOver(c, err)
	}
	login := ""
	if p.Login != nil {
		login = *p.Login
	}
	return s.page(
		c,
		http.StatusOK,
		"password.html",
		pageData{
			Title: "Choose a password",
			Text: said(
				s.languageOf(c),
				"%s, you sign in as %s. At least 12 characters; a few words in a row are easy to remember and hard to guess.",
				p.Name, login,
			),
			More:   wrong,
			Action: "/own/" + strings.Clone(c.Params("token")),
		},
	)
}

func (s *Server) linkOver(c fiber.Ctx, err error) error {
	var p *api.Problem
	if !errors.As(err, &p) {
		return err
	}
	return s.page(c, http.StatusForbidden, "message.html", pageData{Title: p.Title, Text: strings.TrimSpace(p.Detail + " " + p.Remedy)})
}
