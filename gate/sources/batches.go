package sources

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/address"
	"innergate/core/config"
	"innergate/core/files"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/traces"
	"innergate/store"
)

// How a row of a batch stands.
const (
	RowNew      = "new"      // nobody has looked yet
	RowReady    = "ready"    // it can be made
	RowValue    = "value"    // a value is missing
	RowDecision = "decision" // somebody has to choose
	RowNo       = "no"       // nothing can be made of it
	RowMade     = "made"
)

const (
	batchRows   = 1000
	batchText   = 32 << 20
	batchAtOnce = 4 // addresses that are fetched at the same time
	batchLife   = 30 * 24 * time.Hour
)

// NewBatch takes many partners at once: files, a list with addresses, or entities of a source. Nothing is made yet:
// each is understood and sorted first.
func (g *Room) NewBatch(ctx context.Context, who ground.Actor, in api.NewBatch) (*api.Batch, error) {
	if in.Side != "application" && in.Side != "provider" {
		return nil, ground.BadRequest("side", fmt.Sprintf("%q is no side; application and provider are.", in.Side), "")
	}
	now := g.Now().UTC()
	row := store.Batch{
		ID:        store.NewIDAt(now),
		Side:      in.Side,
		Common:    ground.MustJSON(in.Common),
		State:     "open",
		By:        who.Name,
		CreatedAt: now,
		UpdatedAt: now,
	}
	var rows []store.BatchRow
	var err error
	switch {
	case len(in.Files) > 0 && in.List == "" && in.Source == "":
		row.Source = words.Plural(len(in.Files), "file", "files")
		rows, err = batchOfFiles(in.Files)
	case in.List != "" && len(in.Files) == 0 && in.Source == "":
		row.Source = "a list"
		rows, err = batchOfList(in.List)
	case in.Source != "" && len(in.Files) == 0 && in.List == "":
		row.Source = "the source " + in.Source
		rows, err = g.batchOfSource(ctx, in)
	default:
		err = ground.BadRequest("batch", "A batch comes from files, from a list, or from a source: from one of them.", "")
	}
	if err != nil {
		return nil, err
	}
	switch {
	case len(rows) == 0 && in.Source != "":
		return nil, ground.BadRequest(
			"batch-empty",
			fmt.Sprintf(
				"The source %s holds no %s that fits.", in.Source,
				map[string]string{"application": "service provider", "provider": "identity provider"}[in.Side],
			),
			"If it was never read, refresh it first; else search for less.",
		)
	case len(rows) == 0:
		return nil, ground.BadRequest("batch-empty", "There is nothing in it.", "")
	case len(rows) > batchRows:
		return nil, ground.BadRequest(
			"batch-large", fmt.Sprintf("%d partners were given; %d can be taken at once.", len(rows), batchRows),
			"Take them in several turns.",
		)
	}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Where("updated_at < ?", now.Add(-batchLife)).Delete(&store.Batch{}).Error; err != nil {
			return err
		}
		if err := tx.Exec("DELETE FROM batch_rows WHERE batch_id NOT IN (SELECT id FROM batches)").Error; err != nil {
			return err
		}
		if err := tx.Create(&row).Error; err != nil {
			return err
		}
		for i := range rows {
			rows[i].BatchID, rows[i].Number = row.ID, i+1
			if rows[i].State == "" {
				rows[i].State = RowNew
			}
			rows[i].Notes = words.FirstOf(rows[i].Notes, "[]")
			if err := tx.Create(&rows[i]).Error; err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	g.lookAtBatch(ctx, row.ID)
	return g.Batch(ctx, row.ID)
}

func batchOfFiles(list []files.Text) ([]store.BatchRow, error) {
	var out []store.BatchRow
	total := 0
	for _, f := range list {
		if total += len(f.Text); total > batchText {
			return nil, ground.BadRequest(
				"batch-large", fmt.Sprintf("The files have more than %d MiB together.", batchText>>20),
				"Take them in several turns.",
			)
		}
		out = append(
			out,
			store.BatchRow{
				Label:    words.Clip(words.FirstOf(f.Name, fmt.Sprintf("file %d", len(out)+1)), 300),
				Document: traces.Packer().EncodeAll([]byte(f.Text), nil),
				Values:   "{}",
			},
		)
	}
	return out, nil
}

func batchOfList(text string) ([]store.BatchRow, error) {
	entries, err := files.ReadList(text)
	if err != nil {
		return nil, ground.BadRequest("list", words.Capitalise(err.Error())+".", "")
	}
	var out []store.BatchRow
	for _, e := range entries {
		v := api.BatchValues{
			Name:        e.Values["name"],
			Slug:        e.Values["short_name"],
			Description: e.Values["description"],
			Contact:     e.Values["contact"],
			StartURL:    e.Values["start_url"],
			EntityID:    e.Values["entity_id"],
		}
		v.Providers = strings.FieldsFunc(e.Values["providers"], func(r rune) bool { return r == ' ' || r == '|' || r == '+' })
		row := store.BatchRow{Label: fmt.Sprintf("line %d", e.Line), URL: e.Values["url"], Values: ground.MustJSON(v)}
		if v.Name != "" {
			row.Label += ", " + v.Name
		}
		if e.Wrong == "" && row.URL == "" {
			e.Wrong = "it names no address"
		} else if e.Wrong == "" && address.Origin(row.URL) == "" {
			e.Wrong = fmt.Sprintf("%q is no http or https address", words.Clip(row.URL, 100))
		}
		if e.Wrong != "" {
			row.State, row.Notes = RowNo, ground.MustJSON([]string{words.Capitalise(e.Wrong) + "."})
		}
		out = append(out, row)
	}
	return out, nil
}

func (g *Room) batchOfSource(ctx context.Context, in api.NewBatch) ([]store.BatchRow, error) {
	source, _, err := g.sourceRow(ctx, in.Source)
	if err != nil {
		return nil, err
	}
	db := g.Store.Read(ctx).
		Model(&store.SourceEntity{}).
		Where("source_id = ? AND roles LIKE ?", source.ID, "%"+map[string]string{"application": "sp", "provider": "idp"}[in.Side]+"%")
	if len(in.Entities) > 0 {
		db = db.Where("entity_id IN ?", in.Entities[:min(len(in.Entities), batchRows)])
	}
	if in.Search != "" {
		like := "%" + strings.NewReplacer("%", "", "_", "").Replace(in.Search) + "%"
		db = db.Where("entity_id LIKE ? OR display_name LIKE ?", like, like)
	}
	var entities []store.SourceEntity
	if err := db.Order("entity_id").Limit(batchRows + 1).Find(&entities).Error; err != nil {
		return nil, store.Clear(err)
	}
	var out []store.BatchRow
	for _, e := range entities {
		out = append(
			out,
			store.BatchRow{
				Label:  words.FirstOf(e.DisplayName, e.EntityID),
				URL:    "source:" + in.Source,
				Values: ground.MustJSON(api.BatchValues{EntityID: e.EntityID}),
			},
		)
	}
	return out, nil
}

// lookAtBatch looks at all rows that nobody has looked at, in the background.
func (g *Room) lookAtBatch(ctx context.Context, id string) {
	if _, busy := g.batching.LoadOrStore(id, true); busy {
		return
	}
	ctx = context.WithoutCancel(ctx)
	go func() {
		defer g.batching.Delete(id)
		var row store.Batch
		var rows []store.BatchRow
		if err := g.Store.Read(ctx).Where("id = ?", id).Take(&row).Error; err != nil {
			return
		}
		if err := g.Store.Read(ctx).Where("batch_id = ? AND state = ?", id, RowNew).Order("number").Find(&rows).Error; err != nil {
			g.Log.ErrorContext(ctx, "a batch could not be looked at", "batch", id, "error", err)
			return
		}
		work := make(chan *store.BatchRow)
		var all sync.WaitGroup
		for range batchAtOnce {
			all.Add(1)
			go func() {
				defer all.Done()
				for r := range work {
					g.judgeRow(ctx, &row, r)
					if err := g.Store.Write(ctx, func(tx *gorm.DB) error { return saveRow(tx, r) }); err != nil {
						g.Log.ErrorContext(ctx, "a row of a batch could not be kept", "batch", id, "error", err)
					}
				}
			}()
		}
		for i := range rows {
			work <- &rows[i]
		}
		close(work)
		all.Wait()
	}()
}

func saveRow(tx *gorm.DB, r *store.BatchRow) error {
	return tx.Model(&store.BatchRow{}).
		Where("batch_id = ? AND number = ?", r.BatchID, r.Number).
		Updates(map[string]any{"state": r.State, "body": r.Body, "notes": r.Notes, "document": r.Document, "label": r.Label,
			"values": r.Values, "slug": r.Slug, "skip": r.Skip}).
		Error
}

func (g *Room) batchRow(ctx context.Context, id string) (*store.Batch, error) {
	var row store.Batch
	if err := g.Store.Read(ctx).Where("id = ?", id).Take(&row).Error; err != nil {
		return nil, ground.Missing(err, "batch", id)
	}
	return &row, nil
}

// Batch shows one with its rows. While rows are looked at, Looking says so; one that a restart left lying is taken up
// again.
func (g *Room) Batch(ctx context.Context, id string) (*api.Batch, error) {
	row, err := g.batchRow(ctx, id)
	if err != nil {
		return nil, err
	}
	var rows []store.BatchRow
	if err := g.Store.Read(ctx).Omit("document").Where("batch_id = ?", id).Order("number").Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := &api.Batch{
		ID:      row.ID,
		Side:    row.Side,
		From:    row.Source,
		State:   row.State,
		By:      row.By,
		Created: row.CreatedAt,
		Counts:  map[string]int{},
		Rows:    []api.BatchRow{},
	}
	if out.Common, err = ground.DecodeBody[api.BatchCommon](words.FirstOf(row.Common, "{}")); err != nil {
		return nil, err
	}
	twins := twinRows(row.Side, rows)
	for _, r := range rows {
		v, err := ground.DecodeBody[api.BatchValues](words.FirstOf(r.Values, "{}"))
		if err != nil {
			return nil, err
		}
		notes, err := ground.DecodeBody[[]string](words.FirstOf(r.Notes, "[]"))
		if err != nil {
			return nil, err
		}
		if twin := twins[r.Number]; twin != "" {
			r.State, notes = RowDecision, append([]string{twin}, notes...)
		}
		one := api.BatchRow{
			Number: r.Number,
			Label:  r.Label,
			URL:    r.URL,
			State:  r.State,
			Notes:  words.List(notes),
			Values: v,
			Slug:   r.Slug,
			Skip:   r.Skip,
		}
		if r.Body != "" {
			body, err := ground.DecodeBody[struct {
				Name      string   `json:"name"`
				StartURL  string   `json:"startUrl"`
				Providers []string `json:"providers"`
			}](r.Body)
			if err != nil {
				return nil, err
			}
			one.Name, one.StartURL, one.Providers = body.Name, body.StartURL, body.Providers
		}
		out.Rows = append(out.Rows, one)
		out.Counts[r.State]++
	}
	if out.Counts[RowNew] > 0 {
		out.Looking = true
		g.lookAtBatch(ctx, id)
	}
	return out, nil
}

// ChangeBatch changes what holds for all rows, or the values of some; what is concerned is looked at anew.
func (g *Room) ChangeBatch(ctx context.Context, who ground.Actor, id string, in api.ChangeBatch) (*api.Batch, error) {
	row, err := g.batchRow(ctx, id)
	if err != nil {
		return nil, err
	}
	if row.State != "open" {
		return nil, ground.Conflict("batch-over", "This batch was made already.", "Begin another one.")
	}
	if in.Common != nil {
		row.Common = ground.MustJSON(in.Common)
	}
	var rows []store.BatchRow
	if err := g.Store.Read(ctx).Where("batch_id = ?", id).Order("number").Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	for i := range rows {
		r := &rows[i]
		at := slices.IndexFunc(in.Rows, func(c api.BatchRowChange) bool { return c.Number == r.Number })
		if at >= 0 {
			if in.Rows[at].Values != nil {
				r.Values = ground.MustJSON(in.Rows[at].Values)
			}
			r.Skip = in.Rows[at].Skip
		}
		if at >= 0 || in.Common != nil {
			g.judgeRow(ctx, row, r)
		}
	}
	if err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Model(&store.Batch{}).Where("id = ?", id).Updates(map[string]any{"common": row.Common,
			"updated_at": g.Now().UTC()}).Error; err != nil {
			return err
		}
		for i := range rows {
			if err := saveRow(tx, &rows[i]); err != nil {
				return err
			}
		}
		return nil
	}); err != nil {
		return nil, err
	}
	return g.Batch(ctx, id)
}

// MakeBatch makes drafts of everything that is ready and not left out, in one transaction: all of them or none.
func (g *Room) MakeBatch(ctx context.Context, who ground.Actor, id string) (*api.Batch, error) {
	row, err := g.batchRow(ctx, id)
	if err != nil {
		return nil, err
	}
	who.Remark = words.FirstOf(who.Remark, "many at once, from "+row.Source)
	now := g.Now().UTC()
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		var rows []store.BatchRow
		if err := tx.Where("batch_id = ? AND NOT skip", id).Order("number").Find(&rows).Error; err != nil {
			return err
		}
		twins := twinRows(row.Side, rows)
		rows = slices.DeleteFunc(rows, func(r store.BatchRow) bool { return r.State != RowReady || twins[r.Number] != "" })
		if len(rows) == 0 {
			return ground.Conflict("batch-none", "Nothing in the batch is ready.", "Enter what is missing first.")
		}
		for i := range rows {
			r := &rows[i]
			if err := g.makeRow(tx, now, who, row.Side, r); err != nil {
				var p *api.Problem
				if !errors.As(err, &p) {
					return err
				}
				return ground.Problem(
					http.StatusConflict, "batch-failed", "Nothing was made", r.Label+": "+p.Detail,
					words.FirstOf(p.Remedy, "Mend this row or leave it out, and make the batch again."),
				)
			}
			r.State = RowMade
			if err := saveRow(tx, r); err != nil {
				return err
			}
		}
		var left int64
		if err := tx.Model(&store.BatchRow{}).Where("batch_id = ? AND state IN ?", id,
			[]string{RowValue, RowDecision, RowNew}).Count(&left).Error; err != nil {
			return err
		}
		state := "open"
		if left == 0 && len(twins) == 0 {
			state = "made"
		}
		return tx.Model(&store.Batch{}).Where("id = ?", id).Updates(map[string]any{"state": state, "updated_at": now}).Error
	})
	if err != nil {
		return nil, err
	}
	return g.Batch(ctx, id)
}

func (g *Room) makeRow(tx *gorm.DB, now time.Time, who ground.Actor, side string, r *store.BatchRow) error {
	var id string
	if side == "application" {
		a, err := ground.DecodeBody[config.Application](r.Body)
		if err != nil {
			return err
		}
		if err := g.configuration.WriteApplication(tx, now, who, "", a, 0); err != nil {
			return err
		}
	} else {
		p, err := ground.DecodeBody[config.Provider](r.Body)
		if err != nil {
			return err
		}
		if err := g.configuration.WriteProvider(tx, now, who, "", p, 0); err != nil {
			return err
		}
	}
	if err := tx.Raw("SELECT id FROM "+side+"s WHERE slug = ?", r.Slug).Scan(&id).Error; err != nil || len(r.Document) == 0 {
		return err
	}
	doc, err := traces.Unpacker().DecodeAll(r.Document, nil)
	if err != nil {
		return err
	}
	d := g.watch.Document(side, id, r.URL, doc)
	d.Verdict, d.DecidedBy, d.DecidedAt, d.Changes = "used", who.Name, &now, "[]"
	return g.watch.KeepVersion(tx, d)
}

// DropBatch forgets one. What it made stays.
func (g *Room) DropBatch(ctx context.Context, who ground.Actor, id string) error {
	if _, err := g.batchRow(ctx, id); err != nil {
		return err
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Where("batch_id = ?", id).Delete(&store.BatchRow{}).Error; err != nil {
			return err
		}
		return tx.Where("id = ?", id).Delete(&store.Batch{}).Error
	})
}

// Batches lists the newest.
func (g *Room) Batches(ctx context.Context) (*api.List[api.BatchLine], error) {
	var rows []store.Batch
	if err := g.Store.Read(ctx).Order("id DESC").Limit(30).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := &api.List[api.BatchLine]{Items: []api.BatchLine{}}
	for _, r := range rows {
		l := api.BatchLine{ID: r.ID, Side: r.Side, From: r.Source, State: r.State, By: r.By, Created: r.CreatedAt}
		if err := g.Store.Read(ctx).Raw("SELECT count(*), coalesce(sum(state = 'made'), 0) FROM batch_rows WHERE batch_id = ?",
			r.ID).Row().Scan(&l.Rows, &l.Made); err != nil {
			return nil, store.Clear(err)
		}
		out.Items = append(out.Items, l)
	}
	return out, nil
}
