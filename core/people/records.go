package people

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"innergate/core/claims"
)

// Record is one person in a file: of an import or an export.
type Record struct {
	Line    int        `json:"-"`
	ID      string     `json:"id,omitempty"`
	Type    string     `json:"type,omitempty"`
	Active  *bool      `json:"active,omitempty"`
	Login   string     `json:"login,omitempty"`
	Groups  []string   `json:"groups,omitempty"`
	Profile claims.Bag `json:"profile"`
	// PasswordHash is a password's hash as another system kept it.
	PasswordHash string `json:"passwordHash,omitempty"`
	// HasGroups is set where the file says something about groups, if only that there are none.
	HasGroups bool `json:"-"`
}

// LineError is what is wrong with one line of a file.
type LineError struct {
	Line int
	Err  error
}

func (e *LineError) Error() string { return fmt.Sprintf("line %d: %v", e.Line, e.Err) }

// Forms of files.
const (
	FormCSV   = "csv"
	FormLines = "jsonl"
)

const (
	maxLine  = 1 << 20
	listMark = "|" // between the values of one cell
)

// Own columns of a CSV file; all others are attributes of the profile.
const (
	colID     = "id"
	colType   = "type"
	colActive = "active"
	colLogin  = "login"
	colGroups = "groups at the gate"
	colHash   = "password_hash"
)

// Reader reads people out of a file, one after the other.
type Reader struct {
	next func() (*Record, error)
	// Read counts the octets that were taken so far.
	count *counter
}

type counter struct {
	r io.Reader
	n int64
}

func (c *counter) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}

// Octets is how far the file was read, roughly: readers take some in advance.
func (r *Reader) Octets() int64 { return r.count.n }

// NewReader reads a file in CSV with a heading, or in JSON lines.
func NewReader(from io.Reader, form string) (*Reader, error) {
	c := &counter{r: from}
	out := &Reader{count: c}
	switch form {
	case FormCSV:
		return out, out.csv(c)
	case FormLines:
		out.lines(c)
		return out, nil
	}
	return nil, fmt.Errorf("%q is no form of a file; csv and jsonl are", form)
}

// Next gives the next person. A *LineError names a line that can't be read; the reader may go on behind it. io.EOF is
// the end.
func (r *Reader) Next() (*Record, error) { return r.next() }

func (r *Reader) lines(from io.Reader) {
	s := bufio.NewReaderSize(from, 64<<10)
	line := 0
	r.next = func() (*Record, error) {
		for {
			line++
			text, err := readLine(s)
			if errors.Is(err, errLong) {
				return nil, &LineError{line, err}
			}
			if err != nil {
				return nil, err
			}
			text = bytes.TrimSpace(bytes.TrimPrefix(text, []byte("\ufeff")))
			if len(text) == 0 {
				continue
			}
			dec := json.NewDecoder(bytes.NewReader(text))
			dec.DisallowUnknownFields()
			one := &Record{Line: line}
			if err := dec.Decode(one); err != nil {
				return nil, &LineError{line, fmt.Errorf("it is no person in JSON: %s", strings.TrimPrefix(err.Error(), "json: "))}
			}
			one.HasGroups = one.Groups != nil
			return one, nil
		}
	}
}

var errLong = fmt.Errorf("it is longer than %d bytes", maxLine)

// readLine reads up to the next line break. A line that is too long is read to its end and refused.
func readLine(s *bufio.Reader) ([]byte, error) {
	var out []byte
	long := false
	for {
		part, more, err := s.ReadLine()
		if err != nil {
			return nil, err
		}
		if long = long || len(out)+len(part) > maxLine; !long {
			out = append(out, part...)
		}
		if !more {
			break
		}
	}
	if long {
		return nil, errLong
	}
	return out, nil
}

func (r *Reader) csv(from io.Reader) error {
	buffered := bufio.NewReaderSize(from, 64<<10)
	start, _ := buffered.Peek(4096)
	if bytes.HasPrefix(start, []byte("\ufeff")) {
		_, _ = buffered.Discard(3)
	}
	first, _, _ := bytes.Cut(start, []byte("\n"))
	c := csv.NewReader(buffered)
	c.FieldsPerRecord, c.ReuseRecord = -1, false
	if bytes.Count(first, []byte(";")) > bytes.Count(first, []byte(",")) {
		c.Comma = ';'
	}
	heading, err := c.Read()
	if err != nil {
		return &LineError{1, fmt.Errorf("the heading with the names of the columns is missing")}
	}
	for i, h := range heading {
		heading[i] = strings.TrimSpace(h)
		if heading[i] == "" {
			return &LineError{1, fmt.Errorf("the column %d has no name", i+1)}
		}
		if slices.Contains(heading[:i], heading[i]) {
			return &LineError{1, fmt.Errorf("the column %q stands twice", heading[i])}
		}
	}
	r.next = func() (*Record, error) {
		row, err := c.Read()
		line, _ := c.FieldPos(0)
		var wrong *csv.ParseError
		switch {
		case errors.As(err, &wrong):
			return nil, &LineError{wrong.StartLine, fmt.Errorf("it is no CSV: %w", wrong.Err)}
		case err != nil:
			return nil, err
		case len(row) != len(heading):
			return nil, &LineError{line, fmt.Errorf("it has %d cells; the heading has %d", len(row), len(heading))}
		}
		return fromRow(line, heading, row)
	}
	return nil
}

func fromRow(line int, heading, row []string) (*Record, error) {
	r := &Record{Line: line, Profile: claims.Bag{}}
	for i, cell := range row {
		cell = strings.TrimSpace(cell)
		if heading[i] == colGroups {
			r.HasGroups = true
		}
		if cell == "" {
			continue
		}
		switch heading[i] {
		case colID:
			r.ID = cell
		case colType:
			r.Type = cell
		case colLogin:
			r.Login = cell
		case colHash:
			r.PasswordHash = cell
		case colActive:
			yes := cell == "true" || cell == "yes"
			if !yes && cell != "false" && cell != "no" {
				return nil, &LineError{line, fmt.Errorf("active is %q; true and false can be", cell)}
			}
			r.Active = &yes
		case colGroups:
			r.Groups = strings.Split(cell, listMark)
		default:
			r.Profile[heading[i]] = strings.Split(cell, listMark)
		}
	}
	return r, nil
}

// CheckRecord says what is wrong with a record, by the settings.
func (s Settings) CheckRecord(r *Record) error {
	if r.Type != "" && !slices.Contains(s.Types, r.Type) {
		return &LineError{r.Line, fmt.Errorf("%q is no person type; %s are", r.Type, strings.Join(s.Types, ", "))}
	}
	if err := s.CheckProfile(r.Profile); err != nil {
		return &LineError{r.Line, err}
	}
	if r.PasswordHash != "" && r.Login == "" {
		return &LineError{r.Line, fmt.Errorf("a password's hash needs a login")}
	}
	return nil
}

// CSVWriter writes people with a heading of these attributes.
type CSVWriter struct {
	w     *csv.Writer
	names []string
}

// NewCSVWriter writes the heading.
func NewCSVWriter(to io.Writer, attributes []string) (*CSVWriter, error) {
	w := csv.NewWriter(to)
	return &CSVWriter{w, attributes}, w.Write(append([]string{colID, colType, colActive, colLogin, colGroups}, attributes...))
}

// Write writes one person. A cell that a spreadsheet would take for a formula is marked as text.
func (c *CSVWriter) Write(r *Record) error {
	row := []string{r.ID, r.Type, fmt.Sprint(r.Active == nil || *r.Active), r.Login, strings.Join(r.Groups, listMark)}
	for _, n := range c.names {
		row = append(row, strings.Join(r.Profile[n], listMark))
	}
	for i, cell := range row {
		if cell != "" && strings.ContainsAny(cell[:1], "=+@-\t\r") && !numForm.MatchString(cell) {
			row[i] = "'" + cell
		}
	}
	return c.w.Write(row)
}

// Flush writes what is left.
func (c *CSVWriter) Flush() error {
	c.w.Flush()
	return c.w.Error()
}
