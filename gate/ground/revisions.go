package ground

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"gorm.io/gorm"

	"innergate/core/config"
	"innergate/store"
)

// Saved is what both kinds of objects have in common when they are written.
type Saved struct {
	Kind, ID, Slug, Name, EntityID, Body string
	Certificates                         []config.Certificate
	Watch                                *config.Watch
	Fresh                                bool // it was never there before
}

// Revise writes a change into an object's history and into the journal. Number 0 takes the next one.
func Revise(tx *gorm.DB, now time.Time, who Actor, action string, s Saved, number int, before string) error {
	if number == 0 {
		next, err := NextNumber(tx, s.ID, 0)
		if err != nil {
			return err
		}
		number = next
	}
	if _, err := store.Exec(tx, "INSERT INTO revisions (object_id, number, kind, slug, name, body, author, remark, at) VALUES (?, ?, "+
		"?, ?, ?, ?, ?, ?, ?)", s.ID, number, s.Kind, s.Slug, s.Name, s.Body, who.Name, who.Remark, now); err != nil {
		return err
	}
	if err := Journal(tx, now, who, action, s.Kind, s.ID, s.Name, before, s.Body); err != nil {
		return err
	}
	return store.Changed(tx)
}

// Unmake notes that an object was deleted. Its history stays.
func (g *Ground) Unmake(tx *gorm.DB, who Actor, s Saved) error {
	before := s.Body
	s.Body = ""
	if err := ForgetFromFile(tx, s.Kind, s.Slug); err != nil {
		return err
	}
	return Revise(tx, g.Now().UTC(), who, "deleted", s, 0, before)
}

// NextNumber is the number of an object's next revision. One that was deleted and comes back goes on counting.
func NextNumber(tx *gorm.DB, id string, held int) (int, error) {
	var last int
	err := store.RowIn(tx, "SELECT coalesce(max(number), 0) FROM revisions WHERE object_id = ?", id).Scan(&last)
	return max(last, held) + 1, err
}

// StaleRevision refuses a change over a revision that is not the newest one any more.
func StaleRevision(name string) error {
	return Problem(
		http.StatusConflict, "changed-meanwhile", "Somebody else changed it",
		fmt.Sprintf("%s was changed since you opened it; nothing was written.", name),
		"Load it again, look at the change, and make yours anew.",
	)
}

// MustJSON writes one of our own types as JSON.
func MustJSON(v any) string {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err) // our own types always marshal
	}
	return string(b)
}

// HashText is the SHA-256 of a text, in hexadecimal.
func HashText(text []byte) string {
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

// NoteFromFile notes that a file has made an object, so that files may take it away again.
func NoteFromFile(tx *gorm.DB, kind, slug string, now time.Time) error {
	return tx.Exec("INSERT INTO from_files (kind, slug, at) VALUES (?, ?, ?) ON CONFLICT DO NOTHING", kind, slug, now).Error
}

// ForgetFromFile notes that an object is no file's any more.
func ForgetFromFile(tx *gorm.DB, kind, slug string) error {
	return tx.Exec("DELETE FROM from_files WHERE kind = ? AND slug = ?", kind, slug).Error
}
