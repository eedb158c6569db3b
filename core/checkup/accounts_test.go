package checkup_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"innergate/core/access"
	"innergate/core/checkup"
	"innergate/core/claims"
	"innergate/core/config"
)

// codes are those of findings, in their order.
func codes(list []checkup.Finding) (out []string) {
	for _, f := range list {
		out = append(out, f.Code)
	}
	return out
}

// TestAccountsAreLookedAt finds what is set for accounts and is of no good.
func TestAccountsAreLookedAt(t *testing.T) {
	t.Parallel()
	app := config.Application{Slug: "cargo", Name: "Cargo Ledger", Subject: config.Subject{Source: "profile", From: "email"},
		Access: access.Policy{To: access.Everybody}, SAML: &config.SAMLApplication{},
		Accounts: &config.Accounts{Address: "http://ledger.example/scim/v2", On: true, Who: config.WhoAssigned,
			Mapping: claims.Mapping{{Set: "userName", From: claims.Names{"preferred_username"}}}}}
	stations, findings := checkup.Application(&app, nil, "urn:gate", time.Now())
	assert.Equal(t, "accounts", stations[1].Name)
	assert.Equal(t, []string{"kept in step", "who is assigned"}, stations[1].Lines)
	for _, code := range []string{"accounts.subject-differs", "accounts.plain"} {
		assert.Contains(t, codes(findings), code)
	}
	app.Subject.From, app.Accounts.Address, app.Accounts.Who = "preferred_username", "https://ledger.example/scim/v2", config.WhoEverybody
	_, findings = checkup.Application(&app, nil, "urn:gate", time.Now())
	for _, code := range codes(findings) {
		assert.NotContains(t, code, "accounts.")
	}
	app.Subject.Source = "pairwise"
	assert.Contains(t, checkup.SubjectDiffers(&app), "pairwise identifier")
}

// TestAccountsThatNeedSomebody finds what has to be done about accounts.
func TestAccountsThatNeedSomebody(t *testing.T) {
	t.Parallel()
	now := time.Now()
	soon := now.Add(24 * time.Hour)
	assert.Empty(t, checkup.AccountFindings(checkup.AccountState{Asking: 5, Failed: 1}, now), "what is off needs nobody")
	assert.Equal(t, []string{"accounts.not-compared", "accounts.asking", "accounts.stopped", "accounts.failed", "accounts.drift",
		"accounts.token-ends"}, codes(checkup.AccountFindings(checkup.AccountState{Name: "Cargo Ledger", On: true,
		Asking: 12, Failed: 1, Drift: 1, Code: "scim.token-refused", Tries: 3, Ends: &soon}, now)))
	assert.Empty(t, checkup.AccountFindings(checkup.AccountState{On: true, Compared: true}, now))
}
