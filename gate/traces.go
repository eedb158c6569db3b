package gate

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/klauspost/compress/zstd"
	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/explain"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/core/xmltree"
	"innergate/store"
)

const referenceLetters = "23456789ABCDEFGHJKMNPQRSTUVWXYZ"

// newReference makes a number that people can read out: eight characters without those that are taken for one another.
func newReference() string {
	var b [8]byte
	rand.Read(b[:])
	for i := range b {
		b[i] = referenceLetters[int(b[i])%len(referenceLetters)]
	}
	return string(b[:4]) + "-" + string(b[4:])
}

var (
	packer = sync.OnceValue(func() *zstd.Encoder {
		e, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(128<<10))
		if err != nil {
			panic(err) // fixed options
		}
		return e
	})
	unpacker = sync.OnceValue(func() *zstd.Decoder {
		d, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(64<<20))
		if err != nil {
			panic(err) // fixed options
		}
		return d
	})
)

func (g *Gate) traceRow(s *signIn, outcome, code string) (*store.Trace, error) {
	entries, err := json.Marshal(clipped(s.rec.Entries(), s.messageLimit(outcome)))
	if err != nil {
		return nil, err
	}
	t := &store.Trace{ID: s.id, Reference: s.reference, Flow: s.row.Flow, Outcome: outcome, Code: code, StartedAt: s.began.UTC(), Micros: g.Now().Sub(s.began).Microseconds(), PersonID: s.person.id, Person: s.person.shown, Subject: s.subject, SubjectShown: s.subjectShown}
	if s.app != nil {
		t.ApplicationID, t.Application = s.app.id, s.app.Name
	}
	if s.provider != nil {
		t.ProviderID, t.Provider = s.provider.id, s.provider.Name
	}
	if s.rehearsal != nil {
		t.RehearsalID = s.rehearsal.ID
	}
	t.Entries = g.Store.Sealer.Seal("trace/"+t.ID, packer().EncodeAll(entries, nil))
	return t, nil
}

// messageLimit bounds what one message takes in a trace. Until somebody has authenticated, whoever sent it is a stranger who must not fill the disk.
func (s *signIn) messageLimit(outcome string) int {
	switch {
	case outcome == "signed-in":
		return saml.MaxMessage
	case s.known || outcome == "open":
		return 64 << 10
	}
	return 8 << 10
}

func clipped(entries []trace.Entry, limit int) []trace.Entry {
	out := slices.Clone(entries)
	for i := range out {
		if m := out[i].Message; m != nil && (len(m.Raw) > limit || len(m.RelayState) > limit) {
			copied := *m
			copied.RelayState = copied.RelayState[:min(limit, len(copied.RelayState))]
			if len(m.Raw) > limit {
				copied.Raw = strings.ToValidUTF8(m.Raw[:limit], "") + "… (cut off here; the rest was not kept)"
			}
			out[i].Message = &copied
		}
	}
	return out
}

// keepTrace stores the record of a sign-in. Of strangers, whom nobody has authenticated, only so many a minute are kept. A trace that can't be stored
// never stops a sign-in.
func (g *Gate) keepTrace(ctx context.Context, s *signIn, outcome, code string) {
	if !s.known && outcome == "refused" && !g.roomForStranger() {
		g.lost(ctx, fmt.Sprintf("more than %d requests of strangers failed within a minute", g.StrangerTraces))
		return
	}
	t, err := g.traceRow(s, outcome, code)
	if err == nil {
		err = g.Store.Write(ctx, func(tx *gorm.DB) error {
			if err := g.noteEnd(tx, s, t); err != nil {
				return err
			}
			if s.known {
				return tx.Model(t).Select("person_id", "person", "outcome", "code", "entries", "micros", "provider_id", "provider", "subject", "subject_shown").Updates(t).Error
			}
			return tx.Create(t).Error
		})
	}
	if err != nil {
		g.lost(ctx, err.Error())
		g.Log.ErrorContext(ctx, "a trace could not be kept", "reference", s.reference, "outcome", outcome, "code", code, "error", err)
		return
	}
	g.Log.InfoContext(ctx, "sign-in", "reference", s.reference, "application", t.Application, "provider", t.Provider, "outcome", outcome, "code", code, "flow", t.Flow, "rehearsal", s.rehearsal != nil)
}

func (g *Gate) roomForStranger() bool {
	g.strangers.Lock()
	defer g.strangers.Unlock()
	if minute := g.Now().Truncate(time.Minute); minute != g.strangers.minute {
		g.strangers.minute, g.strangers.count = minute, 0
	}
	g.strangers.count++
	return g.strangers.count <= g.StrangerTraces
}

// replay puts what was recorded before the person went to the provider back into the recorder.
func (g *Gate) replay(ctx context.Context, s *signIn) {
	var t store.Trace
	if err := g.Store.Read(ctx).Where("id = ?", s.id).Take(&t).Error; err != nil {
		return
	}
	if entries, err := g.entries(&t); err == nil {
		s.rec.Resume(entries)
	}
}

// Of what happens on the back channel after a sign-in the first and the last exchanges are kept: a client may refresh its tokens for months.
const (
	firstAdditions, lastAdditions = 10, 40
	additionPlace                 = "row_number() OVER (PARTITION BY trace_id ORDER BY id) AS n, count(*) OVER (PARTITION BY trace_id) - row_number() OVER (PARTITION BY trace_id ORDER BY id) AS left"
)

// laterEntries are what happened on the back channel after the sign-in, with their times since its beginning.
func (g *Gate) laterEntries(ctx context.Context, t *store.Trace) ([]trace.Entry, error) {
	var rows []store.TraceAddition
	if err := g.Store.Read(ctx).Raw("SELECT * FROM (SELECT *, "+additionPlace+" FROM trace_additions WHERE trace_id = ?) WHERE n <= ? OR left < ? ORDER BY id", t.ID, firstAdditions, lastAdditions).Scan(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	var out []trace.Entry
	for _, row := range rows {
		entries, err := g.unpack("trace/"+row.ID, row.Entries)
		if err != nil {
			return nil, err
		}
		begin := row.At.Sub(t.StartedAt).Microseconds()
		if len(entries) > 0 {
			begin -= entries[len(entries)-1].At
		}
		for i := range entries {
			entries[i].At += max(begin, 0)
		}
		out = append(out, entries...)
	}
	return out, nil
}

func (g *Gate) entries(t *store.Trace) ([]trace.Entry, error) {
	return g.unpack("trace/"+t.ID, t.Entries)
}

func (g *Gate) unpack(name string, sealed []byte) ([]trace.Entry, error) {
	packed, err := g.Store.Sealer.Open(name, sealed)
	if err != nil {
		return nil, err
	}
	plain := packed
	if !bytes.HasPrefix(packed, []byte("[")) {
		if plain, err = unpacker().DecodeAll(packed, nil); err != nil {
			return nil, err
		}
	}
	var out []trace.Entry
	return out, json.Unmarshal(plain, &out)
}

func (g *Gate) summary(ctx context.Context, t store.Trace) api.TraceSummary {
	v := api.TraceSummary{Reference: t.Reference, Application: t.Application, Provider: t.Provider, Person: t.Person, Flow: t.Flow, Outcome: t.Outcome, Code: t.Code, Rehearsal: t.RehearsalID != "", Started: t.StartedAt, Micros: t.Micros}
	if t.ApplicationID != "" {
		if a, err := g.applicationByID(ctx, t.ApplicationID); err == nil {
			v.ApplicationSlug = a.Slug
		}
	}
	if t.ProviderID != "" {
		if p, err := g.providerByID(ctx, t.ProviderID); err == nil {
			v.ProviderSlug = p.Slug
		}
	}
	if e, ok := explain.Lookup(t.Code); ok {
		v.Title = e.Title
	}
	return v
}

// TraceFilter narrows a list of traces.
type TraceFilter struct {
	Application, Provider string // short names
	Outcome, Code         string
	Rehearsal             string // yes or no
	Person                string // ID
	From, Until           time.Time
	Names                 bool // the search may look for people's names
}

// Traces lists them, the newest first. Search finds by reference number, code, a message's or token's ID, and how a person's name or address begins.
func (g *Gate) Traces(ctx context.Context, p store.Page, f TraceFilter) (*api.List[api.TraceSummary], error) {
	db := g.Store.Read(ctx).Omit("entries").Order("id DESC").Limit(limitOf(p) + 1)
	if p.After != "" {
		db = db.Where("id < ?", p.After)
	}
	if f.Application != "" {
		a, err := g.application(ctx, f.Application)
		if err != nil {
			return nil, err
		}
		db = db.Where("application_id = ?", a.id)
	}
	if f.Provider != "" {
		pr, err := g.provider(ctx, f.Provider)
		if err != nil {
			return nil, err
		}
		db = db.Where("provider_id = ?", pr.id)
	}
	if f.Outcome != "" {
		db = db.Where("outcome = ?", f.Outcome)
	}
	if f.Code != "" {
		db = db.Where("code = ?", f.Code)
	}
	switch f.Rehearsal {
	case "yes":
		db = db.Where("rehearsal_id <> ''")
	case "no":
		db = db.Where("rehearsal_id = ''")
	}
	if f.Person != "" {
		db = db.Where("person_id = ?", f.Person)
	}
	if first := store.FirstID(f.From); first != "" {
		db = db.Where("id >= ?", first)
	}
	if first := store.FirstID(f.Until); first != "" {
		db = db.Where("id < ?", first)
	}
	if q := strings.TrimSpace(p.Search); q != "" {
		var err error
		if db, err = g.traceSearch(ctx, db, clipText(q, 200), f.Names); err != nil {
			return nil, err
		}
	}
	var rows []store.Trace
	if err := db.Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := &api.List[api.TraceSummary]{Items: []api.TraceSummary{}}
	for i, row := range rows {
		if i == limitOf(p) {
			out.Next = rows[i-1].ID
			break
		}
		out.Items = append(out.Items, g.summary(ctx, row))
	}
	return out, nil
}

// Trace shows a whole record. Personal values are masked unless the viewer may see them.
func (g *Gate) Trace(ctx context.Context, reference string, personal bool) (*api.Trace, error) {
	var row store.Trace
	if err := g.Store.Read(ctx).Where("reference = ?", strings.ToUpper(reference)).Take(&row).Error; err != nil {
		if errors.Is(err, store.ErrNotFound) {
			return nil, notFound("trace", reference)
		}
		return nil, store.Clear(err)
	}
	entries, err := g.entries(&row)
	if err != nil {
		return nil, err
	}
	later, err := g.laterEntries(ctx, &row)
	if err != nil {
		return nil, err
	}
	entries = append(entries, later...)
	v := &api.Trace{TraceSummary: g.summary(ctx, row), Entries: []api.TraceEntry{}}
	var sent int64 = -1
	for _, e := range entries {
		if !personal {
			mask(&e)
		}
		shown := api.TraceEntry{Entry: e}
		if m := e.Message; m != nil {
			good := stillGood
			if m.From == trace.Provider {
				good = providersGood
			}
			if g.Now().Before(row.StartedAt.Add(time.Duration(row.Micros)*time.Microsecond + good)) {
				copied := *m
				copied.Raw, copied.Opened = veiled(m.Raw), veiled(m.Opened)
				if m.Name == "Artifact" {
					copied.Raw = "(shown when it has expired)"
				}
				m, shown.Message = &copied, &copied
			}
			shown.Decoded, shown.Opened = Readable([]byte(m.Raw)), Readable([]byte(m.Opened))
			if m.To == trace.Provider {
				sent = e.At
			} else if m.From == trace.Provider && sent >= 0 {
				v.ProviderMicros, sent = v.ProviderMicros+e.At-sent, -1
			}
		}
		if e.Failure != nil && v.Explanation == nil {
			v.Explanation = explained(*e.Failure)
		}
		v.Entries = append(v.Entries, shown)
	}
	if !personal {
		v.Person = masked(v.Person)
	}
	return v, nil
}

// stillGood is how long after a sign-in a message of ours might still be accepted somewhere, providersGood the same for a provider's, whose assertions may be set
// to live for a day. Until then signature and cipher values are veiled, so that reading a trace is no way to become the person in it.
const (
	stillGood     = 10 * time.Minute
	providersGood = 25 * time.Hour
)

const veil = "(shown when it has expired)"

var secretValues = regexp.MustCompile(`(<[\w.:-]*(?:SignatureValue|CipherValue)[^>]*>)[^<]+`)

func veiled(doc string) string {
	return secretValues.ReplaceAllString(doc, "${1}"+veil)
}

func explained(f trace.Failure) *api.TraceExplanation {
	x := &api.TraceExplanation{Explanation: explain.Explain(f), Evidence: f.Evidence, Differences: []explain.Difference{}}
	if x.Evidence == nil {
		x.Evidence = []trace.Evidence{}
	}
	for _, e := range f.Evidence {
		x.Differences = append(x.Differences, explain.Compare(e.Expected, e.Got))
	}
	return x
}

func masked(s string) string {
	if s == "" {
		return ""
	}
	return "•••"
}

// mask takes personal values out of an entry, for viewers.
func mask(e *trace.Entry) {
	if m := e.Message; m != nil {
		copied := *m
		copied.Raw, copied.Opened, copied.RelayState = "", "", masked(m.RelayState)
		e.Message = &copied
	}
	if v := e.Value; v != nil && v.Personal {
		copied := *v
		hide := func(in []string) []string {
			out := slices.Clone(in)
			for i := range out {
				out[i] = masked(out[i])
			}
			return out
		}
		copied.Input, copied.Output, copied.Steps = hide(v.Input), hide(v.Output), nil
		e.Value = &copied
	}
	if d := e.Decision; d != nil && slices.Contains([]string{"person", "subject", "profile", "groups", "access"}, d.About) {
		copied := *d
		if d.About != "access" {
			copied.Result = masked(d.Result)
		}
		if d.About == "person" && !strings.HasPrefix(d.By, "link to ") {
			copied.By = masked(d.By)
		}
		copied.Passed = slices.DeleteFunc(slices.Clone(d.Passed), func(s string) bool { return d.About != "access" || strings.HasPrefix(s, "asked about: ") })
		e.Decision = &copied
	}
	if f := e.Failure; f != nil && (strings.HasPrefix(f.Code, "match.") || strings.HasPrefix(f.Code, "access.") || strings.HasPrefix(f.Code, "subject.") || strings.HasPrefix(f.Code, "map.") || f.Code == "saml.subject-differs") {
		copied := *f
		copied.Evidence = nil
		e.Failure = &copied
	}
}

// Readable indents an XML document for people; anything else is returned as it is.
func Readable(doc []byte) string {
	if len(doc) == 0 {
		return ""
	}
	root, err := xmltree.Parse(doc, xmltree.Limits{})
	if err != nil {
		return string(doc)
	}
	return root.Indented()
}

// clientTrace is the trace of a call of the back channel that was refused.
func (g *Gate) clientTrace(from string, rec *trace.Recorder, app *application, code string) (*store.Trace, error) {
	s := g.begin(Browser{Address: from}, "client")
	s.rec, s.app = rec, app
	g.Metrics.Begun.Add(-1)
	return g.traceRow(s, "refused", code)
}
