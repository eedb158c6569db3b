package persons

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/people"
	"innergate/core/words"
	"innergate/gate/ground"
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
	maxImport = 512 << 20
	// MaxPart is how many octets of a file come at once.
	MaxPart        = 2 << 20
	importBatch    = 100
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

func (g *Room) importFile(id string) string {
	return filepath.Join(g.Store.Folder, "import-"+id)
}

// NewImport opens an import. Its file is then sent in parts.
func (g *Room) NewImport(ctx context.Context, who ground.Actor, in api.NewImport) (*api.Import, error) {
	if in.Form != people.FormCSV && in.Form != people.FormLines {
		return nil, ground.BadRequest("form", fmt.Sprintf("%q is no form of a file; csv and jsonl are.", in.Form), "")
	}
	if in.By == "" {
		in.By = people.ExternalID
	}
	if !slices.Contains([]string{people.ExternalID, people.Mail, people.Username, "id"}, in.By) {
		return nil, ground.BadRequest(
			"by",
			fmt.Sprintf("People in a file can't be known by %q; external_id, email, preferred_username and id can be used.", in.By),
			"",
		)
	}
	now := g.Now().UTC()
	row := store.ImportJob{
		ID:        store.NewID(),
		State:     ImportOpen,
		By:        who.Name,
		SHA256:    in.SHA256,
		Form:      in.Form,
		Options:   ground.MustJSON(importOptions{By: in.By, SkipBad: in.SkipBad}),
		Problems:  "[]",
		StartedAt: now,
		UpdatedAt: now,
	}
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		// The same file with the same options, not finished: it is taken up again.
		if in.SHA256 != "" {
			var held store.ImportJob
			if err := tx.Where("sha256 = ? AND form = ? AND options LIKE ? AND state <> ? AND updated_at > ?", in.SHA256, in.Form,
				`%"by":"`+in.By+`"%`, ImportDone, now.Add(-importLife)).Order("id DESC").Limit(1).Find(&held).Error; err != nil {
				return err
			}
			if held.ID != "" {
				row = held
				options, err := ground.DecodeBody[importOptions](held.Options)
				if err != nil || options.SkipBad == in.SkipBad || options.Writing {
					return err
				}
				options.SkipBad = in.SkipBad
				row.Options = ground.MustJSON(options)
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

func (g *Room) importView(row *store.ImportJob) *api.Import {
	options, _ := ground.DecodeBody[importOptions](row.Options)
	v := &api.Import{
		ID:        row.ID,
		State:     row.State,
		By:        row.By,
		KnownBy:   options.By,
		Size:      row.Size,
		Lines:     row.Lines,
		Created:   row.Created,
		Updated:   row.Updated,
		Unchanged: row.Unchanged,
		Bad:       row.Bad,
		Problems:  []api.ImportProblem{},
		Note:      row.Note,
		Started:   row.StartedAt,
		Touched:   row.UpdatedAt,
		Checked:   options.Checked,
		Writing:   options.Writing,
	}
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

func (g *Room) importRow(ctx context.Context, id string) (*store.ImportJob, error) {
	var row store.ImportJob
	if err := g.Store.Read(ctx).Where("id = ?", id).Take(&row).Error; err != nil {
		return nil, ground.Missing(err, "import", id)
	}
	return &row, nil
}

// Import shows how one stands.
func (g *Room) Import(ctx context.Context, id string) (*api.Import, error) {
	row, err := g.importRow(ctx, id)
	if err == nil && row.State == ImportRunning {
		if _, alive := g.importing.Load(id); !alive { // it may have ended since the row was read
			row, err = g.importRow(ctx, id)
		}
	}
	if err != nil {
		return nil, err
	}
	return g.importView(row), nil
}

// Imports lists the newest.
func (g *Room) Imports(ctx context.Context) (*api.List[api.Import], error) {
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
func (g *Room) AddToImport(ctx context.Context, id string, at int64, part []byte) (*api.Import, error) {
	row, err := g.importRow(ctx, id)
	if err != nil {
		return nil, err
	}
	switch {
	case row.State != ImportOpen:
		return nil, ground.Conflict("import-closed", "The file of this import is complete already.", "Begin another import.")
	case len(part) > MaxPart || row.Size+int64(len(part)) > maxImport:
		return nil, ground.Problem(
			http.StatusRequestEntityTooLarge, "import-large", "The file is too large",
			"A part has at most 2 MiB, and a file 512 MiB.", "Import it in several files.",
		)
	case at+int64(len(part)) <= row.Size:
		return g.importView(row), nil
	case at != row.Size:
		return nil, ground.Conflict(
			"import-gap", fmt.Sprintf("The part begins at %d; %d octets are here.", at, row.Size),
			"Send the file from there.",
		)
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
		done := tx.Exec(
			"UPDATE import_jobs SET size = ?, updated_at = ? WHERE id = ? AND size = ?", at+int64(len(part)),
			g.Now().UTC(), id, at,
		)
		if done.Error == nil && done.RowsAffected == 0 {
			return ground.Conflict("import-gap", "Another part was sent at the same time.", "Send the file again from where it stands.")
		}
		return done.Error
	})
	if err != nil {
		return nil, err
	}
	return g.Import(ctx, id)
}

// RunImport looks at all lines, or writes them; it goes on in the background and can be asked about. Nothing is written
// while a line is bad, unless bad ones are to be skipped.
func (g *Room) RunImport(ctx context.Context, who ground.Actor, id string, write bool) (*api.Import, error) {
	row, err := g.importRow(ctx, id)
	if err != nil {
		return nil, err
	}
	options, err := ground.DecodeBody[importOptions](row.Options)
	if err != nil {
		return nil, err
	}
	switch {
	case row.State == ImportDone:
		return g.importView(row), nil
	case row.Size == 0:
		return nil, ground.BadRequest("import-empty", "The import has no file yet.", "Send the file first.")
	case write && !options.Checked:
		return nil, ground.Conflict(
			"import-unchecked", "The lines have not been looked at yet.",
			"Check the import first; it tells what would change.",
		)
	case write && row.Bad > 0 && !options.SkipBad:
		return nil, ground.Conflict(
			"import-bad", fmt.Sprintf("%d lines are bad, so nothing was written.", row.Bad),
			"Correct them, or begin an import that skips bad lines.",
		)
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
	row.State, row.Options, row.Note = ImportRunning, ground.MustJSON(options), ""
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
			work.State, work.Note = ImportStopped, words.Capitalise(err.Error())+"."
			g.Log.ErrorContext(ctx, "an import was stopped", "import", id, "error", err)
		}
		if err := g.saveImport(ctx, &work); err != nil {
			g.Log.ErrorContext(ctx, "an import's state could not be written", "import", id, "error", err)
		}
	}()
	return g.importView(row), nil
}

func (g *Room) saveImport(ctx context.Context, row *store.ImportJob) error {
	return g.Store.Write(ctx, func(tx *gorm.DB) error { return tx.Save(row).Error })
}

// CancelImport stops one and forgets its file. What was written stays.
func (g *Room) CancelImport(ctx context.Context, who ground.Actor, id string) error {
	if _, err := g.importRow(ctx, id); err != nil {
		return err
	}
	g.importing.CompareAndSwap(id, true, false) // the one at work sees it
	_ = os.Remove(g.importFile(id))
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Exec(
			"UPDATE import_jobs SET state = ?, note = ?, size = 0 WHERE id = ?", ImportDone,
			"It was cancelled by "+who.Name+".", id,
		).Error
	})
}

// Tidy forgets one-time links that are over, and files that nobody has gone on with for a week.
func (g *Room) Tidy(t *ground.Tidying) error {
	tx := t.Tx
	now := t.Now
	if err := tidyLinks(t); err != nil {
		return err
	}
	var rows []store.ImportJob
	if err := tx.Where("size > 0 AND state <> ? AND updated_at < ?", ImportDone, now.Add(-importLife)).Find(&rows).Error; err != nil {
		return err
	}
	for _, r := range rows {
		_ = os.Remove(g.importFile(r.ID))
	}
	return tx.Exec(
		"UPDATE import_jobs SET state = ?, size = 0, note = ? WHERE size > 0 AND state <> ? AND updated_at < ?",
		ImportDone, "It was left for a week, and its file was deleted.", ImportDone, now.Add(-importLife),
	).Error
}

// LoginOf is the name by which one of the gate's own people signs in; empty for others.
func LoginOf(p *store.Person) string {
	if p.Login == nil {
		return ""
	}
	return *p.Login
}
