package config_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/config"
)

// TestSettingsSayWhatIsWrong holds the settings that stand in files against their limits.
func TestSettingsSayWhatIsWrong(t *testing.T) {
	for name, c := range map[string]struct {
		v    interface{ Validate() error }
		says string
	}{
		"an assignment": {&config.GroupAssignment{Application: "crew-rota", Group: "crew", Roles: []string{"skipper"}},
			""},
		"an assignment of nothing": {&config.GroupAssignment{Group: "crew"}, "application"},
		"an assignment to nobody":  {&config.GroupAssignment{Application: "crew-rota"}, "group"},
		"an empty role": {&config.GroupAssignment{Application: "crew-rota", Group: "crew", Roles: []string{" "}},
			"roles"},
		"a long role": {&config.GroupAssignment{Application: "crew-rota", Group: "crew",
			Roles: []string{strings.Repeat("r", 201)}}, "roles"},
		"too many roles": {&config.GroupAssignment{Application: "crew-rota", Group: "crew", Roles: make([]string, 101)},
			"roles"},
		"notices": {&config.Notices{Webhook: "https://watch.example/hook",
			Mail: []string{"watch@saltmere.example"}}, ""},
		"a webhook with a password in it": {&config.Notices{Webhook: "https://a:b@watch.example/hook"}, "webhook"},
		"a webhook of another kind":       {&config.Notices{Webhook: "file:///etc/passwd"}, "webhook"},
		"a webhook without a host":        {&config.Notices{Webhook: "https:///hook"}, "webhook"},
		"no mail address":                 {&config.Notices{Mail: []string{"watch"}}, "mail"},
		"many mail addresses":             {&config.Notices{Mail: strings.Split(strings.Repeat("a@b.example ", 21), " ")[:21]}, "mail"},
		"an unknown severity":             {&config.Notices{From: "loud"}, "from"},
		"traces for a month":              {&config.Retention{Days: 30, Count: 100_000}, ""},
		"traces for no time":              {&config.Retention{Days: 0, Count: 100_000}, "days"},
		"traces for ever":                 {&config.Retention{Days: 5000, Count: 100_000}, "days"},
		"too few traces":                  {&config.Retention{Days: 30, Count: 999}, "count"},
		"too many traces":                 {&config.Retention{Days: 30, Count: 10_000_001}, "count"},
	} {
		t.Run(name, func(t *testing.T) {
			err := c.v.Validate()
			if c.says == "" {
				assert.NoError(t, err)
				return
			}
			var problems config.Problems
			require.ErrorAs(t, err, &problems)
			assert.Equal(t, c.says, problems[0].Field)
		})
	}
	n := &config.Notices{Webhook: " https://watch.example/hook "}
	require.NoError(t, n.Validate())
	assert.Equal(t, config.Notices{Webhook: "https://watch.example/hook", From: "attention"}, *n, "defaults are filled in")
	a := &config.GroupAssignment{Application: "crew-rota", Group: "crew", Roles: []string{}}
	require.NoError(t, a.Validate())
	assert.Nil(t, a.Roles, "no roles are written in one way, so that equal bodies are equal configurations")
}
