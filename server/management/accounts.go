package management

import (
	"net/http"
	"strings"

	"innergate/api"
	"innergate/gate/accounts"
	"innergate/gate/ground"
)

// accountRoutes are the operations on accounts at applications.
func accountRoutes() []route {
	const base = "/applications/{slug}/accounts"
	return append([]route{
		{
			Method:   http.MethodGet,
			Path:     base,
			Summary:  "How keeping an application's accounts stands as a whole",
			Role:     ground.RoleViewer,
			Response: api.Accounts{},
			handle: func(c *call) (any, error) {
				return c.s.Gate.Accounts.Accounts(c.Context(), c.who, c.Params("slug"))
			},
		},
		{
			Method:   http.MethodGet,
			Path:     base + "/list",
			Summary:  "The accounts and groups at an application, by how they stand",
			Role:     ground.RoleEngineer,
			Query:    paged("state", "kind"),
			Response: api.List[api.Account]{},
			handle: func(c *call) (any, error) {
				return c.s.Gate.Accounts.List(c.Context(), c.Params("slug"), page(c),
					accounts.Filter{State: strings.Clone(c.Query("state")), Kind: strings.Clone(c.Query("kind"))})
			},
		},
		{
			Method:   http.MethodGet,
			Path:     base + "/list/{id}",
			Summary:  "One account, with each request and answer about it",
			Role:     ground.RoleEngineer,
			Response: api.AccountDetail{},
			handle: func(c *call) (any, error) {
				return c.s.Gate.Accounts.One(c.Context(), c.Params("slug"), c.Params("id"))
			},
		},
		{
			Method:   http.MethodPost,
			Path:     base + "/try",
			Summary:  "Ask an application's SCIM service what it can do, without changing anything there",
			Role:     ground.RoleEngineer,
			Query:    []string{"next"},
			Response: api.TriedAccounts{},
			handle: func(c *call) (any, error) {
				return c.s.Gate.Accounts.Try(c.Context(), c.Params("slug"), c.Query("next") == "true")
			},
		},
		{
			Method:   http.MethodPost,
			Path:     base + "/compare",
			Summary:  "Begin to compare all accounts; nothing is changed there by it",
			Role:     ground.RoleEngineer,
			Response: api.AccountComparison{},
			Status:   201,
			handle: func(c *call) (any, error) {
				return c.s.Gate.Accounts.Compare(c.Context(), c.who, c.Params("slug"))
			},
		},
		{
			Method:   http.MethodPost,
			Path:     base + "/act",
			Summary:  "Approve accounts, try them again, leave them, adopt one, set drift right or accept it",
			Role:     ground.RoleEngineer,
			Request:  api.AccountAct{},
			Response: api.AccountActed{},
			handle: func(c *call) (any, error) {
				in, err := body[api.AccountAct](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Accounts.Act(c.Context(), c.who, c.Params("slug"), in)
			},
		},
		{
			Method:   http.MethodPost,
			Path:     base + "/agree",
			Summary:  "Agree that so many accounts are taken away at once",
			Role:     ground.RoleEngineer,
			Request:  api.AccountAgree{},
			Response: api.AccountActed{},
			handle: func(c *call) (any, error) {
				in, err := body[api.AccountAgree](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Accounts.Agree(c.Context(), c.who, c.Params("slug"), in)
			},
		},
	}, accountSecretRoutes(base+"/secrets")...)
}

// accountSecretRoutes are for what the gate proves itself with there.
func accountSecretRoutes(base string) []route {
	return []route{
		{
			Method:   http.MethodGet,
			Path:     base,
			Summary:  "The tokens with which the gate keeps an application's accounts, without their values",
			Role:     ground.RoleViewer,
			Response: api.List[api.Secret]{},
			handle: func(c *call) (any, error) {
				return c.s.Gate.Partners.AccountSecrets(c.Context(), c.Params("slug"))
			},
		},
		{
			Method:   http.MethodPost,
			Path:     base,
			Summary:  "Enter the token, client secret or password that the application gave; a second one is the next",
			Role:     ground.RoleEngineer,
			Request:  api.TheirSecret{},
			Response: api.Secret{},
			Status:   201,
			handle: func(c *call) (any, error) {
				in, err := body[api.TheirSecret](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Partners.KeepAccountSecret(c.Context(), c.who, c.Params("slug"), in)
			},
		},
		{
			Method:  http.MethodPost,
			Path:    base + "/switch",
			Summary: "Put the next one into the place of the one that counts",
			Role:    ground.RoleEngineer,
			Status:  204,
			handle: func(c *call) (any, error) {
				return nil, c.s.Gate.Partners.SwitchAccountSecret(c.Context(), c.who, c.Params("slug"))
			},
		},
	}
}

// pushRoutes are for how providers push their people.
func pushRoutes() []route {
	const base = "/providers/{slug}/pushes"
	return []route{
		{
			Method:   http.MethodGet,
			Path:     base,
			Summary:  "How a provider pushes its people: where, with which tokens, and with which habits",
			Role:     ground.RoleViewer,
			Response: api.Pushes{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Pushed.Pushes(c.Context(), c.Params("slug")) },
		},
		{
			Method:   http.MethodPost,
			Path:     base + "/tokens",
			Summary:  "Make a token with which a provider pushes; it is in this answer and nowhere else, and two count at once",
			Role:     ground.RoleEngineer,
			Request:  api.NewSecret{},
			Response: api.Secret{},
			Status:   201,
			handle: func(c *call) (any, error) {
				in, err := body[api.NewSecret](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Pushed.NewToken(c.Context(), c.who, c.Params("slug"), in)
			},
		},
		{
			Method:  http.MethodDelete,
			Path:    base + "/tokens/{id}",
			Summary: "Take a token back",
			Role:    ground.RoleEngineer,
			Status:  204,
			handle: func(c *call) (any, error) {
				return nil, c.s.Gate.Pushed.DropToken(c.Context(), c.who, c.Params("slug"), c.Params("id"))
			},
		},
	}
}
