package server

import (
	"net/http"
	"strings"

	"github.com/gofiber/fiber/v3"
)

// entries are the pages on which people sign in with a directory on their own premises. A form answers with a redirect to a page of
// ours, so that nothing that was entered is sent twice.
func (s *Server) entries() {
	s.app.Get("/sign-in/:id/entry", func(c fiber.Ctx) error {
		page, next := s.Gate.LDAP.Show(c.Context(), s.browser(c), c.Params("id"))
		if next != nil {
			return s.onward(c, next)
		}
		return s.page(c, http.StatusOK, "entry.html", pageData{Title: "Sign in", Entry: page})
	})
	s.app.Post("/sign-in/:id/entry", func(c fiber.Ctx) error {
		if err := s.SameOrigin(c); err != nil {
			return err
		}
		field := func(name string) string { return strings.Clone(c.FormValue(name)) }
		return s.next(c, s.Gate.LDAP.Enter(c.Context(), s.browser(c), c.Params("id"), field))
	})
}
