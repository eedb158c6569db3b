package accounts

import "context"

// Sendable names the applications to which something is to be sent now.
func (g *Room) Sendable(ctx context.Context) ([]string, error) {
	apps, err := g.sendable(ctx)
	var out []string
	for _, app := range apps {
		out = append(out, app.Slug)
	}
	return out, err
}

// WorkOutAmid does something between reading what changed and writing what it means.
func (g *Room) WorkOutAmid(ctx context.Context, amid func()) error {
	d, err := g.read(ctx)
	if err != nil || d == nil {
		return err
	}
	amid()
	return d.save(ctx)
}
