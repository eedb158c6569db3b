package jose

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"github.com/go-jose/go-jose/v4/json"
)

// Object is a JSON object whose members are known by their exact names. encoding/json would take "ISS" for "iss" and
// the last of two members.
type Object map[string]any

const maxDepth = 16

// ReadObject reads one JSON object. Two members of one name (RFC 7515, section 4; RFC 7519, section 4), text after the
// object, octets that are no UTF-8 and nesting deeper than 16 are errors. Numbers stay as they were written
// (json.Number).
func ReadObject(data []byte) (Object, error) {
	if !utf8.Valid(data) {
		return nil, errors.New("it is not UTF-8")
	}
	if err := shallow(data); err != nil {
		return nil, err
	}
	d := json.NewDecoder(bytes.NewReader(data))
	d.SetNumberType(json.UnmarshalJSONNumber)
	var v any
	if err := d.Decode(&v); err != nil {
		return nil, fmt.Errorf("it is not JSON: %s", strings.TrimPrefix(err.Error(), "go-jose/go-jose/json: "))
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return nil, errors.New("something follows the JSON object")
	}
	object, ok := v.(map[string]any)
	if !ok {
		return nil, errors.New("it is JSON, but not an object")
	}
	return object, nil
}

// shallow refuses deep nesting before anything is decoded, so that a decoder that calls itself can't be led far down.
func shallow(data []byte) error {
	depth, quoted := 0, false
	for i := 0; i < len(data); i++ {
		switch c := data[i]; {
		case quoted && c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '{' || c == '[':
			if depth++; depth > maxDepth {
				return fmt.Errorf("it is nested deeper than %d", maxDepth)
			}
		case c == '}' || c == ']':
			depth--
		}
	}
	return nil
}

// Has says whether a member is there and not null.
func (o Object) Has(name string) bool { return o[name] != nil }

// Text is a member that must be a string; ok is false if it is something else. A member that is not there is the empty
// string.
func (o Object) Text(name string) (text string, ok bool) {
	v, there := o[name]
	if !there || v == nil {
		return "", true
	}
	text, ok = v.(string)
	return text, ok
}

// Texts is a member that is a string or a list of strings, as "aud" may be (RFC 7519, section 4.1.3).
func (o Object) Texts(name string) (texts []string, ok bool) {
	switch v := o[name].(type) {
	case nil:
		return nil, true
	case string:
		return []string{v}, true
	case []any:
		for _, one := range v {
			text, ok := one.(string)
			if !ok {
				return nil, false
			}
			texts = append(texts, text)
		}
		return texts, true
	}
	return nil, false
}

// Flag is a member that must be true or false; some providers write it as a string. A member that is not there is
// false.
func (o Object) Flag(name string) (flag, ok bool) {
	switch v := o[name].(type) {
	case nil:
		return false, true
	case bool:
		return v, true
	case string:
		return v == "true", v == "true" || v == "false"
	}
	return false, false
}

// Number is a member that must be a number, such as a time in seconds since 1970 (RFC 7519, section 2, NumericDate). A
// fraction is cut off.
func (o Object) Number(name string) (number int64, there, ok bool) {
	v := o[name]
	if v == nil {
		return 0, false, true
	}
	n, isNumber := v.(json.Number)
	if !isNumber {
		return 0, true, false
	}
	if i, err := n.Int64(); err == nil {
		return i, true, true
	}
	f, err := n.Float64()
	if err != nil || f < -1e15 || f > 1e15 {
		return 0, true, false
	}
	return int64(f), true, true
}

// Write writes JSON in which the numbers of an Object stand as they were read.
func Write(v any) ([]byte, error) { return json.Marshal(v) }
