package management

import (
	"net/http"

	"innergate/api"
	"innergate/gate/ground"
	"innergate/server/visit"
)

// consoleRoutes are the operations on who may use the console and the API.
func consoleRoutes() []route {
	const owner = ground.RoleOwner
	post, put, del, get := http.MethodPost, http.MethodPut, http.MethodDelete, http.MethodGet
	return []route{
		{
			Method:   get,
			Path:     "/session",
			Summary:  "Who is asking",
			Role:     ground.RoleAssigner,
			Response: api.Me{},
			handle: func(c *call) (any, error) {
				return api.Me{Name: c.who.Name, Role: c.who.Role, Applications: c.who.Applications, CSRF: c.who.CSRF, Kind: c.who.Kind}, nil
			},
		},
		{
			Method:   post,
			Path:     "/session",
			Summary:  "Sign in with a password; sets the session cookie",
			Request:  api.SignIn{},
			Response: api.Me{},
			handle:   signIn,
		},
		{Method: del, Path: "/session", Summary: "Sign out", Role: ground.RoleAssigner, Status: 204, handle: signOut},
		{
			Method:   get,
			Path:     "/set-up",
			Summary:  "Whether the first administrator is missing",
			Response: map[string]bool{},
			handle: func(c *call) (any, error) {
				needed, err := c.s.Gate.Console.SetupNeeded(c.Context())
				return map[string]bool{"needed": needed}, err
			},
		},
		{
			Method:  post,
			Path:    "/set-up",
			Summary: "Make the first administrator",
			Request: api.Setup{},
			Status:  204,
			handle: func(c *call) (any, error) {
				in, err := body[api.Setup](c)
				if err != nil {
					return nil, err
				}
				return nil, c.s.Gate.Console.SetUp(c.Context(), in, c.s.Address(c))
			},
		},
		{
			Method:   get,
			Path:     "/administrators",
			Summary:  "List administrators",
			Role:     owner,
			Response: api.List[api.Administrator]{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Console.Administrators(c.Context()) },
		},
		{
			Method:   post,
			Path:     "/administrators",
			Summary:  "Add an administrator",
			Role:     owner,
			Request:  api.NewAdministrator{},
			Response: api.Administrator{},
			Status:   201,
			handle: func(c *call) (any, error) {
				in, err := body[api.NewAdministrator](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Console.AddAdministrator(c.Context(), c.who, in)
			},
		},
		{
			Method:  put,
			Path:    "/administrators/{id}",
			Summary: "Change a role or password; ends the sessions of the one concerned",
			Role:    owner,
			Request: api.ChangeAdministrator{},
			Status:  204,
			handle: func(c *call) (any, error) {
				in, err := body[api.ChangeAdministrator](c)
				if err != nil {
					return nil, err
				}
				return nil, c.s.Gate.Console.ChangeAdministrator(c.Context(), c.who, c.Params("id"), in)
			},
		},
		{
			Method:  del,
			Path:    "/administrators/{id}",
			Summary: "Remove an administrator",
			Role:    owner,
			Status:  204,
			handle: func(c *call) (any, error) {
				return nil, c.s.Gate.Console.RemoveAdministrator(c.Context(), c.who, c.Params("id"))
			},
		},
		{
			Method:   get,
			Path:     "/tokens",
			Summary:  "List API tokens",
			Role:     owner,
			Response: api.List[api.Token]{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Console.Tokens(c.Context()) },
		},
		{
			Method:   post,
			Path:     "/tokens",
			Summary:  "Make an API token; its secret is in the answer only",
			Role:     owner,
			Request:  api.NewToken{},
			Response: api.Token{},
			Status:   201,
			handle: func(c *call) (any, error) {
				in, err := body[api.NewToken](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Console.NewToken(c.Context(), c.who, in)
			},
		},
		{Method: del, Path: "/tokens/{id}", Summary: "Revoke an API token", Role: owner, Status: 204, handle: func(c *call) (any, error) {
			return nil, c.s.Gate.Console.RevokeToken(c.Context(), c.who, c.Params("id"))
		}},
	}
}

func signIn(c *call) (any, error) {
	in, err := body[api.SignIn](c)
	if err != nil {
		return nil, err
	}
	token, me, err := c.s.Gate.Console.SignInAdministrator(c.Context(), in.Name, in.Password, c.s.Address(c))
	if err != nil {
		return nil, err
	}
	c.s.SetCookie(c, c.s.CookieName("console"), token, visit.ConsoleCookieLife)
	return me, nil
}

func signOut(c *call) (any, error) {
	c.s.DropCookie(c, c.s.CookieName("console"))
	return nil, c.s.Gate.Console.SignOutAdministrator(c.Context(), c.Cookies(c.s.CookieName("console")))
}
