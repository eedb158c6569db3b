package client

import (
	"context"
	"fmt"
	"net/url"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/bridge"
	"innergate/core/config"
	"innergate/core/people"
)

// People lists a page of people.
func (c *Client) People(ctx context.Context, p Page) (*api.List[api.PersonLine], error) {
	return do[api.List[api.PersonLine]](ctx, c, "GET", "/people"+p.query(), nil)
}

// Person shows one.
func (c *Client) Person(ctx context.Context, id string) (*api.Person, error) {
	return do[api.Person](ctx, c, "GET", "/people/"+url.PathEscape(id), nil)
}

// AddPerson adds one.
func (c *Client) AddPerson(ctx context.Context, in api.SavePerson) (*api.Person, error) {
	return do[api.Person](ctx, c, "POST", "/people", in)
}

// PutPerson changes one.
func (c *Client) PutPerson(ctx context.Context, id string, in api.SavePerson) (*api.Person, error) {
	return do[api.Person](ctx, c, "PUT", "/people/"+url.PathEscape(id), in)
}

// DeletePerson removes one.
func (c *Client) DeletePerson(ctx context.Context, id string) error {
	return c.Do(ctx, "DELETE", "/people/"+url.PathEscape(id), nil, nil)
}

// LinkPerson links a person to the identifier that a provider vouched for in the sign-in with this reference number.
func (c *Client) LinkPerson(ctx context.Context, person, reference string) (*api.Person, error) {
	return do[api.Person](ctx, c, "POST", "/people/"+url.PathEscape(person)+"/links", api.LinkPerson{Reference: reference})
}

// Unlink takes a link away.
func (c *Client) Unlink(ctx context.Context, person, link string) error {
	return c.Do(ctx, "DELETE", "/people/"+url.PathEscape(person)+"/links/"+url.PathEscape(link), nil, nil)
}

// PasswordLink makes a link with which a person sets a password.
func (c *Client) PasswordLink(ctx context.Context, id string) (*api.PersonLinkMade, error) {
	return do[api.PersonLinkMade](ctx, c, "POST", "/people/"+url.PathEscape(id)+"/password-link", nil)
}

// MailSettings are how the gate sends mail.
func (c *Client) MailSettings(ctx context.Context) (*api.MailSettings, error) {
	return do[api.MailSettings](ctx, c, "GET", "/mail-settings", nil)
}

// SetMail says how the gate sends mail.
func (c *Client) SetMail(ctx context.Context, in api.SaveMail) (*api.MailSettings, error) {
	return do[api.MailSettings](ctx, c, "PUT", "/mail-settings", in)
}

// TestMail has the gate send a mail.
func (c *Client) TestMail(ctx context.Context, to string) error {
	return c.Do(ctx, "POST", "/mail-settings/test", api.TestMail{To: to}, nil)
}

// PeopleSettings are person types and attributes.
func (c *Client) PeopleSettings(ctx context.Context) (*api.Attributes, error) {
	return do[api.Attributes](ctx, c, "GET", "/people-settings", nil)
}

// ContextTables are tables of contexts for the usual kinds of providers.
func (c *Client) ContextTables(ctx context.Context) (*api.List[bridge.ContextTable], error) {
	return do[api.List[bridge.ContextTable]](ctx, c, "GET", "/context-tables", nil)
}

// PutPeopleSettings replaces them.
func (c *Client) PutPeopleSettings(ctx context.Context, s people.Settings) error {
	return c.Do(ctx, "PUT", "/people-settings", s, nil)
}

// ExportPeople gives all people as a file, in csv or jsonl.
func (c *Client) ExportPeople(ctx context.Context, form string) ([]byte, error) {
	var out []byte
	return out, c.Do(ctx, "GET", "/people-export/"+url.PathEscape(form), nil, &out)
}

// NewImport opens an import.
func (c *Client) NewImport(ctx context.Context, in api.NewImport) (*api.Import, error) {
	return do[api.Import](ctx, c, "POST", "/people-imports", in)
}

// Import shows how one stands.
func (c *Client) Import(ctx context.Context, id string) (*api.Import, error) {
	return do[api.Import](ctx, c, "GET", "/people-imports/"+url.PathEscape(id), nil)
}

// SendImport sends a part of the file.
func (c *Client) SendImport(ctx context.Context, id string, at int64, part []byte) (*api.Import, error) {
	return do[api.Import](ctx, c, "POST", fmt.Sprintf("/people-imports/%s/parts?at=%d", url.PathEscape(id), at), part)
}

// CheckImport looks at every line, WriteImport writes them. Both go on in the background.
func (c *Client) CheckImport(ctx context.Context, id string) (*api.Import, error) {
	return do[api.Import](ctx, c, "POST", "/people-imports/"+url.PathEscape(id)+"/check", nil)
}

// WriteImport writes what was checked.
func (c *Client) WriteImport(ctx context.Context, id string) (*api.Import, error) {
	return do[api.Import](ctx, c, "POST", "/people-imports/"+url.PathEscape(id)+"/write", nil)
}

// CancelImport stops one.
func (c *Client) CancelImport(ctx context.Context, id string) error {
	return c.Do(ctx, "DELETE", "/people-imports/"+url.PathEscape(id), nil, nil)
}

// Groups lists a page of groups.
func (c *Client) Groups(ctx context.Context, p Page) (*api.List[api.Group], error) {
	return do[api.List[api.Group]](ctx, c, "GET", "/groups"+p.query(), nil)
}

// AddGroup adds one.
func (c *Client) AddGroup(ctx context.Context, g config.Group) (*api.Group, error) {
	return do[api.Group](ctx, c, "POST", "/groups", g)
}

// DeleteGroup removes one.
func (c *Client) DeleteGroup(ctx context.Context, slug string) error {
	return c.Do(ctx, "DELETE", "/groups/"+url.PathEscape(slug), nil, nil)
}

// Assignments lists who is assigned to an application.
func (c *Client) Assignments(ctx context.Context, slug string, p Page) (*api.List[api.Assignment], error) {
	return do[api.List[api.Assignment]](ctx, c, "GET", "/applications/"+url.PathEscape(slug)+"/assignments"+p.query(), nil)
}

// Assign assigns somebody.
func (c *Client) Assign(ctx context.Context, slug string, a api.Assignment) error {
	return c.Do(ctx, "PUT", "/applications/"+url.PathEscape(slug)+"/assignments", a, nil)
}

// Unassign takes an assignment away.
func (c *Client) Unassign(ctx context.Context, slug, kind, who string) error {
	return c.Do(ctx, "DELETE", "/applications/"+url.PathEscape(slug)+"/assignments/"+url.PathEscape(kind)+"/"+url.PathEscape(who), nil, nil)
}

// WhoGetsIn tells who can get in to an application, and why.
func (c *Client) WhoGetsIn(ctx context.Context, slug string, p Page) (*api.WhoGetsIn, error) {
	return do[api.WhoGetsIn](ctx, c, "GET", "/applications/"+url.PathEscape(slug)+"/who"+p.query(), nil)
}

// ExplainAccess tells whether somebody would get in, and why.
func (c *Client) ExplainAccess(ctx context.Context, slug string, q api.AccessQuestion) (*api.AccessAnswer, error) {
	return do[api.AccessAnswer](ctx, c, "POST", "/applications/"+url.PathEscape(slug)+"/explain", q)
}

// SetAccess replaces an application's policy.
func (c *Client) SetAccess(ctx context.Context, slug string, p access.Policy) (*api.Application, error) {
	a, err := c.Application(ctx, slug)
	if err != nil {
		return nil, err
	}
	held := a.Application
	held.Access = p
	return c.PutApplication(ctx, held, a.Revision)
}

// CheckAccounts compares an application's own accounts with a subject rule.
func (c *Client) CheckAccounts(ctx context.Context, slug string, q api.AccountCheck) (*api.AccountChecked, error) {
	return do[api.AccountChecked](ctx, c, "POST", "/applications/"+url.PathEscape(slug)+"/accounts", q)
}

// PreviewSubject tells who would become another user.
func (c *Client) PreviewSubject(ctx context.Context, slug string, s config.Subject) (*api.SubjectChange, error) {
	return do[api.SubjectChange](ctx, c, "POST", "/applications/"+url.PathEscape(slug)+"/subject", s)
}

// TryMapping applies a mapping to an input.
func (c *Client) TryMapping(ctx context.Context, q api.TryMapping) (*api.TriedMapping, error) {
	return do[api.TriedMapping](ctx, c, "POST", "/mapping/try", q)
}

// SuggestRules proposes rules.
func (c *Client) SuggestRules(ctx context.Context, q api.Suggest) (*api.Suggested, error) {
	return do[api.Suggested](ctx, c, "POST", "/mapping/suggest", q)
}

// Preview tells what would become of a sign-in.
func (c *Client) Preview(ctx context.Context, q api.Preview) (*api.Previewed, error) {
	return do[api.Previewed](ctx, c, "POST", "/preview", q)
}

// RuleSets lists the rule sets.
func (c *Client) RuleSets(ctx context.Context) (*api.List[api.RuleSet], error) {
	return do[api.List[api.RuleSet]](ctx, c, "GET", "/rule-sets", nil)
}

// RuleSet shows one.
func (c *Client) RuleSet(ctx context.Context, slug string) (*api.RuleSet, error) {
	return do[api.RuleSet](ctx, c, "GET", "/rule-sets/"+url.PathEscape(slug), nil)
}

// AddRuleSet adds one.
func (c *Client) AddRuleSet(ctx context.Context, r config.RuleSet) (*api.RuleSet, error) {
	return do[api.RuleSet](ctx, c, "POST", "/rule-sets", r)
}

// PutRuleSet replaces one.
func (c *Client) PutRuleSet(ctx context.Context, slug string, r config.RuleSet) (*api.RuleSet, error) {
	return do[api.RuleSet](ctx, c, "PUT", "/rule-sets/"+url.PathEscape(slug), r)
}

// PreviewRuleSet tells what a change does to each user of the set.
func (c *Client) PreviewRuleSet(ctx context.Context, slug string, r config.RuleSet) (*api.List[api.SetEffect], error) {
	return do[api.List[api.SetEffect]](ctx, c, "POST", "/rule-sets/"+url.PathEscape(slug)+"/preview", r)
}

// DeleteRuleSet removes one.
func (c *Client) DeleteRuleSet(ctx context.Context, slug string) error {
	return c.Do(ctx, "DELETE", "/rule-sets/"+url.PathEscape(slug), nil, nil)
}
