package changes

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"innergate/api"
	"innergate/core/files"
	"innergate/gate/ground"
	"innergate/gate/persons"
	"innergate/store"
)

const (
	stagedLife = time.Hour
	stagedMost = 20
)

var stagedName = regexp.MustCompile(`^[0-9A-Z]{26}$`)

func (g *Room) stagedFile(id string) string { return filepath.Join(g.Store.Folder, "config-"+id) }

// NewStaged opens a place for a configuration that is sent in parts.
func (g *Room) NewStaged(ctx context.Context, who ground.Actor) (*api.Staged, error) {
	g.tidyStaged()
	open, err := filepath.Glob(g.stagedFile("*"))
	if err != nil || len(open) >= stagedMost {
		return nil, ground.Problem(
			http.StatusTooManyRequests, "staged-many", "Too much is being sent",
			fmt.Sprintf("%d configurations are being sent already.", len(open)), "Try again within the hour.",
		)
	}
	id := store.NewID()
	if err := os.WriteFile(g.stagedFile(id), nil, 0o600); err != nil {
		return nil, fmt.Errorf("the place can't be made: %w", err)
	}
	return &api.Staged{ID: id}, nil
}

// AddStaged appends a part that begins at an offset. A part that is there already changes nothing.
func (g *Room) AddStaged(ctx context.Context, who ground.Actor, id string, at int64, part []byte) (*api.Staged, error) {
	size, err := g.stagedSize(id)
	if err != nil {
		return nil, err
	}
	switch {
	case len(part) > persons.MaxPart || size+int64(len(part)) > files.MostOctets*5/4:
		return nil, ground.Problem(
			http.StatusRequestEntityTooLarge, "staged-large", "The configuration is too large",
			"A part has at most 2 MiB, and a configuration 64 MiB.", "Load it in several turns.",
		)
	case at+int64(len(part)) <= size:
		return &api.Staged{ID: id, Size: size}, nil
	case at != size:
		return nil, ground.Conflict(
			"staged-gap", fmt.Sprintf("The part begins at %d; %d octets are here.", at, size), "Send it from there.",
		)
	}
	f, err := os.OpenFile(g.stagedFile(id), os.O_WRONLY, 0o600)
	if err != nil {
		return nil, fmt.Errorf("what was sent can't be opened: %w", err)
	}
	defer f.Close()
	if _, err := f.WriteAt(part, at); err != nil {
		return nil, fmt.Errorf("what was sent can't be written: %w", err)
	}
	return &api.Staged{ID: id, Size: at + int64(len(part))}, nil
}

func (g *Room) stagedSize(id string) (int64, error) {
	if !stagedName.MatchString(id) {
		return 0, ground.NotFound("staged configuration", id)
	}
	info, err := os.Stat(g.stagedFile(id))
	if err != nil {
		return 0, ground.NotFound("staged configuration", id)
	}
	return info.Size(), nil
}

// staged reads the files that were sent beforehand, in place of those in the call.
func (g *Room) staged(in *api.LoadConfig) error {
	if in.Staged == "" {
		return nil
	}
	if _, err := g.stagedSize(in.Staged); err != nil {
		return err
	}
	data, err := os.ReadFile(g.stagedFile(in.Staged))
	if err != nil {
		return fmt.Errorf("what was sent can't be read: %w", err)
	}
	var f api.ConfigFiles
	if err := json.Unmarshal(data, &f); err != nil {
		return ground.BadRequest(
			"staged-cut", "What was sent is not whole: "+strings.TrimPrefix(err.Error(), "json: ")+".",
			"Send it again from the beginning. Nothing was changed.",
		)
	}
	in.Files = f.Files
	return nil
}

// Tidy forgets what nobody has loaded within the hour.
func (g *Room) Tidy(t *ground.Tidying) error {
	g.tidyStaged()
	return tidyLoads(t)
}

func (g *Room) tidyStaged() {
	open, _ := filepath.Glob(g.stagedFile("*"))
	for _, name := range open {
		if info, err := os.Stat(name); err == nil && time.Since(info.ModTime()) > stagedLife {
			_ = os.Remove(name)
		}
	}
}
