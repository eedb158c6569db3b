package redact_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/redact"
	"innergate/core/trace"
)

// TestMask takes out of every kind of entry what tells who the person is.
func TestMask(t *testing.T) {
	t.Parallel()
	for name, e := range map[string]trace.Entry{
		"message":  {Message: &trace.Message{Raw: "<Response>Mira Voss</Response>", Opened: "Mira Voss", RelayState: "Mira Voss"}},
		"value":    {Value: &trace.Value{Personal: true, Input: []string{"Mira Voss"}, Output: []string{"Mira Voss"}}},
		"person":   {Decision: &trace.Decision{About: "person", Result: "Mira Voss", By: "Mira Voss", Passed: []string{"Mira Voss"}}},
		"access":   {Decision: &trace.Decision{About: "access", Result: "allow", Passed: []string{"asked about: Mira Voss"}}},
		"mismatch": {Failure: &trace.Failure{Code: "match.inactive", Evidence: []trace.Evidence{{Label: "person", Got: "Mira Voss"}}}},
	} {
		before := e
		redact.Mask(&e)
		for _, part := range []any{e.Message, e.Value, e.Decision, e.Failure} {
			assert.NotContains(t, jsonOf(t, part), "Mira Voss", name)
		}
		assert.NotEqual(t, before, e, "%s: a copy is changed, never what is kept", name)
	}
	kept := trace.Entry{Decision: &trace.Decision{About: "access", Result: "refuse", Passed: []string{"asked about: x", "rule 1"}}}
	redact.Mask(&kept)
	assert.Equal(t, "refuse", kept.Decision.Result, "viewers see what was decided")
	assert.Equal(t, []string{"rule 1"}, kept.Decision.Passed)
}

// TestVeiled hides what would let somebody use a message again.
func TestVeiled(t *testing.T) {
	t.Parallel()
	out := redact.Veiled(`<ds:SignatureValue>AAAA</ds:SignatureValue><xenc:CipherValue a="b">BBBB</xenc:CipherValue><Audience>x</Audience>`)
	assert.NotContains(t, out, "AAAA")
	assert.NotContains(t, out, "BBBB")
	assert.Contains(t, out, "<Audience>x</Audience>")
	assert.Equal(t, 2, strings.Count(out, redact.Veil))
}

// TestClip bounds what a stranger's messages take.
func TestClip(t *testing.T) {
	t.Parallel()
	long := trace.Entry{Message: &trace.Message{Raw: strings.Repeat("ö", 100), RelayState: strings.Repeat("r", 100)}}
	out := redact.Clip([]trace.Entry{long, {}}, 51)
	assert.Contains(t, out[0].Message.Raw, "cut off here")
	assert.True(t, strings.HasPrefix(out[0].Message.Raw, strings.Repeat("ö", 25)+"…"), "no character is cut in two")
	assert.Len(t, out[0].Message.RelayState, 51)
	assert.Len(t, long.Message.RelayState, 100, "the entries themselves stay")
}

func TestReadable(t *testing.T) {
	t.Parallel()
	assert.Equal(t, "not XML", redact.Readable([]byte("not XML")))
	assert.Contains(t, redact.Readable([]byte("<a><b>x</b></a>")), "\n")
	assert.Empty(t, redact.Readable(nil))
}

func jsonOf(t *testing.T, v any) string {
	t.Helper()
	b, err := json.Marshal(v)
	require.NoError(t, err)
	return string(b)
}
