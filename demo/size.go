package demo

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/core/trace"
	"innergate/gate/ground"
	"innergate/gate/traces"
	"innergate/store"
)

// Size is how much a store holds of each kind.
type Size struct {
	People, Groups, Applications, Providers  int
	Sessions, Grants, Tokens, Traces, Counts int
	Revisions, Used                          int
}

// Full is the size that the gate is made for.
var Full = Size{
	People:       1_000_000,
	Groups:       300,
	Applications: 10_000,
	Providers:    1_000,
	Sessions:     300_000,
	Grants:       300_000,
	Tokens:       600_000,
	Traces:       200_000,
	Counts:       500_000,
	Revisions:    100_000,
	Used:         100_000,
}

// Over is the size divided by a number.
func (s Size) Over(n int) Size {
	for _, v := range []*int{&s.People, &s.Groups, &s.Applications, &s.Providers, &s.Sessions, &s.Grants, &s.Tokens, &s.Traces, &s.Counts,
		&s.Revisions, &s.Used} {
		*v = max(1, *v/n)
	}
	return s
}

// Sizes are those that have a name.
var Sizes = map[string]Size{"full": Full, "tenth": Full.Over(10), "hundredth": Full.Over(100)}

// filledSetting notes that a store was filled, so that one that is kept is filled once.
const filledSetting = "demo-filled"

// Fill adds as much as a size says to what the demo holds: people with links, groups, accounts and assignments,
// applications that are copies of Crew Rota and Cargo Ledger and sign in with copies of Saltmere Staff, sessions, grants,
// tokens, traces, counts, and a history. Everything is as the gate itself would have written it, except that copies share
// what they are copied from: keys, and the content of traces. A store that was filled before stays as it is.
func (w *World) Fill(ctx context.Context, size Size, say func(string)) error {
	f := &filler{World: w, size: size, now: time.Now().UTC().Truncate(time.Second)}
	done, err := store.One[store.Setting](w.store.Read(ctx), "name = ?", filledSetting)
	if err != nil || done.Name != "" {
		return err
	}
	// Indexes are written all over: meanwhile more of them is held in memory.
	if err := f.holdPages(ctx, 500); err != nil {
		return err
	}
	defer f.holdPages(ctx, 2)
	for _, step := range []struct {
		what string
		fill func(context.Context) error
	}{
		{"providers and applications", f.partners}, {"people", f.people}, {"sessions", f.sessions}, {"grants and tokens", f.grants},
		{"traces", f.traces}, {"history and journal", f.history},
	} {
		begin := time.Now()
		if err := step.fill(ctx); err != nil {
			return fmt.Errorf("the demo can't be filled with %s: %w", step.what, err)
		}
		say(fmt.Sprintf("%s (%.1f s)", step.what, time.Since(begin).Seconds()))
	}
	if err := errors.Join(w.store.Analyze(ctx), w.store.Traces.Analyze(ctx)); err != nil {
		return err
	}
	return w.store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Create(&store.Setting{Name: filledSetting, Value: ground.MustJSON(size)}).Error; err != nil {
			return err
		}
		return store.Changed(tx)
	})
}

type filler struct {
	*World
	size Size
	now  time.Time
}

// holdPages says how many MiB of each file the writing connection holds in memory.
func (f *filler) holdPages(ctx context.Context, mib int) error {
	for _, write := range []writing{f.store.Write, f.store.Traces.Write} {
		if err := write(ctx, func(tx *gorm.DB) error {
			return tx.Exec(fmt.Sprintf("PRAGMA cache_size = %d", -mib*1024)).Error
		}); err != nil {
			return err
		}
	}
	return nil
}

// part is how many rows a transaction writes.
const part = 20_000

// by runs a statement that makes rows from the numbers n(i), for the numbers from 1 to count. It has the two bounds of a
// part as its first arguments.
func (f *filler) by(ctx context.Context, count int, text string, args ...any) error {
	const numbers = "WITH RECURSIVE n(i) AS (SELECT ? + 1 UNION ALL SELECT i + 1 FROM n WHERE i < ?) "
	at := strings.Index(text, "SELECT")
	for from := 0; from < count; from += part {
		bounds := []any{from, min(from+part, count)}
		if err := f.store.Write(ctx, func(tx *gorm.DB) error {
			_, err := store.Exec(tx, text[:at]+numbers+text[at:], append(bounds, args...)...)
			return err
		}); err != nil {
			return fmt.Errorf("%s: %w", text[:at], err)
		}
	}
	return nil
}

// rows writes rows that are made here.
func (f *filler) rows(ctx context.Context, count int, table, columns string, row func(i int) []any) error {
	return rowsTo(ctx, f.store.Write, count, table, columns, row)
}

// writing is how one of the store's files is written.
type writing func(context.Context, func(*gorm.DB) error) error

func rowsTo(ctx context.Context, write writing, count int, table, columns string, row func(i int) []any) error {
	const together = 50
	width := strings.Count(columns, ",") + 1
	one := "(" + strings.TrimSuffix(strings.Repeat("?, ", width), ", ") + ")"
	for from := 0; from < count; from += part {
		if err := write(ctx, func(tx *gorm.DB) error {
			until := min(from+part, count)
			for i := from; i < until; {
				n := min(together, until-i)
				args := make([]any, 0, n*width)
				for range n {
					args = append(args, row(i)...)
					i++
				}
				values := strings.TrimSuffix(strings.Repeat(one+", ", n), ", ")
				if _, err := store.Exec(tx, "INSERT INTO "+table+" ("+columns+") VALUES "+values, args...); err != nil {
					return err
				}
			}
			return nil
		}); err != nil {
			return fmt.Errorf("%s: %w", table, err)
		}
	}
	return nil
}

// appID, personID and providerID are those of the copies, from 1 on.
func appID(i int) string      { return fmt.Sprintf("01A%023d", i) }
func personID(i int) string   { return fmt.Sprintf("01F%023d", i) }
func providerID(i int) string { return fmt.Sprintf("01B%023d", i) }

// spread maps the numbers from 0 on to those from 1 to n, without an order that one would notice.
func spread(i, n int) int { return 1 + (i*7919)%n }

func (f *filler) partners(ctx context.Context) error {
	const object = "(id, slug, name, kind, reach, entity_id, body, revision, created_at, updated_at) "
	if err := f.by(ctx, f.size.Providers, "INSERT INTO providers "+object+
		"SELECT printf('01B%023d', i), 'port-' || i, 'Port Office ' || i, kind, reach, 'https://port-' || i || '.example/saml', "+
		"json_set(replace(body, entity_id, 'https://port-' || i || '.example/saml'), '$.slug', 'port-' || i, '$.name', "+
		"'Port Office ' || i, '$.matching.domains', json_array('port-' || i || '.example')), 1, created_at, updated_at FROM n, "+
		"(SELECT * FROM providers WHERE slug = 'saltmere-staff')"); err != nil {
		return err
	}
	// Eight in ten are SAML applications, the others speak OpenID Connect.
	for _, like := range []struct{ slug, which, entity string }{
		{"crew-rota", "i % 5 <> 0", "'https://berth-' || i || '.example/saml'"}, {"cargo-ledger", "i % 5 = 0", "'berth-' || i"},
	} {
		if err := f.by(ctx, f.size.Applications, "INSERT INTO applications "+object+
			"SELECT printf('01A%023d', i), 'berth-' || i, 'Berth ' || i, kind, CASE WHEN i % 40 = 0 THEN 'off' ELSE reach END, "+
			""+like.entity+
			", json_set(replace(body, entity_id, "+like.entity+"), '$.slug', 'berth-' || i, '$.name', 'Berth ' || i, '$.contact', "+
			"'team-' || (i % 50) || '@saltmere.example', '$.providers', json_array('saltmere-staff', 'port-' || (1 + i % ?))), 1, "+
			"created_at, "+
			""+
			"updated_at FROM n, (SELECT * FROM applications WHERE slug = '"+like.slug+"') WHERE "+like.which,
			f.size.Providers); err != nil {
			return err
		}
	}
	return f.beside(ctx)
}

// beside copies what is kept beside partners for finding.
func (f *filler) beside(ctx context.Context) error {
	for _, side := range []struct {
		kind, mark, like string
		count            int
	}{{"provider", "01B", "saltmere-staff", f.size.Providers}, {"application", "01A", "crew-rota", f.size.Applications}} {
		id := "printf('" + side.mark + "%023d', i)"
		if err := f.by(ctx, side.count, "INSERT INTO trusted_certificates (owner_kind, owner_id, fingerprint, use, subject, kind, "+
			"not_before, not_after, held_since, origin) SELECT owner_kind, "+id+", fingerprint, use, subject, kind, not_before, "+
			"not_after, held_since, origin FROM n, (SELECT * FROM trusted_certificates WHERE owner_id = (SELECT id FROM "+side.kind+
			"s WHERE slug = '"+side.like+"')) WHERE EXISTS (SELECT 1 FROM "+side.kind+"s o WHERE o.id = "+id+
			" AND o.kind = 'saml')"); err != nil {
			return err
		}
	}
	return nil
}

// names are put together from these, so that lists look as they do in a company.
var (
	givenNames = []string{"Ada", "Bo", "Callum", "Dagny", "Eskil", "Fenna", "Gro", "Henk", "Ines", "Jory", "Kaja", "Lino", "Mira", "Nils",
		"Orla", "Petra", "Quin", "Runa", "Siv", "Tove", "Una", "Vidar", "Wren", "Ylva", "Zoë"}
	familyNames = []string{"Aasen", "Brae", "Carrow", "Dunn", "Eikeland", "Fell", "Gale", "Holt", "Ibsen", "Jarrow", "Kern", "Lund", "Moor",
		"Nesbit", "Öberg", "Pell", "Quist", "Rask", "Strand", "Tarn", "Ulvang", "Voss", "Wick", "Yarrow", "Zander"}
)

func (f *filler) people(ctx context.Context) error {
	if err := f.by(ctx, f.size.Groups, "INSERT INTO groups (id, slug, name, description, created_at, updated_at) SELECT "+
		"printf('01C%023d', i), 'watch-' || i, 'Watch ' || i, '', ?, ? FROM n", f.now, f.now); err != nil {
		return err
	}
	if err := f.rows(ctx, f.size.People, "people", "id, name, email, active, profile, sources, type, username, username_key, external_id, "+
		"external_key, email_key, name_key, last_key, created_at, updated_at", func(i int) []any {
		given, family := givenNames[i%len(givenNames)], familyNames[i/len(givenNames)%len(familyNames)]
		user, number := fmt.Sprintf("u%d", i+1), fmt.Sprintf("x%d", i+1)
		profile := map[string][]string{"name": {given + " " + family}, "given_name": {given}, "family_name": {family},
			"email": {user + "@saltmere.example"}, "preferred_username": {user}, "external_id": {number}}
		p := store.Person{Name: given + " " + family}
		p.SetKeys(profile)
		kind := []string{"staff", "staff", "staff", "partner", "guest"}[i%5]
		return []any{personID(i + 1), p.Name, p.Email, i%50 != 0, ground.MustJSON(profile), "{}", kind, p.Username, p.UsernameKey,
			p.ExternalID, p.ExternalKey, p.EmailKey, p.NameKey, p.LastKey, f.now, f.now}
	}); err != nil {
		return err
	}
	many := f.size.People
	for _, stmt := range []struct {
		count int
		text  string
		args  []any
	}{
		// Six in ten come from one provider, the others from one of a thousand.
		{many, "INSERT INTO links (id, person_id, provider_id, subject, shown, first_used, last_used) SELECT printf('01D%023d', i), " +
			"printf('01F%023d', i), CASE WHEN i % 5 < 3 THEN (SELECT id FROM providers WHERE slug = 'saltmere-staff') ELSE " +
			"printf('01B%023d', 1 + i % ?) END, 'nameid' || char(31) || 'x' || i, 'x' || i, ?, ? FROM n",
			[]any{f.size.Providers, f.now, f.now}},
		{many, "INSERT INTO memberships (person_id, group_id, giver, at) SELECT printf('01F%023d', i), CASE WHEN i % 2 THEN (SELECT id " +
			"FROM " +
			"groups WHERE slug = 'crew') ELSE printf('01C%023d', 1 + i % ?) END, 'hand', ? FROM n", []any{f.size.Groups, f.now}},
		{many, "INSERT INTO accounts (application_id, person_id, subject, first_at, last_at) SELECT printf('01A%023d', 1 + (i * 7) % ?), " +
			"printf('01F%023d', i), 'u' || i, ?, ? FROM n", []any{f.size.Applications, f.now, f.now}},
		{many, "INSERT INTO subject_values (value, person_id, application_id, created_at) SELECT 'v' || (i * 7919 % 1000003) || '-' || " +
			"i, " +
			"" +
			"printf('01F%023d', i), printf('01A%023d', 1 + (i * 7) % ?), ? FROM n", []any{f.size.Applications, f.now}},
		{f.size.Applications, "INSERT INTO assignments (application_id, kind, who_id, roles, \"by\", at) SELECT printf('01A%023d', i), " +
			"'group', printf('01C%023d', 1 + i % ?), '[]', 'demo', ? FROM n", []any{f.size.Groups, f.now}},
		{f.size.Used, "INSERT INTO used_ids (issuer, value, expires_at) SELECT 'https://port-' || (i % 100) || '.example/saml', '_used' " +
			"|| " +
			"i, " +
			"? FROM n", []any{f.now.Add(time.Hour)}},
	} {
		if err := f.by(ctx, stmt.count, stmt.text, stmt.args...); err != nil {
			return err
		}
	}
	return nil
}

// sessions are of the last days, the newest last; a third of them has ended.
func (f *filler) sessions(ctx context.Context) error {
	ids := make([]string, f.size.Sessions)
	at := func(i int) time.Time {
		return f.now.Add(-time.Duration(len(ids)-i) * 8 * time.Hour / time.Duration(len(ids)))
	}
	for i := range ids {
		ids[i] = store.NewIDAt(at(i))
	}
	slices.Sort(ids)
	who := func(i int) int { return spread(i, f.size.People) }
	if err := f.rows(ctx, len(ids), "sessions", "id, token_hash, person_id, person, rehearsal_id, address, device, sealed, persistent, "+
		"created_at, last_used, expires_at, ended_at, ended_by", func(i int) []any {
		begun, p := at(i), who(i)-1
		var ended any
		by := ""
		if i%3 == 0 {
			ended, by = begun.Add(time.Minute), "signed out"
		}
		return []any{ids[i], []byte("demo" + ids[i]), personID(p + 1),
			givenNames[p%len(givenNames)] + " " + familyNames[p/len(givenNames)%len(familyNames)], "",
			fmt.Sprintf("192.0.2.%d", i%250), "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0",
			f.store.Sealer.Seal(store.PlaceSession, ids[i], []byte(`{"proofs":{}}`)), false, begun, f.now, begun.Add(12 * time.Hour), ended,
			by}
	}); err != nil {
		return err
	}
	if err := f.rows(ctx, len(ids), "session_proofs", "session_id, provider_id, subject, name_value, provider_session, strength, at",
		func(i int) []any {
			return []any{ids[i], providerID(spread(i, f.size.Providers)), fmt.Sprint("nameid\x1fx", who(i)), fmt.Sprint("x", who(i)), "",
				"one",
				at(i)}
		}); err != nil {
		return err
	}
	return f.rows(ctx, 2*len(ids), "session_uses", "session_id, application_id, name_value, session_index, name_id, first_at, last_at, "+
		"told",
		func(i int) []any {
			id, app := ids[i/2], appID(spread(i/2, f.size.Applications))
			if i%2 == 1 {
				app = appID(spread(i/2+1, f.size.Applications))
			}
			return []any{id, app, fmt.Sprint("u", who(i/2)), fmt.Sprint("_", id, i%2), "{}", at(i / 2), at(i / 2), ""}
		})
}

func (f *filler) grants(ctx context.Context) error {
	ids := make([]string, f.size.Grants)
	begun := f.now.Add(-8 * time.Hour)
	for i := range ids {
		ids[i] = store.NewIDAt(begun)
	}
	if err := f.rows(ctx, len(ids), "grants", "id, application_id, provider_id, provider_subject, provider_session, session_id, "+
		"person_id, "+
		"subject, trace_id, sealed, code_hash, code_ends, code_used_at, offline, rehearsal, created_at, expires_at, ended_by",
		func(i int) []any {
			p := spread(i, f.size.People)
			return []any{ids[i], appID(5 * max(1, spread(i, f.size.Applications)/5)), providerID(spread(i, f.size.Providers)),
				fmt.Sprint("nameid\x1fx", p), "", "", personID(p), fmt.Sprint("u", p), "", f.store.Sealer.Seal(store.PlaceGrant, ids[i],
					[]byte("{}")), []byte("demo" + ids[i]), begun, begun, i%10 == 0, false, begun, f.now.Add(24 * time.Hour), ""}
		}); err != nil {
		return err
	}
	return f.rows(ctx, f.size.Tokens, "tokens", "hash, grant_id, kind, scope, created_at, expires_at", func(i int) []any {
		kind := "access"
		if i%2 == 1 {
			kind = "refresh"
		}
		return []any{[]byte(fmt.Sprintf("demo%08d", spread(i, 1<<30))), ids[i/2%len(ids)], kind, "openid profile", begun,
			f.now.Add(12 * time.Hour)}
	})
}

// traces are copies of those that the demo's own sign-ins left, over the last 60 days.
func (f *filler) traces(ctx context.Context) error {
	good, bad, _, err := f.originals(ctx)
	if err != nil {
		return err
	}
	if len(good) == 0 { // nobody has signed in yet
		return f.counts(ctx)
	}
	if len(bad) == 0 {
		bad = good
	}
	ids := make([]string, f.size.Traces)
	at := func(i int) time.Time {
		return f.now.Add(-time.Duration(len(ids)-i) * 60 * 24 * time.Hour / time.Duration(len(ids)))
	}
	if err := rowsTo(ctx, f.store.Traces.Write, len(ids), "traces", "id, reference, application_id, provider_id, "+
		"application, provider, person_id, person, "+
		"flow, "+
		"outcome, code, rehearsal_id, subject, subject_shown, stranger, entries, started_at, micros", func(i int) []any {
		ids[i] = store.NewIDAt(at(i))
		o := good[i%len(good)]
		if i%50 == 0 {
			o = bad[i/50%len(bad)]
		}
		app, provider, p := spread(i, f.size.Applications), spread(i, f.size.Providers), spread(i, f.size.People)-1
		return []any{ids[i], trace.NewReference(), appID(app), providerID(provider), fmt.Sprint("Berth ", app),
			fmt.Sprint("Port Office ", provider), personID(p + 1),
			givenNames[p%len(givenNames)] + " " + familyNames[p/len(givenNames)%len(familyNames)], o.row.Flow, o.row.Outcome, o.row.Code,
			"",
			o.row.Subject, o.row.SubjectShown, false, f.store.Sealer.Seal(store.PlaceTrace, ids[i], o.packed), at(i), o.row.Micros}
	}); err != nil {
		return err
	}
	if err := rowsTo(ctx, f.store.Traces.Write, 4*len(ids), "trace_ids", "value, trace_id", func(i int) []any {
		return []any{fmt.Sprintf("_demo%08x", i*7919%(1<<31)), ids[i/4]}
	}); err != nil {
		return err
	}
	return f.counts(ctx)
}

// counts are those of 60 days, hour by hour.
func (f *filler) counts(ctx context.Context) error {
	hours := 60 * 24
	each := max(1, f.size.Counts/hours)
	return rowsTo(ctx, f.store.Traces.Write, min(f.size.Counts, each*hours), "sign_in_counts", "hour, "+
		"application_id, provider_id, outcome, code, count",
		func(i int) []any {
			hour := f.now.Truncate(time.Hour).Add(-time.Duration(1+i/each) * time.Hour)
			app := 1 + (i%each+i/each*31)%f.size.Applications
			outcome, code := traces.OutcomeSignedIn, ""
			if i%29 == 0 {
				outcome, code = traces.OutcomeRefused, "saml.expired"
			}
			return []any{hour, appID(app), providerID(1 + app%f.size.Providers), outcome, code, 1 + i%17}
		})
}

// history gives each application as many revisions as there are for it, each with its line in the journal.
func (f *filler) history(ctx context.Context) error {
	each := max(1, f.size.Revisions/f.size.Applications)
	if err := f.by(ctx, each*f.size.Applications, "INSERT INTO revisions (object_id, number, kind, slug, name, body, author, remark, at) "+
		"SELECT a.id, 1 + (n.i - 1) / ?, 'application', a.slug, a.name, json_set(a.body, '$.description', 'As of change ' || n.i), "+
		"'Fenna', 'change ' || n.i, ? FROM n JOIN applications a ON a.id = printf('01A%023d', 1 + (n.i - 1) % ?)",
		f.size.Applications, f.now, f.size.Applications); err != nil {
		return err
	}
	who := ground.Actor{Name: "Fenna", ID: "demo", From: "demo", Role: ground.RoleOwner}
	for from := 0; from < f.size.Revisions; from += part {
		if err := f.store.Write(ctx, func(tx *gorm.DB) error {
			for i := from; i < min(from+part, f.size.Revisions); i++ {
				app := 1 + i%f.size.Applications
				if err := ground.Journal(tx, f.now, who, "changed", "application", appID(app), fmt.Sprint("Berth ", app),
					fmt.Sprintf(`{"description":"As of change %d"}`, i), fmt.Sprintf(`{"description":"As of change %d"}`,
						i+1)); err != nil {
					return err
				}
			}
			return nil
		}); err != nil {
			return err
		}
	}
	return nil
}
