package access_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"innergate/core/access"
	"innergate/core/explain"
)

func TestReach(t *testing.T) {
	for _, c := range []struct {
		reach     access.Reach
		rehearsal bool
		code      string
	}{
		{access.Everyone, false, ""},
		{access.Everyone, true, ""},
		{access.Draft, true, ""},
		{access.Draft, false, "reach.application-draft"},
		{access.Closed, false, "reach.application-closed"},
		{access.Closed, true, "reach.application-closed"},
		{"", false, "reach.application-closed"},
	} {
		err := c.reach.Serves("application", "Crew Rota", c.rehearsal)
		if c.code == "" {
			assert.NoError(t, err)
			continue
		}
		assert.Equal(t, c.code, string(err.(*explain.Failure).Code))
	}
}
