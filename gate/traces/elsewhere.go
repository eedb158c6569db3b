package traces

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/gate/ground"
	"innergate/store"
)

// Elsewhere are the other nodes, each with traces of its own.
type Elsewhere interface {
	// Ask asks all of them, calls each with one answer after the other, and says which did not answer in time.
	Ask(ctx context.Context, name string, question any, each func(node string, answer json.RawMessage) error) ([]string, error)
	// Here is this one's own name among them.
	Here() string
}

// What nodes ask each other about traces.
const (
	errandList   = "/traces"
	errandRows   = "/traces/rows"
	errandSettle = "/traces/settle"
)

// Answers are what this node answers the others.
func (g *Room) Answers() map[string]func(context.Context, json.RawMessage) (any, error) {
	return map[string]func(context.Context, json.RawMessage) (any, error){
		errandList:   answer(func(ctx context.Context, q listQuestion) (any, error) { return g.ownList(ctx, q.Page, q.Filter) }),
		errandRows:   answer(g.ownRows),
		errandSettle: answer(g.ownSettle),
	}
}

func answer[Q any](do func(context.Context, Q) (any, error)) func(context.Context, json.RawMessage) (any, error) {
	return func(ctx context.Context, text json.RawMessage) (any, error) {
		var q Q
		d := json.NewDecoder(bytes.NewReader(text))
		d.UseNumber()
		if err := d.Decode(&q); err != nil {
			return nil, fmt.Errorf("the question can't be read: %w", err)
		}
		return do(ctx, q)
	}
}

type listQuestion struct {
	Page   store.Page
	Filter Filter
}

// held is a row with the node that keeps it, which is empty where the gate is alone.
type held[T any] struct {
	Row  T
	Node string
}

func (g *Room) here() string {
	if g.Elsewhere == nil {
		return ""
	}
	return g.Elsewhere.Here()
}

// kinds are the kinds of rows that nodes ask each other for, by the names of their types.
var kinds = map[string]func(db *gorm.DB, query string, values []any) (any, error){}

func init() {
	ofKind[store.Trace]()
	ofKind[store.TraceAddition]()
	ofKind[Counted]()
	ofKind[hourCount]()
	ofKind[whatCount]()
	ofKind[store.AccountTalk]()
}

func ofKind[T any]() {
	kinds[reflect.TypeFor[T]().Name()] = func(db *gorm.DB, query string, values []any) (any, error) {
		out := []T{}
		err := db.Raw(query, values...).Scan(&out).Error
		return out, store.Clear(err)
	}
}

type rowsQuestion struct {
	Kind   string
	Query  string
	Values []value
}

// value is one of a statement, which keeps what it is on the way.
type value struct {
	Time  *time.Time `json:",omitempty"`
	Other any        `json:",omitempty"`
}

// ownRows runs a query that only reads on this node's own traces.
func (g *Room) ownRows(ctx context.Context, q rowsQuestion) (any, error) {
	read := kinds[q.Kind]
	if read == nil {
		return nil, fmt.Errorf("this node, of another version, knows no rows of the kind %q", q.Kind)
	}
	values := make([]any, len(q.Values))
	for i, v := range q.Values {
		switch n, is := v.Other.(json.Number); {
		case v.Time != nil:
			values[i] = *v.Time
		case is:
			whole, err := n.Int64()
			if err != nil {
				return nil, fmt.Errorf("the value %s is no whole number", n)
			}
			values[i] = whole
		default:
			values[i] = v.Other
		}
	}
	db, done := g.Store.Traces.Long(ctx)
	defer done()
	return read(db, q.Query, values)
}

// gather runs a query on the traces of all nodes. The rows come in no order; who did not answer is silent.
func gather[T any](ctx context.Context, g *Room, db *gorm.DB) (out []held[T], silent []string, err error) {
	var own []T
	db = db.Session(&gorm.Session{})
	if err := db.Find(&own).Error; err != nil {
		return nil, nil, store.Clear(err)
	}
	for _, r := range own {
		out = append(out, held[T]{r, g.here()})
	}
	if g.Elsewhere == nil {
		return out, nil, nil
	}
	stmt := db.Session(&gorm.Session{DryRun: true}).Find(&[]T{}).Statement
	q := rowsQuestion{Kind: reflect.TypeFor[T]().Name(), Query: stmt.SQL.String()}
	for _, v := range stmt.Vars {
		if at, is := v.(time.Time); is {
			q.Values = append(q.Values, value{Time: &at})
			continue
		}
		q.Values = append(q.Values, value{Other: v})
	}
	silent, err = g.Elsewhere.Ask(ctx, errandRows, q, func(node string, text json.RawMessage) error {
		var theirs []T
		if err := json.Unmarshal(text, &theirs); err != nil {
			return err
		}
		for _, r := range theirs {
			out = append(out, held[T]{r, node})
		}
		return nil
	})
	return out, silent, err
}

// Gather runs a query on the traces of all nodes that answer, and puts the rows into an order.
func Gather[T any](ctx context.Context, g *Room, db *gorm.DB, order func(a, b T) int) ([]T, error) {
	out, _, err := GatherAll(ctx, g, db, order)
	return out, err
}

// GatherAll is Gather, and says which nodes did not answer.
func GatherAll[T any](ctx context.Context, g *Room, db *gorm.DB, order func(a, b T) int) (out []T, silent []string, err error) {
	all, silent, err := gather[T](ctx, g, db)
	out = make([]T, len(all))
	for i, one := range all {
		out[i] = one.Row
	}
	slices.SortStableFunc(out, order)
	return out, silent, err
}

// Newest is the order of traces in lists.
func Newest(a, b store.Trace) int { return strings.Compare(b.ID, a.ID) }

// Counted is a number of something.
type Counted struct {
	ID string
	N  int64
}

// CountAll adds up what a query counts on each node, by ID.
func (g *Room) CountAll(ctx context.Context, db *gorm.DB) (map[string]int64, error) {
	all, _, err := gather[Counted](ctx, g, db)
	out := map[string]int64{}
	for _, one := range all {
		out[one.Row.ID] += one.Row.N
	}
	return out, err
}

// find reads the trace with a reference, wherever it is kept, and which node that is.
func (g *Room) find(ctx context.Context, reference string) (*store.Trace, string, error) {
	reference = strings.ToUpper(strings.TrimSpace(reference))
	one := g.Store.Traces.Read(ctx).Model(&store.Trace{}).Where("reference = ?", reference).Limit(1)
	var own []store.Trace
	if err := one.Session(&gorm.Session{}).Find(&own).Error; err != nil {
		return nil, "", store.Clear(err)
	}
	if len(own) > 0 && (g.Elsewhere == nil || Ended(own[0].Outcome)) {
		return &own[0], g.here(), nil
	}
	all, silent, err := gather[store.Trace](ctx, g, one)
	if err != nil {
		return nil, "", err
	}
	if len(all) > 0 { // what was gone on with at another node is whole there
		last := slices.MaxFunc(all, func(a, b held[store.Trace]) int { return cmp.Compare(a.Row.Micros, b.Row.Micros) })
		return &last.Row, last.Node, nil
	}
	if len(silent) > 0 {
		return nil, "", ground.Problem(503, "nodes-silent", "Not every node answered",
			"No trace with the number "+reference+" was found, and these nodes, which may have it, did not answer: "+
				strings.Join(silent, ", ")+".", "Try again when they run.")
	}
	return nil, "", ground.NotFound("trace", reference)
}

type settleQuestion struct {
	TraceID, Outcome, Code string
	Before                 []string
}

func (g *Room) ownSettle(ctx context.Context, q settleQuestion) (any, error) {
	first := false
	err := g.Store.Traces.Write(ctx, func(tx *gorm.DB) error {
		var err error
		first, err = settleOutcome(tx, q.TraceID, q.Outcome, q.Code, q.Before...)
		return err
	})
	return first, err
}

// settleElsewhere has the node that keeps a trace write how its sign-in went, while nobody waits for that. Where it does not
// answer, it learns of it before it ends the sign-in itself.
func (g *Room) settleElsewhere(ctx context.Context, q settleQuestion) {
	if g.Elsewhere == nil {
		return
	}
	ctx = context.WithoutCancel(ctx)
	go func() {
		if _, err := g.Elsewhere.Ask(ctx, errandSettle, q, func(string, json.RawMessage) error { return nil }); err != nil {
			g.Log.WarnContext(ctx, "another node could not be told how a sign-in ended", "error", err)
		}
	}()
}
