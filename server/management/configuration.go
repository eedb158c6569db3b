package management

import (
	"net/http"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/config"
	"innergate/gate/ground"
	"innergate/gate/persons"
)

// reachRoutes are the operations on whom applications and providers serve, and on the ways by which people sign in.
func reachRoutes() []route {
	const viewer, engineer = ground.RoleViewer, ground.RoleEngineer
	post, put, get := http.MethodPost, http.MethodPut, http.MethodGet
	out := []route{
		{
			Method:   get,
			Path:     "/routes",
			Summary:  "The routes, in order",
			Role:     viewer,
			Response: access.Routes{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Partners.Routes(c.Context()) },
		},
		{
			Method:   put,
			Path:     "/routes",
			Summary:  "Replace the routes; they act at once",
			Role:     engineer,
			Request:  access.Routes{},
			Response: access.Routes{},
			handle: func(c *call) (any, error) {
				in, err := body[access.Routes](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Configuration.SetRoutes(c.Context(), c.who, in)
			},
		},
		{
			Method:   post,
			Path:     "/routes/ask",
			Summary:  "Where somebody would go, why, and what they would see",
			Role:     engineer,
			Request:  api.RouteQuestion{},
			Response: api.RouteAnswer{},
			handle: func(c *call) (any, error) {
				in, err := body[api.RouteQuestion](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.SignIn.ExplainRoute(c.Context(), in)
			},
		},
	}
	out = append(
		out,
		route{
			Method:   get,
			Path:     "/applications/{slug}/guard",
			Summary:  "How a guarded application stands behind the gate",
			Role:     viewer,
			Response: api.GuardView{},
			handle: func(c *call) (any, error) {
				return c.s.Gate.Guarded.GuardView(c.Context(), c.who, c.Params("slug"))
			},
		},
		route{
			Method:   post,
			Path:     "/applications/{slug}/guard/try",
			Summary:  "Which path rule decides, and what that means; nothing is changed",
			Role:     engineer,
			Request:  api.TryPath{},
			Response: api.TriedPath{},
			handle: func(c *call) (any, error) {
				in, err := body[api.TryPath](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Guarded.TryPath(c.Context(), c.Params("slug"), in)
			},
		},
	)
	out = append(
		out,
		route{
			Method:  put,
			Path:    "/applications/{slug}/guard/password",
			Summary: "Store the password for basic credentials; it is never shown again",
			Role:    engineer,
			Request: api.GuardPassword{},
			Status:  204,
			handle: func(c *call) (any, error) {
				in, err := body[api.GuardPassword](c)
				if err != nil {
					return nil, err
				}
				return nil, c.s.Gate.Guarded.SetGuardPassword(c.Context(), c.who, c.Params("slug"), in)
			},
		},
	)
	for _, kind := range []string{"application", "provider"} {
		base := "/" + kind + "s/{slug}/reach"
		out = append(
			out,
			route{
				Method:   get,
				Path:     base,
				Summary:  "How the reach was changed, the newest first",
				Role:     viewer,
				Response: api.List[api.ReachStep]{},
				handle: func(c *call) (any, error) {
					return c.s.Gate.Configuration.ReachHistory(c.Context(), kind, c.Params("slug"))
				},
			},
			route{
				Method:   put,
				Path:     base,
				Summary:  "Say whom it serves, for good or for some time; it acts at once",
				Role:     engineer,
				Request:  api.ReachChange{},
				Response: api.ReachChanged{},
				handle: func(c *call) (any, error) {
					in, err := body[api.ReachChange](c)
					if err != nil {
						return nil, err
					}
					return c.s.Gate.Configuration.ChangeReach(c.Context(), c.who, kind, c.Params("slug"), in)
				},
			},
			route{
				Method:   post,
				Path:     base + "-preview",
				Summary:  "Whom a change of the reach would touch; nothing is changed",
				Role:     engineer,
				Request:  api.ReachChange{},
				Response: api.ReachPreview{},
				handle: func(c *call) (any, error) {
					in, err := body[api.ReachChange](c)
					if err != nil {
						return nil, err
					}
					return c.s.Gate.Configuration.PreviewReach(c.Context(), kind, c.Params("slug"), in)
				},
			},
			route{
				Method:  post,
				Path:    base + "-undo",
				Summary: "Take the newest change of the reach back",
				Role:    engineer,
				Status:  204,
				handle: func(c *call) (any, error) {
					return nil, c.s.Gate.Configuration.UndoReach(c.Context(), c.who, kind, c.Params("slug"))
				},
			},
		)
	}
	return out
}

// accessRoutes are the operations on who may use an application, and on the rules of mappings and access.
func accessRoutes() []route {
	const viewer, engineer, assigner = ground.RoleViewer, ground.RoleEngineer, ground.RoleAssigner
	post, put, del, get := http.MethodPost, http.MethodPut, http.MethodDelete, http.MethodGet
	return []route{
		{
			Method:   get,
			Path:     "/applications/{slug}/assignments",
			Summary:  "Who is assigned to an application",
			Role:     assigner,
			Query:    paged(),
			Response: api.List[api.Assignment]{},
			handle: func(c *call) (any, error) {
				if c.who.Role == assigner {
					if err := persons.MayAssign(c.who, c.Params("slug")); err != nil {
						return nil, err
					}
				}
				p, err := c.maskedPage("")
				if err != nil {
					return nil, err
				}
				list, err := c.s.Gate.Persons.Assignments(c.Context(), c.Params("slug"), p)
				if err == nil && c.who.Role == viewer {
					for i := range list.Items {
						if list.Items[i].Kind == "person" {
							list.Items[i].Name, list.Items[i].Hint = "•••", ""
						}
					}
				}
				return list, err
			},
		},
		{
			Method:  put,
			Path:    "/applications/{slug}/assignments",
			Summary: "Assign a person or a group, or change the roles that go with it",
			Role:    assigner,
			Request: api.Assignment{},
			Status:  204,
			handle: func(c *call) (any, error) {
				if err := persons.MayAssign(c.who, c.Params("slug")); err != nil {
					return nil, err
				}
				in, err := body[api.Assignment](c)
				if err != nil {
					return nil, err
				}
				return nil, c.s.Gate.Persons.Assign(c.Context(), c.who, c.Params("slug"), in)
			},
		},
		{
			Method:  del,
			Path:    "/applications/{slug}/assignments/{kind}/{who}",
			Summary: "Take an assignment away",
			Role:    assigner,
			Status:  204,
			handle: func(c *call) (any, error) {
				if err := persons.MayAssign(c.who, c.Params("slug")); err != nil {
					return nil, err
				}
				return nil, c.s.Gate.Persons.Unassign(c.Context(), c.who, c.Params("slug"), c.Params("kind"), c.Params("who"))
			},
		},
		{
			Method:   get,
			Path:     "/applications/{slug}/who",
			Summary:  "Who can get in, and why",
			Role:     engineer,
			Query:    []string{"search", "after", "limit"},
			Response: api.WhoGetsIn{},
			handle: func(c *call) (any, error) {
				return c.s.Gate.Configuration.WhoGetsIn(c.Context(), c.Params("slug"), page(c))
			},
		},
		{
			Method:   post,
			Path:     "/applications/{slug}/explain",
			Summary:  "Whether a person would get in, and why",
			Role:     engineer,
			Request:  api.AccessQuestion{},
			Response: api.AccessAnswer{},
			handle: func(c *call) (any, error) {
				in, err := body[api.AccessQuestion](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Configuration.ExplainAccess(c.Context(), c.Params("slug"), in)
			},
		},
		{
			Method:   post,
			Path:     "/applications/{slug}/accounts",
			Summary:  "Compare the application's own list of accounts with what a subject rule would send",
			Role:     engineer,
			Request:  api.AccountCheck{},
			Response: api.AccountChecked{},
			handle: func(c *call) (any, error) {
				in, err := body[api.AccountCheck](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Configuration.CheckAccounts(c.Context(), c.Params("slug"), in)
			},
		},
		{
			Method:   post,
			Path:     "/applications/{slug}/subject",
			Summary:  "Who would become another user with another subject rule",
			Role:     engineer,
			Request:  config.Subject{},
			Response: api.SubjectChange{},
			handle: func(c *call) (any, error) {
				in, err := body[config.Subject](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Configuration.PreviewSubject(c.Context(), c.Params("slug"), in)
			},
		},
		{
			Method:   post,
			Path:     "/mapping/try",
			Summary:  "Apply a mapping to an input, in steps",
			Role:     engineer,
			Request:  api.TryMapping{},
			Response: api.TriedMapping{},
			handle: func(c *call) (any, error) {
				in, err := body[api.TryMapping](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Rehearsal.TryMapping(c.Context(), in)
			},
		},
		{
			Method:   post,
			Path:     "/mapping/suggest",
			Summary:  "Propose rules for a sample",
			Role:     engineer,
			Request:  api.Suggest{},
			Response: api.Suggested{},
			handle: func(c *call) (any, error) {
				in, err := body[api.Suggest](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Rehearsal.SuggestRules(c.Context(), in)
			},
		},
		{
			Method:   post,
			Path:     "/preview",
			Summary:  "What would become of a sign-in, live or with drafts; nothing is written",
			Role:     engineer,
			Request:  api.Preview{},
			Response: api.Previewed{},
			handle: func(c *call) (any, error) {
				in, err := body[api.Preview](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Rehearsal.Preview(c.Context(), in)
			},
		},
		{
			Method:   get,
			Path:     "/rule-sets",
			Summary:  "List rule sets with who uses them",
			Role:     viewer,
			Response: api.List[api.RuleSet]{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Configuration.RuleSets(c.Context()) },
		},
		{
			Method:   post,
			Path:     "/rule-sets",
			Summary:  "Add a rule set",
			Role:     engineer,
			Request:  config.RuleSet{},
			Response: api.RuleSet{},
			Status:   201,
			handle: func(c *call) (any, error) {
				in, err := body[config.RuleSet](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Configuration.SaveRuleSet(c.Context(), c.who, "", in, 0)
			},
		},
		{
			Method:   get,
			Path:     "/rule-sets/{slug}",
			Summary:  "Show a rule set with who uses it",
			Role:     viewer,
			Response: api.RuleSet{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Configuration.RuleSet(c.Context(), c.Params("slug")) },
		},
		{
			Method:   put,
			Path:     "/rule-sets/{slug}",
			Summary:  "Replace a rule set; a change that breaks a user of it is refused",
			Role:     engineer,
			Query:    []string{"revision"},
			Request:  config.RuleSet{},
			Response: api.RuleSet{},
			handle: func(c *call) (any, error) {
				in, err := body[config.RuleSet](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Configuration.SaveRuleSet(c.Context(), c.who, c.Params("slug"), in, revision(c))
			},
		},
		{
			Method:   post,
			Path:     "/rule-sets/{slug}/preview",
			Summary:  "What a change does to each user of the set; nothing is written",
			Role:     engineer,
			Request:  config.RuleSet{},
			Response: api.List[api.SetEffect]{},
			handle: func(c *call) (any, error) {
				in, err := body[config.RuleSet](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Configuration.PreviewRuleSet(c.Context(), c.Params("slug"), in)
			},
		},
		{
			Method:  del,
			Path:    "/rule-sets/{slug}",
			Summary: "Delete a rule set that nobody uses",
			Role:    engineer,
			Status:  204,
			handle: func(c *call) (any, error) {
				return nil, c.s.Gate.Configuration.DeleteRuleSet(c.Context(), c.who, c.Params("slug"))
			},
		},
	}
}

// objectRoutes are the operations on applications and providers.
func objectRoutes() []route {
	const viewer, engineer = ground.RoleViewer, ground.RoleEngineer
	post, put, del, get := http.MethodPost, http.MethodPut, http.MethodDelete, http.MethodGet
	return []route{
		{
			Method:   get,
			Path:     "/applications",
			Summary:  "List applications",
			Role:     viewer,
			Query:    paged("reach", "kind", "provider"),
			Response: api.List[api.Application]{},
			handle: func(c *call) (any, error) {
				return c.s.Gate.Checkups.Applications(c.Context(), page(c), narrow(c), c.Query("provider"))
			},
		},
		{
			Method:   post,
			Path:     "/applications",
			Summary:  "Add an application",
			Role:     engineer,
			Request:  config.Application{},
			Response: api.Application{},
			Status:   201,
			handle: func(c *call) (any, error) {
				in, err := body[config.Application](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Configuration.SaveApplication(c.Context(), c.who, "", in, 0)
			},
		},
		{
			Method:   get,
			Path:     "/applications/{slug}",
			Summary:  "Show an application with its passage and findings",
			Role:     viewer,
			Response: api.Application{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Checkups.Application(c.Context(), c.Params("slug")) },
		},
		{
			Method:   put,
			Path:     "/applications/{slug}",
			Summary:  "Replace an application's configuration",
			Role:     engineer,
			Query:    []string{"revision"},
			Request:  config.Application{},
			Response: api.Application{},
			handle: func(c *call) (any, error) {
				in, err := body[config.Application](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Configuration.SaveApplication(c.Context(), c.who, c.Params("slug"), in, revision(c))
			},
		},
		{
			Method:  del,
			Path:    "/applications/{slug}",
			Summary: "Delete an application",
			Role:    engineer,
			Status:  204,
			handle: func(c *call) (any, error) {
				return nil, c.s.Gate.Configuration.DeleteApplication(c.Context(), c.who, c.Params("slug"))
			},
		},
		{
			Method:   post,
			Path:     "/applications/{slug}/reach/{reach}",
			Summary:  "Open, close or take back to draft",
			Role:     engineer,
			Response: api.Application{},
			handle: func(c *call) (any, error) {
				if err := c.s.Gate.Configuration.SetReach(c.Context(), c.who, "application", c.Params("slug"),
					access.Reach(c.Params("reach"))); err != nil {
					return nil, err
				}
				return c.s.Gate.Checkups.Application(c.Context(), c.Params("slug"))
			},
		},
		{
			Method:   get,
			Path:     "/providers",
			Summary:  "List providers",
			Role:     viewer,
			Query:    paged("reach", "kind"),
			Response: api.List[api.Provider]{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Checkups.Providers(c.Context(), page(c), narrow(c)) },
		},
		{
			Method:   post,
			Path:     "/providers",
			Summary:  "Add a provider",
			Role:     engineer,
			Request:  config.Provider{},
			Response: api.Provider{},
			Status:   201,
			handle: func(c *call) (any, error) {
				in, err := body[config.Provider](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Configuration.SaveProvider(c.Context(), c.who, "", in, 0)
			},
		},
		{
			Method:   get,
			Path:     "/providers/{slug}",
			Summary:  "Show a provider with its stations and findings",
			Role:     viewer,
			Response: api.Provider{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Checkups.Provider(c.Context(), c.Params("slug")) },
		},
		{
			Method:   put,
			Path:     "/providers/{slug}",
			Summary:  "Replace a provider's configuration",
			Role:     engineer,
			Query:    []string{"revision"},
			Request:  config.Provider{},
			Response: api.Provider{},
			handle: func(c *call) (any, error) {
				in, err := body[config.Provider](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Configuration.SaveProvider(c.Context(), c.who, c.Params("slug"), in, revision(c))
			},
		},
		{
			Method:  del,
			Path:    "/providers/{slug}",
			Summary: "Delete a provider that no application uses",
			Role:    engineer,
			Status:  204,
			handle: func(c *call) (any, error) {
				return nil, c.s.Gate.Configuration.DeleteProvider(c.Context(), c.who, c.Params("slug"))
			},
		},
		{
			Method:   post,
			Path:     "/providers/{slug}/reach/{reach}",
			Summary:  "Open, close or take back to draft",
			Role:     engineer,
			Response: api.Provider{},
			handle: func(c *call) (any, error) {
				if err := c.s.Gate.Configuration.SetReach(c.Context(), c.who, "provider", c.Params("slug"),
					access.Reach(c.Params("reach"))); err != nil {
					return nil, err
				}
				return c.s.Gate.Checkups.Provider(c.Context(), c.Params("slug"))
			},
		},
	}
}
