package files

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"innergate/core/alike"
)

// Entry is one partner of a list.
type Entry struct {
	Line   int
	Values map[string]string // by column, as Columns names them
	Wrong  string            // why the line can't be read
}

// Columns are those of a list of partners: url is where metadata, a discovery document or a client's own description
// lies.
var Columns = []string{"url", "name", "short_name", "description", "contact", "start_url", "entity_id", "providers"}

// columnWords are what people call them.
var columnWords = map[string]string{
	"address":      "url",
	"metadata":     "url",
	"metadata_url": "url",
	"link":         "url",
	"issuer":       "url",
	"title":        "name",
	"application":  "name",
	"provider":     "name",
	"slug":         "short_name",
	"shortname":    "short_name",
	"owner":        "contact",
	"mail":         "contact",
	"start":        "start_url",
	"login_url":    "start_url",
	"entity":       "entity_id",
	"entityid":     "entity_id",
	"idp":          "providers",
	"remark":       "description",
}

const mostEntries = 1000

// ReadList reads a list of partners in CSV, with a line of columns at its head, parted by commas, semicolons or tabs. A
// line that can't be read is told and left out; the others count.
func ReadList(text string) ([]Entry, error) {
	text = strings.TrimPrefix(text, "\ufeff")
	head, _, _ := strings.Cut(text, "\n")
	r := csv.NewReader(strings.NewReader(text))
	r.FieldsPerRecord, r.TrimLeadingSpace, r.LazyQuotes = -1, true, false
	for _, c := range []rune{';', '\t'} {
		if strings.Count(head, string(c)) > strings.Count(head, ",") {
			r.Comma = c
		}
	}
	names, err := r.Read()
	if err != nil {
		return nil, fmt.Errorf("the list has no line of columns at its head: %s", strings.Join(Columns, ", "))
	}
	columns := make([]string, len(names))
	for i, n := range names {
		n = strings.NewReplacer(" ", "_", "-", "_").Replace(strings.ToLower(strings.TrimSpace(n)))
		if w, ok := columnWords[n]; ok {
			n = w
		}
		if !slices.Contains(Columns, n) {
			if near := alike.Nearest(n, Columns); near != "" {
				return nil, fmt.Errorf("the column %q is not known; %q is", names[i], near)
			}
			return nil, fmt.Errorf("the column %q is not known; these are: %s", names[i], strings.Join(Columns, ", "))
		}
		if slices.Contains(columns[:i], n) {
			return nil, fmt.Errorf("two columns are the %s", n)
		}
		columns[i] = n
	}
	var out []Entry
	for {
		record, err := r.Read()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		e := Entry{Values: map[string]string{}}
		if len(record) > 0 {
			e.Line, _ = r.FieldPos(0)
		}
		var wrong *csv.ParseError
		switch {
		case errors.As(err, &wrong):
			e.Line, e.Wrong = wrong.StartLine, "it is no line of a list: "+wrong.Err.Error()
		case err != nil:
			return nil, err
		case len(record) == 1 && strings.TrimSpace(record[0]) == "":
			continue
		case len(record) != len(columns):
			e.Wrong = fmt.Sprintf("there are %d columns, and it has %d", len(columns), len(record))
		}
		for i, v := range record {
			if i < len(columns) && strings.TrimSpace(v) != "" {
				e.Values[columns[i]] = strings.TrimSpace(v)
			}
		}
		if len(out) == mostEntries {
			return nil, fmt.Errorf("the list has more than %d lines; take it in several", mostEntries)
		}
		out = append(out, e)
	}
}
