package server

import (
	"errors"
	"net/http"
	"net/url"
	"strings"

	"github.com/gofiber/fiber/v3"

	"innergate/core/explain"
	"innergate/core/saml"
	"innergate/gate/signin"
)

// signedOut shows where a sign-out stands, or asks whether it is wanted.
func (s *Server) signedOut(c fiber.Ctx, o *signin.SignOut) error {
	d := pageData{Title: o.Title, SignOut: o, Code: o.Request, Location: trusted(o.Onward), Action: "/sign-out"}
	if o.Request != "" {
		d.Action = "/oidc/logout/agreed"
	}
	return s.page(c, http.StatusOK, "signout.html", d)
}

// sloPlace is where a logout message came: our address, and the way on from it.
func (s *Server) sloPlace(c fiber.Ctx) (location, path string) {
	if p := c.Params("provider"); p != "" {
		path = "/saml/sp/" + strings.Clone(url.PathEscape(p)) + "/slo"
		return s.Gate.PublicURL + path, path
	}
	location = strings.TrimSuffix(s.ssoLocation(c), "sso") + "slo"
	return location, strings.TrimPrefix(location, s.Gate.PublicURL)
}

// slo takes logout messages of applications. Opened without one it explains itself.
func (s *Server) slo(c fiber.Ctx) error {
	location, _ := s.sloPlace(c)
	return s.logoutArrived(c, func(received *saml.Received) *signin.Next {
		return s.Gate.SignOut.LogoutSAML(c.Context(), s.browser(c), received)
	}, func(doc []byte) ([]byte, error) {
		return s.Gate.SignOut.LogoutSOAP(c.Context(), s.Address(c), doc, location)
	})
}

// providerSLO takes those of providers.
func (s *Server) providerSLO(c fiber.Ctx) error {
	slug := strings.Clone(c.Params("provider"))
	return s.logoutArrived(c, func(received *saml.Received) *signin.Next {
		return s.Gate.SignOut.LogoutByProvider(c.Context(), s.browser(c), slug, received)
	}, func(doc []byte) ([]byte, error) {
		return s.Gate.SignOut.LogoutByProviderSOAP(c.Context(), s.Address(c), slug, doc)
	})
}

// logoutArrived tells by which binding a logout message came. A posted one is looked at when a page of ours has posted it again.
func (s *Server) logoutArrived(c fiber.Ctx, byBrowser func(*saml.Received) *signin.Next, bySOAP func([]byte) ([]byte, error)) error {
	location, _ := s.sloPlace(c)
	switch kind := c.Get("Content-Type"); {
	case c.Method() == http.MethodGet:
		_, query, _ := strings.Cut(c.OriginalURL(), "?")
		if query == "" {
			return s.page(c, http.StatusOK, "signout.html", pageData{Title: "This address takes logout messages", Action: "/sign-out",
				SignOut: &signin.SignOut{
					Title: "This address takes logout messages",
					Text: "It is the single logout service of Inner Gate: applications and providers send signed messages here. You " +
						"can sign out without one.",
					Ask: true,
				}})
		}
		received, err := saml.DecodeRedirect(query, location)
		if err != nil {
			return s.next(c, s.Gate.SignIn.Unreadable(c.Context(), s.browser(c), "slo", strings.Clone(c.Params("provider")), err))
		}
		return s.next(c, byBrowser(received))
	case strings.HasPrefix(kind, "text/xml"):
		return s.soap(c, bySOAP)
	}
	return s.sloPosted(c)
}

// soap answers a message that came by the back channel (SAML Bindings, section 3.2). What can't be answered is a fault.
func (s *Server) soap(c fiber.Ctx, answer func([]byte) ([]byte, error)) error {
	body := c.BodyRaw()
	if len(body) > messageLimit {
		return fiber.ErrRequestEntityTooLarge
	}
	doc, err := answer(body)
	c.Set("Content-Type", "text/xml; charset=utf-8")
	c.Set("Cache-Control", "no-store")
	if err != nil {
		var f *explain.Failure
		if !errors.As(err, &f) {
			s.Log.Error("a message of the back channel failed inside", "path", c.Path(), "error", err)
			return c.Status(http.StatusInternalServerError).SendString(soapFault("Server", string(explain.GateFailed)))
		}
		return c.Status(http.StatusInternalServerError).SendString(soapFault("Client", string(f.Code)))
	}
	return c.Send(doc)
}

// soapFault is a fault (SOAP 1.1, section 4.4): Client where the message was wrong, Server where we are.
func soapFault(whose, words string) string {
	return `<soap:Envelope xmlns:soap="` + saml.NSSOAP + `"><soap:Body><soap:Fault><faultcode>soap:` + whose +
		`</faultcode><faultstring>` + words + `</faultstring></soap:Fault></soap:Body></soap:Envelope>`
}
