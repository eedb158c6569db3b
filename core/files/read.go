package files

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"
	"golang.org/x/sync/errgroup"

	"innergate/core/access"
	"innergate/core/config"
	"innergate/core/people"
)

// Text is one file.
type Text struct {
	Name string `json:"name,omitempty"`
	Text string `json:"text"`
}

// The limits of what is read at once.
const (
	MostFiles    = 25000
	MostOctets   = 64 << 20
	mostProblems = 50
	mostDepth    = 40
	// keptRead is for how many objects what was read is kept beside their text; for more it is read again where it is needed.
	keptRead = 1000
)

// Read reads files strictly: a key that is not known is a problem, with the nearest one that is. Defaults are filled
// in, so that bodies can be compared.
func Read(texts []Text) *Set {
	r := &reader{set: &Set{}, places: map[string]Place{}}
	total := 0
	for _, t := range texts {
		total += len(t.Text)
	}
	if len(texts) > MostFiles || total > MostOctets {
		r.problem(
			Place{},
			"",
			"there are %d files with %d MiB; %d files with %d MiB are the most",
			len(texts),
			total>>20,
			MostFiles,
			MostOctets>>20,
		)
		return r.set
	}
	for _, t := range texts {
		r.file = t.Name
		r.text(t.Text)
	}
	if len(r.set.Objects) == 0 && len(r.set.Secrets) == 0 && len(r.set.Problems) == 0 {
		r.problem(
			Place{},
			"",
			"there is nothing in it; a file holds lists named groups, ruleSets, sources, templates, providers, applications and "+
				"assignments, and settings such as routes and sessions",
		)
	}
	return r.set
}

type reader struct {
	set    *Set
	file   string
	places map[string]Place
}

func (r *reader) problem(at Place, field, format string, args ...any) {
	if len(r.set.Problems) == mostProblems {
		r.set.Problems = append(r.set.Problems, config.Problem{Message: "there is more that is wrong; this is enough for now"})
	}
	if len(r.set.Problems) > mostProblems {
		return
	}
	r.set.Problems = append(
		r.set.Problems,
		config.Problem{File: at.File, Line: at.Line, Field: field, Message: fmt.Sprintf(format, args...)},
	)
}

func (r *reader) at(n *yaml.Node) Place { return Place{r.file, n.Line} }

var yamlLine = regexp.MustCompile(`^yaml: (?:line (\d+): )?`)

// text reads one file. A long one is read piece by piece, so that no more of it is held at one time than must be; where a piece
// can't be read, the whole is read in its order, so that what is wrong is found where it stands.
func (r *reader) text(text string) {
	if pieces := split(text); len(pieces) > 1 {
		before := *r.set
		places := maps.Clone(r.places)
		if eachPiece(pieces, r.document) {
			return
		}
		*r.set, r.places = before, places
	}
	nodes, err := documents(text)
	for _, n := range nodes {
		if n.Tag != "!!null" {
			r.document(n)
		}
	}
	if err == nil {
		return
	}
	line := 0
	if m := yamlLine.FindStringSubmatch(err.Error()); m != nil {
		line, _ = strconv.Atoi(m[1])
	}
	r.problem(Place{r.file, line}, "", "this is not YAML: %s", yamlLine.ReplaceAllString(err.Error(), ""))
}

var formType = reflect.TypeFor[Form]()

func (r *reader) document(n *yaml.Node) {
	if n.Kind != yaml.MappingNode {
		r.problem(r.at(n), "", "a configuration file holds keys such as applications and providers, and this is %s", nodeInWords(n))
		return
	}
	known := fieldsOf(formType)
	for i := 0; i < len(n.Content); i += 2 {
		key, value := n.Content[i], n.Content[i+1]
		f, ok := known[key.Value]
		if !ok {
			r.unknown(key, "", formType)
			continue
		}
		if value.Tag == "!!null" {
			continue
		}
		if place, twice := r.places["the key "+key.Value]; twice && f.Kind() == reflect.Pointer {
			r.problem(r.at(key), key.Value, "it stands at %s already; one of them must go", place)
			continue
		}
		r.places["the key "+key.Value] = r.at(key)
		if key.Value == "secrets" {
			r.list(value, key.Value, f.Elem(), section{key: key.Value})
			continue
		}
		s := sections[slices.IndexFunc(sections, func(s section) bool { return s.key == key.Value })]
		if s.kind == Setting {
			r.take(r.item(value, key.Value, f.Elem(), s))
			continue
		}
		r.list(value, key.Value, f.Elem(), s)
	}
}

func names(v any) (slug, name string) {
	switch v := v.(type) {
	case *config.Group:
		return v.Slug, v.Name
	case *config.RuleSet:
		return v.Slug, v.Name
	case *config.Source:
		return v.Slug, v.Name
	case *config.Template:
		return v.Slug, v.Name
	case *config.Provider:
		return v.Slug, v.Name
	case *config.Application:
		return v.Slug, v.Name
	case *config.GroupAssignment:
		return v.Application + "/" + v.Group, v.Group + " to " + v.Application
	}
	return "", ""
}

// item is one object or secret as it was read.
type item struct {
	object   Object
	secret   *Secret
	problems config.Problems
	field    string
}

// list reads the items of a list, side by side, and takes them in their order.
func (r *reader) list(n *yaml.Node, field string, t reflect.Type, s section) {
	if n.Kind != yaml.SequenceNode {
		r.problem(r.at(n), field, "it should hold a list, not %s", nodeInWords(n))
		return
	}
	items := make([]item, len(n.Content))
	var work errgroup.Group
	work.SetLimit(sideBySide())
	for some := range slices.Chunk(indexes(len(items)), 64) {
		work.Go(func() error {
			for _, i := range some {
				items[i] = r.item(n.Content[i], fmt.Sprintf("%s[%d]", field, i), t, s)
			}
			return nil
		})
	}
	_ = work.Wait() // nothing of it fails; what is wrong stands with the items
	for i := range items {
		r.take(items[i])
	}
}

func indexes(n int) []int {
	out := make([]int, n)
	for i := range out {
		out[i] = i
	}
	return out
}

// item reads and checks one object. It changes nothing of the reader.
func (r *reader) item(n *yaml.Node, field string, t reflect.Type, s section) item {
	own := &reader{set: &Set{}, file: r.file}
	out := item{field: field, object: Object{Kind: s.kind, Slug: s.setting, Name: s.key, At: r.at(n)}}
	w := walker{r: own}
	w.value(n, t, field, 0)
	v := reflect.New(t)
	if len(own.set.Problems) == 0 {
		if err := json.Unmarshal(w.out.Bytes(), v.Interface()); err != nil {
			own.problem(r.at(n), field, "%s", strings.TrimPrefix(err.Error(), "json: "))
		}
	}
	if len(own.set.Problems) == 0 {
		own.check(n, field, &out, v.Interface())
	}
	out.problems = own.set.Problems
	return out
}

// check fills defaults and says what is wrong with a value that was read.
func (r *reader) check(n *yaml.Node, field string, out *item, v any) {
	if s, ok := v.(*Secret); ok {
		s.At = out.object.At
		out.secret = s
		return
	}
	if out.object.Kind != Setting {
		out.object.Slug, out.object.Name = names(v)
	}
	err := checked(v)
	var problems config.Problems
	switch {
	case errors.As(err, &problems):
		for _, p := range problems {
			r.problem(Place{r.file, lineOf(n, p.Field)}, field+"."+p.Field, "%s", p.Message)
		}
	case err != nil:
		r.problem(out.object.At, field, "%s", err)
	}
	body, err := json.Marshal(v)
	if err != nil {
		r.problem(out.object.At, field, "%s", err)
	}
	out.object.Body = string(body)
	out.object.read, out.object.readOf = v, out.object.Body
}

// take adds an item to the set, unless another has its name.
func (r *reader) take(i item) {
	for _, p := range i.problems {
		r.problem(Place{p.File, p.Line}, p.Field, "%s", p.Message)
	}
	if i.secret != nil {
		r.secret(i.secret.At, i.field, *i.secret)
		return
	}
	o := i.object
	if first, twice := r.places[o.Key()]; twice && o.Slug != "" {
		r.problem(o.At, i.field, "%s %s stands at %s already; one of them must go", strings.ToUpper(o.Kind[:1])+o.Kind[1:], o.Slug, first)
		return
	}
	r.places[o.Key()] = o.At
	if len(i.problems) == 0 {
		if len(r.set.Objects) >= keptRead {
			o.read = nil
		}
		r.set.Objects = append(r.set.Objects, o)
	}
}

// Normal is a body in the form in which it is kept today, whatever it was written by.
func Normal(o Object) (string, error) {
	s := section{kind: o.Kind, setting: o.Slug}
	i := slices.IndexFunc(sections, func(one section) bool { return one.kind == s.kind && (s.kind != Setting || one.setting == s.setting) })
	if i < 0 {
		return "", fmt.Errorf("%s is no kind of object", o.Kind)
	}
	t := fieldsOf(formType)[sections[i].key]
	v := reflect.New(t.Elem())
	if err := json.Unmarshal([]byte(o.Body), v.Interface()); err != nil {
		return "", fmt.Errorf("the %s can't be read: %w", o.Key(), err)
	}
	if err := checked(v.Interface()); err != nil {
		return "", fmt.Errorf("%s: %w", o.Key(), err)
	}
	b, err := json.Marshal(v.Interface())
	return string(b), err
}

// checked fills defaults and says what is wrong.
func checked(v any) error {
	switch v := v.(type) {
	case interface{ Validate() error }:
		return v.Validate()
	case *people.Settings:
		if v.Attributes == nil {
			v.Attributes = []people.Attribute{}
		}
		return v.Check()
	case *access.Routes:
		if v.Rules == nil {
			v.Rules = []access.Route{}
		}
		return v.Check()
	}
	return nil
}

var secretOwner = regexp.MustCompile(`^(mail|notices|(providers|applications)/[a-z0-9-]{1,64})$`)

func (r *reader) secret(at Place, field string, s Secret) {
	s.At = at
	given := 0
	for _, v := range []string{s.Env, s.File, s.Sealed} {
		if v != "" {
			given++
		}
	}
	switch {
	case !secretOwner.MatchString(s.For):
		r.problem(at, field+".for", "%q has no secret; providers/NAME, applications/NAME, mail and notices have", s.For)
	case given != 1:
		r.problem(
			at, field,
			"a secret comes from one of env (a variable's name), file (a path) and sealed (made by `innergate config seal`)",
		)
	case r.places["secret "+s.For] != Place{}:
		r.problem(at, field, "the secret for %s stands at %s already; one of them must go", s.For, r.places["secret "+s.For])
	default:
		r.places["secret "+s.For] = at
		r.set.Secrets = append(r.set.Secrets, s)
	}
}

// lineOf is the line of a field such as saml.acs[0].location below a node, or of the nearest thing above it.
func lineOf(n *yaml.Node, field string) int {
	line := n.Line
	for _, part := range strings.FieldsFunc(field, func(c rune) bool { return c == '.' || c == '[' || c == ']' }) {
		var next *yaml.Node
		if i, err := strconv.Atoi(part); err == nil && n.Kind == yaml.SequenceNode && i < len(n.Content) {
			next = n.Content[i]
			line = next.Line
		} else if n.Kind == yaml.MappingNode {
			for i := 0; i < len(n.Content); i += 2 {
				if n.Content[i].Value == part {
					next, line = n.Content[i+1], n.Content[i].Line
				}
			}
		}
		if next == nil {
			return line
		}
		n = next
	}
	return line
}

// walker writes a node as JSON, and holds it against the type into which it will be read.
type walker struct {
	r   *reader
	out bytes.Buffer
}

var unmarshaler = reflect.TypeFor[json.Unmarshaler]()

func (w *walker) value(n *yaml.Node, t reflect.Type, field string, depth int) {
	for t != nil && t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	if t != nil && (t.Kind() == reflect.Interface || reflect.PointerTo(t).Implements(unmarshaler)) {
		t = looseOf(t)
	}
	wrong := func(expected string) {
		w.r.problem(w.r.at(n), field, "it should hold %s, not %s", expected, nodeInWords(n))
	}
	switch {
	case depth > mostDepth:
		w.r.problem(w.r.at(n), field, "it is nested too deeply")
	case n.Kind == yaml.AliasNode || n.Anchor != "":
		w.r.problem(
			w.r.at(n),
			field,
			"anchors and aliases are not read here, so that every object says by itself what it is; rule sets and templates are for "+
				"what many share",
		)
	case n.Tag == "!!null":
		w.out.WriteString("null")
	case n.Kind == yaml.MappingNode:
		if t != nil && t.Kind() != reflect.Struct && t.Kind() != reflect.Map {
			wrong(typeInWords(t))
			return
		}
		w.mapping(n, t, field, depth)
	case n.Kind == yaml.SequenceNode:
		if t != nil && t.Kind() != reflect.Slice && t.Kind() != reflect.Array {
			wrong(typeInWords(t))
			return
		}
		w.out.WriteByte('[')
		for i, item := range n.Content {
			if i > 0 {
				w.out.WriteByte(',')
			}
			var elem reflect.Type
			if t != nil {
				elem = t.Elem()
			}
			w.value(item, elem, fmt.Sprintf("%s[%d]", field, i), depth+1)
		}
		w.out.WriteByte(']')
	default:
		w.scalar(n, t, wrong)
	}
}

// looseOf is nothing for types that read themselves in several forms: they say themselves what is wrong. Those that are
// structs still have known keys.
func looseOf(t reflect.Type) reflect.Type {
	if t.Kind() != reflect.Struct || t.NumField() == 0 {
		return nil
	}
	for i := range t.NumField() {
		if t.Field(i).Tag.Get("json") == "" {
			return nil
		}
	}
	return t
}

func (w *walker) mapping(n *yaml.Node, t reflect.Type, field string, depth int) {
	seen := map[string]int{}
	w.out.WriteByte('{')
	for i := 0; i < len(n.Content); i += 2 {
		key, value := n.Content[i], n.Content[i+1]
		path := strings.TrimPrefix(field+"."+key.Value, ".")
		if line := seen[key.Value]; line > 0 {
			w.r.problem(w.r.at(key), path, "the key stands in line %d already", line)
			continue
		}
		seen[key.Value] = key.Line
		var ft reflect.Type
		if t != nil && t.Kind() == reflect.Struct {
			var ok bool
			if ft, ok = fieldsOf(t)[key.Value]; !ok {
				w.r.unknown(key, field, t)
				continue
			}
		} else if t != nil {
			ft = t.Elem()
		}
		if w.out.Bytes()[w.out.Len()-1] != '{' {
			w.out.WriteByte(',')
		}
		w.string(key.Value)
		w.out.WriteByte(':')
		w.value(value, ft, path, depth+1)
	}
	w.out.WriteByte('}')
}

func (w *walker) string(s string) {
	b, _ := json.Marshal(s) // strings always marshal
	w.out.Write(b)
}

func (w *walker) scalar(n *yaml.Node, t reflect.Type, wrong func(string)) {
	tag := n.ShortTag()
	if t == nil {
		switch tag {
		case "!!bool":
			w.out.WriteString(strconv.FormatBool(truth(n.Value)))
		case "!!int", "!!float":
			if json.Valid([]byte(n.Value)) {
				w.out.WriteString(n.Value)
				return
			}
			w.string(n.Value)
		default:
			w.string(n.Value)
		}
		return
	}
	switch t.Kind() {
	case reflect.String:
		w.string(n.Value)
	case reflect.Bool:
		if tag != "!!bool" {
			wrong("true or false")
			return
		}
		w.out.WriteString(strconv.FormatBool(truth(n.Value)))
	case reflect.Struct, reflect.Slice, reflect.Map, reflect.Array:
		wrong(typeInWords(t))
	case reflect.Float32, reflect.Float64:
		if !json.Valid([]byte(n.Value)) || tag != "!!int" && tag != "!!float" {
			wrong("a number")
			return
		}
		w.out.WriteString(n.Value)
	default:
		if _, err := strconv.ParseInt(n.Value, 10, 64); err != nil || tag != "!!int" {
			wrong("a whole number")
			return
		}
		w.out.WriteString(n.Value)
	}
}

func truth(v string) bool { return strings.EqualFold(v, "true") }

func typeInWords(t reflect.Type) string {
	switch t.Kind() {
	case reflect.Slice, reflect.Array:
		return "a list"
	case reflect.Struct, reflect.Map:
		return "a group of keys"
	case reflect.Bool:
		return "true or false"
	case reflect.String:
		return "text"
	}
	return "a number"
}

func nodeInWords(n *yaml.Node) string {
	switch {
	case n.Kind == yaml.MappingNode:
		return "a group of keys"
	case n.Kind == yaml.SequenceNode:
		return "a list"
	case n.ShortTag() == "!!bool":
		return "true or false"
	case n.ShortTag() == "!!int", n.ShortTag() == "!!float":
		return "a number"
	case n.ShortTag() == "!!null":
		return "nothing"
	}
	return "text"
}
