package people_test

import (
	"bytes"
	"errors"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/claims"
	"innergate/core/people"
)

// all reads a file to its end: records and the lines that are wrong.
func all(t *testing.T, text, form string) (records []*people.Record, wrong []string) {
	t.Helper()
	r, err := people.NewReader(strings.NewReader(text), form)
	require.NoError(t, err)
	for {
		one, err := r.Next()
		var line *people.LineError
		switch {
		case errors.Is(err, io.EOF):
			return records, wrong
		case errors.As(err, &line):
			wrong = append(wrong, err.Error())
		default:
			require.NoError(t, err)
			records = append(records, one)
		}
	}
}

func TestPeopleInCSV(t *testing.T) {
	records, wrong := all(
		t,
		"\ufeffexternal_id;name;active;groups at the gate;shift\n1;\"Zoë \"\"Zo\"\" Öberg\";no;crew|quay;day|night\n2;Two\n"+
			"3;Three;perhaps;;\n\n4;Four;;;\n",
		people.FormCSV,
	)
	require.Len(t, records, 2)
	assert.Equal(t, claims.Bag{"external_id": {"1"}, "name": {`Zoë "Zo" Öberg`}, "shift": {"day", "night"}}, records[0].Profile)
	assert.Equal(t, []string{"crew", "quay"}, records[0].Groups)
	assert.False(t, *records[0].Active)
	assert.Nil(t, records[1].Active, "an empty cell says nothing")
	assert.Equal(t, []string{"line 3: it has 2 cells; the heading has 5", `line 4: active is "perhaps"; true and false can be`}, wrong)
	for _, heading := range []string{"", "name,name\n", "name,,mail\n"} {
		_, err := people.NewReader(strings.NewReader(heading), people.FormCSV)
		assert.Error(t, err, heading)
	}
}

func TestPeopleInLines(t *testing.T) {
	records, wrong := all(t, `{"type":"staff","groups":[],"profile":{"name":["Mira"]}}
not json

{"profile":{"name":["Jonas"]},"shoe":41}
{"login":"runa","profile":{}}
`+strings.Repeat("x", 2<<20)+"\n{\"profile\":{}}\n", people.FormLines)
	require.Len(t, records, 3)
	assert.True(t, records[0].HasGroups)
	assert.False(t, records[1].HasGroups)
	assert.Equal(t, 7, records[2].Line, "behind a line that is too long it goes on")
	require.Len(t, wrong, 3)
	assert.Contains(t, wrong[0], "line 2:")
	assert.Contains(t, wrong[1], "shoe")
	assert.Contains(t, wrong[2], "line 6: it is longer than")
	_, err := people.NewReader(nil, "xls")
	assert.ErrorContains(t, err, "no form of a file")
}

// TestExportIsNoProgram writes cells that a spreadsheet would take for formulas.
func TestExportIsNoProgram(t *testing.T) {
	var b bytes.Buffer
	w, err := people.NewCSVWriter(&b, []string{"name", "phone_number"})
	require.NoError(t, err)
	require.NoError(
		t,
		w.Write(
			&people.Record{
				ID:      "1",
				Type:    "staff",
				Groups:  []string{"crew", "quay"},
				Profile: claims.Bag{"name": {`=cmd|' /C calc'!A0`}, "phone_number": {"-5", "6"}},
			},
		),
	)
	require.NoError(t, w.Flush())
	assert.Equal(
		t,
		"id,type,active,login,groups at the gate,name,phone_number\n1,staff,true,,crew|quay,'=cmd|' /C calc'!A0,'-5|6\n",
		b.String(),
	)
}

func TestRecordsAreChecked(t *testing.T) {
	s := people.DefaultSettings()
	assert.NoError(t, s.CheckRecord(&people.Record{Profile: claims.Bag{"name": {"Mira"}}}))
	for says, r := range map[string]people.Record{
		"line 7: \"pirate\" is no person type": {Line: 7, Type: "pirate"},
		"is no mail address":                   {Profile: claims.Bag{"email": {"x"}}},
		"needs a login":                        {PasswordHash: "x"},
		"4096 are the most":                    {Profile: claims.Bag{"name": {strings.Repeat("a", 5000)}}},
	} {
		assert.ErrorContains(t, s.CheckRecord(&r), says)
	}
}
