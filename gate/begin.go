package gate

import "context"

// begin brings about what has to be there before the gate is asked anything. It may be begun again after an error.
func (g *Gate) begin(ctx context.Context) error {
	if err := g.Keyring.Ensure(ctx); err != nil {
		return err
	}
	if err := g.Partners.ConfirmOnce(ctx); err != nil {
		return err
	}
	if err := g.LookBack(ctx); err != nil {
		return err
	}
	return g.Configuration.LayOutAll(ctx)
}
