package config_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"innergate/core/config"
)

// TestAllowsLink takes deep links below what is set, at a border of the path, and no trick.
func TestAllowsLink(t *testing.T) {
	t.Parallel()
	a := &config.SAMLApplication{DeepLinks: []string{"https://rota.example/plan"}, DefaultRelayState: "home"}
	for _, to := range []string{"home", "https://rota.example/plan", "https://rota.example/plan/47", "https://rota.example/plan?w=47"} {
		assert.True(t, a.AllowsLink(to), to)
	}
	for _, to := range []string{"", "away", "https://rota.example/planet", "https://rota.example", "https://evil.example/plan",
		"https://rota.example/plan/../admin", "https://rota.example/plan/..", "https://u@rota.example/plan", "https://rota.example/plan/ x",
		"https://rota.example/plan\\x", "https://rota.example/plan\r\nx"} {
		assert.False(t, a.AllowsLink(to), to)
	}
	assert.False(t, (*config.SAMLApplication)(nil).AllowsLink("home"))
}
