package cli_test

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/cli"
	"innergate/cli/terminal"
	"innergate/core/keys"
	"innergate/testbed"
)

// TestGuardCommands looks at Berth Board from the command line, tries paths, and takes it to a circle and back.
func TestGuardCommands(t *testing.T) {
	world(t)
	_, out, _ := run(t, "", "guard", "show", "berth-board")
	assert.Contains(t, out, "X-Berth-User")
	assert.Contains(t, out, "/harbour-master")
	for path, want := range map[string]string{"/": "No rule fits. Whoever is signed in", "/timetable/x": "Everybody may come here",
		"/harbour-master": "People of office", "/Harbour-Master/x": "People of office", "/health": "Nobody may come",
		"/a/../b": "could be read in two ways", "/leave": "signs out", "/.gate/x": "keeps /.gate/x for itself"} {
		code, out, says := run(t, "", "guard", "try", "berth-board", path)
		assert.Zero(t, code, says)
		assert.Contains(t, out, want, path)
	}
	_, out, _ = run(t, "", "guard", "try", "berth-board", "/timetable", "--method", "POST")
	assert.Contains(t, out, "Whoever is signed in", "it is open for reading only")
	_, out, _ = run(t, "", "guard", "nginx", "berth-board")
	assert.Contains(t, out, "auth_request /.gate/check;")
	assert.Contains(t, out, "proxy_set_header X-Berth-User $gate_x_berth_user;")
	code, _, says := run(t, "three old boats\n", "guard", "password", "berth-board")
	assert.Zero(t, code, says)
	assert.NotContains(t, says, "boats")
	code, _, says = run(t, "", "guard", "show", "crew-rota")
	assert.Equal(t, terminal.ExitFailed, code)
	assert.Contains(t, says, "is not a guarded application")

	_, out, _ = run(t, "", "app", "reach", "berth-board", "circle", "--groups", "office", "--preview")
	assert.NotEmpty(t, out)
	_, out, _ = run(t, "", "app", "show", "berth-board")
	assert.Contains(t, out, "everyone", "a preview changes nothing")
	code, _, says = run(t, "", "app", "reach", "berth-board", "circle", "--groups", "office")
	assert.Zero(t, code, says)
	code, _, says = run(t, "", "app", "reach-undo", "berth-board")
	assert.Zero(t, code, says)
	_, out, _ = run(t, "", "app", "reach-history", "berth-board")
	assert.Contains(t, out, "taken back")
}

// TestGuardServesItsCertificates starts the service with a guard that holds a certificate for a host name.
func TestGuardServesItsCertificates(t *testing.T) {
	folder := t.TempDir()
	write := func(name string) {
		key, err := keys.Generate(keys.P256)
		require.NoError(t, err)
		form := &x509.Certificate{
			SerialNumber: big.NewInt(1),
			DNSNames:     []string{name},
			NotBefore:    time.Now().Add(-time.Hour),
			NotAfter:     time.Now().Add(24 * time.Hour),
		}
		der, err := x509.CreateCertificate(rand.Reader, form, form, key.Public(), key)
		require.NoError(t, err)
		raw, err := x509.MarshalPKCS8PrivateKey(key)
		require.NoError(t, err)
		require.NoError(
			t,
			os.WriteFile(filepath.Join(folder, name+".crt"), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600),
		)
		require.NoError(
			t,
			os.WriteFile(filepath.Join(folder, name+".key"), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw}), 0o600),
		)
	}
	code, _, says := run(
		t, "", "serve", "--listen", "127.0.0.1:0", "--data", t.TempDir(), "--guard-listen", "127.0.0.1:0",
		"--guard-certificates", folder,
	)
	assert.Equal(t, terminal.ExitFailed, code)
	assert.Contains(t, says, "holds no NAME.crt")
	write("berths.saltmere.example")
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	at := l.Addr().String()
	l.Close()
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan int, 1)
	go func() {
		done <- cli.Run(ctx, []string{"innergate", "serve", "--listen", "127.0.0.1:0", "--data", t.TempDir(), "--guard-listen", at,
			"--guard-certificates", folder}, terminal.Streams{In: strings.NewReader(""), Out: &strings.Builder{}, Err: &strings.Builder{}},
			terminal.Build{Version: "test"})
	}()
	// the certificate is self-signed
	client := &http.Client{
		Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true, ServerName: "berths.saltmere.example"}},
	} //nolint:gosec
	var status int
	require.Eventually(t, func() bool {
		answer, err := client.Get("https://" + at + "/")
		if err != nil {
			return false
		}
		answer.Body.Close()
		status = answer.StatusCode
		return true
	}, testbed.Patience, 20*time.Millisecond)
	assert.Equal(t, http.StatusNotFound, status, "no application is known there")
	stop()
	assert.Zero(t, <-done)
}
