package signin

import (
	"context"
	"fmt"

	"gorm.io/gorm"

	"innergate/core/trace"
	"innergate/gate/partners"
	"innergate/gate/traces"
	"innergate/store"
)

// TraceRow is a sign-in's trace as the store keeps it.
func (g *Room) TraceRow(s *SignIn, outcome, code string) (*store.Trace, error) {
	t := &store.Trace{
		ID:           s.ID,
		Reference:    s.Reference,
		Flow:         s.Row.Flow,
		Outcome:      outcome,
		Code:         code,
		StartedAt:    s.Began.UTC(),
		Micros:       g.Now().Sub(s.Began).Microseconds(),
		PersonID:     s.Person.ID,
		Person:       s.Person.Shown,
		Subject:      s.subject,
		SubjectShown: s.subjectShown,
		Stranger:     s.Person.ID == "" && s.evidence.Provider() == "" && !s.authenticated,
	}
	if s.App != nil {
		t.ApplicationID, t.Application = s.App.ID, s.App.Name
	}
	if s.Provider != nil {
		t.ProviderID, t.Provider = s.Provider.ID, s.Provider.Name
	}
	if s.Rehearsal != nil {
		t.RehearsalID = s.Rehearsal.ID
	}
	packed, err := traces.Pack(s.Rec.Entries(), s.messageLimit(outcome))
	t.Entries = g.Store.Sealer.Seal(store.PlaceTrace, t.ID, packed)
	return t, err
}

// messageLimit bounds what one message takes in the trace.
func (s *SignIn) messageLimit(outcome string) int {
	return traces.MessageLimit(outcome, s.evidence.Provider() != "" || s.authenticated, s.Known)
}

// KeepTrace stores the record of a sign-in. Of strangers, whom nobody has authenticated, only so many a minute are
// kept. A trace that can't be stored never stops a sign-in.
func (g *Room) KeepTrace(ctx context.Context, s *SignIn, outcome, code string) {
	if !s.Known && outcome == "refused" && !s.authenticated && !g.traces.RoomForStranger(s.Row.Address) {
		g.traces.Lost(ctx, fmt.Sprintf("more than %d requests of strangers failed within a minute", g.StrangerTraces))
		return
	}
	t, err := g.TraceRow(s, outcome, code)
	if err == nil {
		err = g.Store.Traces.Write(ctx, func(tx *gorm.DB) error {
			if err := traces.NoteEnd(tx, s.Rec.Entries(), t, g.Now()); err != nil {
				return err
			}
			return traces.Settle(tx, t)
		})
	}
	if err != nil {
		g.traces.Lost(ctx, err.Error())
		g.Log.ErrorContext(ctx, "a trace could not be kept", "reference", s.Reference, "outcome", outcome, "code", code, "error", err)
		return
	}
	g.Log.InfoContext(
		ctx, "sign-in", "reference", s.Reference, "application", t.Application, "provider", t.Provider, "outcome",
		outcome, "code", code, "flow", t.Flow, "rehearsal", s.Rehearsal != nil,
	)
}

// KeepOpen stores what there is of a sign-in that is under way, so that it can be gone on with wherever the browser comes next.
// Without it the sign-in goes on as well, and its trace lacks what was before.
func (g *Room) KeepOpen(ctx context.Context, s *SignIn) {
	if g.Spread.Load() { // it may end at another node, which would not know of this
		return
	}
	t, err := g.TraceRow(s, traces.OutcomeOpen, "")
	if err == nil {
		err = g.Store.Traces.Write(ctx, func(tx *gorm.DB) error { return traces.Save(tx, t) })
	}
	if err != nil {
		g.traces.Lost(ctx, err.Error())
	}
}

// Carried is what was recorded so far, packed, where another node may go on; else it is in the trace.
func (g *Room) Carried(s *SignIn) ([]byte, error) {
	if !g.Spread.Load() {
		return nil, nil
	}
	return traces.Pack(s.Rec.Entries(), s.messageLimit(traces.OutcomeOpen))
}

// Replay puts what was recorded before the person went to the provider back into the recorder.
func (g *Room) Replay(ctx context.Context, s *SignIn) {
	s.Rec.Resume(g.traces.SoFar(ctx, s.ID, s.State.Said))
}

// ClientTrace is the trace of a call of the back channel that was refused.
func (g *Room) ClientTrace(
	from string,
	rec *trace.Recorder,
	app *partners.Application,
	authenticated bool,
	code string,
) (*store.Trace, error) {
	s := g.Begin(Browser{Address: from}, "client")
	s.authenticated = authenticated
	s.Rec, s.App = rec, app
	g.Metrics.Begun.Add(-1)
	return g.TraceRow(s, "refused", code)
}
