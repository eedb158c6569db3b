package persons

import (
	"context"
	"maps"
	"slices"
	"strings"

	"innergate/core/claims"
	"innergate/core/people"
	"innergate/core/trace"
	"innergate/gate/partners"
	"innergate/store"
)

// Said is what counts of what a provider said of somebody: values that it may not speak for are dropped, and the trace
// tells which.
func (g *Room) Said(ctx context.Context, p *partners.Provider, came, received claims.Bag, rec *trace.Recorder) (
	claims.Bag, []people.Unspoken, error,
) {
	var failed error
	said, unspoken := p.Matching.Say(came, people.ProvenBy(came, received), func(domain string) bool {
		spoken, err := g.partners.SpokenFor(ctx, domain, p.ID)
		if err != nil {
			failed = err
		}
		return spoken
	})
	for _, u := range unspoken {
		rec.Check(trace.Check{
			Name:     "provider.speaks-for",
			Text:     p.Name + " may speak for the " + claims.InWords(u.Attribute) + " that it says; what it may not is dropped",
			Section:  "our rule",
			Expected: u.May,
			Got:      strings.Join(u.Values, ", "),
			OK:       false,
		})
	}
	return said, unspoken, failed
}

// OwnMail drops a mail address of a domain that nobody speaks for, where somebody else than this person, who may be new,
// is known to have it.
func (g *Room) OwnMail(
	ctx context.Context,
	p *partners.Provider,
	came claims.Bag,
	personID string,
	rec *trace.Recorder,
) (claims.Bag, error) {
	m, mail := p.Matching, came.First(people.Mail)
	if m == nil || !m.MailElsewhere || mail == "" || slices.Contains(m.Domains, people.Domain(mail)) {
		return came, nil
	}
	other, err := store.One[store.Person](g.Store.Read(ctx), "email_key = ? AND id <> ?", people.Key(mail), personID)
	if err != nil || other.ID == "" {
		return came, err
	}
	own := maps.Clone(came)
	delete(own, people.Mail)
	rec.Check(trace.Check{
		Name:    "provider.speaks-for",
		Text:    "The mail address that " + p.Name + " says is nobody else's; it is dropped",
		Section: "our rule",
		Got:     mail,
		OK:      false,
	})
	return own, nil
}

// CalledBy finds the people whom a name or mail address that somebody gave can mean, two at most.
func (g *Room) CalledBy(ctx context.Context, name string) ([]string, error) {
	key := people.Key(name)
	var ids []string
	err := g.Store.Read(ctx).Raw("SELECT id FROM people WHERE login = ? UNION SELECT id FROM people WHERE email_key = ? UNION "+
		"SELECT id FROM people WHERE username_key = ? LIMIT 2", key, key, key).Scan(&ids).Error
	return ids, store.Clear(err)
}
