package management

import (
	"bytes"
	"net/http"
	"strconv"

	"innergate/api"
	"innergate/core/bridge"
	"innergate/core/config"
	"innergate/core/people"
	"innergate/gate/ground"
	"innergate/gate/persons"
)

// peopleRoutes are the operations on people, groups, what they may use, and the rules that decide it.
func peopleRoutes() []route {
	const viewer, engineer, owner, assigner = ground.RoleViewer, ground.RoleEngineer, ground.RoleOwner, ground.RoleAssigner
	post, put, del, get := http.MethodPost, http.MethodPut, http.MethodDelete, http.MethodGet
	return []route{
		{
			Method:   get,
			Path:     "/people",
			Summary:  "List people. Search finds by how name, mail address, user name or external ID begins",
			Role:     assigner,
			Query:    paged("type", "group", "provider", "active"),
			Response: api.List[api.PersonLine]{},
			handle:   listPeople,
		},
		{
			Method:   post,
			Path:     "/people",
			Summary:  "Add a person",
			Role:     engineer,
			Request:  api.SavePerson{},
			Response: api.Person{},
			Status:   201,
			handle: func(c *call) (any, error) {
				in, err := body[api.SavePerson](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Persons.SavePerson(c.Context(), c.who, "", in)
			},
		},
		{
			Method:   get,
			Path:     "/people/{id}",
			Summary:  "A person with profile, groups, links and accounts",
			Role:     engineer,
			Response: api.Person{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Persons.Person(c.Context(), c.Params("id")) },
		},
		{
			Method:   put,
			Path:     "/people/{id}",
			Summary:  "Change a person; what changes counts as entered by hand",
			Role:     engineer,
			Request:  api.SavePerson{},
			Response: api.Person{},
			handle: func(c *call) (any, error) {
				in, err := body[api.SavePerson](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Persons.SavePerson(c.Context(), c.who, c.Params("id"), in)
			},
		},
		{
			Method:  del,
			Path:    "/people/{id}",
			Summary: "Delete a person with links, memberships and assignments",
			Role:    engineer,
			Status:  204,
			handle: func(c *call) (any, error) {
				return nil, c.s.Gate.Persons.DeletePerson(c.Context(), c.who, c.Params("id"))
			},
		},
		{
			Method:   post,
			Path:     "/people/{id}/links",
			Summary:  "Link a person to the identifier that a provider vouched for in a sign-in",
			Role:     engineer,
			Request:  api.LinkPerson{},
			Response: api.Person{},
			Status:   201,
			handle: func(c *call) (any, error) {
				in, err := body[api.LinkPerson](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Persons.LinkPerson(c.Context(), c.who, c.Params("id"), in.Reference)
			},
		},
		{
			Method:  del,
			Path:    "/people/{id}/links/{link}",
			Summary: "Take a link to a provider's subject away",
			Role:    engineer,
			Status:  204,
			handle: func(c *call) (any, error) {
				return nil, c.s.Gate.Persons.Unlink(c.Context(), c.who, c.Params("id"), c.Params("link"))
			},
		},
		{
			Method:   post,
			Path:     "/people/{id}/password-link",
			Summary:  "Make a link with which the person sets a password, once; it is in the answer only",
			Role:     engineer,
			Response: api.PersonLinkMade{},
			Status:   201,
			handle: func(c *call) (any, error) {
				return c.s.Gate.Directory.NewPersonLink(c.Context(), c.who, c.Params("id"))
			},
		},
		{
			Method:  del,
			Path:    "/people/{id}/credentials/{credential}",
			Summary: "Take a credential away; a second factor goes with its recovery codes",
			Role:    engineer,
			Status:  204,
			handle: func(c *call) (any, error) {
				return nil, c.s.Gate.Directory.RemoveCredential(c.Context(), c.who, c.Params("id"), c.Params("credential"))
			},
		},
		{
			Method:   get,
			Path:     "/people-settings",
			Summary:  "Person types, attributes and the table of standard names",
			Role:     viewer,
			Response: api.Attributes{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Persons.PeopleSettings(c.Context()) },
		},
		{
			Method:   get,
			Path:     "/context-tables",
			Summary:  "Tables of contexts for the usual kinds of providers",
			Role:     viewer,
			Response: api.List[bridge.ContextTable]{},
			handle: func(*call) (any, error) {
				return &api.List[bridge.ContextTable]{Items: bridge.ContextTables}, nil
			},
		},
		{
			Method:  put,
			Path:    "/people-settings",
			Summary: "Replace person types and attributes",
			Role:    engineer,
			Request: people.Settings{},
			Status:  204,
			handle: func(c *call) (any, error) {
				in, err := body[people.Settings](c)
				if err != nil {
					return nil, err
				}
				return nil, c.s.Gate.Persons.SetPeopleSettings(c.Context(), c.who, in)
			},
		},
		{
			Method:   get,
			Path:     "/mail-settings",
			Summary:  "How the gate sends mail",
			Role:     owner,
			Response: api.MailSettings{},
			handle:   func(c *call) (any, error) { return c.s.Gate.MailSettings(c.Context()) },
		},
		{
			Method:   put,
			Path:     "/mail-settings",
			Summary:  "Say how the gate sends mail; an empty server ends it",
			Role:     owner,
			Request:  api.SaveMail{},
			Response: api.MailSettings{},
			handle: func(c *call) (any, error) {
				in, err := body[api.SaveMail](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.SetMail(c.Context(), c.who, in)
			},
		},
		{
			Method:  post,
			Path:    "/mail-settings/test",
			Summary: "Send a mail to see that it can be done",
			Role:    owner,
			Request: api.TestMail{},
			Status:  204,
			handle: func(c *call) (any, error) {
				in, err := body[api.TestMail](c)
				if err != nil {
					return nil, err
				}
				return nil, c.s.Gate.TestMail(c.Context(), c.who, in.To)
			},
		},
		{
			Method:   get,
			Path:     "/people-export/{form}",
			Summary:  "All people as a file, in csv or jsonl",
			Role:     owner,
			Media:    "text/plain; charset=utf-8",
			Response: []byte{},
			handle:   exportPeople,
		},
		{
			Method:   get,
			Path:     "/people-imports",
			Summary:  "The newest imports",
			Role:     engineer,
			Response: api.List[api.Import]{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Persons.Imports(c.Context()) },
		},
		{
			Method:   post,
			Path:     "/people-imports",
			Summary:  "Open an import of people; its file is sent in parts",
			Role:     engineer,
			Request:  api.NewImport{},
			Response: api.Import{},
			Status:   201,
			handle: func(c *call) (any, error) {
				in, err := body[api.NewImport](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Persons.NewImport(c.Context(), c.who, in)
			},
		},
		{
			Method:   get,
			Path:     "/people-imports/{id}",
			Summary:  "How an import stands",
			Role:     engineer,
			Response: api.Import{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Persons.Import(c.Context(), c.Params("id")) },
		},
		{
			Method:   post,
			Path:     "/people-imports/{id}/parts",
			Summary:  "Send a part of the file that begins at an offset",
			Role:     engineer,
			Query:    []string{"at"},
			Upload:   true,
			Response: api.Import{},
			handle: func(c *call) (any, error) {
				at, err := strconv.ParseInt(c.Query("at"), 10, 64)
				if err != nil || at < 0 {
					return nil, &api.Problem{
						Type:   "about:blank",
						Status: http.StatusBadRequest,
						Title:  "Where the part begins is missing",
						Code:   "at",
						Detail: "The query needs at, the offset in octets at which the part begins.",
					}
				}
				return c.s.Gate.Persons.AddToImport(c.Context(), c.Params("id"), at, bytes.Clone(c.BodyRaw()))
			},
		},
		{
			Method:   post,
			Path:     "/people-imports/{id}/check",
			Summary:  "Look at every line and tell what would change; nothing is written",
			Role:     engineer,
			Response: api.Import{},
			handle: func(c *call) (any, error) {
				return c.s.Gate.Persons.RunImport(c.Context(), c.who, c.Params("id"), false)
			},
		},
		{
			Method:   post,
			Path:     "/people-imports/{id}/write",
			Summary:  "Write what was checked; a stopped import goes on where it was",
			Role:     engineer,
			Response: api.Import{},
			handle: func(c *call) (any, error) {
				return c.s.Gate.Persons.RunImport(c.Context(), c.who, c.Params("id"), true)
			},
		},
		{
			Method:  del,
			Path:    "/people-imports/{id}",
			Summary: "Cancel an import; what was written stays",
			Role:    engineer,
			Status:  204,
			handle: func(c *call) (any, error) {
				return nil, c.s.Gate.Persons.CancelImport(c.Context(), c.who, c.Params("id"))
			},
		},

		{
			Method:   get,
			Path:     "/groups",
			Summary:  "List groups",
			Role:     assigner,
			Query:    paged(),
			Response: api.List[api.Group]{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Persons.Groups(c.Context(), page(c)) },
		},
		{
			Method:   post,
			Path:     "/groups",
			Summary:  "Add a group",
			Role:     engineer,
			Request:  config.Group{},
			Response: api.Group{},
			Status:   201,
			handle: func(c *call) (any, error) {
				in, err := body[config.Group](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Persons.SaveGroup(c.Context(), c.who, "", in)
			},
		},
		{
			Method:   get,
			Path:     "/groups/{slug}",
			Summary:  "Show a group",
			Role:     viewer,
			Response: api.Group{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Persons.Group(c.Context(), c.Params("slug")) },
		},
		{
			Method:   put,
			Path:     "/groups/{slug}",
			Summary:  "Change a group's name and description",
			Role:     engineer,
			Request:  config.Group{},
			Response: api.Group{},
			handle: func(c *call) (any, error) {
				in, err := body[config.Group](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Persons.SaveGroup(c.Context(), c.who, c.Params("slug"), in)
			},
		},
		{
			Method:  del,
			Path:    "/groups/{slug}",
			Summary: "Delete a group that nothing names",
			Role:    engineer,
			Status:  204,
			handle: func(c *call) (any, error) {
				return nil, c.s.Gate.Persons.DeleteGroup(c.Context(), c.who, c.Params("slug"))
			},
		},
	}
}

// listPeople masks names for viewers, and shows an assigner no more than is needed to choose somebody.
func listPeople(c *call) (any, error) {
	p, err := c.maskedPage("created")
	if err != nil {
		return nil, err
	}
	list, err := c.s.Gate.Persons.People(
		c.Context(),
		p,
		persons.PersonFilter{Type: c.Query("type"), Group: c.Query("group"), Provider: c.Query("provider"), Active: c.Query("active")},
	)
	if err != nil {
		return nil, err
	}
	for i := range list.Items {
		p := &list.Items[i]
		switch c.who.Role {
		case ground.RoleViewer:
			p.Name, p.Email, p.Username = "•••", "", ""
		case ground.RoleAssigner:
			p.Username, p.LastSeen = "", nil
		}
	}
	return list, nil
}

func exportPeople(c *call) (any, error) {
	form := c.Params("form")
	if form != people.FormCSV && form != people.FormLines {
		return nil, &api.Problem{
			Type:   "about:blank",
			Status: http.StatusNotFound,
			Title:  "Not found",
			Code:   "form",
			Detail: "People are exported as csv or jsonl.",
		}
	}
	if err := c.s.Gate.Taken(c.Context(), c.who, "people", "all people, as "+form); err != nil {
		return nil, err
	}
	var b bytes.Buffer
	if err := c.s.Gate.Persons.ExportPeople(c.Context(), form, &b); err != nil {
		return nil, err
	}
	c.Set("Content-Disposition", `attachment; filename="people.`+form+`"`)
	return b.Bytes(), nil
}
