package server

import (
	"net/http"
	"net/url"
	"strings"

	"github.com/gofiber/fiber/v3"

	"innergate/core/explain"
	"innergate/core/saml"
	"innergate/gate"
)

// signOutPage is the plain sign-out address: it belongs to no protocol, and forgets every sign-in that this browser has under way.
func (s *Server) signOutPage(c fiber.Ctx) error {
	next := &gate.Next{}
	for id := range s.browser(c).SignIns {
		next.DropSignIns = append(next.DropSignIns, id)
	}
	s.cookies(c, next)
	return s.page(c, http.StatusOK, "message.html", pageData{Title: "You are signed out here", Text: "Inner Gate keeps no session of its own, and has forgotten every sign-in that this browser had begun.", More: "The application that you used and your provider may still know you. Close the browser, or sign out there as well."})
}

// slo takes logout messages of applications. Opened without one it explains itself.
func (s *Server) slo(c fiber.Ctx) error {
	location := strings.TrimSuffix(s.ssoLocation(c), "sso") + "slo"
	if c.Method() == http.MethodGet {
		_, query, _ := strings.Cut(c.OriginalURL(), "?")
		if query == "" {
			return s.page(c, http.StatusOK, "message.html", pageData{Title: "This address takes logout requests", Text: "It is the single logout service of Inner Gate: applications send a signed message here. To sign out without one, open /sign-out here."})
		}
		received, err := saml.DecodeRedirect(query, location)
		return s.logout(c, received, err)
	}
	if !strings.HasPrefix(c.Get("Content-Type"), "application/x-www-form-urlencoded") {
		return fiber.ErrUnsupportedMediaType
	}
	form, err := url.ParseQuery(string(c.BodyRaw()))
	if err != nil || len(form[saml.ParamRequest]) != 1 || len(form["RelayState"]) > 1 {
		return s.next(c, s.gate.FailArrival(c.Context(), s.browser(c), explain.New("saml.not-a-request", explain.Pair("message", "LogoutRequest", "a form without exactly one SAMLRequest"))))
	}
	received, err := saml.DecodePost(saml.ParamRequest, form.Get(saml.ParamRequest), form.Get("RelayState"), location)
	return s.logout(c, received, err)
}

func (s *Server) logout(c fiber.Ctx, received *saml.Received, err error) error {
	if err != nil {
		return s.next(c, s.gate.Unreadable(c.Context(), s.browser(c), err))
	}
	if received.Param != saml.ParamRequest {
		return s.next(c, s.gate.FailArrival(c.Context(), s.browser(c), explain.New("saml.not-a-request", explain.Pair("message", "LogoutRequest", received.Param))))
	}
	p := s.gate.LogoutSAML(c.Context(), s.browser(c), received)
	if p.Next != nil {
		return s.next(c, p.Next)
	}
	return s.page(c, http.StatusOK, "message.html", pageData{Title: p.Title, Text: p.Text})
}
