package server

import (
	"encoding/base64"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/gofiber/fiber/v3"

	"innergate/core/explain"
	"innergate/core/oidc"
	"innergate/core/saml"
	"innergate/gate/messages"
	"innergate/gate/signin"
)

// What another site has the browser post comes without our cookies: they are SameSite=Lax. Nothing of it is kept. It is answered
// by a page of ours that posts the very same once more, to the address with this behind it, and only then is it looked at.
const again = "/here"

// carried is the field in which a page of ours posts again what came, octet for octet.
const carried = "came"

// postAgain has the browser post a form once more, from here.
func (s *Server) postAgain(c fiber.Ctx, onward, form string) error {
	return s.page(c, http.StatusOK, "send.html", pageData{
		Title: "One moment",
		Form:  &signin.Form{Action: onward + again, Fields: [][2]string{{carried, base64.RawURLEncoding.EncodeToString([]byte(form))}}},
	})
}

// postedAgain takes what a page of ours has posted. What another site posts here has no cookies either, and takes the same way.
func (s *Server) postedAgain(handle func(c fiber.Ctx, form string) error) fiber.Handler {
	return func(c fiber.Ctx) error {
		if !isForm(c) {
			return fiber.ErrUnsupportedMediaType
		}
		body := c.BodyRaw()
		if len(body) > messageLimit*5/2 {
			return fiber.ErrRequestEntityTooLarge
		}
		outer, err := url.ParseQuery(string(body))
		if err != nil || len(outer) != 1 || len(outer[carried]) != 1 {
			return s.notOfOurs(c)
		}
		form, err := base64.RawURLEncoding.DecodeString(outer.Get(carried))
		if err != nil {
			return s.notOfOurs(c)
		}
		if s.SameOrigin(c) != nil {
			return s.postAgain(c, strings.TrimSuffix(strings.Clone(c.Path()), again), string(form))
		}
		return handle(c, string(form))
	}
}

// notOfOurs refuses what none of our pages posts.
func (s *Server) notOfOurs(c fiber.Ctx) error {
	return s.unreadable(c, "sp", fmt.Errorf("the form is none that a page of the gate sends"))
}

// unreadable refuses a message whose form can't be undone.
func (s *Server) unreadable(c fiber.Ctx, flow string, err error) error {
	return s.next(c, s.Gate.SignIn.Unreadable(c.Context(), s.browser(c), flow, strings.Clone(c.Params("provider")), err))
}

// ssoPosted takes a request that was posted.
func (s *Server) ssoPosted(c fiber.Ctx) error { return s.arrived(c, saml.ParamRequest) }

// acsPosted takes a provider's answer.
func (s *Server) acsPosted(c fiber.Ctx) error { return s.arrived(c, saml.ParamResponse) }

// artifactArrived takes an artifact that came in an address, and goes on with a request whose address no longer has it.
func (s *Server) artifactArrived(c fiber.Ctx) error {
	form := url.Values{saml.ParamArtifact: {strings.Clone(c.Query(saml.ParamArtifact))}}
	if relay := c.Query("RelayState"); relay != "" {
		form.Set("RelayState", strings.Clone(relay))
	}
	return s.postAgain(c, strings.Clone(c.Path()), form.Encode())
}

// arrived takes a SAML message that another site had the browser post.
func (s *Server) arrived(c fiber.Ctx, param string) error {
	if !isForm(c) {
		return fiber.ErrUnsupportedMediaType
	}
	body := c.BodyRaw()
	if len(body) > messageLimit*3/2 {
		return s.unreadable(c, "sp", saml.TooLarge(len(body)*3/4))
	}
	if _, err := readPosted(string(body), param); err != nil {
		return s.unreadable(c, "sp", err)
	}
	return s.postAgain(c, strings.Clone(c.Path()), string(body))
}

// readPosted reads a form with exactly one message of a kind; an artifact may stand for a response.
func readPosted(body, param string) (messages.Posted, error) {
	form, err := url.ParseQuery(body)
	if err == nil && len(form[saml.ParamArtifact]) == 1 && param == saml.ParamResponse && len(form[param]) == 0 {
		param = saml.ParamArtifact
	}
	if err != nil || len(form[param]) != 1 || len(form["RelayState"]) > 1 {
		return messages.Posted{}, fmt.Errorf("the form holds %s, and %d RelayStates; one %s and at most one RelayState may stand in it",
			counted(form, param), len(form["RelayState"]), param)
	}
	return messages.Posted{Param: param, Value: form.Get(param), Relay: form.Get("RelayState")}, nil
}

// counted says how many messages stand in a form, and how large they are.
func counted(form url.Values, param string) string {
	if len(form[param]) == 0 {
		return "no " + param
	}
	var sizes []string
	for _, v := range form[param] {
		sizes = append(sizes, fmt.Sprintf("%d bytes", len(v)))
	}
	return fmt.Sprintf("%d %ss (%s)", len(sizes), param, strings.Join(sizes[:min(len(sizes), 5)], ", "))
}

// ssoAgain goes on with an AuthnRequest.
func (s *Server) ssoAgain(c fiber.Ctx, form string) error {
	p, err := readPosted(form, saml.ParamRequest)
	if err != nil {
		return s.unreadable(c, "sp", err)
	}
	return s.next(c, s.Gate.SignIn.AskPosted(c.Context(), s.browser(c), p, s.ssoLocation(c)))
}

// acsAgain goes on with a provider's answer.
func (s *Server) acsAgain(c fiber.Ctx, form string) error {
	p, err := readPosted(form, saml.ParamResponse)
	if err != nil {
		return s.unreadable(c, "sp", err)
	}
	return s.next(c, s.Gate.SignIn.ReceiveSAML(c.Context(), s.browser(c), strings.Clone(c.Params("provider")), p))
}

// sloPosted takes a logout message that another site had the browser post.
func (s *Server) sloPosted(c fiber.Ctx) error {
	if !isForm(c) {
		return fiber.ErrUnsupportedMediaType
	}
	body := c.BodyRaw()
	if len(body) > messageLimit*3/2 {
		return s.unreadable(c, "slo", saml.TooLarge(len(body)*3/4))
	}
	if _, err := readLogout(string(body)); err != nil {
		return s.next(c, s.Gate.SignIn.FailArrival(c.Context(), s.browser(c), "slo", strings.Clone(c.Params("provider")), err))
	}
	return s.postAgain(c, strings.Clone(c.Path()), string(body))
}

// readLogout reads a form with exactly one logout message, a request or a response.
func readLogout(body string) (messages.Posted, error) {
	form, err := url.ParseQuery(body)
	param := saml.ParamRequest
	if err == nil && len(form[saml.ParamResponse]) > 0 {
		param = saml.ParamResponse
	}
	if err != nil || len(form[param]) != 1 || len(form[saml.ParamRequest])+len(form[saml.ParamResponse]) != 1 ||
		len(form["RelayState"]) > 1 {
		return messages.Posted{}, explain.New(explain.SAMLNotARequest,
			explain.Pair("message", "LogoutRequest", "a form without exactly one logout message"))
	}
	return messages.Posted{Param: param, Value: form.Get(param), Relay: form.Get("RelayState")}, nil
}

// sloAgain goes on with a logout message.
func (s *Server) sloAgain(c fiber.Ctx, form string) error {
	slug := strings.Clone(c.Params("provider"))
	p, err := readLogout(form)
	if err != nil {
		return s.next(c, s.Gate.SignIn.FailArrival(c.Context(), s.browser(c), "slo", slug, err))
	}
	location, _ := s.sloPlace(c)
	return s.next(c, s.Gate.SignOut.LogoutPosted(c.Context(), s.browser(c), p, location, slug))
}

// formArrived takes an OpenID Connect message that another site had the browser post.
func (s *Server) formArrived(c fiber.Ctx) error {
	if !isForm(c) {
		return fiber.ErrUnsupportedMediaType
	}
	body := c.BodyRaw()
	if len(body) > oidc.MaxParameters {
		return s.next(
			c,
			s.Gate.SignIn.FailArrival(
				c.Context(), s.browser(c), "sp", strings.Clone(c.Params("provider")),
				explain.New(explain.OIDCRequestUnreadable, explain.Fact("parameters", "they have more than 64 KiB")),
			),
		)
	}
	return s.postAgain(c, strings.Clone(c.Path()), string(body))
}
