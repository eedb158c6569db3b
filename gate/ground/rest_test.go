package ground_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"innergate/testbed"
)

// TestBackgroundWorkRestsLongerWhilePeopleSignIn leaves whoever signs in all but a tenth of a processor.
func TestBackgroundWorkRestsLongerWhilePeopleSignIn(t *testing.T) {
	t.Parallel()
	l := testbed.NewLab(t)
	assert.Equal(t, 40*time.Millisecond, l.Rest(10*time.Millisecond, 4), "nobody signs in")
	l.Metrics.Begun.Add(1)
	assert.Equal(t, 90*time.Millisecond, l.Rest(10*time.Millisecond, 4))
	assert.Equal(t, 90*time.Millisecond, l.Rest(10*time.Millisecond, 4), "others are expected to follow")
	assert.Equal(t, 200*time.Millisecond, l.Rest(10*time.Millisecond, 20), "it never rests less than it would")
}
