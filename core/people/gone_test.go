package people_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"innergate/core/people"
)

// TestWhenTooManyAreGone stops where more than a share is gone, and never for a handful.
func TestWhenTooManyAreGone(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		gone, known, percent int
		want                 bool
	}{{0, 0, 10, false}, {1, 1, 10, false}, {5, 5, 10, true}, {5, 6, 10, false},
		{6, 50, 10, true}, {6, 60, 10, false}, {6, 59, 10, true}, {100, 1000, 10, false},
		{101, 1000, 10, true}, {999, 1000, 100, false}, {1000, 1000, 100, true}} {
		assert.Equal(t, c.want, people.TooManyGone(c.gone, c.known, c.percent), "%+v", c)
	}
}
