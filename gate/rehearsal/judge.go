package rehearsal

import (
	"context"
	"errors"
	"strings"
	"time"

	"innergate/api"
	"innergate/core/bridge"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/pasted"
	"innergate/core/redact"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/gate/signin"
	"innergate/gate/traces"
	"innergate/store"
)

// Judge holds a message against the configuration, open or draft, at a chosen time, without a browser: one that was
// pasted, or the response of a trace. Every check is told; where all hold, so is what would become of the sign-in.
// Nothing is used up, and nothing leaves the gate.
func (g *Room) Judge(ctx context.Context, q api.Judge) (*api.Judged, error) {
	if strings.Contains(q.Message, redact.Veil) {
		return nil, ground.BadRequest(
			"veiled",
			"This message was copied from a trace while it might still be accepted somewhere, so its signature is not in it.",
			"Judge the trace itself, by its reference number: the gate knows the whole message.",
		)
	}
	out := &api.Judged{Kind: pasted.JudgedResponse, Entries: []api.TraceEntry{}}
	if other, was, err := g.judgeOther(ctx, &q, out); was || err != nil {
		return other, err
	}
	out.At = time.Time{}
	raw, err := g.judgedMessage(ctx, &q, out)
	if err != nil {
		return nil, err
	}
	if out.At.IsZero() {
		out.At = g.Now().UTC()
	}
	in, err := saml.OpenResponse(&saml.Received{Binding: saml.BindingPost, Param: saml.ParamResponse, XML: raw})
	if err != nil {
		return g.judgedSo(out, err)
	}
	p, err := g.judgedProvider(ctx, q, in.ClaimedIssuer())
	if err != nil {
		return nil, err
	}
	out.Provider = p.Slug
	rules, err := g.signin.ResponseRules(ctx, p, out.At)
	if err != nil {
		return nil, err
	}
	// Which request was asked can't be seen from here, so the response is taken at its word.
	rules.RequestID = in.ClaimedInResponseTo()
	if rules.ACS = g.ACSLocation(p.Slug); q.DraftProvider != nil && p.Slug == "draft" {
		rules.ACS = ""
	}
	rec := trace.NewRecorder(out.At, func() time.Time { return out.At })
	rec.Begin(trace.Receive)
	assertion, err := in.Check(rules, rec)
	var who bridge.Identity
	if err == nil {
		who, err = signin.WhoIs(p, assertion)
	}
	for _, e := range rec.Entries() {
		out.Entries = append(out.Entries, api.TraceEntry{Entry: e})
	}
	if err != nil {
		return g.judgedSo(out, err)
	}
	out.Good = true
	preview := api.Preview{
		Provider:         p.Slug,
		Application:      q.Application,
		DraftProvider:    q.DraftProvider,
		DraftApplication: q.DraftApplication,
	}
	if q.DraftProvider != nil && p.ID == "" {
		preview.Provider = ""
	}
	if out.Then, err = g.previewOf(ctx, preview, who.Attributes, who, nil); err != nil {
		return nil, err
	}
	return g.judgedThen(ctx, &q, out)
}

func (g *Room) judgedSo(out *api.Judged, err error) (*api.Judged, error) {
	var f *explain.Failure
	if !errors.As(err, &f) {
		return nil, err
	}
	out.Explanation = traces.Explained(f.Record())
	return out, nil
}

// judgedMessage is the response as it was received: of a trace, with its time, or pasted.
func (g *Room) judgedMessage(ctx context.Context, q *api.Judge, out *api.Judged) ([]byte, error) {
	if q.At != nil {
		out.At = q.At.UTC()
	}
	if q.Trace == "" {
		raw, err := pasted.RawSAML(q.Message)
		if err != nil {
			return nil, ground.BadRequest(
				"not-decodable", words.Capitalise(err.Error())+".",
				"Copy the whole value of SAMLResponse, or the whole message.",
			)
		}
		return raw, nil
	}
	row, entries, err := g.traces.TraceEntries(ctx, q.Trace)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		m := e.Message
		if m == nil || m.From != trace.Provider || m.Name != "Response" || !strings.HasPrefix(m.Raw, "<") {
			continue
		}
		if strings.Contains(m.Raw, "(cut off here; the rest was not kept)") {
			return nil, ground.Conflict(
				"message-cut", "The trace holds only the beginning of the response, since nobody was known by it.",
				"Have the sign-in made again, or paste the message.",
			)
		}
		if out.At.IsZero() {
			out.At = row.StartedAt.Add(time.Duration(e.At) * time.Microsecond).UTC()
		}
		if q.Provider == "" && row.ProviderID != "" {
			if p, err := g.partners.ProviderByID(ctx, row.ProviderID); err == nil {
				q.Provider = p.Slug
			}
		}
		if q.Application == "" && row.ApplicationID != "" {
			if a, err := g.partners.ApplicationByID(ctx, row.ApplicationID); err == nil && a.ID != partners.ConsoleID {
				q.Application = a.Slug
			}
		}
		return []byte(m.Raw), nil
	}
	return nil, ground.Conflict(
		"nothing-to-judge", "There is no SAML response of a provider in this trace.",
		"A sign-in by OpenID Connect can be compared and previewed; its code can't be used again.",
	)
}

// judgedProvider is the provider whose rules hold: the draft, the one that was named, or the one whose entity ID the
// response names.
func (g *Room) judgedProvider(ctx context.Context, q api.Judge, issuer string) (*partners.Provider, error) {
	switch {
	case q.DraftProvider != nil:
		_, draft, err := g.previewSides(ctx, api.Preview{Provider: q.Provider, DraftProvider: q.DraftProvider})
		if err != nil {
			return nil, err
		}
		p := draft[1].(*partners.Provider)
		return p, onlySAML(p.Provider)
	case q.Provider != "":
		p, err := g.partners.Provider(ctx, q.Provider)
		if err != nil {
			return nil, err
		}
		return p, onlySAML(p.Provider)
	}
	var row store.Provider
	if err := g.Store.Read(ctx).Select("slug").Where("entity_id = ?", issuer).Limit(1).Find(&row).Error; err != nil {
		return nil, store.Clear(err)
	}
	if row.Slug == "" || issuer == "" {
		return nil, ground.BadRequest(
			"provider-unknown",
			"The response names the issuer "+words.Clip(words.OrNone(issuer), 200)+", which is no provider's entity ID here.",
			"Name the provider whose rules are to hold.",
		)
	}
	p, err := g.partners.Provider(ctx, row.Slug)
	if err != nil {
		return nil, err
	}
	return p, onlySAML(p.Provider)
}

func onlySAML(p config.Provider) error {
	if p.SAML == nil {
		return ground.BadRequest("not-saml", p.Name+" does not speak SAML.", "Only SAML responses can be judged without a browser.")
	}
	return nil
}
