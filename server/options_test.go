package server_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/config"
	"innergate/demo"
	"innergate/testbed"
)

// TestExpiredCertificateIsAFindingUnlessEnforced runs the demo three years later, when the stand-ins' certificates have
// ended.
func TestExpiredCertificateIsAFindingUnlessEnforced(t *testing.T) {
	t.Parallel()
	w := testbed.World(t, demo.Options{Now: func() time.Time { return time.Now().AddDate(3, 0, 0) }})
	ctx := context.Background()
	b := demo.NewWalker(nil)
	require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	assert.Equal(t, "mvoss", b.Inner("nameid"), "keys are trusted, not dates")
	p, err := w.Client().Provider(ctx, "saltmere-staff")
	require.NoError(t, err)
	require.NotEmpty(t, p.Findings)
	assert.Equal(t, "certificate.expired", p.Findings[0].Code)
	o, err := w.Client().Overview(ctx)
	require.NoError(t, err)
	assert.NotEmpty(t, o.Findings)

	changeProvider(t, w, func(p *config.Provider) { p.SAML.EnforceCertificateDates = true })
	b = demo.NewWalker(nil)
	require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	assert.Equal(t, "saml.certificate-expired", newest(t, w).Code)

	change(t, w, func(a *config.Application) { a.SAML.EnforceCertificateDates = true })
	b = demo.NewWalker(nil)
	require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	x := newest(t, w)
	assert.Equal(t, "saml.certificate-expired", x.Code)
	assert.Equal(t, "ask", string(x.Entries[len(x.Entries)-1].Step), "the request's own signature is refused already")
}

// TestSignedWhereItIsWanted demands a signature on the assertion itself, and on requests.
func TestSignedWhereItIsWanted(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), context.Background()
	w.Staff.SetMistake("response-only")
	changeProvider(t, w, func(p *config.Provider) { p.SAML.WantAssertionSigned = true })
	b := demo.NewWalker(nil)
	require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	assert.Equal(t, "saml.signature-on-response-only", newest(t, w).Code)
	w.Staff.SetMistake("")
	b = demo.NewWalker(nil)
	require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	assert.Equal(t, "mvoss", b.Inner("nameid"))
	// The provider wants our requests signed; leaving the signature out is noticed there.
	changeProvider(t, w, func(p *config.Provider) { p.SAML.SendUnsigned = true })
	b = demo.NewWalker(nil)
	require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	assert.Contains(t, b.Text, "the request is not signed")
}

// TestForceAuthnIsHonoured: with an older session at the provider, a demand for a fresh sign-in asks the person again.
func TestForceAuthnIsHonoured(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), context.Background()
	b := demo.NewWalker(nil)
	require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	require.NoError(t, b.Get(ctx, w.RotaURL+"/sign-in"))
	assert.NotContains(t, b.Text, "choose who you are", "the provider's session is enough")
	changeProvider(t, w, func(p *config.Provider) { p.SAML.ForceAuthn = true })
	require.NoError(t, b.Get(ctx, w.RotaURL+"/sign-in"))
	assert.Contains(t, b.Text, "choose who you are")
	w.Staff.SetMistake("old-session")
	require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	assert.Equal(t, "saml.authn-old", newest(t, w).Code)
}

// TestMandatoryValues refuses a sign-in that lacks a value which an application must get.
func TestMandatoryValues(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), context.Background()
	change(t, w, func(a *config.Application) {
		for i := range a.Mapping {
			a.Mapping[i].Required = a.Mapping[i].Set == "mail"
		}
	})
	b := demo.NewWalker(nil)
	require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", "ivale"))
	x := newest(t, w)
	assert.Equal(t, "map.required-missing", x.Code, "Iris has no mail address")
	assert.NotContains(t, b.Text, "ivale", "the person's page shows no values")
	b = demo.NewWalker(nil)
	require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	assert.Equal(t, "mvoss", b.Inner("nameid"))
	// A subject without a value.
	change(t, w, func(a *config.Application) {
		a.Mapping = nil
		a.Subject = config.Subject{Source: "profile", From: "email"}
	})
	b = demo.NewWalker(nil)
	require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", "ivale"))
	assert.Equal(t, "subject.empty", newest(t, w).Code)
}
