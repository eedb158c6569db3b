//go:build nodes

package nodes

import (
	"database/sql/driver"
	"encoding/hex"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"
)

// within writes so many of the values of a statement into its text that the engine takes the others.
func within(query string, args []driver.NamedValue) (string, []driver.NamedValue, error) {
	if err := whole(args); err != nil {
		return "", nil, err
	}
	if len(args) <= mostValues {
		return query, args, nil
	}
	places := marks(query)
	if len(places) != len(args) {
		return "", nil, fmt.Errorf("a statement with %d values has %d places for them", len(args), len(places))
	}
	var b strings.Builder
	from := 0
	over := len(args) - mostValues
	for i, at := range places[:over] {
		text, err := literal(args[i].Value)
		if err != nil {
			return "", nil, err
		}
		b.WriteString(query[from:at])
		b.WriteString(text)
		from = at + 1
	}
	b.WriteString(query[from:])
	left := make([]driver.NamedValue, mostValues)
	for i := range left {
		left[i] = args[over+i]
		left[i].Ordinal = i + 1
	}
	return b.String(), left, nil
}

// whole refuses texts that the engine would cut off: among the nodes a text ends at the first zero. Octets that are none are nothing
// (NULL), as they are in a file; the engine's own driver would make them an empty value.
func whole(args []driver.NamedValue) error {
	for i, a := range args {
		if octets, ok := a.Value.([]byte); ok && octets == nil {
			args[i].Value = nil
		}
		if text, ok := a.Value.(string); ok && strings.IndexByte(text, 0) >= 0 {
			return errors.New("a text with a zero octet in it can't be kept")
		}
	}
	return nil
}

// marks are where the question marks of a statement stand that are places for values: not those in strings, names and remarks.
func marks(query string) []int {
	var out []int
	for i := 0; i < len(query); i++ {
		switch c := query[i]; {
		case c == '?':
			out = append(out, i)
		case c == '\'' || c == '"' || c == '`':
			end := strings.IndexByte(query[i+1:], c) // one that is doubled begins another right behind
			if end < 0 {
				return out
			}
			i += 1 + end
		case strings.HasPrefix(query[i:], "/*"):
			end := strings.Index(query[i:], "*/")
			if end < 0 {
				return out
			}
			i += end + 1
		case strings.HasPrefix(query[i:], "--"):
			end := strings.IndexByte(query[i:], '\n')
			if end < 0 {
				return out
			}
			i += end
		}
	}
	return out
}

// literal is a value as SQL writes it.
func literal(value driver.Value) (string, error) {
	switch v := value.(type) {
	case nil:
		return "NULL", nil
	case int64:
		return strconv.FormatInt(v, 10), nil
	case float64:
		return strconv.FormatFloat(v, 'g', -1, 64), nil
	case bool:
		if v {
			return "1", nil
		}
		return "0", nil
	case []byte:
		return "x'" + hex.EncodeToString(v) + "'", nil
	case string:
		return "'" + strings.ReplaceAll(v, "'", "''") + "'", nil
	case time.Time:
		return "'" + v.Format("2006-01-02 15:04:05.999999999-07:00") + "'", nil
	}
	return "", fmt.Errorf("a value of the kind %T can't be written into a statement", value)
}
