package ldapdir

import (
	"context"

	"innergate/gate/partners"
)

// OwnBind binds nowhere: what is looked at before is tested.
func (g *Room) OwnBind(ctx context.Context, p *partners.Provider) error {
	return g.ownBind(ctx, nil, p)
}
