package span_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"innergate/core/span"
)

// TestWords says lengths as people do.
func TestWords(t *testing.T) {
	t.Parallel()
	for d, want := range map[time.Duration]string{
		0:                               "less than a second",
		300 * time.Millisecond:          "less than a second",
		time.Second:                     "1 second",
		90 * time.Second:                "1 minute 30 seconds",
		time.Hour:                       "1 hour",
		time.Hour + 2*time.Second:       "1 hour",
		12 * time.Hour:                  "12 hours",
		36 * time.Hour:                  "1 day 12 hours",
		8760 * time.Hour:                "1 year",
		9000 * time.Hour:                "1 year 10 days",
		-5 * time.Minute:                "minus 5 minutes",
		61*time.Minute + 30*time.Second: "1 hour 1 minute",
	} {
		assert.Equal(t, want, span.Words(d), d.String())
	}
}
