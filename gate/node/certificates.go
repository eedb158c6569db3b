package node

import (
	"context"
	"time"

	"gorm.io/gorm"

	"innergate/gate/ground"
	"innergate/nodes"
	"innergate/store"
)

// renewBefore is how long before its end a node's certificate is renewed.
const renewBefore = 90 * 24 * time.Hour

// Renew gives this node another certificate when its own will end. The one before is taken back.
func (g *Room) Renew(ctx context.Context) error {
	if g.Together == nil {
		return nil
	}
	c, err := g.own.Identity.Certificate()
	if err != nil {
		return err
	}
	now := g.Now().UTC()
	if now.Add(renewBefore).Before(c.NotAfter) {
		return nil
	}
	a, err := g.authority(ctx)
	if err != nil {
		return err
	}
	fresh, err := g.own.Identity.Renewed(a, now)
	if err != nil {
		return err
	}
	own := store.NodeMember{Serial: nodes.SerialOf(fresh.Leaf), Address: g.own.Address, Errands: g.own.Errands, Ends: fresh.Leaf.NotAfter}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Create(&own).Error; err != nil {
			return err
		}
		who := ground.Actor{ID: "node/" + own.Address, Name: "node " + own.Address}
		return ground.Journal(tx, now, who, "renewed its certificate as a node", "gate", "nodes", "Nodes", nodes.SerialOf(c), own.Serial)
	})
	if err != nil {
		return err
	}
	if err := nodes.Keep(g.own.Data, fresh); err != nil {
		return err
	}
	g.own.Identity.Use(*fresh)
	return g.Store.Write(ctx, func(tx *gorm.DB) error { // from now on it is used no more
		return tx.Model(&store.NodeMember{Serial: nodes.SerialOf(c)}).Update("withdrawn", now).Error
	})
}
