package server

import (
	"io/fs"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/explain"
)

// TestNoTextIsMissing sees that every text of the pages is there in German, with as many places for values, and that no
// page says something in English alone.
func TestNoTextIsMissing(t *testing.T) {
	t.Parallel()
	used := regexp.MustCompile(`\{\{(?:t|strong) \$?\.Lang "([^"]+)"`)
	tags := regexp.MustCompile(`(?s)<script>.*?</script>|<style>.*?</style>|<title>.*?</title>|<[^>]*>|\{\{.*?\}\}`)
	names, err := fs.Glob(pageFiles, "pages/*.html")
	require.NoError(t, err)
	require.Greater(t, len(names), 10)
	found := 0
	for _, name := range names {
		doc := mustRead(name)
		for _, m := range used.FindAllStringSubmatch(doc, -1) {
			found++
			assert.Contains(t, german, m[1], name)
		}
		left := strings.TrimSpace(strings.ReplaceAll(tags.ReplaceAllString(doc, " "), "Inner Gate", ""))
		assert.NotRegexp(t, `[A-Za-z]{3}`, left, "%s says something without asking for the language", name)
	}
	assert.Greater(t, found, 60)
	for english, other := range german {
		assert.NotEmpty(t, other)
		assert.Equal(t, strings.Count(english, "%s"), strings.Count(other, "%s"), english)
	}
	for _, e := range explain.All() {
		assert.NotEqual(t, e.Person, said("de", e.Person), e.Code)
	}
	assert.Equal(t, "Weiter zu <strong>&lt;b&gt;</strong>", string(strong("de", "Go on to %s", "<b>")), "what is put in is escaped")
}
