package server

import (
	"net/http"

	"github.com/gofiber/fiber/v3"
)

// tickets are the addresses at which browsers show a ticket of a realm (RFC 4559). Only here is one asked for it, so that nobody whom
// no route leads here sees a window of the browser that wants a password.
func (s *Server) tickets() {
	s.app.Get("/sign-in/:id/ticket", func(c fiber.Ctx) error {
		header := c.Get(fiber.HeaderAuthorization)
		if header == "" {
			return s.askForTicket(c)
		}
		answer, next := s.Gate.Kerberos.Show(c.Context(), s.browser(c), c.Params("id"), header)
		if answer != "" {
			c.Set(fiber.HeaderWWWAuthenticate, "Negotiate "+answer)
		}
		return s.next(c, next)
	})
	s.app.Get("/sign-in/:id/ticket/none", func(c fiber.Ctx) error {
		return s.next(c, s.Gate.Kerberos.Without(c.Context(), s.browser(c), c.Params("id")))
	})
}

// askForTicket answers with the question, and with a page for whoever has nothing to show, which goes on by itself. It asks twice: a
// browser that was just set up answers the first time with nothing.
func (s *Server) askForTicket(c fiber.Ctx) error {
	page, next := s.Gate.Kerberos.Waits(c.Context(), s.browser(c), c.Params("id"))
	if next != nil {
		return s.next(c, next)
	}
	page.GoesOn = "/sign-in/" + page.SignIn + "/ticket/none"
	if c.Query("again") == "" {
		page.GoesOn = "/sign-in/" + page.SignIn + "/ticket?again=1"
	}
	c.Set(fiber.HeaderWWWAuthenticate, "Negotiate")
	return s.page(c, http.StatusUnauthorized, "ticket.html", pageData{Title: "Signing you in", Ticket: page})
}
