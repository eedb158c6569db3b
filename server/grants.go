package server

import (
	"cmp"
	"net/http"
	"strings"

	"github.com/gofiber/fiber/v3"

	"innergate/core/oidc"
	"innergate/gate/grants"
)

// openid lays out what belongs to OpenID Connect and OAuth 2.0.
func (s *Server) openid() {
	a := s.app
	for _, path := range []string{"/.well-known/openid-configuration", "/.well-known/oauth-authorization-server"} {
		a.Get(path, func(c fiber.Ctx) error {
			doc, err := s.Gate.Grants.Discovery(c.Context())
			if err != nil {
				return err
			}
			everybody(c)
			return c.JSON(doc)
		})
	}
	a.Get("/oidc/keys", func(c fiber.Ctx) error {
		doc, err := s.Gate.Exchange.OurKeySet(c.Context())
		return keySet(c, doc, err)
	})
	a.Get("/oidc/authorize", s.begins(func(c fiber.Ctx) error {
		_, query, _ := strings.Cut(c.OriginalURL(), "?")
		if query == "" {
			return s.page(
				c,
				http.StatusOK,
				"message.html",
				pageData{
					Title: "This address takes sign-in requests",
					Text: "It is the authorization endpoint of Inner Gate. Applications send people here with a request; please " +
						"start at the application that you want to use.",
				},
			)
		}
		return s.next(c, s.Gate.SignIn.AskOIDC(c.Context(), s.browser(c), strings.Clone(query), "query"))
	}))
	a.Post("/oidc/authorize", s.formArrived)
	a.Post("/oidc/authorize"+again, s.begins(s.postedAgain(func(c fiber.Ctx, form string) error {
		return s.next(c, s.Gate.SignIn.AskOIDC(c.Context(), s.browser(c), form, "form"))
	})))
	for path, call := range map[string]func(c fiber.Ctx, authorization, body, from string) *grants.OAuthAnswer{
		"token": func(c fiber.Ctx, authorization, body, from string) *grants.OAuthAnswer {
			return s.Gate.Grants.Token(c.Context(), authorization, body, from)
		},
		"par": func(c fiber.Ctx, authorization, body, from string) *grants.OAuthAnswer {
			return s.Gate.Grants.Push(c.Context(), authorization, body, from)
		},
		"introspect": func(c fiber.Ctx, authorization, body, from string) *grants.OAuthAnswer {
			return s.Gate.Grants.Introspect(c.Context(), authorization, body, from)
		},
		"revoke": func(c fiber.Ctx, authorization, body, from string) *grants.OAuthAnswer {
			return s.Gate.Grants.Revoke(c.Context(), authorization, body, from)
		},
		"device": func(c fiber.Ctx, authorization, body, from string) *grants.OAuthAnswer {
			return s.Gate.Grants.Device(c.Context(), authorization, body, from)
		},
	} {
		a.Post("/oidc/"+path, func(c fiber.Ctx) error { return s.endpoint(c, call) })
		if path == "token" || path == "revoke" {
			a.Options("/oidc/"+path, s.preflight)
		}
	}
	a.Get("/oidc/userinfo", s.userInfo)
	a.Post("/oidc/userinfo", s.userInfo)
	a.Options("/oidc/userinfo", s.preflight)
	a.Post("/oidc/register", func(c fiber.Ctx) error {
		return answer(c, s.Gate.Exchange.Register(c.Context(), bearer(c), c.BodyRaw(), s.Address(c)))
	})
	a.Get("/oidc/logout", func(c fiber.Ctx) error {
		_, query, _ := strings.Cut(c.OriginalURL(), "?")
		return s.endSession(c, strings.Clone(query), false)
	})
	a.Post("/oidc/logout", func(c fiber.Ctx) error {
		if !isForm(c) {
			return fiber.ErrUnsupportedMediaType
		}
		return s.endSession(c, string(c.BodyRaw()), false)
	})
	a.Post("/oidc/logout/agreed", func(c fiber.Ctx) error {
		if err := s.SameOrigin(c); err != nil {
			return err
		}
		return s.endSession(c, c.FormValue("request"), true)
	})
	a.Get("/device", func(c fiber.Ctx) error {
		return s.page(c, http.StatusOK, "device.html", pageData{Title: "Sign in on another device", Code: strings.Clone(c.Query("code"))})
	})
	a.Post("/device", func(c fiber.Ctx) error {
		if err := s.SameOrigin(c); err != nil {
			return err
		}
		code, given := c.FormValue("code"), c.FormValue("given")
		return s.onward(c, s.Gate.SignIn.BeginDevice(c.Context(), s.browser(c), code, code != "" && code == given))
	})
	a.Post("/sign-in/:id/confirm", func(c fiber.Ctx) error {
		if err := s.SameOrigin(c); err != nil {
			return err
		}
		return s.onward(c, s.Gate.SignIn.Confirmed(c.Context(), s.browser(c), c.Params("id"), c.FormValue("answer") == "yes"))
	})
	a.Post("/console-sign-in/:provider", func(c fiber.Ctx) error {
		if err := s.SameOrigin(c); err != nil {
			return err
		}
		return s.onward(c, s.Gate.SignIn.BeginConsole(c.Context(), s.browser(c), c.Params("provider")))
	})
	s.callbacks()
	a.Get("/about/privacy", func(c fiber.Ctx) error {
		return s.page(
			c,
			http.StatusOK,
			"message.html",
			pageData{
				Title: "Privacy",
				Text: "Inner Gate signs people in to the applications of the organisation that runs it. It takes from your provider " +
					"what those applications need to know you by, hands on to each only what its engineers have set, and records each " +
					"sign-in so that failures can be explained.",
				More: "The organisation that runs this gate answers questions about your data. Inner Gate sends nothing to anybody else.",
			},
		)
	})
	a.Get("/about/terms", func(c fiber.Ctx) error {
		return s.page(
			c,
			http.StatusOK,
			"message.html",
			pageData{
				Title: "Terms",
				Text: "Inner Gate is a service for the people of the organisation that runs it, and for its partners. Use the " +
					"accounts that are your own.",
			},
		)
	})
}

// callbacks lays out our addresses at providers.
func (s *Server) callbacks() {
	a := s.app
	const base = "/oidc/callback/:provider"
	a.Get(base, func(c fiber.Ctx) error {
		_, query, _ := strings.Cut(c.OriginalURL(), "?")
		if query == "" {
			return s.page(
				c,
				http.StatusOK,
				"message.html",
				pageData{
					Title: "This address takes sign-in answers",
					Text: "It is the redirect URI of Inner Gate for one provider. A provider sends people back here; there is " +
						"nothing to see. If you came from your provider, its answer came as a fragment, which stays in the browser: " +
						"it must answer by query or form_post.",
				},
			)
		}
		return s.next(c, s.Gate.SignIn.ReceiveOIDC(c.Context(), s.browser(c), c.Params("provider"), strings.Clone(query), "query"))
	})
	a.Post(base, s.formArrived)
	a.Post(base+again, s.postedAgain(func(c fiber.Ctx, form string) error {
		return s.next(c, s.Gate.SignIn.ReceiveOIDC(c.Context(), s.browser(c), strings.Clone(c.Params("provider")), form, "form_post"))
	}))
	a.Get(base+"/signed-out", func(c fiber.Ctx) error { return s.signedOut(c, s.Gate.SignOut.SignedOut(c.Query("state"))) })
	a.Post(base+"/logout", func(c fiber.Ctx) error {
		if !isForm(c) {
			return fiber.ErrUnsupportedMediaType
		}
		return answer(c, s.Gate.SignOut.ProviderLogout(c.Context(), strings.Clone(c.Params("provider")), string(c.BodyRaw()), s.Address(c)))
	})
	a.Get(base+"/keys", func(c fiber.Ctx) error {
		doc, err := s.Gate.Exchange.OurClientKeySet(c.Context(), c.Params("provider"))
		return keySet(c, doc, err)
	})
}

// everybody lets scripts of any page read an answer: it is the same for everybody.
func everybody(c fiber.Ctx) {
	c.Set("Access-Control-Allow-Origin", "*")
	c.Set("Cache-Control", "public, max-age=300")
}

func keySet(c fiber.Ctx, doc []byte, err error) error {
	if err != nil {
		return err
	}
	everybody(c)
	c.Set("Content-Type", "application/jwk-set+json")
	return c.Send(doc)
}

func isForm(c fiber.Ctx) bool {
	return strings.HasPrefix(c.Get("Content-Type"), "application/x-www-form-urlencoded")
}

// endpoint serves clients, not browsers: a form comes, JSON goes.
func (s *Server) endpoint(c fiber.Ctx, call func(c fiber.Ctx, authorization, body, from string) *grants.OAuthAnswer) error {
	s.cors(c)
	if !isForm(c) {
		return answer(
			c,
			&grants.OAuthAnswer{
				Status: http.StatusBadRequest,
				Body: map[string]string{
					"error":             "invalid_request",
					"error_description": "The body must be application/x-www-form-urlencoded.",
				},
			},
		)
	}
	_, query, _ := strings.Cut(c.OriginalURL(), "?")
	if query != "" {
		// What a query carries is written down in many places (RFC 6749, section 3.2).
		return answer(
			c,
			&grants.OAuthAnswer{
				Status: http.StatusBadRequest,
				Body: map[string]string{
					"error":             "invalid_request",
					"error_description": "Parameters must be in the body, not in the address.",
				},
			},
		)
	}
	return answer(c, call(c, strings.Clone(c.Get("Authorization")), string(c.BodyRaw()), s.Address(c)))
}

func answer(c fiber.Ctx, a *grants.OAuthAnswer) error {
	c.Set("Cache-Control", "no-store")
	c.Set("Pragma", "no-cache")
	if a.Challenge != "" {
		c.Set("WWW-Authenticate", a.Challenge)
	}
	c.Status(a.Status)
	switch {
	case a.Token != "":
		c.Set("Content-Type", "application/jwt")
		return c.SendString(a.Token)
	case a.Body == nil:
		return nil
	}
	return c.JSON(a.Body)
}

func bearer(c fiber.Ctx) string {
	scheme, token, ok := strings.Cut(c.Get("Authorization"), " ")
	if !ok || !strings.EqualFold(scheme, "Bearer") {
		return ""
	}
	return strings.Clone(strings.TrimSpace(token))
}

func (s *Server) userInfo(c fiber.Ctx) error {
	s.cors(c)
	token := bearer(c)
	if c.Method() == http.MethodPost && isForm(c) {
		inForm := strings.Clone(c.FormValue("access_token")) // RFC 6750, section 2.2
		if token != "" && inForm != "" {
			return answer(c, grants.BearerError(http.StatusBadRequest, "invalid_request",
				"The access token came twice, in the Authorization header and in the form; it may come in one way only."))
		}
		token = cmp.Or(token, inForm)
	}
	a, err := s.Gate.Grants.UserInfo(c.Context(), token)
	if err != nil {
		return err
	}
	return answer(c, a)
}

// cors lets scripts of registered pages read answers. No cookie is ever part of it.
func (s *Server) cors(c fiber.Ctx) bool {
	origin := c.Get("Origin")
	if origin == "" || origin == "null" {
		return false
	}
	c.Set("Vary", "Origin")
	if !s.Gate.Partners.KnownOrigin(c.Context(), origin) {
		return false
	}
	c.Set("Access-Control-Allow-Origin", strings.Clone(origin))
	return true
}

func (s *Server) preflight(c fiber.Ctx) error {
	if s.cors(c) {
		c.Set("Access-Control-Allow-Methods", "GET, POST")
		c.Set("Access-Control-Allow-Headers", "Authorization, Content-Type")
		c.Set("Access-Control-Max-Age", "600")
	}
	return c.SendStatus(http.StatusNoContent)
}

func (s *Server) endSession(c fiber.Ctx, raw string, agreed bool) error {
	if len(raw) > oidc.MaxParameters {
		return fiber.ErrRequestEntityTooLarge
	}
	n := s.Gate.SignOut.EndSession(c.Context(), s.browser(c), raw, agreed)
	if agreed {
		return s.onward(c, n)
	}
	return s.next(c, n)
}
