package changes

import (
	"context"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/files"
	"innergate/gate/ground"
)

// BeginLoad writes some parts of a large load, and no more, as where the process is killed then.
func (g *Room) BeginLoad(ctx context.Context, who ground.Actor, in api.LoadConfig, parts int) error {
	set := files.Read(in.Files)
	p, _, err := g.planned(ctx, func(at *Room, tx *gorm.DB) (*plan, error) { return at.planFiles(ctx, tx, who, set, in) })
	if err != nil {
		return err
	}
	id, err := g.keepLoad(ctx, who, p)
	for range parts {
		if err == nil {
			_, err = g.part(ctx, id)
		}
	}
	return err
}
