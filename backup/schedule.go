package backup

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
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
	// Source is set where the records are not in a file of the data folder.
	Source Source
	turn   sync.Mutex
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
	s.turn.Lock()
	defer s.turn.Unlock()
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
	_, err = s.make(ctx, held, now)
	return s.Every, err
}

// Make makes a copy now, as if it were time for one.
func (s *Schedule) Make(ctx context.Context) (*Copy, error) {
	s.turn.Lock()
	defer s.turn.Unlock()
	if err := os.MkdirAll(s.Folder, 0o700); err != nil {
		return nil, err
	}
	held, err := s.held()
	if err != nil {
		return nil, err
	}
	return s.make(ctx, held, s.Now().UTC().Truncate(time.Second))
}

// make makes a copy, and takes those away that are too many.
func (s *Schedule) make(ctx context.Context, held []heldCopy, now time.Time) (*Copy, error) {
	name := filepath.Join(s.Folder, namePrefix+now.Format(nameTime)+nameSuffix)
	if len(s.Recipients) > 0 {
		name += ".age"
	}
	seen, err := s.To(ctx, name, s.Recipients)
	if err != nil {
		return nil, err
	}
	s.Log.InfoContext(ctx, "a backup was made", "file", name)
	for _, old := range held[:max(0, len(held)+1-s.Keep)] {
		if err := os.Remove(old.path); err != nil {
			return nil, fmt.Errorf("an old backup can't be taken away: %w", err)
		}
	}
	return &Copy{filepath.Base(name), now, seen.Octets}, nil
}

// To copies the records, wherever they are, to a file.
func (s *Schedule) To(ctx context.Context, name string, recipients []age.Recipient) (*Seen, error) {
	if s.Source != nil {
		return MakeFrom(ctx, s.Source, s.Data, name, recipients)
	}
	return Make(ctx, s.Data, name, recipients, nil)
}

// Copy is one that was made by schedule.
type Copy struct {
	Name   string
	Made   time.Time
	Octets int64
}

// Copies lists those that are kept, the newest first.
func (s *Schedule) Copies() ([]Copy, error) {
	held, err := s.held()
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	var out []Copy
	for _, h := range slices.Backward(held) {
		info, err := os.Stat(h.path)
		if err != nil {
			return nil, err
		}
		out = append(out, Copy{filepath.Base(h.path), h.at, info.Size()})
	}
	return out, err
}

// Newest is when the newest copy was made; zero where there is none.
func (s *Schedule) Newest() time.Time {
	held, err := s.held()
	if err != nil || len(held) == 0 {
		return time.Time{}
	}
	return held[len(held)-1].at
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
