package explain_test

import (
	"os"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/explain"
)

func TestCatalogueIsWhole(t *testing.T) {
	form := regexp.MustCompile(`^[a-z]+\.[a-z0-9-]+$`)
	seen := map[string]bool{}
	for _, e := range explain.All() {
		assert.Regexp(t, form, e.Code)
		assert.False(t, seen[string(e.Code)], "%s stands twice", e.Code)
		seen[string(e.Code)] = true
		for name, text := range map[string]string{"title": e.Title, "cause": e.Cause, "remedy": e.Remedy, "person": e.Person} {
			assert.NotEmpty(t, text, "%s has no %s", e.Code, name)
		}
		assert.NotContains(t, e.Person, "{", "%s shows evidence to the person", e.Code)
		assert.Contains(t, []explain.Side{explain.Ours, explain.Theirs, explain.Either, explain.Person}, e.Side)
	}
}

func TestFailureFillsTexts(t *testing.T) {
	f := explain.New("saml.audience-mismatch", explain.Pair("audience", "https://gate.example/saml/sp", "https://gate.example/other")).
		Of("Saltmere Staff")
	e := f.Explain()
	assert.Equal(t, "Saltmere Staff names the audience https://gate.example/other; our entity ID is https://gate.example/saml/sp.", e.Cause)
	assert.Contains(t, f.Error(), "saml.audience-mismatch")
}

func TestCompareShowsTheDifference(t *testing.T) {
	for _, c := range []struct{ expected, got, head, differsE, differsG, tail, hint string }{
		{"https://a.example/acs", "https://a.example/acs/", "https://a.example/acs", "", "/", "", "trailing slash"},
		{"https://a.example/acs", "http://a.example/acs", "http", "s", "", "://a.example/acs", "http and https"},
		{"https://a.example/acs", "https://a.example/ACS", "https://a.example/", "acs", "ACS", "", "case"},
		{"https://a.example/acs", "https://a.example:443/acs", "https://a.example", "", ":443", "/acs", "port"},
		{"urn:a", " urn:a", "", "", " ", "urn:a", "white space"},
		{"urn:a", "", "", "urn:a", "", "", "missing"},
	} {
		d := explain.Compare(c.expected, c.got)
		assert.False(t, d.Equal)
		assert.Equal(t, []string{c.head, c.differsE, c.differsG, c.tail}, []string{d.Head, d.Expected, d.Got, d.Tail})
		assert.Contains(t, d.Hint, c.hint)
	}
	assert.True(t, explain.Compare("x", "x").Equal)
}

// TestHandbookIsCurrent holds the handbook's page against the catalogue that it is made from.
func TestHandbookIsCurrent(t *testing.T) {
	page, err := os.ReadFile("../../docs/handbook/codes.md")
	require.NoError(t, err)
	assert.Equal(t, explain.Handbook(), string(page), "make it anew: innergate explain --handbook > docs/handbook/codes.md")
	assert.NotContains(t, explain.Handbook(), "{")
}

func TestTextsWithoutAFailure(t *testing.T) {
	for _, e := range explain.All() {
		text := e.Text()
		assert.Contains(t, text, e.Title)
		assert.NotContains(t, text, "{", e.Code)
		assert.NotEmpty(t, e.Side.Words(), e.Code)
	}
	assert.Equal(t, "saml.audience-mismatch", explain.Nearest("saml.audience-mismach"))
	assert.Equal(t, "match.several", explain.Nearest("match.sevral"))
}

// TestNothingIsMissingInGerman sees that everything that people are told is there in the other language, and nothing
// that nobody says any more.
func TestNothingIsMissingInGerman(t *testing.T) {
	said := map[string]bool{}
	for _, e := range explain.All() {
		said[e.Person] = true
		assert.NotEqual(t, e.Person, explain.PersonIn("de", e.Person), e.Code)
		assert.Equal(t, e.Person, explain.PersonIn("en", e.Person))
	}
	for _, text := range explain.GermanOf() {
		assert.True(t, said[text], "nobody says: %s", text)
	}
}
