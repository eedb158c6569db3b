// Package bench measures the whole service as a process of its own: processor time of sign-ins, start, and memory. Each
// figure is given beside a floor that is measured in the same run.
package bench

import (
	"context"
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate/client"
	"innergate/core/keys"
	"innergate/demo"
	"innergate/testbed"
)

// prepared starts the demo's stand-ins here and a gate of its own process with their configuration.
func prepared(b *testing.B) (*demo.World, *testbed.Service) { return preparedWith(b, func(string) {}) }

// preparedWith lets the data folder be filled while no service holds it open.
func preparedWith(b *testing.B, fill func(folder string)) (*demo.World, *testbed.Service) {
	w, err := demo.Start(context.Background(), demo.Options{Folder: b.TempDir()})
	require.NoError(b, err)
	b.Cleanup(w.Close)
	listen := strings.TrimPrefix(w.URL, "http://")
	s := &testbed.Service{URL: w.URL, Folder: w.Detach(), Guard: strings.TrimPrefix(w.BerthsURL, "http://")}
	fill(s.Folder)
	s.Start(b, listen)
	b.Cleanup(func() { s.Stop(b) })
	return w, s
}

// BenchmarkSignIn runs whole SP-initiated sign-ins through the gate over loopback. The metric ratio is the gate's
// processor time over that of its public-key operations, measured bare here: two RSA-2048 signatures and two
// verifications. The bound is 2.5.
func BenchmarkSignIn(b *testing.B) {
	w, s := prepared(b)
	ctx := context.Background()
	once := func() {
		walker := demo.NewWalker(nil)
		if err := walker.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"); err != nil || walker.Inner("nameid") != "mvoss" {
			b.Fatal(err, walker.Text)
		}
		walker.HTTP.CloseIdleConnections()
	}
	for range 50 {
		once()
	}
	n := 0
	before := s.Processor(b)
	for b.Loop() {
		once()
		n++
	}
	used := (s.Processor(b) - before) / time.Duration(n)
	bare := bareOperations(b)
	b.ReportMetric(float64(used)/float64(bare), "ratio")
	b.ReportMetric(float64(used.Microseconds())/1000, "gate-ms")
	b.ReportMetric(float64(bare.Microseconds())/1000, "bare-ms")
}

// bareOperations is the processor time of the public-key operations of one sign-in.
func bareOperations(b *testing.B) time.Duration {
	signer, err := keys.Generate(keys.RSA2048)
	require.NoError(b, err)
	sum := sha256.Sum256([]byte("x"))
	sig, err := signer.Sign(rand.Reader, sum[:], crypto.SHA256)
	require.NoError(b, err)
	const rounds = 300
	begin := time.Now()
	for range rounds {
		for range 2 {
			if _, err := signer.Sign(rand.Reader, sum[:], crypto.SHA256); err != nil {
				b.Fatal(err)
			}
			if err := rsa.VerifyPKCS1v15(signer.Public().(*rsa.PublicKey), crypto.SHA256, sum[:], sig); err != nil {
				b.Fatal(err)
			}
		}
	}
	return time.Since(begin) / rounds
}

// BenchmarkMemory tells the resident memory after 1,000 sign-ins; the bound is 80 MiB.
func BenchmarkMemory(b *testing.B) {
	w, s := prepared(b)
	for b.Loop() {
	}
	for range 1000 {
		walker := demo.NewWalker(nil)
		if err := walker.SignIn(context.Background(), w.RotaURL+"/sign-in", "zoberg"); err != nil || walker.Inner("nameid") != "zoberg" {
			b.Fatal(err, walker.Text)
		}
		walker.HTTP.CloseIdleConnections()
	}
	b.ReportMetric(s.Resident(b), "MiB")
	b.ReportMetric(0, "ns/op")
}

// BenchmarkStart starts the service on a database that is there; the bound is 300 ms. It is waited for until /readyz
// answers.
func BenchmarkStart(b *testing.B) {
	_, s := prepared(b)
	address, err := url.Parse(s.URL)
	require.NoError(b, err)
	var all time.Duration
	n := 0
	for b.Loop() {
		s.Stop(b)
		all += s.Start(b, address.Host)
		n++
	}
	b.ReportMetric(float64(all.Milliseconds())/float64(n), "start-ms")
	b.ReportMetric(0, "ns/op")
}

// BenchmarkTraceRead reads a whole trace through the API.
func BenchmarkTraceRead(b *testing.B) {
	w, err := demo.Start(context.Background(), demo.Options{Folder: b.TempDir()})
	require.NoError(b, err)
	b.Cleanup(w.Close)
	walker := demo.NewWalker(nil)
	require.NoError(b, walker.SignIn(context.Background(), w.RotaURL+"/sign-in", "mvoss"))
	list, err := w.Client().Traces(context.Background(), client.Page{Limit: 1})
	require.NoError(b, err)
	for b.Loop() {
		if _, err := w.Client().Trace(context.Background(), list.Items[0].Reference); err != nil {
			b.Fatal(err)
		}
	}
}
