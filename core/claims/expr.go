package claims

import (
	"fmt"
	"slices"
	"strings"
	"sync"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
)

// Expression is a CEL expression over a person's values. A name stands for its first value, or for "" where there is
// none; value("name") is the same for names that are no CEL names, such as OIDs, and values("name") is the list of all.
// Beside what CEL has, a text has lower(), upper(), trim(), before(text) and after(text), and a list of texts has
// join(text). An expression none of whose names has a value gives nothing. It always ends: what it may cost is bounded.
type Expression struct {
	text    string
	program cel.Program
	names   []string
	kind    *cel.Type
}

const (
	maxExpression  = 2000
	maxCost        = 100_000
	attributesName = "attributes"
)

var environment = sync.OnceValues(func() (*cel.Env, error) {
	text := func(name string, f func(string) string) cel.EnvOption {
		return cel.Function(
			name,
			cel.MemberOverload(
				"text_"+name,
				[]*cel.Type{cel.StringType},
				cel.StringType,
				cel.UnaryBinding(func(v ref.Val) ref.Val { return types.String(f(string(v.(types.String)))) }),
			),
		)
	}
	with := func(name string, f func(s, at string) string) cel.EnvOption {
		return cel.Function(
			name,
			cel.MemberOverload(
				"text_"+name,
				[]*cel.Type{cel.StringType, cel.StringType},
				cel.StringType,
				cel.BinaryBinding(func(a, b ref.Val) ref.Val {
					return types.String(f(string(a.(types.String)), string(b.(types.String))))
				}),
			),
		)
	}
	return cel.NewEnv(
		cel.ASTValidators(cel.ValidateRegexLiterals(), cel.ValidateComprehensionNestingLimit(3)),
		cel.Variable(attributesName, cel.MapType(cel.StringType, cel.ListType(cel.StringType))),
		cel.Macros(
			append(
				slices.Clone(cel.StandardMacros), cel.GlobalMacro("values", 1, expandValues),
				cel.GlobalMacro("value", 1, expandValue),
			)...),
		text("lower", strings.ToLower),
		text("upper", strings.ToUpper),
		text("trim", strings.TrimSpace),
		with("before", func(s, at string) string { b, _, _ := strings.Cut(s, at); return b }),
		with("after", func(s, at string) string {
			if _, a, ok := strings.Cut(s, at); ok {
				return a
			}
			return s
		}),
		cel.Function(
			"join",
			cel.MemberOverload(
				"texts_join",
				[]*cel.Type{cel.ListType(cel.StringType), cel.StringType},
				cel.StringType,
				cel.BinaryBinding(joined),
			),
		),
	)
})

// expandValues makes values("x") the list under a name, empty where it is absent.
func expandValues(f cel.MacroExprFactory, _ ast.Expr, args []ast.Expr) (ast.Expr, *common.Error) {
	return f.NewCall(
		operators.Conditional, f.NewCall(operators.In, args[0], f.NewIdent(attributesName)),
		f.NewCall(operators.Index, f.NewIdent(attributesName), f.Copy(args[0])), f.NewList(),
	), nil
}

// expandValue makes value("x") the first value under a name, or "".
func expandValue(f cel.MacroExprFactory, _ ast.Expr, args []ast.Expr) (ast.Expr, *common.Error) {
	list := f.NewCall(operators.Index, f.NewIdent(attributesName), f.Copy(args[0]))
	return f.NewCall(
		operators.Conditional, f.NewCall(operators.In, args[0], f.NewIdent(attributesName)),
		f.NewCall(operators.Index, list, f.NewLiteral(types.Int(0))), f.NewLiteral(types.String("")),
	), nil
}

func joined(list, sep ref.Val) ref.Val {
	l, ok := list.(traits.Lister)
	if !ok {
		return types.NewErr("join needs a list")
	}
	var parts []string
	size := 0
	for it := l.Iterator(); it.HasNext() == types.True; {
		s, ok := it.Next().(types.String)
		if !ok {
			return types.NewErr("join needs a list of texts")
		}
		if size += len(s) + len(sep.(types.String)); size > maxValue {
			return types.NewErr("join makes a text of more than %d bytes", maxValue)
		}
		parts = append(parts, string(s))
	}
	return types.String(strings.Join(parts, string(sep.(types.String))))
}

// CompileExpression makes an expression ready, or says what is wrong with it and where.
func CompileExpression(text string) (*Expression, error) { return compileExpression(text, false) }

// CompileCondition is CompileExpression for one that must give true or false.
func CompileCondition(text string) (*Expression, error) { return compileExpression(text, true) }

// compiled keeps expressions that were made ready, since grants and matching meet the same ones at every sign-in. It is
// emptied when it is full.
var compiled struct {
	sync.Mutex
	ready map[string]*Expression
}

func compileExpression(text string, condition bool) (*Expression, error) {
	key := text
	if condition {
		key = "?" + text
	}
	compiled.Lock()
	e := compiled.ready[key]
	compiled.Unlock()
	if e != nil {
		return e, nil
	}
	e, err := makeExpression(text, condition)
	if err != nil {
		return nil, err
	}
	compiled.Lock()
	defer compiled.Unlock()
	if compiled.ready == nil || len(compiled.ready) >= 4096 {
		compiled.ready = map[string]*Expression{}
	}
	compiled.ready[key] = e
	return e, nil
}

func makeExpression(text string, condition bool) (*Expression, error) {
	if len(text) > maxExpression {
		return nil, fmt.Errorf("the expression has %d characters; %d are the most", len(text), maxExpression)
	}
	env, err := environment()
	if err != nil {
		return nil, err
	}
	parsed, issues := env.Parse(text)
	if issues.Err() != nil {
		return nil, inWords(issues)
	}
	e := &Expression{text: text, names: freeNames(parsed.NativeRep().Expr())}
	var more []cel.EnvOption
	for _, n := range e.names {
		more = append(more, cel.Variable(n, cel.StringType))
	}
	if env, err = env.Extend(more...); err != nil {
		return nil, err
	}
	checked, issues := env.Check(parsed)
	if issues.Err() != nil {
		return nil, inWords(issues)
	}
	e.kind = checked.OutputType()
	switch k := e.kind; {
	case condition && !k.IsExactType(cel.BoolType):
		return nil, fmt.Errorf("the condition gives a %s; true or false is needed", cel.FormatCELType(k))
	case !k.IsExactType(cel.StringType) && !k.IsExactType(cel.BoolType) && !k.IsExactType(cel.IntType) && !k.IsExactType(cel.DynType) &&
		!(k.Kind() == types.ListKind && (k.Parameters()[0].IsExactType(cel.StringType) || k.Parameters()[0].IsExactType(cel.DynType))):
		return nil, fmt.Errorf(
			"the expression gives a %s; a text, a list of texts, a whole number, or true or false is needed",
			cel.FormatCELType(k),
		)
	}
	if e.program, err = env.Program(checked, cel.EvalOptions(cel.OptOptimize), cel.CostLimit(maxCost)); err != nil {
		return nil, fmt.Errorf("the expression can't be used: %w", err)
	}
	return e, nil
}

// inWords says the first thing that is wrong, and where.
func inWords(issues *cel.Issues) error {
	for _, e := range issues.Errors() {
		return fmt.Errorf("the expression can't be read at character %d: %s", e.Location.Column()+1, e.Message)
	}
	return fmt.Errorf("the expression can't be read: %w", issues.Err())
}

// freeNames lists the names in an expression that nothing in it binds.
func freeNames(e ast.Expr) []string {
	bound := map[string]bool{attributesName: true}
	var names []string
	ast.PostOrderVisit(e, ast.NewExprVisitor(func(e ast.Expr) {
		switch e.Kind() {
		case ast.ComprehensionKind:
			c := e.AsComprehension()
			bound[c.IterVar()], bound[c.IterVar2()], bound[c.AccuVar()] = true, true, true
		case ast.IdentKind:
			names = append(names, e.AsIdent())
		}
	}))
	names = slices.DeleteFunc(names, func(n string) bool { return bound[n] || typeNames[n] })
	slices.Sort(names)
	return slices.Compact(names)
}

// typeNames are names that CEL gives a meaning of its own.
var typeNames = map[string]bool{
	"string":    true,
	"int":       true,
	"uint":      true,
	"double":    true,
	"bool":      true,
	"bytes":     true,
	"list":      true,
	"map":       true,
	"type":      true,
	"null_type": true,
}

// bags is where an expression finds its names: what was set first, then what came.
type bags struct{ in, set Bag }

func (b bags) get(name string) []string {
	if v := b.set[name]; len(v) > 0 {
		return v
	}
	return b.in[name]
}

// ResolveName gives CEL the value of a name.
func (b bags) ResolveName(name string) (any, bool) {
	if name != attributesName {
		if v := b.get(name); len(v) > 0 {
			return v[0], true
		}
		return "", true
	}
	all := make(map[string][]string, len(b.in)+len(b.set))
	for _, bag := range []Bag{b.in, b.set} {
		for n, v := range bag {
			if len(v) > 0 {
				all[n] = v
			}
		}
	}
	return all, true
}

// Parent is there for CEL, which asks for an outer scope.
func (b bags) Parent() cel.Activation { return nil }

// Values evaluates the expression.
func (e *Expression) Values(in, set Bag) ([]string, error) {
	b := bags{in, set}
	if len(e.names) > 0 && !slices.ContainsFunc(e.names, func(n string) bool { return len(b.get(n)) > 0 }) {
		return nil, nil
	}
	got, _, err := e.program.Eval(b)
	if err != nil {
		if strings.Contains(err.Error(), "cost limit") {
			return nil, fmt.Errorf("the expression takes too long on these values; make it look at fewer")
		}
		return nil, fmt.Errorf("the expression fails: %s", strings.TrimPrefix(err.Error(), "no such overload: "))
	}
	switch v := got.(type) {
	case types.String:
		if v == "" {
			return nil, nil
		}
		return []string{string(v)}, nil
	case types.Bool:
		return []string{fmt.Sprint(bool(v))}, nil
	case types.Int:
		return []string{fmt.Sprint(int64(v))}, nil
	case traits.Lister:
		return texts(v)
	}
	return nil, fmt.Errorf(
		"the expression gave a %s; a text, a list of texts, a whole number, or true or false is needed",
		got.Type().TypeName(),
	)
}

func texts(l traits.Lister) ([]string, error) {
	var out []string
	for it := l.Iterator(); it.HasNext() == types.True; {
		item := it.Next()
		s, ok := item.(types.String)
		if !ok {
			return nil, fmt.Errorf("the expression gave a list with a %s in it; texts are needed", item.Type().TypeName())
		}
		out = append(out, string(s))
	}
	return out, nil
}

// Holds evaluates a condition. Names without a value stand for "", so that a condition is decided whatever came.
func (e *Expression) Holds(in Bag) (bool, error) {
	got, _, err := e.program.Eval(bags{in: in})
	if err != nil {
		return false, fmt.Errorf("the condition fails: %w", err)
	}
	return got == types.True, nil
}
