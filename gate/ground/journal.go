package ground

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	chain "innergate/core/journal"
	"innergate/core/redact"
	"innergate/core/words"
	"innergate/store"
)

// Journal appends one line. It is the only place that does. Each line's hash covers the one before, so that a line
// can't be changed or taken out unseen.
func Journal(tx *gorm.DB, now time.Time, who Actor, action, kind, id, name, before, after string) error {
	e := store.JournalEntry{
		At:       now.UTC().Truncate(time.Millisecond),
		Who:      who.Name,
		WhoID:    who.ID,
		From:     who.From,
		Action:   action,
		Kind:     kind,
		ObjectID: id,
		Object:   name,
		Before:   before,
		After:    after,
	}
	if err := store.RowIn(tx, "SELECT hash FROM journal_entries ORDER BY number DESC LIMIT 1").Scan(&e.Previous); err != nil &&
		!errors.Is(err, sql.ErrNoRows) {
		return err
	}
	e.Hash = lineOf(&e).Sum()
	_, err := store.Exec(
		tx,
		"INSERT INTO journal_entries (at, who, who_id, `from`, action, kind, object_id, object, `before`, `after`, previous, hash) "+
			"VALUES (?, "+
			"?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
		e.At,
		e.Who,
		e.WhoID,
		e.From,
		e.Action,
		e.Kind,
		e.ObjectID,
		e.Object,
		e.Before,
		e.After,
		e.Previous,
		e.Hash,
	)
	return err
}

func lineOf(e *store.JournalEntry) *chain.Line {
	return &chain.Line{
		Number:   e.Number,
		At:       e.At.UTC(),
		Who:      e.Who,
		WhoID:    e.WhoID,
		From:     e.From,
		Action:   e.Action,
		Kind:     e.Kind,
		ObjectID: e.ObjectID,
		Object:   e.Object,
		Before:   e.Before,
		After:    e.After,
		Previous: e.Previous,
		Hash:     e.Hash,
	}
}

// Taken leaves a line in the journal that somebody took out much at once: what is its kind and name. Who goes on with the
// same within a little while, as where it comes in parts, leaves one line.
func (g *Ground) Taken(ctx context.Context, who Actor, kind, name string) error {
	last, err := store.One[store.JournalEntry](g.Store.Read(ctx).Order("number DESC"), "1 = 1")
	if err != nil {
		return err
	}
	if last.Action == "exported" && last.Kind == kind && last.Object == name && last.WhoID == who.ID && last.From == who.From &&
		g.Now().Sub(last.At) < takenTogether {
		return nil
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		return Journal(tx, g.Now(), who, "exported", kind, "", name, "", "")
	})
}

const takenTogether = 10 * time.Minute

// verifyLimit is how long checking the journal may take.
const verifyLimit = 5 * time.Minute

// VerifyJournal walks the whole journal and names the first line that does not fit the one before. Has, unless empty,
// is a hash that was noted before, and must be among those of the lines: that way nobody can have cut the end off.
func (g *Ground) VerifyJournal(ctx context.Context, has string) (*api.JournalVerdict, error) {
	ctx, cancel := context.WithTimeout(ctx, verifyLimit)
	defer cancel()
	var c chain.Chain
	out := &api.JournalVerdict{}
	rows, err := g.Store.Read(ctx).Model(&store.JournalEntry{}).Order("number").Rows()
	if err != nil {
		return nil, store.Clear(err)
	}
	defer rows.Close()
	for rows.Next() {
		var e store.JournalEntry
		if err := g.Store.Read(ctx).ScanRows(rows, &e); err != nil {
			return nil, store.Clear(err)
		}
		if err := c.Add(lineOf(&e)); err != nil {
			out.Broken = words.Capitalise(err.Error()) + "."
			break
		}
		if has == e.Hash {
			has = ""
		}
	}
	if has != "" && out.Broken == "" {
		out.Broken = "The line with the hash " + words.Clip(
			has, 100,
		) + " is not there any more: the end of the journal was cut off, or this is another journal."
	}
	out.Whole, out.Lines, out.Last = out.Broken == "", c.Lines, c.Last
	return out, store.Clear(rows.Err())
}

// journalPart is how many lines go out at once.
const journalPart = 5000

// ExportJournal is a part of the journal from a line on, in its order, a JSON object in each line. It is empty when
// there are no more.
func (g *Ground) ExportJournal(ctx context.Context, from int64) ([]byte, error) {
	var rows []store.JournalEntry
	if err := g.Store.Read(ctx).Where("number >= ?", from).Order("number").Limit(journalPart).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	for i := range rows {
		if err := enc.Encode(lineOf(&rows[i])); err != nil {
			return nil, err
		}
	}
	return b.Bytes(), nil
}

// configured are the kinds of objects whose lines viewers read in full: they hold configuration that viewers read anyway.
var configured = []string{"application", "provider", "rule set", "source", "move", "rehearsal", "key", "proposal", "template", "batch"}

// forViewers takes out of a line what its reader may not read elsewhere: names and addresses of people, and settings that
// hold secrets or where mail goes.
func forViewers(e *store.JournalEntry) {
	e.From = ""
	if strings.HasPrefix(e.WhoID, "person/") || strings.HasPrefix(e.WhoID, "subject/") {
		e.Who, e.WhoID = redact.Masked(e.Who), ""
	}
	if !slices.Contains(configured, e.Kind) {
		e.Object = redact.Masked(e.Object)
	}
	if !slices.Contains(configured, e.Kind) || !slices.Contains([]string{"created", "changed", "deleted"}, e.Action) {
		e.Before, e.After = redact.Masked(e.Before), redact.Masked(e.After)
	}
}

// Journal lists lines, the newest first, as their reader may see them.
func (g *Ground) Journal(ctx context.Context, reader Actor, p store.Page, object string) (*api.List[api.JournalEntry], error) {
	masked := !Allows(reader.Role, RoleEngineer)
	if masked && p.Search != "" {
		return nil, MaskedSearch()
	}
	if p.Limit <= 0 || p.Limit > 200 {
		p.Limit = 50
	}
	db := g.Store.Read(ctx).Order("number DESC").Limit(p.Limit + 1)
	if p.After != "" {
		n, err := strconv.ParseInt(p.After, 10, 64)
		if err != nil {
			return nil, BadRequest("bad-page", "The page's beginning is not one that this list gave.", "")
		}
		db = db.Where("number < ?", n)
	}
	if object != "" {
		db = db.Where("object_id = ?", object)
	}
	if p.Search != "" {
		var err error
		if db, err = g.Store.Containing(ctx, db, store.JournalLines, p.Search); err != nil {
			return nil, err
		}
	}
	var rows []store.JournalEntry
	if err := db.Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := &api.List[api.JournalEntry]{Items: []api.JournalEntry{}}
	for i, e := range rows {
		if i == p.Limit {
			out.Next = strconv.FormatInt(rows[i-1].Number, 10)
			break
		}
		if masked {
			forViewers(&e)
		}
		out.Items = append(
			out.Items,
			api.JournalEntry{
				Number: e.Number,
				At:     e.At,
				Who:    e.Who,
				WhoID:  e.WhoID,
				From:   e.From,
				Action: e.Action,
				Kind:   e.Kind,
				Object: e.Object,
				Before: e.Before,
				After:  e.After,
				Hash:   e.Hash,
			},
		)
	}
	return out, nil
}

// MaskedSearch refuses to search in what its reader sees masked: what is found tells what is masked.
func MaskedSearch() error {
	return Problem(
		http.StatusForbidden, "masked-search", "This can't be searched",
		"You see names and values of people masked here, so they can't be searched for either.",
		"Ask somebody with the role engineer, or look through the list.",
	)
}
