package signin

import (
	"context"
	"encoding/json"
	"fmt"

	"gorm.io/gorm"

	"innergate/core/redact"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/gate/partners"
	"innergate/gate/traces"
	"innergate/store"
)

// TraceRow is a sign-in's trace as the store keeps it.
func (g *Room) TraceRow(s *SignIn, outcome, code string) (*store.Trace, error) {
	entries, err := json.Marshal(redact.Clip(s.Rec.Entries(), s.messageLimit(outcome)))
	if err != nil {
		return nil, err
	}
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
	t.Entries = g.Store.Sealer.Seal(store.PlaceTrace, t.ID, traces.Packer().EncodeAll(entries, nil))
	return t, nil
}

// messageLimit bounds what one message takes in a trace. Until somebody has authenticated, whoever sent it is a
// stranger who must not fill the disk.
func (s *SignIn) messageLimit(outcome string) int {
	switch {
	case outcome == traces.OutcomeSignedIn || outcome == traces.OutcomeWaiting:
		return saml.MaxMessage
	case s.evidence.Provider() != "" || s.authenticated:
		return 64 << 10
	case s.Known || outcome == "open":
		return 16 << 10
	}
	return 8 << 10
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
		err = g.Store.Write(ctx, func(tx *gorm.DB) error {
			if err := traces.NoteEnd(tx, s.Rec.Entries(), t, g.Now()); err != nil {
				return err
			}
			if s.Known {
				return traces.Update(tx, t)
			}
			return traces.Insert(tx, t)
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

// Replay puts what was recorded before the person went to the provider back into the recorder.
func (g *Room) Replay(ctx context.Context, s *SignIn) {
	var t store.Trace
	if err := g.Store.Read(ctx).Where("id = ?", s.ID).Take(&t).Error; err != nil {
		return
	}
	if entries, err := g.traces.Entries(&t); err == nil {
		s.Rec.Resume(entries)
	}
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
