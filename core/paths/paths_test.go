package paths_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"innergate/core/config"
	"innergate/core/paths"
)

// TestPlainPath lists paths that mean the same to everybody, and such that two programs could read in two ways.
func TestPlainPath(t *testing.T) {
	t.Parallel()
	for _, path := range []string{"/", "/boats", "/boats/", "/boats/grey-heron.html", "/b%C3%B6rse", "/a%20b/c", "/~me/@x:y,z=1&2+3",
		"/.well-known/x", "/...x", "/%E4%BC%8A"} {
		assert.True(t, paths.PlainPath(path), path)
	}
	for _, path := range []string{"", "boats", "*", "//", "/a//b", "/./a", "/a/..", "/a/../b", "/a/...", "/a.", "/a./b", "/a%20",
		"/a%20/b", "/%20a", "/a;b", "/a%3bb", "/a\\b", "/a%5Cb", "/a%2Fb", "/a%2eb", "/%252e", "/a%00", "/a%0a", "/a%7f", "/%c0%ae",
		"/%ff", "/%", "/%zz", "/a\x01"} {
		assert.False(t, paths.PlainPath(path), path)
	}
}

// TestPathRule takes the first rule that fits; what opens a path must fit it to the letter.
func TestPathRule(t *testing.T) {
	t.Parallel()
	rules := []config.PathRule{
		{Path: "/health", Then: config.PathOpen},
		{Path: "/plans", Methods: []string{"POST"}, Then: config.PathRefuse},
		{Path: "/plans/", Then: config.PathGroups},
	}
	for _, c := range []struct{ method, path, then string }{
		{"GET", "/health", config.PathOpen},
		{"GET", "/health/deep", config.PathOpen},
		{"GET", "/healthy", config.PathSignedIn},
		{"GET", "/Health", config.PathSignedIn},
		{"POST", "/PLANS", config.PathRefuse},
		{"GET", "/plans/x", config.PathGroups},
		{"GET", "/", config.PathSignedIn},
	} {
		assert.Equal(t, c.then, paths.PathRule(rules, c.method, c.path).Then, c.method+" "+c.path)
	}
}

// TestHeaderText lets no value end a header.
func TestHeaderText(t *testing.T) {
	t.Parallel()
	assert.Equal(t, "crew,officeX-Admin: yes", paths.HeaderText([]string{"crew", "office\r\nX-Admin: yes\x00\x7f"}))
}
