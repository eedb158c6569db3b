package oidc_test

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/explain"
	"innergate/core/jose"
	"innergate/core/oidc"
	"innergate/core/trace"
)

const (
	partner  = "Northquay Stevedores"
	issuer   = "https://id.northquay.example"
	clientID = "inner-gate"
)

var now = time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)

// theirs is the provider's signing key.
var theirs = sync.OnceValue(func() crypto.Signer {
	k, _ := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	return k
})

func token(t testing.TB, typ string, claims map[string]any) string {
	t.Helper()
	s, err := jose.NewSigner("nq-1", jose.ES256, theirs())
	require.NoError(t, err)
	out, err := s.Sign(typ, claims)
	require.NoError(t, err)
	return out
}

func keySet() jose.KeySet { return jose.One("nq-1", jose.ES256, theirs().Public()) }

func record() *trace.Recorder { return trace.NewRecorder(now, func() time.Time { return now }) }

// refused says that an error carries a code, that the code is in the catalogue, and that no text of it was left with a
// hole.
func refused(t testing.TB, err error, want string) *explain.Failure {
	t.Helper()
	var f *explain.Failure
	require.ErrorAs(t, err, &f)
	_, known := explain.Lookup(f.Code)
	assert.True(t, known, "%s is not in the catalogue", f.Code)
	assert.Equal(t, want, string(f.Code), "%s", err)
	e := f.Explain()
	for _, text := range []string{e.Cause, e.Remedy, e.Theirs, e.Person} {
		assert.NotContains(t, text, "{")
		assert.NotContains(t, text, "nothing", "the cause speaks of a value that the failure does not carry: %s", text)
	}
	return f
}

// failedCheck is the last check of a record, which must not have held.
func failedCheck(t testing.TB, rec *trace.Recorder) string {
	t.Helper()
	var last *trace.Check
	for _, e := range rec.Entries() {
		if e.Check != nil {
			last = e.Check
		}
	}
	require.NotNil(t, last)
	assert.False(t, last.OK)
	return last.Name
}

func answer(status int, contentType, body string) oidc.Answer {
	return oidc.Answer{Status: status, ContentType: contentType, Body: []byte(body)}
}
