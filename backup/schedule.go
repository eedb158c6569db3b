package backup

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"filippo.io/age"
)

// Schedule makes copies from time to time, and keeps the newest.
type Schedule struct {
	Data, Folder string
	Every        time.Duration
	Keep         int
	Recipients   []age.Recipient
	Log          *slog.Logger
	Now          func() time.Time
}

// The names of copies that are made by schedule sort by their time.
const (
	namePrefix = "innergate-"
	nameTime   = "20060102T150405Z"
	nameSuffix = ".db"
)

// Run makes a copy whenever the newest one is too old, until the context ends. What fails is tried again.
func (s *Schedule) Run(ctx context.Context) {
	for {
		wait, err := s.Once(ctx)
		if err != nil && ctx.Err() == nil {
			s.Log.ErrorContext(ctx, "a backup could not be made", "folder", s.Folder, "error", err)
			wait = min(s.Every, 10*time.Minute)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
	}
}

// Once makes a copy if it is time for one, takes those away that are too many, and says how long it is until the next.
func (s *Schedule) Once(ctx context.Context) (time.Duration, error) {
	if err := os.MkdirAll(s.Folder, 0o700); err != nil {
		return 0, err
	}
	held, err := s.held()
	if err != nil {
		return 0, err
	}
	now := s.Now().UTC()
	if n := len(held); n > 0 {
		// One from the future, before the clock was set back, is as good as one of now.
		if old := max(0, now.Sub(held[n-1].at)); old < s.Every {
			return s.Every - old, nil
		}
	}
	name := filepath.Join(s.Folder, namePrefix+now.Format(nameTime)+nameSuffix)
	if len(s.Recipients) > 0 {
		name += ".age"
	}
	if _, err := Make(ctx, s.Data, name, s.Recipients, nil); err != nil {
		return 0, err
	}
	s.Log.InfoContext(ctx, "a backup was made", "file", name)
	for _, old := range held[:max(0, len(held)+1-s.Keep)] {
		if err := os.Remove(old.path); err != nil {
			return 0, fmt.Errorf("an old backup can't be taken away: %w", err)
		}
	}
	return s.Every, nil
}

type heldCopy struct {
	path string
	at   time.Time
}

// held are the copies that were made by schedule, the oldest first. Other files in the folder are left alone.
func (s *Schedule) held() ([]heldCopy, error) {
	entries, err := os.ReadDir(s.Folder)
	if err != nil {
		return nil, err
	}
	var out []heldCopy
	for _, e := range entries {
		// A name that has another form has no time.
		name := strings.TrimSuffix(strings.TrimSuffix(strings.TrimPrefix(e.Name(), namePrefix), ".age"), nameSuffix)
		if at, err := time.Parse(nameTime, name); err == nil {
			out = append(out, heldCopy{filepath.Join(s.Folder, e.Name()), at})
		}
	}
	slices.SortFunc(out, func(a, b heldCopy) int { return a.at.Compare(b.at) })
	return out, nil
}
