package ground

import (
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/store"
)

var objectColumns = map[string]string{"name": "name COLLATE NOCASE", "created": "created_at", "reach": "reach", "kind": "kind"}

// LimitOf is how many rows a page of a list holds.
func LimitOf(p store.Page) int {
	if p.Limit <= 0 || p.Limit > 200 {
		return 50
	}
	return p.Limit
}

// SortValue is what a list's next page begins behind.
func SortValue(sort, name, reach, kind string, created time.Time) string {
	switch strings.TrimPrefix(sort, "-") {
	case "created":
		return created.UTC().Format("2006-01-02 15:04:05.999999999-07:00")
	case "reach":
		return reach
	case "kind":
		return kind
	}
	return name
}

// Narrow is what a list of applications or providers is narrowed to; empty for all.
type Narrow struct{ Reach, Kind string }

// Page reads one page of a list of applications or providers.
func (g *Ground) Page(db *gorm.DB, p store.Page, n Narrow, into any) error {
	if n.Reach != "" {
		db = db.Where("reach = ?", n.Reach)
	}
	if n.Kind != "" {
		db = db.Where("kind = ?", n.Kind)
	}
	db, err := p.Rows(db, objectColumns, "name", "name", "slug", "entity_id")
	if err != nil {
		return BadRequest("bad-page", err.Error()+".", "")
	}
	return store.Clear(db.Find(into).Error)
}

// UTCOf is a time in UTC, as the store keeps it.
func UTCOf(t *time.Time) *time.Time {
	if t == nil {
		return nil
	}
	u := t.UTC()
	return &u
}
