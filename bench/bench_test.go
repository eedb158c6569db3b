// Package bench measures the whole service as a process of its own: processor time of sign-ins, start, and memory. Each
// figure is given beside a floor that is measured in the same run.
package bench

import (
	"bufio"
	"context"
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate/client"
	"innergate/core/keys"
	"innergate/demo"
)

// service is the binary that `make build` made, with the demo's scenario loaded.
type service struct {
	cmd    *exec.Cmd
	url    string
	folder string
	guard  string // where the guard listens
}

func binary(b *testing.B) string {
	path, err := filepath.Abs("../bin/innergate")
	require.NoError(b, err)
	if _, err := os.Stat(path); err != nil {
		b.Skip("bin/innergate is not there; run make build")
	}
	return path
}

func (s *service) start(b *testing.B, listen string) time.Duration {
	begin := time.Now()
	s.cmd = exec.Command(
		binary(b), "serve", "--listen", listen, "--public-url", s.url, "--data", s.folder, "--in-flight", "1000000",
		"--log-level", "warn", "--guard-listen", s.guard,
	)
	s.cmd.Stderr = os.Stderr // what it warns of belongs to what is seen
	require.NoError(b, s.cmd.Start())
	for {
		if answer, err := http.Get(s.url + "/readyz"); err == nil {
			answer.Body.Close()
			return time.Since(begin)
		}
		if time.Since(begin) > 20*time.Second {
			b.Fatal("the service did not start")
		}
		time.Sleep(2 * time.Millisecond)
	}
}

func (s *service) stop(b *testing.B) {
	require.NoError(b, s.cmd.Process.Signal(os.Interrupt))
	require.NoError(b, s.cmd.Wait())
}

// processor is the process's user and system time so far (proc(5), stat), in clock ticks of 10 ms.
func (s *service) processor(b *testing.B) time.Duration {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", s.cmd.Process.Pid))
	require.NoError(b, err)
	fields := strings.Fields(string(stat[strings.LastIndexByte(string(stat), ')')+2:]))
	user, err := strconv.Atoi(fields[11])
	require.NoError(b, err)
	system, err := strconv.Atoi(fields[12])
	require.NoError(b, err)
	return time.Duration(user+system) * 10 * time.Millisecond
}

// resident is the process's resident memory in MiB.
func (s *service) resident(b *testing.B) float64 {
	f, err := os.Open(fmt.Sprintf("/proc/%d/status", s.cmd.Process.Pid))
	require.NoError(b, err)
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		if rest, ok := strings.CutPrefix(lines.Text(), "VmRSS:"); ok {
			kb, err := strconv.Atoi(strings.Fields(rest)[0])
			require.NoError(b, err)
			return float64(kb) / 1024
		}
	}
	b.Fatal("no resident memory is told")
	return 0
}

// prepared starts the demo's stand-ins here and a gate of its own process with their configuration.
func prepared(b *testing.B) (*demo.World, *service) { return preparedWith(b, func(string) {}) }

// preparedWith lets the data folder be filled while no service holds it open.
func preparedWith(b *testing.B, fill func(folder string)) (*demo.World, *service) {
	w, err := demo.Start(context.Background(), demo.Options{Folder: b.TempDir()})
	require.NoError(b, err)
	b.Cleanup(w.Close)
	listen := strings.TrimPrefix(w.URL, "http://")
	s := &service{url: w.URL, folder: w.Detach(), guard: strings.TrimPrefix(w.BerthsURL, "http://")}
	fill(s.folder)
	s.start(b, listen)
	b.Cleanup(func() { s.stop(b) })
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
	before := s.processor(b)
	for b.Loop() {
		once()
		n++
	}
	used := (s.processor(b) - before) / time.Duration(n)
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
	b.ReportMetric(s.resident(b), "MiB")
	b.ReportMetric(0, "ns/op")
}

// BenchmarkStart starts the service on a database that is there; the bound is 300 ms. It is waited for until /readyz
// answers.
func BenchmarkStart(b *testing.B) {
	_, s := prepared(b)
	address, err := url.Parse(s.url)
	require.NoError(b, err)
	var all time.Duration
	n := 0
	for b.Loop() {
		s.stop(b)
		all += s.start(b, address.Host)
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
