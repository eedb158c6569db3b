package cli_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/testbed"
)

// TestAccountsFromTheCommandLine compares, approves, sets right and reads an account's history; and lets a provider push.
func TestAccountsFromTheCommandLine(t *testing.T) {
	w := world(t)
	assert.Regexp(t, `changed there\s+│?\s*1`, good(t, "accounts", "show", "cargo-ledger"))
	assert.Contains(t, good(t, "accounts", "try", "cargo-ledger"), "urn:example:cargo-ledger:2.0:User:deck")
	said := good(t, "accounts", "would", "cargo-ledger", "eskil.brae")
	assert.Contains(t, said, "has one: assigned by name.")
	assert.Contains(t, said, `"userName": "eskil.brae"`)
	require.NoError(t, w.Walker().SignIn(t.Context(), w.RotaURL+"/sign-in", "mvoss"))
	assert.Contains(t, good(t, "accounts", "would", "cargo-ledger", "Mira"), "has none: not assigned")
	assert.Regexp(t, `of nobody known here\s+│?\s*1`, good(t, "accounts", "compare", "cargo-ledger"))
	one := func(state string) api.Account {
		t.Helper()
		var list api.List[api.Account]
		require.NoError(t, json.Unmarshal([]byte(good(t, "accounts", "list", "cargo-ledger", "--state", state, "-o", "json")), &list))
		require.NotEmpty(t, list.Items, state)
		return list.Items[0]
	}
	changed := one("drifted")
	assert.Contains(t, good(t, "accounts", "list", "cargo-ledger"), `title is "Weighmaster" there`)
	said = good(t, "accounts", "history", "cargo-ledger", changed.ID, "--messages")
	assert.Contains(t, said, `"userName":"eskil.brae"`)
	assert.Contains(t, said, "assigned by name")
	assert.NotContains(t, said, w.LedgerAccounts.Token)
	assert.Contains(t, good(t, "accounts", "correct", "cargo-ledger", changed.ID), "Set right: 1.")
	require.Eventually(t, func() bool { return w.LedgerAccounts.Find("eskil.brae")["title"] == "skipper" }, testbed.Patience,
		testbed.Patience/200)
	code, _, says := run(t, "", "accounts", "approve", "cargo-ledger")
	assert.NotZero(t, code)
	assert.Contains(t, says, "which accounts?")
	assert.Contains(t, good(t, "accounts", "approve", "cargo-ledger", "--all"), "Approved: 2.")
	require.Eventually(t, func() bool { return w.LedgerAccounts.Find("runa.holt")["externalId"] != nil }, testbed.Patience,
		testbed.Patience/200)
	robot := one("foreign")
	code, _, says = run(t, "", "accounts", "adopt", "cargo-ledger", robot.ID, "runa.holt@agency.example")
	assert.NotZero(t, code)
	assert.Contains(t, says, "has the account runa.holt")
	assert.Contains(t, good(t, "accounts", "leave", "cargo-ledger", robot.ID), "Left alone: 1.")
	_, _, says = run(t, "", "accounts", "agree", "cargo-ledger", "3")
	assert.Contains(t, says, "0 accounts would be taken away by now")
	code, out, _ := run(t, "a-next-token\n", "accounts", "secret", "enter", "cargo-ledger")
	assert.Zero(t, code)
	assert.Contains(t, out, "Stored as the next one.")
	code, _, says = run(t, "", "accounts", "try", "cargo-ledger", "--next")
	assert.NotZero(t, code)
	assert.Contains(t, says, "scim.token-refused")

	assert.Contains(t, good(t, "accounts", "pushes", "show", "northquay-stevedores"), "/scim/v2/northquay-stevedores")
	token := strings.TrimSpace(good(t, "accounts", "pushes", "token", "northquay-stevedores", "--days", "30"))
	assert.True(t, strings.HasPrefix(token, "igp_"))
	_, _, says = run(t, "", "accounts", "pushes", "token", "northquay-stevedores")
	assert.Contains(t, says, "two tokens that count")
	held, err := w.Client().Pushes(t.Context(), "northquay-stevedores")
	require.NoError(t, err)
	assert.Contains(t, good(t, "accounts", "pushes", "drop", "northquay-stevedores", held.Tokens[0].ID), "Taken back.")
}
