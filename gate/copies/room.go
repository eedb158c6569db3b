// Package copies is about copies of the gate's records: those that the service makes by itself, and one that is asked for.
package copies

import (
	"context"
	"net/http"
	"os"
	"path/filepath"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/backup"
	"innergate/gate/ground"
	"innergate/store"
)

// Room holds what the package needs of the gate; see the package.
type Room struct {
	*ground.Ground
	// Schedule copies the records. Its folder is empty where nothing is copied without being asked for.
	Schedule *backup.Schedule
}

// New makes the room over what it stands on.
func New(g *ground.Ground) *Room { return &Room{Ground: g} }

// Copies lists those that are kept.
func (g *Room) Copies() (*api.Copies, error) {
	out := &api.Copies{Items: []api.Copy{}}
	if g.Schedule == nil || g.Schedule.Folder == "" {
		return out, nil
	}
	out.Folder, out.Hours, out.Keep = g.Schedule.Folder, int(g.Schedule.Every.Hours()), g.Schedule.Keep
	out.Encrypted = len(g.Schedule.Recipients) > 0
	list, err := g.Schedule.Copies()
	for _, c := range list {
		out.Items = append(out.Items, api.Copy{Name: c.Name, Made: c.Made, Octets: c.Octets})
	}
	return out, err
}

// Make makes a copy now, beside those that are made by schedule.
func (g *Room) Make(ctx context.Context, who ground.Actor) (*api.Copy, error) {
	if g.Schedule == nil || g.Schedule.Folder == "" {
		return nil, ground.Conflict("no-folder", "The service has no folder for copies.",
			"Start it with --backup-folder, or fetch a copy instead.")
	}
	c, err := g.Schedule.Make(ctx)
	if err != nil {
		return nil, failed(err)
	}
	return &api.Copy{Name: c.Name, Made: c.Made, Octets: c.Octets}, g.note(ctx, who, "copied the records", c.Name)
}

// Fetch writes a copy for whoever asks, encrypted to recipients where there are some. The file has no name any more: it is gone when
// it is closed.
func (g *Room) Fetch(ctx context.Context, who ground.Actor, in api.FetchCopy) (*os.File, error) {
	if g.Schedule == nil {
		return nil, ground.Conflict("no-copies", "This process makes no copies.", "")
	}
	to, err := backup.Recipients(in.Recipients)
	if err != nil {
		return nil, ground.BadRequest("recipients", err.Error()+".", "")
	}
	if err := g.note(ctx, who, "fetched a copy of the records", ""); err != nil {
		return nil, err
	}
	path := filepath.Join(g.Store.Folder, backup.Temporary+store.NewID())
	defer os.Remove(path)
	if _, err := g.Schedule.To(ctx, path, to); err != nil {
		return nil, failed(err)
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, failed(err)
	}
	return f, nil
}

func failed(err error) error {
	return ground.Problem(http.StatusServiceUnavailable, "copy-failed", "The records could not be copied", err.Error()+".",
		"Look at the room in the data folder and in the folder for copies.")
}

func (g *Room) note(ctx context.Context, who ground.Actor, action, name string) error {
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		return ground.Journal(tx, g.Now(), who, action, "gate", "copies", "Copies", "", name)
	})
}
