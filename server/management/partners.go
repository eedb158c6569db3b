package management

import (
	"net/http"

	"innergate/api"
	"innergate/gate/ground"
)

// openidRoutes are for client secrets, and for who may come in.
func openidRoutes() []route {
	const viewer, engineer, owner = ground.RoleViewer, ground.RoleEngineer, ground.RoleOwner
	post, put, del, get := http.MethodPost, http.MethodPut, http.MethodDelete, http.MethodGet
	out := []route{
		{
			Method:   post,
			Path:     "/applications/{slug}/secrets",
			Summary:  "Make a client secret; it is in the answer only",
			Role:     engineer,
			Request:  api.NewSecret{},
			Response: api.Secret{},
			Status:   201,
			handle: func(c *call) (any, error) {
				in, err := body[api.NewSecret](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Partners.NewSecret(c.Context(), c.who, c.Params("slug"), in)
			},
		},
		{
			Method:   post,
			Path:     "/providers/{slug}/secrets",
			Summary:  "Store a secret that the provider gave us; it is never shown again",
			Role:     engineer,
			Request:  api.TheirSecret{},
			Response: api.Secret{},
			Status:   201,
			handle: func(c *call) (any, error) {
				in, err := body[api.TheirSecret](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Partners.KeepSecret(c.Context(), c.who, c.Params("slug"), in)
			},
		},
		{
			Method:  post,
			Path:    "/providers/{slug}/secrets/switch",
			Summary: "Use the next secret from now on",
			Role:    engineer,
			Status:  204,
			handle: func(c *call) (any, error) {
				return nil, c.s.Gate.Partners.SwitchSecret(c.Context(), c.who, c.Params("slug"))
			},
		},
		{
			Method:   post,
			Path:     "/providers/{slug}/secrets/{id}/try",
			Summary:  "Try a secret at the provider's token endpoint, without a sign-in",
			Role:     engineer,
			Response: api.TriedSecret{},
			handle: func(c *call) (any, error) {
				return c.s.Gate.Partners.TrySecret(c.Context(), c.who, c.Params("slug"), c.Params("id"))
			},
		},
		{
			Method:   get,
			Path:     "/console-access",
			Summary:  "Who may come in to the console through providers",
			Role:     owner,
			Response: api.ConsoleAccess{},
			handle:   consoleAccess,
		},
		{
			Method:   put,
			Path:     "/console-access",
			Summary:  "Replace the rules for who may come in",
			Role:     owner,
			Request:  api.ConsoleAccess{},
			Response: api.ConsoleAccess{},
			handle: func(c *call) (any, error) {
				in, err := body[api.ConsoleAccess](c)
				if err != nil {
					return nil, err
				}
				if err := c.s.Gate.Console.SetConsoleAccess(c.Context(), c.who, in); err != nil {
					return nil, err
				}
				return consoleAccess(c)
			},
		},
		{
			Method:   get,
			Path:     "/session/providers",
			Summary:  "The providers through which people come in to the console",
			Response: api.List[api.Reference]{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Console.ConsoleProviders(c.Context()) },
		},
		{
			Method:   get,
			Path:     "/client-registration",
			Summary:  "Whether clients may register themselves",
			Role:     viewer,
			Response: api.Switch{},
			handle: func(c *call) (any, error) {
				on, err := c.s.Gate.Grants.RegistrationOn(c.Context())
				return api.Switch{On: on}, err
			},
		},
		{
			Method:  put,
			Path:    "/client-registration",
			Summary: "Let clients register themselves as drafts, with an engineer's API token, or not",
			Role:    owner,
			Request: api.Switch{},
			Status:  204,
			handle: func(c *call) (any, error) {
				in, err := body[api.Switch](c)
				if err != nil {
					return nil, err
				}
				return nil, c.s.Gate.Grants.SetRegistration(c.Context(), c.who, in.On)
			},
		},
	}
	for _, kind := range []string{"application", "provider"} {
		base := "/" + kind + "s/{slug}/secrets"
		out = append(
			out,
			route{
				Method:   get,
				Path:     base,
				Summary:  "The client secrets, without the secrets",
				Role:     viewer,
				Response: api.List[api.Secret]{},
				handle: func(c *call) (any, error) {
					return c.s.Gate.Partners.Secrets(c.Context(), kind, c.Params("slug"))
				},
			},
			route{
				Method:  del,
				Path:    base + "/{id}",
				Summary: "Take a client secret back at once",
				Role:    engineer,
				Status:  204,
				handle: func(c *call) (any, error) {
					return nil, c.s.Gate.Partners.DeleteSecret(c.Context(), c.who, kind, c.Params("slug"), c.Params("id"))
				},
			},
		)
	}
	return out
}

// consoleAccess tells who may come in to the console, and which of the providers give no role at the moment.
func consoleAccess(c *call) (any, error) {
	a, err := c.s.Gate.Partners.ConsoleAccess(c.Context())
	if err == nil {
		a.Unconfirmed, err = c.s.Gate.Partners.Unconfirmed(c.Context(), a.Rules)
	}
	return a, err
}
