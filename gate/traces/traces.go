package traces

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/klauspost/compress/zstd"
	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/address"
	"innergate/core/explain"
	"innergate/core/redact"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/store"
)

var (
	// Packer packs a trace's entries.
	Packer = sync.OnceValue(func() *zstd.Encoder {
		e, err := zstd.NewWriter(
			nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(128<<10),
		)
		if err != nil {
			panic(err) // fixed options
		}
		return e
	})
	// Unpacker opens what Packer packed.
	Unpacker = sync.OnceValue(func() *zstd.Decoder {
		d, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(64<<20))
		if err != nil {
			panic(err) // fixed options
		}
		return d
	})
)

// RoomForStranger says whether one more trace of a request that nobody known made is kept in this minute: of all of
// them, and of one network no more than a fifth, so that one can't silence the others.
func (g *Room) RoomForStranger(from string) bool {
	now := g.Now()
	return g.strangers.Take("traces "+address.Network(from), max(1, g.StrangerTraces/5), time.Minute, now) &&
		g.strangers.Take("traces", g.StrangerTraces, time.Minute, now)
}

// RoomForPartner says whether one more trace of a request that failed is kept in this minute of a partner that has proven
// who it is.
func (g *Room) RoomForPartner(id string) bool {
	return g.strangers.Take("partner "+id, g.StrangerTraces, time.Minute, g.Now())
}

// Of what happens on the back channel after a sign-in the first and the last exchanges are kept: a client may refresh
// its tokens for months.
const (
	FirstAdditions = 10
	LastAdditions  = 40
	// AdditionPlace numbers the additions to a trace, and those behind each.
	AdditionPlace = "row_number() OVER (PARTITION BY trace_id ORDER BY id) AS n, count(*) OVER (PARTITION BY " +
		"trace_id) - row_number() OVER (PARTITION BY trace_id ORDER BY id) AS left"
)

// laterEntries are what happened on the back channel after the sign-in, with their times since its beginning.
func (g *Room) laterEntries(ctx context.Context, t *store.Trace) ([]trace.Entry, error) {
	rows, err := Gather(ctx, g, g.Store.Traces.Read(ctx).Model(&store.TraceAddition{}).Table("(SELECT *, "+AdditionPlace+
		" FROM trace_additions WHERE trace_id = ?)", t.ID).Where("n <= ? OR left < ?", FirstAdditions, LastAdditions),
		func(a, b store.TraceAddition) int { return strings.Compare(a.ID, b.ID) })
	if err != nil {
		return nil, err
	}
	var out []trace.Entry
	for _, row := range rows {
		entries, err := g.unpack(row.ID, row.Entries)
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

// Entries opens a trace's entries.
func (g *Room) Entries(t *store.Trace) ([]trace.Entry, error) {
	return g.unpack(t.ID, t.Entries)
}

func (g *Room) unpack(id string, sealed []byte) ([]trace.Entry, error) {
	packed, err := g.Store.Sealer.Open(store.PlaceTrace, id, sealed)
	if err != nil {
		return nil, err
	}
	return Unpack(packed)
}

// MessageLimit bounds what one message takes in a trace. Until somebody has authenticated, whoever sent it is a stranger who must
// not fill the disk; known are those whose sign-in is under way here.
func MessageLimit(outcome string, authenticated, known bool) int {
	switch {
	case outcome == OutcomeSignedIn || outcome == OutcomeWaiting:
		return saml.MaxMessage
	case authenticated:
		return 64 << 10
	case known || outcome == OutcomeOpen:
		return 16 << 10
	}
	return 8 << 10
}

// Pack packs entries, each message of them cut off at a limit.
func Pack(entries []trace.Entry, limit int) ([]byte, error) {
	text, err := json.Marshal(redact.Clip(entries, limit))
	return Packer().EncodeAll(text, nil), err
}

// SoFar are the entries of a sign-in that is under way: those that travelled with it, or else those in its trace.
func (g *Room) SoFar(ctx context.Context, id string, said []byte) []trace.Entry {
	var entries []trace.Entry
	var err error
	if len(said) > 0 {
		entries, err = Unpack(said)
	} else {
		var t store.Trace
		if err = g.Store.Traces.Read(ctx).Where("id = ?", id).Take(&t).Error; err == nil {
			entries, err = g.Entries(&t)
		}
	}
	if err != nil {
		return nil
	}
	return entries
}

// Unpack opens entries that were packed.
func Unpack(packed []byte) ([]trace.Entry, error) {
	plain := packed
	if !bytes.HasPrefix(packed, []byte("[")) {
		var err error
		if plain, err = Unpacker().DecodeAll(packed, nil); err != nil {
			return nil, err
		}
	}
	var out []trace.Entry
	return out, json.Unmarshal(plain, &out)
}

// Summary is a trace as a list shows it.
func (g *Room) Summary(ctx context.Context, t store.Trace) api.TraceSummary {
	v := api.TraceSummary{
		Reference:   t.Reference,
		Application: t.Application,
		Provider:    t.Provider,
		Person:      t.Person,
		Flow:        t.Flow,
		Outcome:     t.Outcome,
		Code:        t.Code,
		Rehearsal:   t.RehearsalID != "",
		Started:     t.StartedAt,
		Micros:      t.Micros,
	}
	if t.ApplicationID != "" {
		if a, err := g.partners.ApplicationByID(ctx, t.ApplicationID); err == nil {
			v.ApplicationSlug = a.Slug
		}
	}
	if t.ProviderID != "" {
		if p, err := g.partners.ProviderByID(ctx, t.ProviderID); err == nil {
			v.ProviderSlug = p.Slug
		}
	}
	if e, ok := explain.Lookup(explain.Code(t.Code)); ok {
		v.Title = e.Title
	}
	return v
}

// Filter narrows a list of traces.
type Filter struct {
	Application, Provider string // short names
	Outcome, Code, Flow   string
	Rehearsal             string // yes or no
	Person                string // ID
	From, Until           time.Time
	Names                 bool // the search may look for people's names
}

// Traces lists them, the newest first. Search finds by reference number, code, a message's or token's ID, and how a
// person's name or address begins.
func (g *Room) Traces(ctx context.Context, p store.Page, f Filter) (*api.List[api.TraceSummary], error) {
	all, silent, err := g.list(ctx, p, f)
	if err != nil {
		return nil, err
	}
	key := func(t *held[store.Trace]) string { return t.Row.ID }
	out, err := ground.PageOf(p, all, key, func(t *held[store.Trace]) (*api.TraceSummary, error) {
		v := g.Summary(ctx, t.Row)
		v.Node = t.Node
		return &v, nil
	})
	if err == nil {
		out.Silent = silent
	}
	return out, err
}

// list is a page of the traces of all nodes, and one more.
func (g *Room) list(ctx context.Context, p store.Page, f Filter) (all []held[store.Trace], silent []string, err error) {
	own, err := g.ownList(ctx, p, f)
	if err != nil {
		return nil, nil, err
	}
	for _, t := range own {
		all = append(all, held[store.Trace]{t, g.here()})
	}
	if g.Elsewhere == nil {
		return all, nil, nil
	}
	silent, err = g.Elsewhere.Ask(ctx, errandList, listQuestion{p, f}, func(node string, text json.RawMessage) error {
		var theirs []store.Trace
		if err := json.Unmarshal(text, &theirs); err != nil {
			return err
		}
		for _, t := range theirs {
			all = append(all, held[store.Trace]{t, node})
		}
		return nil
	})
	slices.SortStableFunc(all, func(a, b held[store.Trace]) int {
		return cmp.Or(Newest(a.Row, b.Row), cmp.Compare(b.Row.Micros, a.Row.Micros))
	})
	all = slices.CompactFunc(all, func(a, b held[store.Trace]) bool { return a.Row.ID == b.Row.ID })
	return all[:min(len(all), ground.LimitOf(p)+1)], silent, err
}

// ownList is a page of this node's own traces, and one more.
func (g *Room) ownList(ctx context.Context, p store.Page, f Filter) ([]store.Trace, error) {
	db := g.Store.Traces.Read(ctx).Omit("entries").Order("id DESC").Limit(ground.LimitOf(p) + 1)
	if p.After != "" {
		db = db.Where("id < ?", p.After)
	}
	if f.Application != "" {
		a, err := g.partners.Application(ctx, f.Application)
		if err != nil {
			return nil, err
		}
		db = db.Where("application_id = ?", a.ID)
	}
	if f.Provider != "" {
		pr, err := g.partners.Provider(ctx, f.Provider)
		if err != nil {
			return nil, err
		}
		db = db.Where("provider_id = ?", pr.ID)
	}
	// Where anything else narrows the list, that is what its rows are looked for by: outcomes and flows have few values.
	plus := ""
	if f.Application != "" || f.Provider != "" || f.Code != "" || f.Person != "" {
		plus = "+"
	}
	if f.Outcome != "" {
		db = db.Where(plus+"outcome = ?", f.Outcome)
	}
	if f.Flow != "" {
		db = db.Where(plus+"flow = ?", f.Flow)
	}
	if f.Code != "" {
		var err error
		if db, err = g.byCode(ctx, db, f.Code); err != nil {
			return nil, err
		}
	}
	switch f.Rehearsal {
	case "yes":
		var err error
		if db, _, err = g.Store.Traces.Narrow(ctx, db, "traces", rehearsed); err != nil {
			return nil, err
		}
	case "no":
		db = db.Where("+rehearsal_id = ''") // nearly all
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
		if db, err = g.traceSearch(ctx, db, words.Clip(q, 200), f.Names); err != nil {
			return nil, err
		}
	}
	rows := []store.Trace{}
	err := db.Find(&rows).Error
	return rows, store.Clear(err)
}

// byCode narrows a list to traces that ended with a code, and to the newest in which it stands since later, when the application
// came to the token endpoint. Without any of these the index over codes alone gives them in order.
func (g *Room) byCode(ctx context.Context, db *gorm.DB, code string) (*gorm.DB, error) {
	var later []string
	const since = "SELECT DISTINCT trace_id FROM trace_additions a WHERE code = ? AND code <> '' AND EXISTS (SELECT 1 FROM traces t " +
		"WHERE t.id = a.trace_id AND t.code <> ?) ORDER BY trace_id DESC LIMIT 200"
	err := g.Store.Traces.Read(ctx).Raw(since, code, code).Scan(&later).Error
	if err != nil {
		return nil, store.Clear(err)
	}
	if len(later) == 0 {
		return db.Where("code = ?", code), nil
	}
	return db.Where("(code = ? OR id IN ?)", code, later), nil
}

// Trace shows a whole record. Personal values are masked unless the viewer may see them.
func (g *Room) Trace(ctx context.Context, reference string, personal bool) (*api.Trace, error) {
	row, node, err := g.find(ctx, reference)
	if err != nil {
		return nil, err
	}
	entries, err := g.Entries(row)
	if err != nil {
		return nil, err
	}
	later, err := g.laterEntries(ctx, row)
	if err != nil {
		return nil, err
	}
	entries = append(entries, later...)
	v := &api.Trace{TraceSummary: g.Summary(ctx, *row), Entries: []api.TraceEntry{}}
	v.Node = node
	var sent int64 = -1
	for _, e := range entries {
		if !personal {
			redact.Mask(&e)
		}
		shown := api.TraceEntry{Entry: e}
		if m := e.Message; m != nil {
			good := stillGood
			if m.From == trace.Provider {
				good = providersGood
			}
			if g.Now().Before(row.StartedAt.Add(time.Duration(row.Micros)*time.Microsecond + good)) {
				copied := *m
				copied.Raw, copied.Opened = redact.Veiled(m.Raw), redact.Veiled(m.Opened)
				if m.Name == "Artifact" {
					copied.Raw = "(shown when it has expired)"
				}
				m, shown.Message = &copied, &copied
			}
			shown.Decoded, shown.Opened = redact.Readable([]byte(m.Raw)), redact.Readable([]byte(m.Opened))
			if m.To == trace.Provider {
				sent = e.At
			} else if m.From == trace.Provider && sent >= 0 {
				v.ProviderMicros, sent = v.ProviderMicros+e.At-sent, -1
			}
		}
		if e.Failure != nil && v.Explanation == nil {
			v.Explanation = Explained(*e.Failure)
		}
		if row.Outcome == OutcomeSignedIn && e.Message != nil && e.Message.Name == TokenResponse {
			v.Explanation = nil // what was refused before was put right
		}
		v.Entries = append(v.Entries, shown)
	}
	if row.Outcome == OutcomeNotTakenUp {
		v.Explanation = Explained(trace.Failure{Code: row.Code, Partner: row.Application})
	}
	if !personal {
		v.Person = redact.Masked(v.Person)
	}
	return v, nil
}

// TokenResponse is what a trace calls the answer with which an application gets its tokens.
const TokenResponse = "token response"

// stillGood is how long after a sign-in a message of ours might still be accepted somewhere, providersGood the same for
// a provider's, whose assertions may be set to live for a day. Until then signature and cipher values are veiled, so
// that reading a trace is no way to become the person in it.
const (
	stillGood     = 10 * time.Minute
	providersGood = 25 * time.Hour
)

// Explained is a failure with its explanation.
func Explained(f trace.Failure) *api.TraceExplanation {
	x := &api.TraceExplanation{Explanation: explain.Explain(f), Evidence: f.Evidence, Differences: []explain.Difference{}}
	if x.Evidence == nil {
		x.Evidence = []trace.Evidence{}
	}
	for _, e := range f.Evidence {
		x.Differences = append(x.Differences, explain.Compare(e.Expected, e.Got))
	}
	return x
}
