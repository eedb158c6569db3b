package partners

import (
	"context"

	"innergate/core/claims"
	"innergate/core/trace"
)

// Lookups maps what a provider sent, with the values that rules of its take from directories.
type Lookups interface {
	Apply(ctx context.Context, p *Provider, came claims.Bag, rec *trace.Recorder) ([]claims.Output, error)
}
