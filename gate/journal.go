package gate

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strconv"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/store"
)

// journal appends one line. It is the only place that does. Each line's hash covers the one before, so that a line can't be changed or taken out unseen.
func journal(tx *gorm.DB, now time.Time, who Actor, action, kind, id, name, before, after string) error {
	var last store.JournalEntry
	if err := tx.Order("number DESC").Limit(1).Find(&last).Error; err != nil {
		return err
	}
	e := store.JournalEntry{At: now.UTC().Truncate(time.Millisecond), Who: who.Name, From: who.From, Action: action, Kind: kind, ObjectID: id, Object: name, Before: before, After: after, Previous: last.Hash}
	e.Hash = journalHash(&e)
	return tx.Create(&e).Error
}

func journalHash(e *store.JournalEntry) string {
	parts, err := json.Marshal([]string{e.Previous, e.At.UTC().Format(time.RFC3339Nano), e.Who, e.From, e.Action, e.Kind, e.ObjectID, e.Object, e.Before, e.After})
	if err != nil {
		panic(err) // strings always marshal
	}
	sum := sha256.Sum256(parts)
	return hex.EncodeToString(sum[:])
}

// VerifyJournal walks the whole journal and names the first line that does not fit the one before.
func (g *Gate) VerifyJournal(ctx context.Context) (int64, error) {
	var previous string
	var count int64
	rows, err := g.Store.Read(ctx).Model(&store.JournalEntry{}).Order("number").Rows()
	if err != nil {
		return 0, store.Clear(err)
	}
	defer rows.Close()
	for rows.Next() {
		var e store.JournalEntry
		if err := g.Store.Read(ctx).ScanRows(rows, &e); err != nil {
			return count, err
		}
		if e.Previous != previous || e.Hash != journalHash(&e) {
			return count, fmt.Errorf("line %d of the journal was changed, or one before it was taken out", e.Number)
		}
		previous = e.Hash
		count++
	}
	return count, rows.Err()
}

// Journal lists lines, the newest first.
func (g *Gate) Journal(ctx context.Context, p store.Page, object string) (*api.List[api.JournalEntry], error) {
	if p.Limit <= 0 || p.Limit > 200 {
		p.Limit = 50
	}
	db := g.Store.Read(ctx).Order("number DESC").Limit(p.Limit + 1)
	if p.After != "" {
		n, err := strconv.ParseInt(p.After, 10, 64)
		if err != nil {
			return nil, badRequest("bad-page", "The page's beginning is not one that this list gave.", "")
		}
		db = db.Where("number < ?", n)
	}
	if object != "" {
		db = db.Where("object_id = ?", object)
	}
	if p.Search != "" {
		like := "%" + p.Search + "%"
		db = db.Where("who LIKE ? OR object LIKE ? OR action LIKE ?", like, like, like)
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
		out.Items = append(out.Items, api.JournalEntry{Number: e.Number, At: e.At, Who: e.Who, From: e.From, Action: e.Action, Kind: e.Kind, Object: e.Object, Before: e.Before, After: e.After, Hash: e.Hash})
	}
	return out, nil
}
