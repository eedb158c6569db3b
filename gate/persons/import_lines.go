package persons

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"innergate/api"
	"innergate/core/claims"
	"innergate/core/people"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/store"
)

// importer is one import at work.
type importer struct {
	g        *Room
	who      ground.Actor
	row      *store.ImportJob
	options  importOptions
	settings people.Settings
	write    bool
	groups   map[string]string // short name → ID
	problems []api.ImportProblem
	seen     map[string]int  // what people are known by → line
	logins   map[string]int  // sign-in names that the file gives → line
	left     map[string]bool // sign-in names that somebody in the file gives up
}

func (g *Room) importLines(ctx context.Context, who ground.Actor, row *store.ImportJob, options importOptions, write bool) error {
	settings, err := g.Settings(ctx)
	if err != nil {
		return err
	}
	f, err := os.Open(g.importFile(row.ID))
	if err != nil {
		return errors.New("the import's file is gone; begin it again")
	}
	defer f.Close()
	r, err := people.NewReader(f, row.Form)
	m := &importer{
		g:        g,
		who:      who,
		row:      row,
		options:  options,
		settings: settings,
		write:    write,
		groups:   map[string]string{},
		problems: []api.ImportProblem{},
		seen:     map[string]int{},
		logins:   map[string]int{},
		left:     map[string]bool{},
	}
	var wrong *people.LineError
	if errors.As(err, &wrong) {
		m.bad(wrong)
		row.Problems, row.State = ground.MustJSON(m.problems), ImportChecked
		return nil
	}
	if err != nil {
		return err
	}
	var all []store.Group
	if err := g.Store.Read(ctx).Find(&all).Error; err != nil {
		return store.Clear(err)
	}
	for _, one := range all {
		m.groups[one.Slug] = one.ID
	}
	skip := row.Lines // records that were written before a stop
	var batch []*people.Record
	count := 0
	for {
		if state, _ := g.importing.Load(row.ID); state == false {
			return nil
		}
		rec, err := r.Next()
		if err != nil && !errors.As(err, &wrong) && !errors.Is(err, io.EOF) {
			return err
		}
		end := errors.Is(err, io.EOF)
		if !end {
			if count++; count <= skip && write {
				continue
			}
			if err == nil {
				err = m.settings.CheckRecord(rec)
			}
			if err == nil {
				err = m.check(rec)
			}
			if errors.As(err, &wrong) {
				m.bad(wrong)
				rec = nil
			}
			batch = append(batch, rec)
		}
		if len(batch) == importBatch || end && len(batch) > 0 {
			row.Offset = min(r.Octets(), row.Size)
			begin := time.Now()
			if err := m.flush(ctx, batch); err != nil {
				return err
			}
			batch = batch[:0]
			if !end {
				time.Sleep(time.Since(begin)) // the writer, and the processor, are for others as long
			}
		}
		if end {
			break
		}
	}
	return m.finish(ctx)
}

func (m *importer) bad(e *people.LineError) {
	if m.write {
		return // they were told when the file was checked
	}
	if m.row.Bad++; len(m.problems) < importProblems {
		m.problems = append(m.problems, api.ImportProblem{Line: e.Line, Message: words.Capitalise(e.Err.Error()) + "."})
	}
}

// key is what a record is known by.
func (m *importer) key(r *people.Record) string {
	if m.options.By == "id" {
		return r.ID
	}
	return r.Profile.First(m.options.By)
}

func (m *importer) check(r *people.Record) error {
	key := m.key(r)
	if key == "" {
		return &people.LineError{Line: r.Line, Err: fmt.Errorf("it has no %s, by which people are known here", m.options.By)}
	}
	if first, again := m.seen[people.Key(key)]; again {
		return &people.LineError{Line: r.Line, Err: fmt.Errorf("%q stands in line %d already, or something that looks like it", key, first)}
	}
	m.seen[people.Key(key)] = r.Line
	for _, slug := range r.Groups {
		if m.groups[slug] == "" {
			return &people.LineError{Line: r.Line, Err: fmt.Errorf("there is no group with the short name %q", slug)}
		}
	}
	if r.PasswordHash != "" {
		if err := checkForeignHash(r.PasswordHash); err != nil {
			return &people.LineError{Line: r.Line, Err: err}
		}
	}
	if r.Login != "" && !ground.NameForm.MatchString(r.Login) {
		return &people.LineError{
			Line: r.Line,
			Err:  fmt.Errorf("%q can't be a sign-in name; it has 1 to 64 letters, digits, spaces, dots, dashes or @", r.Login),
		}
	}
	return nil
}

// finish ends a check or an import.
func (m *importer) finish(ctx context.Context) error {
	if !m.write {
		m.options.Checked = true
		m.row.State, m.row.Options, m.row.Problems = ImportChecked, ground.MustJSON(m.options), ground.MustJSON(m.problems)
		return nil
	}
	m.row.State = ImportDone
	_ = os.Remove(m.g.importFile(m.row.ID))
	return m.g.Store.Write(ctx, func(tx *gorm.DB) error {
		return ground.Journal(
			tx, m.g.Now(), m.who, "imported", "people", m.row.ID, fmt.Sprintf("%d people", m.row.Lines), "",
			fmt.Sprintf("%d created, %d changed, %d as they were", m.row.Created, m.row.Updated, m.row.Unchanged),
		)
	})
}

// planned is what a record would change.
type planned struct {
	record      *people.Record
	row, before store.Person
	held        bool
	changed     bool
	join, leave []string // IDs of groups
	hash        bool     // the password's hash is taken over
}

// flush works a batch out and writes it in one transaction, together with how far the import is, so that a stop loses
// and doubles nothing. A check only works it out.
func (m *importer) flush(ctx context.Context, batch []*people.Record) error {
	now := m.g.Now().UTC()
	before := *m.row
	if !m.write {
		if _, err := m.plan(m.g.Store.Read(ctx), batch, now); err != nil {
			return err
		}
		// Some are seen when a line is read, others when its batch is worked out.
		slices.SortStableFunc(m.problems, func(a, b api.ImportProblem) int { return a.Line - b.Line })
		m.row.Problems, m.row.UpdatedAt = ground.MustJSON(m.problems), now
		return m.g.saveImport(ctx, m.row)
	}
	return m.g.Store.Write(ctx, func(tx *gorm.DB) error {
		*m.row = before
		list, err := m.plan(tx, batch, now)
		if err != nil {
			return err
		}
		if err := m.apply(tx, list, now); err != nil {
			return err
		}
		m.row.UpdatedAt = now
		return tx.Save(m.row).Error
	})
}

// plan works out what a batch would change, with a few questions for the whole of it.
func (m *importer) plan(db *gorm.DB, batch []*people.Record, now time.Time) ([]*planned, error) {
	m.row.Lines += len(batch)
	batch = slices.DeleteFunc(slices.Clone(batch), func(r *people.Record) bool { return r == nil })
	known, err := m.known(db, batch)
	if err != nil {
		return nil, err
	}
	var list []*planned
	for _, r := range batch {
		p, err := m.one(r, known, now)
		var wrong *people.LineError
		if err != nil && !errors.As(err, &wrong) {
			return nil, err
		}
		if wrong != nil && m.write && !m.options.SkipBad {
			return nil, fmt.Errorf("line %d can't be written any more, although it could when it was checked: %w", wrong.Line, wrong.Err)
		}
		if wrong != nil {
			m.bad(wrong)
			continue
		}
		list = append(list, p)
	}
	return list, nil
}

// known is what the store holds of those whom a batch is about.
type known struct {
	people    map[string][]store.Person // by ID or folded key
	holders   map[string]store.Person   // by sign-in name
	groups    map[string][]string       // person → IDs of groups joined by hand
	passwords map[string]bool           // people who have one
}

func (m *importer) known(db *gorm.DB, batch []*people.Record) (*known, error) {
	k := &known{
		people:    map[string][]store.Person{},
		holders:   map[string]store.Person{},
		groups:    map[string][]string{},
		passwords: map[string]bool{},
	}
	column := "id"
	if m.options.By != "id" {
		column = keyColumns[m.options.By][0]
	}
	var keys, logins, ids []string
	for _, r := range batch {
		if key := m.key(r); column == "id" {
			keys = append(keys, key)
		} else {
			keys = append(keys, people.Key(key))
		}
		if r.Login != "" {
			logins = append(logins, people.Key(r.Login))
		}
	}
	var rows []store.Person
	if err := db.Where(column+" IN ?", keys).Order("id").Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	for _, p := range rows {
		key := map[string]string{"id": p.ID, "external_key": p.ExternalKey, "username_key": p.UsernameKey, "email_key": p.EmailKey}[column]
		k.people[key] = append(k.people[key], p)
		ids = append(ids, p.ID)
	}
	if len(logins) > 0 {
		rows = nil
		if err := db.Where("login IN ?", logins).Find(&rows).Error; err != nil {
			return nil, store.Clear(err)
		}
		for _, p := range rows {
			k.holders[LoginOf(&p)] = p
		}
	}
	if len(ids) == 0 {
		return k, nil
	}
	var joined []store.Membership
	if err := db.Where("person_id IN ? AND giver = ?", ids, people.ByHand).Find(&joined).Error; err != nil {
		return nil, store.Clear(err)
	}
	for _, j := range joined {
		k.groups[j.PersonID] = append(k.groups[j.PersonID], j.GroupID)
	}
	var owners []string
	if err := db.Model(&store.Credential{}).Where("person_id IN ? AND kind = 'password'", ids).Pluck("person_id",
		&owners).Error; err != nil {
		return nil, store.Clear(err)
	}
	for _, id := range owners {
		k.passwords[id] = true
	}
	return k, nil
}

// find finds whom a record means, exactly. What only looks alike is refused.
func (m *importer) find(r *people.Record, k *known) (*store.Person, error) {
	value := m.key(r)
	if m.options.By == "id" {
		if len(k.people[value]) == 0 {
			return nil, &people.LineError{Line: r.Line, Err: fmt.Errorf("there is no person with the ID %q", r.ID)}
		}
		return &k.people[value][0], nil
	}
	rows := k.people[people.Key(value)]
	switch {
	case len(rows) == 0:
		return nil, nil
	case len(rows) > 1:
		return nil, &people.LineError{
			Line: r.Line,
			Err:  fmt.Errorf("%s and %s both have %q, or something that looks like it", rows[0].Name, rows[1].Name, value),
		}
	}
	if held := map[string]string{people.ExternalID: rows[0].ExternalID, people.Username: rows[0].Username,
		people.Mail: rows[0].Email}[m.options.By]; held != value {
		return nil, &people.LineError{
			Line: r.Line,
			Err:  fmt.Errorf("%q differs from %q, which %s has, %s", value, held, rows[0].Name, people.Difference(held, value)),
		}
	}
	return &rows[0], nil
}

// one works out what a record changes.
func (m *importer) one(r *people.Record, k *known, now time.Time) (*planned, error) {
	held, err := m.find(r, k)
	if err != nil {
		return nil, err
	}
	p := &planned{
		record: r,
		held:   held != nil,
		row:    store.Person{Active: true, Type: m.settings.Types[0], CreatedAt: now, Profile: "{}", Sources: "{}"},
	}
	if held != nil {
		p.row = *held
	}
	p.before = p.row
	profile, err := ground.DecodeBody[claims.Bag](p.row.Profile)
	if err != nil {
		return nil, err
	}
	sources, err := ground.DecodeBody[map[string]string](p.row.Sources)
	if err != nil {
		return nil, err
	}
	for name, values := range r.Profile {
		if !slices.Equal(profile[name], values) {
			profile[name], sources[name] = values, people.ByHand
		}
	}
	if r.Type != "" {
		p.row.Type = r.Type
	}
	if r.Active != nil {
		p.row.Active = *r.Active
	}
	if p.row.Name = people.ShownName(profile, m.key(r)); p.held && len(r.Profile) == 0 {
		p.row.Name = p.before.Name
	}
	p.row.Profile, p.row.Sources = ground.MustJSON(profile), ground.MustJSON(sources)
	p.row.SetKeys(profile)
	if err := m.giveLogin(p, k); err != nil {
		return nil, err
	}
	p.changed = !p.held || p.row.Profile != p.before.Profile || p.row.Type != p.before.Type || p.row.Active != p.before.Active ||
		p.row.Name != p.before.Name ||
		LoginOf(&p.row) != LoginOf(&p.before)
	more := false
	if r.HasGroups {
		joined := k.groups[p.row.ID]
		var wanted []string
		for _, slug := range r.Groups {
			wanted = append(wanted, m.groups[slug])
		}
		for _, id := range wanted {
			if !slices.Contains(joined, id) && !slices.Contains(p.join, id) {
				p.join = append(p.join, id)
			}
		}
		for _, id := range joined {
			if !slices.Contains(wanted, id) {
				p.leave = append(p.leave, id)
			}
		}
		more = len(p.join) > 0 || len(p.leave) > 0
	}
	p.hash = r.PasswordHash != "" && !k.passwords[p.row.ID] // who has set one already keeps it
	switch {
	case !p.held:
		m.row.Created++
	case p.changed || more || p.hash:
		m.row.Updated++
	default:
		m.row.Unchanged++
	}
	return p, nil
}

// giveLogin gives the person the record's sign-in name, unless somebody else has it, in the store or earlier in the
// file.
func (m *importer) giveLogin(p *planned, k *known) error {
	if p.record.Login == "" {
		return nil
	}
	key := people.Key(p.record.Login)
	if key == "" {
		return &people.LineError{Line: p.record.Line, Err: fmt.Errorf("%q can't be a sign-in name", p.record.Login)}
	}
	if line, taken := m.logins[key]; taken {
		return &people.LineError{
			Line: p.record.Line,
			Err:  fmt.Errorf("line %d gives the sign-in name %s already, or one that looks like it", line, key),
		}
	}
	if other, taken := k.holders[key]; taken && (!p.held || other.ID != p.row.ID) && !m.left[key] {
		return &people.LineError{
			Line: p.record.Line,
			Err:  fmt.Errorf("%s signs in as %s, or as something that looks like it", other.Name, key),
		}
	}
	m.logins[key] = p.record.Line
	if old := LoginOf(&p.row); old != "" && old != key {
		m.left[old] = true
	}
	p.row.Login = &key
	return nil
}

// apply writes what was worked out. New rows go in together.
func (m *importer) apply(tx *gorm.DB, list []*planned, now time.Time) error {
	var made []*store.Person
	var joined []store.Membership
	var hashes []store.Credential
	for _, p := range list {
		if !p.held {
			p.row.ID, p.row.UpdatedAt = store.NewID(), now
			made = append(made, &p.row)
		} else if p.changed {
			p.row.UpdatedAt = now
			if err := tx.Save(&p.row).Error; err != nil {
				return err
			}
		}
		if p.held && p.before.Active && !p.row.Active {
			if err := EndOf(tx, p.row.ID, "the person was deactivated", now); err != nil {
				return err
			}
		}
		for _, id := range p.join {
			joined = append(joined, store.Membership{PersonID: p.row.ID, GroupID: id, Giver: people.ByHand, At: now})
		}
		if len(p.leave) > 0 {
			if err := tx.Exec("DELETE FROM memberships WHERE person_id = ? AND giver = ? AND group_id IN ?", p.row.ID, people.ByHand,
				p.leave).Error; err != nil {
				return err
			}
		}
		if p.hash {
			hashes = append(
				hashes,
				store.Credential{ID: store.NewID(), PersonID: p.row.ID, Kind: "password", Secret: p.record.PasswordHash, CreatedAt: now},
			)
		}
	}
	if len(made) > 0 {
		if err := tx.CreateInBatches(made, 250).Error; err != nil {
			return err
		}
	}
	if len(joined) > 0 {
		if err := tx.Clauses(clause.OnConflict{DoNothing: true}).CreateInBatches(joined, 1000).Error; err != nil {
			return err
		}
	}
	if len(hashes) == 0 {
		return nil
	}
	return tx.CreateInBatches(hashes, 500).Error
}
