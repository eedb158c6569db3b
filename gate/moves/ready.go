package moves

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/config"
	"innergate/core/moves"
	"innergate/core/people"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/store"

	"gorm.io/gorm"
)

// moveSide is a provider as a move sees it.
func moveSide(p *partners.Provider) moves.Side {
	s := moves.Side{
		Name:    p.Name,
		Sets:    map[string]string{},
		Missing: p.Missing(),
		Open:    p.Reach == access.Everyone || p.Reach == access.InCircle,
		Admits:  p.Admission == "create" || p.Admission == "ask",
	}
	for _, r := range p.Whole {
		from := strings.Join(r.From, " or ")
		switch {
		case from == "" && r.Value != "":
			from = "a constant"
		case from == "":
			from = "an expression"
		}
		s.Sets[r.Set] = from
	}
	if p.Directory != nil {
		for _, name := range []string{people.Username, people.Mail, "name", "given_name", "family_name"} {
			s.Sets[name] = "the gate's own directory"
		}
	}
	if p.Matching != nil {
		for _, w := range p.Matching.By {
			s.Matching = append(s.Matching, w.By)
		}
	}
	return s
}

// moveApplication tells how an application of a move is used, and how ready it is. It is nothing where the application
// was deleted.
func (g *Room) moveApplication(ctx context.Context, row *store.Move, m *store.MoveApplication) (*api.MoveApplication, error) {
	app, err := g.partners.ApplicationByID(ctx, m.ApplicationID)
	if ground.IsNotFound(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	from, err := g.partners.ProviderByID(ctx, row.FromID)
	if err != nil {
		return nil, err
	}
	to, err := g.partners.ProviderByID(ctx, row.ToID)
	if err != nil {
		return nil, err
	}
	out := &api.MoveApplication{
		Slug:       app.Slug,
		Name:       app.Name,
		Kind:       app.Kind,
		Reach:      string(app.Reach),
		Wave:       m.Wave,
		State:      m.State,
		LastSignIn: g.traces.LastSuccess(ctx, app),
		Compared:   map[string]int{},
	}
	db := g.Store.Read(ctx)
	if err := db.Model(&store.Account{}).Where("application_id = ?", app.ID).Count(&out.Users).Error; err != nil {
		return nil, store.Clear(err)
	}
	if out.SignIns, err = g.signInsWith(ctx, app.ID, from.ID); err != nil {
		return nil, err
	}
	var compared []struct {
		Result string
		N      int
	}
	if err := db.Raw("SELECT result, count(*) AS n FROM move_comparisons WHERE move_id = ? AND application_id = ? GROUP BY result",
		row.ID, app.ID).Scan(&compared).Error; err != nil {
		return nil, store.Clear(err)
	}
	for _, c := range compared {
		out.Compared[c.Result] = c.N
	}
	if out.People, err = g.movePeople(ctx, app, from, to); err != nil {
		return nil, err
	}
	a, b := moveSide(from), moveSide(to)
	out.Needs = moves.Needs(app.Whole, app.Subject.Source, app.Subject.From, a, b)
	out.Verdict = moves.Judge(out.Needs, out.People, app.Subject.Source, rulesNaming(app, from), a, b)
	return out, nil
}

// signInsWith counts the sign-ins to an application with a provider that came out well in the last 30 days.
func (g *Room) signInsWith(ctx context.Context, applicationID, providerID string) (int64, error) {
	counts, err := g.traces.CountAll(ctx, g.Store.Traces.Read(ctx).Model(&store.SignInCount{}).
		Select("application_id AS id, sum(count) AS n").
		Where("application_id = ? AND hour >= ? AND provider_id = ? AND outcome = 'signed-in'",
			applicationID, g.Now().Add(-partners.UsedLately).UTC(), providerID).Group("application_id"))
	return counts[applicationID], err
}

// signInsBy counts who came through a provider lately, by application.
func (g *Room) signInsBy(ctx context.Context, providerID string) (map[string]int64, error) {
	db, done := g.Store.Traces.Long(ctx)
	defer done()
	return g.traces.CountAll(ctx, db.Model(&store.SignInCount{}).Select("application_id AS id, sum(count) AS n").Where("outcome = "+
		"'signed-in' AND hour >= ? AND provider_id = ?", g.Now().Add(-partners.UsedLately).UTC(), providerID).Group("application_id"))
}

// movePeople finds out how many of those who use an application through the old provider the new one will know. It asks
// by the values that the gate holds of them; what the new provider will really send shows itself only when they sign
// in.
func (g *Room) movePeople(ctx context.Context, app *partners.Application, from, to *partners.Provider) (moves.People, error) {
	var out moves.People
	db := g.Store.Read(ctx)
	const users = "SELECT person_id FROM accounts WHERE application_id = @app AND person_id IN (SELECT person_id FROM links WHERE " +
		"provider_id = @from)"
	args := map[string]any{"app": app.ID, "from": from.ID, "to": to.ID}
	if err := db.Raw("SELECT count(*), coalesce(sum(id IN (SELECT person_id FROM links WHERE provider_id = @to)), 0) FROM people "+
		"WHERE id IN ("+users+")", args).Row().Scan(&out.All, &out.Linked); err != nil {
		return out, store.Clear(err)
	}
	var rows []store.Person
	if err := db.Raw("SELECT * FROM people WHERE id IN ("+users+
		") AND id NOT IN (SELECT person_id FROM links WHERE provider_id = @to) LIMIT 5000", args).Scan(&rows).Error; err != nil {
		return out, store.Clear(err)
	}
	for i := range rows {
		p := &rows[i]
		found, doubtful := false, false
		if to.Directory != nil {
			found = p.Login != nil
		}
		if to.Matching != nil {
			for _, w := range to.Matching.By {
				key := map[string]string{people.ExternalID: p.ExternalKey, "username": p.UsernameKey, people.Mail: p.EmailKey}[w.By]
				column := map[string]string{people.ExternalID: "external_key", "username": "username_key", people.Mail: "email_key"}[w.By]
				if key == "" || column == "" || !speaksFor(to.Matching, w.By, p) {
					continue
				}
				var same int64
				if err := db.Model(&store.Person{}).Where(column+" = ?", key).Limit(2).Count(&same).Error; err != nil {
					return out, store.Clear(err)
				}
				found, doubtful = same == 1, same > 1
				if found || doubtful {
					break
				}
			}
		}
		switch {
		case found:
			out.Found++
		case doubtful:
			out.Doubtful++
		default:
			out.Strangers++
		}
	}
	return out, nil
}

// speaksFor says whether a provider may find a person by a value: within its mail domains and scopes.
func speaksFor(m *people.Matching, by string, p *store.Person) bool {
	if by == people.Mail {
		_, domain, _ := strings.Cut(p.Email, "@")
		return len(m.Domains) == 0 || slices.ContainsFunc(m.Domains, func(d string) bool { return strings.EqualFold(d, domain) })
	}
	return true
}

// rulesNaming lists what else of an application names the old provider.
func rulesNaming(app *partners.Application, from *partners.Provider) []string {
	var out []string
	for i, r := range app.Access.Rules {
		for _, c := range []*access.Condition{r.If, r.Unless} {
			if c != nil && slices.Contains(c.Providers, from.Slug) {
				out = append(out, fmt.Sprintf("access rule %d of %s asks for %s", i+1, app.Name, from.Name))
			}
		}
	}
	return out
}

// StillUses tells what still uses a provider, until it can be closed.
func (g *Room) StillUses(ctx context.Context, slug string) (*api.StillUses, error) {
	p, err := g.partners.Provider(ctx, slug)
	if err != nil {
		return nil, err
	}
	out := &api.StillUses{
		Provider: api.Reference{Slug: p.Slug, Name: p.Name, Kind: "provider", Reach: string(p.Reach)},
		Words:    []string{},
		Apps:     []api.LeftApp{},
		Routes:   []string{},
		Rules:    []string{},
	}
	db, done := g.Store.Long(ctx)
	defer done()
	var apps []store.Application
	if err := partners.UsedBy(db, slug).Order("name").Limit(500).Find(&apps).Error; err != nil {
		return nil, store.Clear(err)
	}
	came, err := g.signInsBy(ctx, p.ID)
	if err != nil {
		return nil, err
	}
	alone := 0
	for _, row := range apps {
		a, err := ground.DecodeBody[config.Application](row.Body)
		if err != nil {
			return nil, err
		}
		left := api.LeftApp{
			Reference: api.Reference{Slug: a.Slug, Name: a.Name, Kind: "application", Reach: string(a.Reach)},
			Others:    len(a.Providers) - 1,
			SignIns:   came[row.ID],
		}
		if left.Others == 0 && a.Reach != access.Closed {
			alone++
		}
		out.Apps = append(out.Apps, left)
	}
	if err := g.namedInRules(ctx, p, out); err != nil {
		return nil, err
	}
	last := g.Now().Add(-partners.UsedLately).UTC()
	for _, n := range came {
		out.SignIns += n
	}
	if err := g.countPeople(db, p.ID, out); err != nil {
		return nil, err
	}
	var row store.Provider
	if err := db.Select("last_sign_in").Where("id = ?", p.ID).Take(&row).Error; err != nil {
		return nil, store.Clear(err)
	}
	out.Last = row.LastSignIn
	out.Closable = len(out.Apps) == 0 && len(out.Routes) == 0 && len(out.Rules) == 0
	if out.Closable {
		out.Words = append(out.Words, "Nothing uses "+p.Name+" any more: it can be closed.")
	}
	if n := len(out.Apps); n > 0 {
		out.Words = append(
			out.Words,
			fmt.Sprintf(
				"%s still %s %s; %d of them %s no other provider.", words.Plural(n, "application", "applications"),
				map[bool]string{true: "has", false: "have"}[n == 1], p.Name, alone,
				map[bool]string{true: "has", false: "have"}[alone == 1],
			),
		)
	}
	if n := len(out.Routes) + len(out.Rules); n > 0 {
		out.Words = append(
			out.Words,
			fmt.Sprintf("%s still %s it.", words.Plural(n, "rule", "rules"), map[bool]string{true: "names", false: "name"}[n == 1]),
		)
	}
	if out.Only > 0 {
		out.Words = append(
			out.Words,
			map[bool]string{true: "At least "}[out.More]+words.Plural(int(out.Only), "person has", "people have")+
				" no other way to sign in, as far as is known.",
		)
	}
	if out.SignIns > 0 {
		out.Words = append(
			out.Words,
			fmt.Sprintf(
				"%s since %s.", words.Plural(int(out.SignIns), "sign-in came through it", "sign-ins came through it"),
				last.Format(time.DateOnly),
			),
		)
	}
	if out.Sessions > 0 {
		out.Words = append(out.Words, words.Plural(int(out.Sessions), "open session rests", "open sessions rest")+" on it.")
	}
	return out, nil
}

// countPeople counts who comes through a provider, and who of them would have no other way; and the open sessions that rest on
// it. Each is counted up to a number that says it all: what stands there is many.
func (g *Room) countPeople(db *gorm.DB, id string, out *api.StillUses) error {
	if err := db.Raw("SELECT count(*), coalesce(sum(NOT EXISTS (SELECT 1 FROM links o WHERE o.person_id = d.person_id AND "+
		"+o.provider_id <> ?) AND (SELECT login FROM people WHERE id = d.person_id) IS NULL), 0) FROM (SELECT DISTINCT person_id FROM "+
		"links WHERE provider_id = ? LIMIT ?) d", id, id, countedTo).Row().Scan(&out.People, &out.Only); err != nil {
		return store.Clear(err)
	}
	out.More = out.People == countedTo
	return store.Clear(db.Raw("SELECT count(*) FROM (SELECT 1 FROM session_proofs p WHERE provider_id = ? AND EXISTS (SELECT 1 FROM "+
		"sessions s WHERE s.id = p.session_id AND s.ended_at IS NULL AND s.expires_at > ?) LIMIT ?)", id, g.Now().UTC(),
		countedTo).Row().Scan(&out.Sessions))
}

const countedTo = 20_000

// namedInRules finds the provider in routes, in the rules for the console, and in circles of other providers.
func (g *Room) namedInRules(ctx context.Context, p *partners.Provider, out *api.StillUses) error {
	routes, err := g.partners.Routes(ctx)
	if err != nil {
		return err
	}
	for i, r := range routes.Rules {
		if slices.Contains(r.To, p.Slug) || slices.Contains(r.If.Known, p.Slug) || slices.Contains(r.If.Wish, p.Slug) {
			out.Routes = append(out.Routes, fmt.Sprintf("route %d", i+1))
		}
	}
	console, err := g.partners.ConsoleAccess(ctx)
	if err != nil {
		return err
	}
	for i, r := range console.Rules {
		if r.Provider == p.Slug {
			out.Rules = append(out.Rules, fmt.Sprintf("rule %d for the console: the role %s", i+1, r.Role))
		}
	}
	db := g.Store.Read(ctx)
	var names []string
	if err := db.Model(&store.Provider{}).Where("json_extract(body, '$.circle.instead') = ?", p.Slug).Limit(50).Pluck("name",
		&names).Error; err != nil {
		return store.Clear(err)
	}
	for _, n := range names {
		out.Rules = append(out.Rules, n+" sends those outside its circle there")
	}
	var apps []store.Application
	if err := db.Where("EXISTS (SELECT 1 FROM json_tree(body, '$.access') AS t WHERE t.value = ? AND t.type = 'text' AND t.path LIKE "+
		"'%.providers')", p.Slug).Limit(100).Find(&apps).Error; err != nil {
		return store.Clear(err)
	}
	for _, row := range apps {
		a, err := ground.DecodeBody[config.Application](row.Body)
		if err != nil {
			return err
		}
		out.Rules = append(out.Rules, rulesNaming(&partners.Application{Application: a}, p)...)
	}
	return nil
}
