package gate

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/claims"
	"innergate/core/people"
	"innergate/store"
)

// How an import stands.
const (
	ImportOpen    = "open"    // its file is being sent
	ImportRunning = "running" // it is read, checked or written
	ImportChecked = "checked" // all lines were looked at
	ImportStopped = "stopped" // it can be taken up again
	ImportDone    = "done"
)

const (
	maxImport      = 512 << 20
	maxImportPart  = 2 << 20
	importBatch    = 500
	importProblems = 200
	importLife     = 7 * 24 * time.Hour
)

// importOptions say how people in the file are known.
type importOptions struct {
	// By is external_id, email, preferred_username or id.
	By string `json:"by"`
	// SkipBad writes the good lines although others are bad.
	SkipBad bool `json:"skipBad,omitempty"`
	Checked bool `json:"checked,omitempty"`
	Writing bool `json:"writing,omitempty"`
}

func (g *Gate) importFile(id string) string {
	return filepath.Join(g.Store.Folder, "import-"+id)
}

// NewImport opens an import. Its file is then sent in parts.
func (g *Gate) NewImport(ctx context.Context, who Actor, in api.NewImport) (*api.Import, error) {
	if in.Form != people.FormCSV && in.Form != people.FormLines {
		return nil, badRequest("form", fmt.Sprintf("%q is no form of a file; csv and jsonl are.", in.Form), "")
	}
	if in.By == "" {
		in.By = people.ExternalID
	}
	if !slices.Contains([]string{people.ExternalID, people.Mail, people.Username, "id"}, in.By) {
		return nil, badRequest("by", fmt.Sprintf("People in a file can't be known by %q; external_id, email, preferred_username and id can be used.", in.By), "")
	}
	now := g.Now().UTC()
	row := store.ImportJob{ID: store.NewID(), State: ImportOpen, By: who.Name, SHA256: in.SHA256, Form: in.Form, Options: mustJSON(importOptions{By: in.By, SkipBad: in.SkipBad}), Problems: "[]", StartedAt: now, UpdatedAt: now}
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		// The same file with the same options, not finished: it is taken up again.
		if in.SHA256 != "" {
			var held store.ImportJob
			if err := tx.Where("sha256 = ? AND form = ? AND options LIKE ? AND state <> ? AND updated_at > ?", in.SHA256, in.Form, `%"by":"`+in.By+`"%`, ImportDone, now.Add(-importLife)).Order("id DESC").Limit(1).Find(&held).Error; err != nil {
				return err
			}
			if held.ID != "" {
				row = held
				options, err := decodeBody[importOptions](held.Options)
				if err != nil || options.SkipBad == in.SkipBad || options.Writing {
					return err
				}
				options.SkipBad = in.SkipBad
				row.Options = mustJSON(options)
				return tx.Exec("UPDATE import_jobs SET options = ? WHERE id = ?", row.Options, row.ID).Error
			}
		}
		if err := os.WriteFile(g.importFile(row.ID), nil, 0o600); err != nil {
			return fmt.Errorf("the import's file can't be made: %w", err)
		}
		return tx.Create(&row).Error
	})
	if err != nil {
		return nil, err
	}
	return g.importView(&row), nil
}

func (g *Gate) importView(row *store.ImportJob) *api.Import {
	options, _ := decodeBody[importOptions](row.Options)
	v := &api.Import{ID: row.ID, State: row.State, By: row.By, KnownBy: options.By, Size: row.Size, Lines: row.Lines, Created: row.Created, Updated: row.Updated, Unchanged: row.Unchanged, Bad: row.Bad, Problems: []api.ImportProblem{}, Note: row.Note, Started: row.StartedAt, Touched: row.UpdatedAt, Checked: options.Checked, Writing: options.Writing}
	_ = json.Unmarshal([]byte(row.Problems), &v.Problems)
	if row.Size > 0 {
		v.Percent = int(100 * row.Offset / row.Size)
	}
	if row.State == ImportDone || row.State == ImportChecked {
		v.Percent = 100
	}
	if row.State == ImportRunning {
		if _, alive := g.importing.Load(row.ID); !alive {
			v.State, v.Note = ImportStopped, "The service was stopped meanwhile; start it again to go on."
		}
	}
	return v
}

func (g *Gate) importRow(ctx context.Context, id string) (*store.ImportJob, error) {
	var row store.ImportJob
	if err := g.Store.Read(ctx).Where("id = ?", id).Take(&row).Error; err != nil {
		return nil, missing(err, "import", id)
	}
	return &row, nil
}

// Import shows how one stands.
func (g *Gate) Import(ctx context.Context, id string) (*api.Import, error) {
	row, err := g.importRow(ctx, id)
	if err != nil {
		return nil, err
	}
	return g.importView(row), nil
}

// Imports lists the newest.
func (g *Gate) Imports(ctx context.Context) (*api.List[api.Import], error) {
	var rows []store.ImportJob
	if err := g.Store.Read(ctx).Order("id DESC").Limit(20).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := &api.List[api.Import]{Items: []api.Import{}}
	for i := range rows {
		out.Items = append(out.Items, *g.importView(&rows[i]))
	}
	return out, nil
}

// AddToImport appends a part of the file, which begins at an offset. A part that is there already changes nothing.
func (g *Gate) AddToImport(ctx context.Context, id string, at int64, part []byte) (*api.Import, error) {
	row, err := g.importRow(ctx, id)
	if err != nil {
		return nil, err
	}
	switch {
	case row.State != ImportOpen:
		return nil, conflict("import-closed", "The file of this import is complete already.", "Begin another import.")
	case len(part) > maxImportPart || row.Size+int64(len(part)) > maxImport:
		return nil, problem(http.StatusRequestEntityTooLarge, "import-large", "The file is too large", "A part has at most 2 MiB, and a file 512 MiB.", "Import it in several files.")
	case at+int64(len(part)) <= row.Size:
		return g.importView(row), nil
	case at != row.Size:
		return nil, conflict("import-gap", fmt.Sprintf("The part begins at %d; %d octets are here.", at, row.Size), "Send the file from there.")
	}
	f, err := os.OpenFile(g.importFile(id), os.O_WRONLY, 0o600)
	if err != nil {
		return nil, fmt.Errorf("the import's file can't be opened: %w", err)
	}
	defer f.Close()
	if _, err := f.WriteAt(part, at); err != nil {
		return nil, fmt.Errorf("the import's file can't be written: %w", err)
	}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		done := tx.Exec("UPDATE import_jobs SET size = ?, updated_at = ? WHERE id = ? AND size = ?", at+int64(len(part)), g.Now().UTC(), id, at)
		if done.Error == nil && done.RowsAffected == 0 {
			return conflict("import-gap", "Another part was sent at the same time.", "Send the file again from where it stands.")
		}
		return done.Error
	})
	if err != nil {
		return nil, err
	}
	return g.Import(ctx, id)
}

// RunImport looks at all lines, or writes them; it goes on in the background and can be asked about. Nothing is written while a line is bad, unless bad ones are to be skipped.
func (g *Gate) RunImport(ctx context.Context, who Actor, id string, write bool) (*api.Import, error) {
	row, err := g.importRow(ctx, id)
	if err != nil {
		return nil, err
	}
	options, err := decodeBody[importOptions](row.Options)
	if err != nil {
		return nil, err
	}
	switch {
	case row.State == ImportDone:
		return g.importView(row), nil
	case row.Size == 0:
		return nil, badRequest("import-empty", "The import has no file yet.", "Send the file first.")
	case write && !options.Checked:
		return nil, conflict("import-unchecked", "The lines have not been looked at yet.", "Check the import first; it tells what would change.")
	case write && row.Bad > 0 && !options.SkipBad:
		return nil, conflict("import-bad", fmt.Sprintf("%d lines are bad, so nothing was written.", row.Bad), "Correct them, or begin an import that skips bad lines.")
	}
	if _, busy := g.importing.LoadOrStore(id, true); busy {
		return g.importView(row), nil
	}
	resumed := write && options.Writing
	options.Writing = write
	if write {
		if !resumed {
			row.Offset, row.Lines, row.Created, row.Updated, row.Unchanged = 0, 0, 0, 0, 0
		}
	} else {
		options.Checked = false
		row.Offset, row.Lines, row.Created, row.Updated, row.Unchanged, row.Bad, row.Problems = 0, 0, 0, 0, 0, 0, "[]"
	}
	row.State, row.Options, row.Note = ImportRunning, mustJSON(options), ""
	if err := g.saveImport(ctx, row); err != nil {
		g.importing.Delete(id)
		return nil, err
	}
	work := *row
	go func() {
		defer g.importing.Delete(id)
		ctx := context.WithoutCancel(ctx)
		err := g.importLines(ctx, who, &work, options, write)
		if state, _ := g.importing.Load(id); state == false {
			return // cancelled; that is written already
		}
		work.UpdatedAt = g.Now().UTC()
		if err != nil {
			work.State, work.Note = ImportStopped, capitalise(err.Error())+"."
			g.Log.ErrorContext(ctx, "an import was stopped", "import", id, "error", err)
		}
		if err := g.saveImport(ctx, &work); err != nil {
			g.Log.ErrorContext(ctx, "an import's state could not be written", "import", id, "error", err)
		}
	}()
	return g.importView(row), nil
}

func (g *Gate) saveImport(ctx context.Context, row *store.ImportJob) error {
	return g.Store.Write(ctx, func(tx *gorm.DB) error { return tx.Save(row).Error })
}

// CancelImport stops one and forgets its file. What was written stays.
func (g *Gate) CancelImport(ctx context.Context, who Actor, id string) error {
	if _, err := g.importRow(ctx, id); err != nil {
		return err
	}
	g.importing.CompareAndSwap(id, true, false) // the one at work sees it
	_ = os.Remove(g.importFile(id))
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Exec("UPDATE import_jobs SET state = ?, note = ?, size = 0 WHERE id = ?", ImportDone, "It was cancelled by "+who.Name+".", id).Error
	})
}

// importer is one import at work.
type importer struct {
	g        *Gate
	who      Actor
	row      *store.ImportJob
	options  importOptions
	settings people.Settings
	write    bool
	groups   map[string]string // short name → ID
	problems []api.ImportProblem
	seen     map[string]int // what people are known by → line
}

func (g *Gate) importLines(ctx context.Context, who Actor, row *store.ImportJob, options importOptions, write bool) error {
	settings, err := g.peopleSettings(ctx)
	if err != nil {
		return err
	}
	f, err := os.Open(g.importFile(row.ID))
	if err != nil {
		return errors.New("the import's file is gone; begin it again")
	}
	defer f.Close()
	r, err := people.NewReader(f, row.Form)
	m := &importer{g: g, who: who, row: row, options: options, settings: settings, write: write, groups: map[string]string{}, problems: []api.ImportProblem{}, seen: map[string]int{}}
	var wrong *people.LineError
	if errors.As(err, &wrong) {
		m.bad(wrong)
		row.Problems, row.State = mustJSON(m.problems), ImportChecked
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
			if err := m.flush(ctx, batch); err != nil {
				return err
			}
			batch = batch[:0]
		}
		if end {
			break
		}
	}
	return m.finish(ctx)
}

// tidyImports forgets files that nobody has gone on with for a week.
func (g *Gate) tidyImports(tx *gorm.DB, now time.Time) error {
	var rows []store.ImportJob
	if err := tx.Where("size > 0 AND state <> ? AND updated_at < ?", ImportDone, now.Add(-importLife)).Find(&rows).Error; err != nil {
		return err
	}
	for _, r := range rows {
		_ = os.Remove(g.importFile(r.ID))
	}
	return tx.Exec("UPDATE import_jobs SET state = ?, size = 0, note = ? WHERE size > 0 AND state <> ? AND updated_at < ?", ImportDone, "It was left for a week, and its file was deleted.", ImportDone, now.Add(-importLife)).Error
}

func (m *importer) bad(e *people.LineError) {
	if m.write {
		return // they were told when the file was checked
	}
	if m.row.Bad++; len(m.problems) < importProblems {
		m.problems = append(m.problems, api.ImportProblem{Line: e.Line, Message: capitalise(e.Err.Error()) + "."})
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
	if r.Login != "" && !nameForm.MatchString(r.Login) {
		return &people.LineError{Line: r.Line, Err: fmt.Errorf("%q can't be a sign-in name; it has 1 to 64 letters, digits, spaces, dots, dashes or @", r.Login)}
	}
	return nil
}

// flush writes a batch in one transaction, together with how far the import is, so that a stop loses and doubles nothing. A check takes the same way and takes back what it wrote.
func (m *importer) flush(ctx context.Context, batch []*people.Record) error {
	errChecked := errors.New("only checked")
	now := m.g.Now().UTC()
	before := *m.row
	err := m.g.Store.Write(ctx, func(tx *gorm.DB) error {
		*m.row = before
		m.row.Lines += len(batch)
		for _, r := range batch {
			if r == nil {
				continue
			}
			if err := m.one(tx, r, now); err != nil {
				var wrong *people.LineError
				if !errors.As(err, &wrong) {
					return err
				}
				if m.write {
					return fmt.Errorf("line %d can't be written any more, although it could when it was checked: %w", wrong.Line, wrong.Err)
				}
				m.bad(wrong)
			}
		}
		if !m.write {
			return errChecked
		}
		m.row.UpdatedAt = now
		return tx.Save(m.row).Error
	})
	if errors.Is(err, errChecked) {
		m.row.Problems, m.row.UpdatedAt = mustJSON(m.problems), now
		return m.g.saveImport(ctx, m.row)
	}
	return err
}

func (m *importer) one(tx *gorm.DB, r *people.Record, now time.Time) error {
	held, err := m.find(tx, r)
	if err != nil {
		return err
	}
	row := store.Person{Active: true, Type: m.settings.Types[0], CreatedAt: now, Profile: "{}", Sources: "{}"}
	if held != nil {
		row = *held
	}
	before := row
	profile, err := decodeBody[claims.Bag](row.Profile)
	if err != nil {
		return err
	}
	sources, err := decodeBody[map[string]string](row.Sources)
	if err != nil {
		return err
	}
	for name, values := range r.Profile {
		if !slices.Equal(profile[name], values) {
			profile[name], sources[name] = values, people.ByHand
		}
	}
	if r.Type != "" {
		row.Type = r.Type
	}
	if r.Active != nil {
		row.Active = *r.Active
	}
	if row.Name = shownName(profile, m.key(r)); held != nil && len(r.Profile) == 0 {
		row.Name = before.Name
	}
	row.Profile, row.Sources = mustJSON(profile), mustJSON(sources)
	row.SetKeys(profile)
	if r.Login != "" {
		if err := m.g.setLogin(tx, &row, r.Login); err != nil {
			return lineError(r, err)
		}
	}
	changed := held == nil || row.Profile != before.Profile || row.Type != before.Type || row.Active != before.Active || row.Name != before.Name || loginOf(&row) != loginOf(&before)
	if changed {
		row.UpdatedAt = now
		if err := writePerson(tx, &row); err != nil {
			return err
		}
		if before.Active && !row.Active && held != nil {
			if err := endOf(tx, row.ID, "the person was deactivated", now); err != nil {
				return err
			}
		}
	}
	if r.HasGroups {
		more, err := setGroups(tx, row.ID, r.Groups, now)
		if err != nil {
			return lineError(r, err)
		}
		changed = changed || len(more) > 0
	}
	if r.PasswordHash != "" {
		more, err := takeHash(tx, row.ID, r.PasswordHash, now)
		if err != nil {
			return err
		}
		changed = changed || more
	}
	switch {
	case held == nil:
		m.row.Created++
	case changed:
		m.row.Updated++
	default:
		m.row.Unchanged++
	}
	return nil
}

func loginOf(p *store.Person) string {
	if p.Login == nil {
		return ""
	}
	return *p.Login
}

func lineError(r *people.Record, err error) error {
	var p *api.Problem
	if errors.As(err, &p) {
		return &people.LineError{Line: r.Line, Err: errors.New(strings.TrimSuffix(p.Detail, "."))}
	}
	return err
}

// find finds whom a record means, exactly. What only looks alike is refused.
func (m *importer) find(tx *gorm.DB, r *people.Record) (*store.Person, error) {
	var rows []store.Person
	if m.options.By == "id" {
		if err := tx.Where("id = ?", r.ID).Limit(1).Find(&rows).Error; err != nil {
			return nil, err
		}
		if len(rows) == 0 {
			return nil, &people.LineError{Line: r.Line, Err: fmt.Errorf("there is no person with the ID %q", r.ID)}
		}
		return &rows[0], nil
	}
	value := m.key(r)
	columns := keyColumns[m.options.By]
	if err := tx.Where(columns[0]+" = ?", people.Key(value)).Limit(3).Find(&rows).Error; err != nil {
		return nil, err
	}
	switch {
	case len(rows) == 0:
		return nil, nil
	case len(rows) > 1:
		return nil, &people.LineError{Line: r.Line, Err: fmt.Errorf("%s and %s both have %q, or something that looks like it", rows[0].Name, rows[1].Name, value)}
	}
	if held := map[string]string{people.ExternalID: rows[0].ExternalID, people.Username: rows[0].Username, people.Mail: rows[0].Email}[m.options.By]; held != value {
		return nil, &people.LineError{Line: r.Line, Err: fmt.Errorf("%q differs from %q, which %s has, %s", value, held, rows[0].Name, people.Difference(held, value))}
	}
	return &rows[0], nil
}

// finish ends a check or an import.
func (m *importer) finish(ctx context.Context) error {
	if !m.write {
		m.options.Checked = true
		m.row.State, m.row.Options, m.row.Problems = ImportChecked, mustJSON(m.options), mustJSON(m.problems)
		return nil
	}
	m.row.State = ImportDone
	_ = os.Remove(m.g.importFile(m.row.ID))
	return m.g.Store.Write(ctx, func(tx *gorm.DB) error {
		return journal(tx, m.g.Now(), m.who, "imported", "people", m.row.ID, fmt.Sprintf("%d people", m.row.Lines), "", fmt.Sprintf("%d created, %d changed, %d as they were", m.row.Created, m.row.Updated, m.row.Unchanged))
	})
}
