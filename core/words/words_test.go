package words_test

import (
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"innergate/core/config"
	"innergate/core/words"
)

func TestTimesAndNumbers(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	assert.Equal(t, "1 minute 30 seconds ago", words.Ago(now, now.Add(-90*time.Second)))
	assert.Equal(t, "not said", words.Ago(now, time.Time{}))
	assert.Equal(t, "1 wave", words.Plural(1, "wave", "waves"))
	assert.Equal(t, "0 waves", words.Plural(0, "wave", "waves"))
	assert.Equal(t, "none", words.OrNone(""))
	assert.Equal(t, []string{}, words.List(nil), "an empty list is written as one")
	assert.Equal(t, "desk", words.FirstOf("", "  ", "desk", "rota"))
	assert.Empty(t, words.FirstOf(" "))
}

// TestClip cuts no character in two.
func TestClip(t *testing.T) {
	t.Parallel()
	assert.Equal(t, "Zoë", words.Clip("Zoë Öberg", 4))
	assert.Equal(t, "Zo", words.Clip("Zoë Öberg", 3))
	assert.Equal(t, "Zoë", words.Clip("Zoë", 10))
}

func TestSentences(t *testing.T) {
	t.Parallel()
	assert.Equal(t, "It is gone", words.Capitalise("it is gone"))
	assert.Equal(t, "https://a.example is no address", words.Capitalise("https://a.example is no address"))
	assert.Equal(t, []string{"It is gone."}, words.Fields(errors.New("it is gone")))
	fields := words.Fields(config.Problems{{Field: "name", Message: "is missing"}, {Field: "slug", Message: "is taken"}})
	assert.Len(t, fields, 2)
	assert.Contains(t, fields[1], "slug")
}

func TestDevice(t *testing.T) {
	t.Parallel()
	for agent, says := range map[string]string{
		"": "not said",
		"Mozilla/5.0 (Windows NT 10.0) AppleWebKit/537.36 Chrome/140.0 Safari/537.36 Edg/140.0": "Edge on Windows",
		"Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0":                "Firefox on Linux",
		"Mozilla/5.0 (iPhone; CPU iPhone OS 19_0 like Mac OS X) Version/19.0 Safari/604.1":      "Safari on iPhone",
		"harbour-tool/2.1": "harbour-tool/2.1",
	} {
		assert.Equal(t, says, words.Device(agent), agent)
	}
}
