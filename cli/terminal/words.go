package terminal

import (
	"fmt"
	"strings"
	"time"
)

// Moment reads a time: RFC 3339, a date with a time of this place, or how long ago, such as 2h.
func Moment(text string) (time.Time, error) {
	if d, err := time.ParseDuration(text); err == nil {
		return time.Now().Add(-d), nil
	}
	for _, form := range []string{time.RFC3339, "2006-01-02 15:04:05", "2006-01-02 15:04", "2006-01-02"} {
		if t, err := time.ParseInLocation(form, text, time.Local); err == nil {
			return t, nil
		}
	}
	return time.Time{}, Usage("%q is no time; write it such as 2026-11-27T09:30:00Z, '2026-11-27 09:30', or 2h for two hours ago", text)
}

// Commas parts a text at its commas.
func Commas(text string) []string {
	var out []string
	for _, one := range strings.Split(text, ",") {
		if one = strings.TrimSpace(one); one != "" {
			out = append(out, one)
		}
	}
	return out
}

// Words are a flag's values, parted by commas.
func Words(text string) []string {
	return strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' })
}

// Override sets a field where a flag gave a value.
func Override(field *string, value string) {
	if value != "" {
		*field = value
	}
}

// Listed shows values in one cell: the first few, and how many more there are.
func Listed(values []string) string {
	const most = 6
	if len(values) == 0 {
		return "–"
	}
	text := strings.Join(values[:min(most, len(values))], ", ")
	if len(values) > most {
		text += fmt.Sprintf(" and %d more", len(values)-most)
	}
	return text
}

// WithComma is a text with a comma before it, where there is one.
func WithComma(s string) string {
	if s == "" {
		return ""
	}
	return ", " + s
}
