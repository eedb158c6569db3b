package server_test

import (
	"bytes"
	"fmt"
	"io"
	"net"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/core/config"
	"innergate/demo"
	"innergate/standin"
	"innergate/testbed"
)

// atOffice is a browser at the page of the demo's Harbour Office.
func atOffice(t *testing.T, w *demo.World) *demo.Walker {
	t.Helper()
	b := w.Walker()
	b.Provider = "harbour-office"
	require.NoError(t, b.SignIn(t.Context(), w.LedgerURL+"/sign-in", ""))
	require.Contains(t, b.Text, "Harbour Office")
	return b
}

// sets changes how the demo's Harbour Office is asked.
func sets(t *testing.T, w *demo.World, change func(*config.LDAPProvider)) error {
	t.Helper()
	p, err := w.Client().Provider(t.Context(), "harbour-office")
	require.NoError(t, err)
	c := p.Provider
	copied := *c.LDAP
	c.LDAP = &copied
	change(c.LDAP)
	_, err = w.Client().PutProvider(t.Context(), c, p.Revision)
	return err
}

// TestAHostileDirectory points elsewhere, finds everybody, says nothing, and shows another certificate: nobody is signed in, and each
// is explained.
func TestAHostileDirectory(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	require.NoError(t, sets(t, w, func(l *config.LDAPProvider) { l.TimeoutSeconds = 1 }))
	for mistake, code := range map[string]string{"referral": "ldap.referral", "several": "ldap.several", "silent": "ldap.unreachable"} {
		w.Office.SetMistake(mistake)
		b := atOffice(t, w)
		require.NoError(t, b.SignInThere(ctx, "wfell", standin.OfficePassword))
		assert.Equal(t, code, newest(t, w).Code, mistake)
		assert.Empty(t, b.Inner("claim-email"))
	}
	w.Office.SetMistake("")
	b := atOffice(t, w)
	require.NoError(t, b.SignInThere(ctx, "wfell", "")) // a server would take it for nobody, and say that all is well
	assert.Contains(t, b.Inner("wrong"), "Name or password is wrong.")
	require.NoError(t, b.SignInThere(ctx, "wfell", standin.OfficePassword))
	assert.Equal(t, "wfell@harbour.example", b.Inner("claim-email"), "it works again: %s", b.Text)

	other, err := standin.NewOffice()
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go other.Serve(l)
	_, port, err := net.SplitHostPort(l.Addr().String())
	require.NoError(t, err)
	held, err := w.Client().Secrets(ctx, "providers", "harbour-office")
	require.NoError(t, err)
	require.Len(t, held.Items, 1)
	require.NoError(t, sets(t, w, func(l *config.LDAPProvider) { l.Servers = []string{"ldaps://localhost:" + port} }))
	b = atOffice(t, w)
	require.NoError(t, b.SignInThere(ctx, "wfell", standin.OfficePassword))
	assert.Equal(t, "ldap.trust", newest(t, w).Code, "another one's certificate")
	held, err = w.Client().Secrets(ctx, "providers", "harbour-office")
	require.NoError(t, err)
	assert.Empty(t, held.Items, "the password was given for another server, and is entered anew for this one")
}

// TestNothingIsSaidWithoutTLS has a server that knows no StartTLS: neither password reaches it.
func TestNothingIsSaidWithoutTLS(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	var mu sync.Mutex
	var heard bytes.Buffer
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				// "I know no such operation", in answer to the first message (RFC 4511, section 4.12).
				c.Write([]byte{0x30, 0x0c, 0x02, 0x01, 0x01, 0x78, 0x07, 0x0a, 0x01, 0x02, 0x04, 0x00, 0x04, 0x00})
				var got bytes.Buffer
				io.Copy(&got, c)
				mu.Lock()
				defer mu.Unlock()
				heard.Write(got.Bytes())
			}()
		}
	}()
	require.NoError(t, sets(t, w, func(p *config.LDAPProvider) { p.Servers = []string{"ldap://" + l.Addr().String()} }))
	_, err = w.Client().KeepSecret(ctx, "harbour-office", api.TheirSecret{Value: "another-lantern-42"})
	require.NoError(t, err)
	b := atOffice(t, w)
	require.NoError(t, b.SignInThere(ctx, "wfell", standin.OfficePassword))
	assert.Equal(t, "ldap.unreachable", newest(t, w).Code)
	require.Eventually(t, func() bool { mu.Lock(); defer mu.Unlock(); return heard.Len() > 0 }, testbed.Patience, 10*time.Millisecond)
	mu.Lock()
	defer mu.Unlock()
	assert.NotContains(t, heard.String(), standin.OfficePassword)
	assert.NotContains(t, heard.String(), "another-lantern-42")
	err = sets(t, w, func(p *config.LDAPProvider) { p.Servers, p.Plain = []string{"ldap://directory.harbour.example"}, true })
	assert.Equal(t, 422, testbed.Status(err), "without TLS for loopback alone: %v", err)
}

// TestServersStandInForEachOther asks the next server where the first does not answer, and holds no more connections than are set.
func TestServersStandInForEachOther(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	require.NoError(t, sets(t, w, func(l *config.LDAPProvider) {
		l.Servers, l.Connections = append([]string{"ldaps://localhost:1"}, l.Servers...), 4
	}))
	_, err := w.Client().KeepSecret(ctx, "harbour-office", api.TheirSecret{Value: w.Office.Secret})
	require.NoError(t, err)
	w.Office.Most()
	var wait sync.WaitGroup
	for i := range 50 {
		name := fmt.Sprintf("hand%02d", i)
		w.Office.Hire(name)
		wait.Go(func() {
			b := w.Walker()
			b.Provider = "harbour-office"
			for b.Text == "" || strings.Contains(b.Text, "Many people are signing in") { // some are told to come again
				if err := b.SignIn(ctx, w.LedgerURL+"/sign-in", ""); err != nil {
					t.Error(err)
					return
				}
			}
			if err := b.Submit(ctx, url.Values{"name": {name}, "password": {standin.OfficePassword}}); err != nil {
				t.Error(err)
				return
			}
			if err := b.Onward(ctx); err != nil || b.Inner("claim-email") != name+"@harbour.example" {
				t.Errorf("%v %s", err, b.Text)
			}
		})
	}
	wait.Wait()
	// The other side learns of the end of one when the next may be there already.
	assert.LessOrEqual(t, w.Office.Most(), 2*4)
	got, err := w.Client().TryDirectory(ctx, "harbour-office", api.TryDirectory{Name: "wfell"})
	require.NoError(t, err)
	assert.True(t, got.Works)
	assert.False(t, got.Steps[0].OK, "each server is told of")
	assert.Equal(t, []string{"wfell@harbour.example"}, made(got, "preferred_username"))
}

func made(got *api.TriedDirectory, name string) []string {
	for _, v := range got.Made {
		if v.Name == name {
			return v.Values
		}
	}
	return nil
}
