package traces

import (
	"context"

	"innergate/api"
	"innergate/core/redact"
	"innergate/core/refused"
	"innergate/core/words"
	"innergate/gate/ground"
)

// Refused helps where the application refused what it was sent, which no trace can know: what to compare, and what its message
// means. Personal values are masked unless the viewer may see them.
func (g *Room) Refused(ctx context.Context, reference, message string, personal bool) (*api.RefusedThere, error) {
	row, entries, err := g.TraceEntries(ctx, reference)
	if err != nil {
		return nil, err
	}
	later, err := g.laterEntries(ctx, row)
	if err != nil {
		return nil, err
	}
	app, err := g.partners.ApplicationByID(ctx, row.ApplicationID)
	if err != nil {
		return nil, ground.Missing(err, "application", row.Application)
	}
	out := &api.RefusedThere{Compare: refused.Compare(append(entries, later...), &app.Application)}
	if out.Compare == nil {
		return nil, ground.Conflict("nothing-sent", "In this sign-in nothing was sent to the application that it could refuse.", "")
	}
	for i := range out.Compare {
		if out.Compare[i].Personal && !personal {
			out.Compare[i].Sent = redact.Masked(out.Compare[i].Sent)
		}
	}
	out.Messages = refused.Messages(app.OIDC != nil, words.Clip(message, 2000))
	return out, nil
}
