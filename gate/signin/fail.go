package signin

import (
	"context"
	"errors"
	"net/http"

	"gorm.io/gorm"

	"innergate/core/explain"
	"innergate/core/trace"
	"innergate/store"
)

// fail ends a sign-in with its explanation: it records the failure, keeps the trace and chooses what the person or the
// application is told. Walk alone calls it.
func (g *Room) fail(ctx context.Context, s *SignIn, err error) *Next {
	var f *explain.Failure
	if !errors.As(err, &f) {
		g.Log.ErrorContext(ctx, "a sign-in failed inside", "reference", s.Reference, "error", err)
		f = explain.New(explain.GateFailed, explain.Fact("error", "see the log"))
	}
	partner := ""
	if s.App != nil {
		partner = s.App.Name
	}
	if s.Provider != nil && (s.Rec.Step() == trace.Receive || s.Rec.Step() == trace.Send) {
		partner = s.Provider.Name
	}
	f.Of(partner)
	s.Rec.Fail(f.Record())
	g.Metrics.Refused.Add(1)
	explanation := f.Explain()
	page := &FailurePage{Reference: s.Reference, Explanation: explanation, Status: http.StatusBadRequest, SigningOut: s.Row.Flow == "slo"}
	if explanation.Side == explain.Ours && f.Code == explain.GateFailed {
		page.Status = http.StatusInternalServerError
	}
	if f.Code == explain.AddressUnknown {
		page.Status = http.StatusNotFound
	}
	if f.Code == explain.GateBusy {
		page.Status = http.StatusTooManyRequests
	}
	next := &Next{To: page}
	if s.App != nil {
		page.Application, page.Back = s.App.Name, s.App.StartURL
		if explanation.Status != "" || explanation.OAuth != "" || s.Rec.Step() != trace.Ask {
			answer := g.ApplicationSide(s.App).Refuse(ctx, s, f)
			// Where nobody was asked anything yet, the application gets its answer at once.
			early := s.Rec.Step() == trace.Ask || s.Rec.Step() == trace.Route || s.Rec.Step() == trace.Send
			if answer != nil && (early || s.State.Wish.Passive) {
				next = answer
			} else if answer != nil {
				page.Return = answer.To
			}
		}
	}
	// A stray answer must not end somebody's sign-in.
	if !explain.Stray(f.Code) && s.Row.BrowserHash != nil {
		next.DropSignIns = append(next.DropSignIns, s.ID)
		g.endRow(ctx, s)
		next.DropRehearsal = s.Rehearsal != nil
	}
	g.KeepTrace(ctx, s, "refused", string(f.Code))
	g.noteHabit(ctx, s, f)
	g.Outcomes.Failed(ctx, s, f, explanation)
	return next
}

func (g *Room) endRow(ctx context.Context, s *SignIn) {
	now := g.Now().UTC()
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Model(&store.SignIn{}).Where("id = ?", s.ID).
			Updates(map[string]any{"finished_at": now, "vouched": s.evidence.Provider() != ""}).Error
	})
	if err != nil {
		g.Log.ErrorContext(ctx, "a sign-in could not be ended", "reference", s.Reference, "error", err)
	}
}
