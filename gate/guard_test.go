package gate_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

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
