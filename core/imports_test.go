// Package core_test holds the core against the rest: the job itself knows no server, no database and no command line.
package core_test

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestCoreStandsAlone(t *testing.T) {
	out, err := exec.Command("go", "list", "-deps", "./...").Output()
	require.NoError(t, err)
	for _, dependency := range strings.Fields(string(out)) {
		for _, forbidden := range []string{"innergate/gate", "innergate/store", "innergate/server", "innergate/client", "innergate/cli",
			"innergate/api", "innergate/standin", "innergate/demo", "github.com/gofiber", "gorm.io", "github.com/urfave"} {
			assert.False(t, strings.HasPrefix(dependency, forbidden), "the core depends on %s", dependency)
		}
	}
}
