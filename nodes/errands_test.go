package nodes_test

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/nodes"
	"innergate/testbed"
)

// TestNodesAskEachOther asks another node, which answers those alone who have a certificate of the same authority that was not
// taken back.
func TestNodesAskEachOther(t *testing.T) {
	t.Parallel()
	a, err := nodes.NewAuthority(time.Now())
	require.NoError(t, err)
	identity := func(of *nodes.Authority) *nodes.Identity {
		i, err := of.NewIdentity(time.Now())
		require.NoError(t, err)
		return i
	}
	here, there := identity(a), identity(a)
	at := testbed.FreeAddress(t)
	e, err := here.Listen(at, map[string]nodes.Errand{
		"/twice": func(_ context.Context, q json.RawMessage) (any, error) { return string(q) + string(q), nil },
		"/fails": func(context.Context, json.RawMessage) (any, error) { return nil, errors.New("the disk is full") },
		"/long":  func(context.Context, json.RawMessage) (any, error) { return strings.Repeat("x", 70<<20), nil },
	})
	require.NoError(t, err)
	t.Cleanup(func() { e.Close() })
	ask := there.Caller()
	got, err := ask.Ask(t.Context(), at, "/twice", 7)
	require.NoError(t, err)
	assert.JSONEq(t, `"77"`, string(got))
	for name, says := range map[string]string{"/fails": "the disk is full", "/unknown": "another version", "/long": "too long"} {
		_, err = ask.Ask(t.Context(), at, name, 7)
		assert.ErrorContains(t, err, says, name)
	}
	_, err = ask.Ask(t.Context(), at, "/twice", strings.Repeat("x", 2<<20))
	require.Error(t, err, "a question has its limit")

	// A stranger, one of another authority, and one whose certificate was taken back get nothing.
	other, err := nodes.NewAuthority(time.Now())
	require.NoError(t, err)
	_, err = identity(other).Caller().Ask(t.Context(), at, "/twice", 7)
	require.Error(t, err)
	open := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	_, err = open.Post("https://"+at+"/twice", "application/json", strings.NewReader("7"))
	require.Error(t, err, "without a certificate")
	c, err := there.Certificate()
	require.NoError(t, err)
	here.Withdraw([]string{nodes.SerialOf(c)})
	_, err = there.Caller().Ask(t.Context(), at, "/twice", 7)
	require.Error(t, err, "it was taken back")
	// With another certificate it is one again; the same callers use it.
	fresh, err := there.Renewed(a, time.Now())
	require.NoError(t, err)
	there.Use(*fresh)
	ask.Close()
	got, err = ask.Ask(t.Context(), at, "/twice", 7)
	require.NoError(t, err)
	assert.JSONEq(t, `"77"`, string(got))
}

// TestWhereANodeIsAsked is the port behind its address, unless its folder says another.
func TestWhereANodeIsAsked(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ address, errands, want string }{
		{"10.0.0.1:8424", "", "10.0.0.1:8425"}, {"[2001:db8::1]:8424", "", "[2001:db8::1]:8425"}, {"a:8424", "b:1",
			"b:1"}, {"a:65535", "", ""},
	} {
		got, err := nodes.Options{Address: c.address, Errands: c.errands}.ErrandsAddress()
		assert.Equal(t, c.want == "", err != nil, c.address)
		assert.Equal(t, c.want, got)
	}
}

// TestARenewedCertificateIsKept reads a node's folder whose certificate was renewed.
func TestARenewedCertificateIsKept(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	require.NoError(t, nodes.Begin(data, nodes.Setup{Address: "10.0.0.1:8424"}, time.Now()))
	o, err := nodes.ReadOptions(data)
	require.NoError(t, err)
	a, _, err := nodes.TakeAuthority(data)
	require.NoError(t, err)
	fresh, err := o.Identity.Renewed(a, time.Now())
	require.NoError(t, err)
	require.NoError(t, nodes.Keep(data, fresh))
	again, err := nodes.ReadOptions(data)
	require.NoError(t, err)
	c, err := again.Identity.Certificate()
	require.NoError(t, err)
	assert.Equal(t, fresh.Leaf.SerialNumber, c.SerialNumber)
}
