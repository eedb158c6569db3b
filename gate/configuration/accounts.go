package configuration

import (
	"context"
	"encoding/csv"
	"fmt"
	"slices"
	"strings"

	"innergate/api"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/people"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/store"
)

const (
	maxAccounts = 200_000
	shownLines  = 1000
)

// draftSubject is an application with another subject rule.
func (g *Room) draftSubject(ctx context.Context, slug string, subject config.Subject) (*partners.Application, error) {
	app, err := g.partners.Application(ctx, slug)
	if err != nil {
		return nil, err
	}
	draft := *app
	draft.Subject = subject
	c := draft.Application
	if err := c.Validate(); err != nil {
		return nil, ground.Invalid(err)
	}
	draft.Application = c
	return &draft, nil
}

// eachPerson walks through all active people with the identifier that an application would get of each.
func (g *Room) eachPerson(ctx context.Context, app *partners.Application, visit func(p *store.Person, value string) error) error {
	held := map[string]string{}
	if partners.Kept(app) {
		var rows []store.SubjectValue
		if err := g.Store.Read(ctx).Where("application_id = ?", partners.SubjectOwner(app)).Find(&rows).Error; err != nil {
			return store.Clear(err)
		}
		for _, r := range rows {
			held[r.PersonID] = r.Value
		}
	}
	after := ""
	for {
		var rows []store.Person
		if err := g.Store.Read(ctx).Where("id > ? AND active", after).Order("id").Limit(2000).Find(&rows).Error; err != nil {
			return store.Clear(err)
		}
		if len(rows) == 0 {
			return nil
		}
		for i := range rows {
			p := &rows[i]
			after = p.ID
			value := held[p.ID]
			if app.Subject.Source == "profile" {
				profile, err := ground.DecodeBody[claims.Bag](p.Profile)
				if err != nil {
					return err
				}
				value = profile.First(app.Subject.From)
			}
			if err := visit(p, value); err != nil {
				return err
			}
		}
	}
}

// CheckAccounts compares an application's own list of accounts with what a subject rule would send.
func (g *Room) CheckAccounts(ctx context.Context, slug string, q api.AccountCheck) (*api.AccountChecked, error) {
	app, err := g.draftSubject(ctx, slug, q.Subject)
	if err != nil {
		return nil, err
	}
	if app.Subject.Source == "transient" {
		return nil, ground.BadRequest(
			"transient", "A transient identifier is another one each time, so no account can be found by it.",
			"Choose another source.",
		)
	}
	accounts, column, err := readAccounts(q.Accounts, q.Column)
	if err != nil {
		return nil, err
	}
	c := &comparison{
		out: &api.AccountChecked{
			Column:    column,
			Accounts:  len(accounts),
			Missing:   []string{},
			Newcomers: []api.AccountLine{},
			Doubled:   []api.AccountLine{},
			Differing: []api.AccountLine{},
			Unfit:     []api.AccountLine{},
			Counts:    map[string]int{},
		},
		exact:   map[string]int{},
		byKey:   map[string][]string{},
		byLocal: map[string][]string{},
	}
	c.accounts(accounts)
	owners := map[string][]*store.Person{}
	if err := g.eachPerson(ctx, app, func(p *store.Person, value string) error {
		if c.out.People++; c.out.People > 2_000_000 {
			return ground.BadRequest("too-many", "There are too many people to compare.", "")
		}
		if value != "" {
			slim := &store.Person{ID: p.ID, Name: p.Name}
			owners[value] = append(owners[value], slim)
			if why := app.SubjectProblem(value); why != "" {
				c.add("unfit", &c.out.Unfit, api.AccountLine{Value: value, Person: p.Name, ID: p.ID, Why: why})
			}
		} else if app.Subject.Source == "profile" {
			c.add("unfit", &c.out.Unfit, api.AccountLine{Person: p.Name, ID: p.ID, Why: "the profile has no " + app.Subject.From})
		}
		return nil
	}); err != nil {
		return nil, err
	}
	c.compare(accounts, owners)
	if partners.Kept(app) {
		c.out.Remark = "The identifier is a random value: the application can't hold it before a person's first sign-in."
	}
	return c.out, nil
}

// comparison gathers how accounts and people fit.
type comparison struct {
	out            *api.AccountChecked
	exact          map[string]int
	byKey, byLocal map[string][]string
}

func (c *comparison) add(name string, to *[]api.AccountLine, line api.AccountLine) {
	if c.out.Counts[name]++; len(*to) < shownLines {
		*to = append(*to, line)
	}
}

func (c *comparison) accounts(list []string) {
	for _, a := range list {
		if c.exact[a]++; c.exact[a] == 2 {
			c.add("doubled", &c.out.Doubled, api.AccountLine{Account: a, Why: "stands more than once in the list"})
		}
		if c.exact[a] == 1 {
			c.byKey[looseKey(a)] = append(c.byKey[looseKey(a)], a)
			c.byLocal[localKey(a)] = append(c.byLocal[localKey(a)], a)
		}
	}
}

// looseKey is what values share that differ only in case, spaces or look-alikes; localKey what they share that differ
// in the domain as well.
func looseKey(v string) string { return people.Key(v) }

func localKey(v string) string {
	local, _, _ := strings.Cut(looseKey(v), "@")
	return local
}

func (c *comparison) compare(accounts []string, owners map[string][]*store.Person) {
	found := map[string]bool{}
	values := make([]string, 0, len(owners))
	for v := range owners {
		values = append(values, v)
	}
	slices.Sort(values)
	for _, v := range values {
		list := owners[v]
		if len(list) > 1 {
			var names []string
			for _, p := range list[:min(5, len(list))] {
				names = append(names, p.Name)
			}
			c.add(
				"doubled",
				&c.out.Doubled,
				api.AccountLine{Value: v, Person: strings.Join(names, ", "), Why: fmt.Sprintf("%d people would get it", len(list))},
			)
		}
		p := list[0]
		if c.exact[v] > 0 {
			c.out.Matching += len(list)
			found[v] = true
			continue
		}
		if near := c.byKey[looseKey(v)]; len(near) > 0 {
			found[near[0]] = true
			c.add(
				"differing",
				&c.out.Differing,
				api.AccountLine{Account: near[0], Value: v, Person: p.Name, ID: p.ID, Why: people.Difference(near[0], v)},
			)
			continue
		}
		if near := c.byLocal[localKey(v)]; len(near) > 0 && (strings.Contains(v, "@") || strings.Contains(near[0], "@")) {
			found[near[0]] = true
			c.add(
				"differing",
				&c.out.Differing,
				api.AccountLine{Account: near[0], Value: v, Person: p.Name, ID: p.ID, Why: "only in the domain"},
			)
			continue
		}
		c.add(
			"newcomers",
			&c.out.Newcomers,
			api.AccountLine{Value: v, Person: p.Name, ID: p.ID, Why: "the application has no such account"},
		)
	}
	seen := map[string]bool{}
	for _, a := range accounts {
		if found[a] || seen[a] {
			continue
		}
		seen[a] = true
		if c.out.Counts["missing"]++; len(c.out.Missing) < shownLines {
			c.out.Missing = append(c.out.Missing, a)
		}
	}
}

// readAccounts reads a list of identifiers: one a line, or CSV with a heading. Spaces are kept, since they may be the
// very difference that is looked for.
func readAccounts(text, column string) (list []string, name string, err error) {
	text = strings.TrimPrefix(strings.ReplaceAll(text, "\r\n", "\n"), "\ufeff")
	if strings.TrimSpace(text) == "" {
		return nil, "", ground.BadRequest(
			"nothing-given", "There are no accounts.", "Paste the application's list of accounts, or choose a file.",
		)
	}
	first, _, _ := strings.Cut(text, "\n")
	comma := rune(',')
	if strings.Count(first, ";") > strings.Count(first, ",") {
		comma = ';'
	} else if strings.Contains(first, "\t") {
		comma = '\t'
	}
	if !strings.ContainsRune(first, comma) && column == "" {
		for _, l := range strings.Split(text, "\n") {
			if strings.TrimSpace(l) != "" {
				list = append(list, l)
			}
		}
		return list, "", tooManyAccounts(list)
	}
	r := csv.NewReader(strings.NewReader(text))
	r.Comma, r.FieldsPerRecord = comma, -1
	rows, err := r.ReadAll()
	if err != nil {
		return nil, "", ground.BadRequest("accounts-csv", "The list is no CSV: "+err.Error()+".", "")
	}
	heading := rows[0]
	at := 0
	if column != "" {
		if at = slices.IndexFunc(heading, func(h string) bool {
			return strings.EqualFold(strings.TrimSpace(h), strings.TrimSpace(column))
		}); at < 0 {
			return nil, "", ground.BadRequest(
				"column-unknown",
				fmt.Sprintf("There is no column %q; the columns are %s.", column, strings.Join(heading, ", ")), "",
			)
		}
	}
	for _, row := range rows[1:] {
		if at < len(row) && strings.TrimSpace(row[at]) != "" {
			list = append(list, row[at])
		}
	}
	return list, heading[at], tooManyAccounts(list)
}

func tooManyAccounts(list []string) error {
	if len(list) > maxAccounts {
		return ground.BadRequest(
			"too-many", fmt.Sprintf("The list has %d accounts; %d are the most.", len(list), maxAccounts),
			"Compare it in parts.",
		)
	}
	return nil
}

// PreviewSubject tells who would become another user at an application with another subject rule: of those whom it
// knows.
func (g *Room) PreviewSubject(ctx context.Context, slug string, subject config.Subject) (*api.SubjectChange, error) {
	app, err := g.draftSubject(ctx, slug, subject)
	if err != nil {
		return nil, err
	}
	var accounts []store.Account
	if err := g.Store.Read(ctx).Where("application_id = ?", app.ID).Limit(maxAccounts).Find(&accounts).Error; err != nil {
		return nil, store.Clear(err)
	}
	known := make(map[string]string, len(accounts))
	for _, a := range accounts {
		known[a.PersonID] = a.Subject
	}
	out := &api.SubjectChange{Known: len(known), Changed: []api.AccountLine{}, Failing: []api.AccountLine{}, Doubled: []api.AccountLine{}}
	owners := map[string]string{}
	changed := 0
	err = g.eachPerson(ctx, app, func(p *store.Person, value string) error {
		now, ok := known[p.ID]
		if !ok {
			return nil
		}
		if other := owners[value]; other != "" && value != "" && len(out.Doubled) < shownLines {
			out.Doubled = append(out.Doubled, api.AccountLine{Value: value, Person: other + ", " + p.Name})
		}
		owners[value] = p.Name
		switch why := app.SubjectProblem(value); {
		case value == "" && app.Subject.Source == "profile":
			out.Failing = append(
				out.Failing,
				api.AccountLine{Account: now, Person: p.Name, ID: p.ID, Why: "the profile has no " + app.Subject.From},
			)
		case why != "":
			out.Failing = append(out.Failing, api.AccountLine{Account: now, Value: value, Person: p.Name, ID: p.ID, Why: why})
		case value == now:
			out.Same++
		default:
			if value == "" {
				value = "(a new random value)"
			}
			if changed++; len(out.Changed) < shownLines {
				out.Changed = append(out.Changed, api.AccountLine{Account: now, Value: value, Person: p.Name, ID: p.ID})
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	switch {
	case len(known) == 0:
		out.Sentence = "Nobody has signed in to " + app.Name + " through the gate yet, so nobody would become another user there."
	case changed+len(out.Failing) == 0:
		out.Sentence = fmt.Sprintf("All %d people whom %s knows keep their identifier.", len(known), app.Name)
	default:
		out.Sentence = fmt.Sprintf(
			"Of %d people whom %s knows, %d would become another user there, and %d could not sign in any more.",
			len(known), app.Name, changed, len(out.Failing),
		)
	}
	return out, nil
}
