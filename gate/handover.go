package gate

import (
	"context"

	"innergate/store"
)

// keepLeft keeps the document that the other side left, once what it says was taken.
func (g *Gate) keepLeft(ctx context.Context, who Actor, row *store.Proposal) error { return nil }
