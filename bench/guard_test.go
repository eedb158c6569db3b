package bench

import (
	"bytes"
	"context"
	"crypto"
	"crypto/rand"
	"crypto/sha256"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate/core/keys"
	"innergate/demo"
	"innergate/store"
	"innergate/testbed"
)

// TestMain lets this program be a proxy that checks nothing, as a process of its own, to measure the guard against.
func TestMain(m *testing.M) {
	if to := os.Getenv("INNERGATE_BARE_PROXY"); to != "" {
		bareProxy(os.Getenv("INNERGATE_BARE_LISTEN"), to)
		return
	}
	os.Exit(m.Run())
}

func bareProxy(listen, to string) {
	u, err := url.Parse(to)
	if err != nil {
		panic(err)
	}
	transport := &http.Transport{
		DialContext:           (&net.Dialer{Timeout: 5 * time.Second}).DialContext,
		MaxIdleConnsPerHost:   64,
		ResponseHeaderTimeout: time.Minute,
		DisableCompression:    true,
	}
	proxy := &httputil.ReverseProxy{
		Transport:     transport,
		FlushInterval: -1,
		Rewrite:       func(p *httputil.ProxyRequest) { p.SetURL(u); p.SetXForwarded() },
	}
	s := &http.Server{Addr: listen, Handler: proxy, ReadHeaderTimeout: 10 * time.Second}
	if err := s.ListenAndServe(); err != nil {
		panic(err)
	}
}

// berths signs somebody in at Berth Board and returns the cookies that the browser holds there.
func berths(b *testing.B, w *demo.World) string {
	walker := demo.NewWalker(nil)
	walker.Provider = "saltmere-staff"
	require.NoError(b, walker.SignIn(context.Background(), w.BerthsURL+"/", "mvoss"))
	require.Equal(b, "mvoss", walker.Inner("person"), walker.Text)
	u, err := url.Parse(w.BerthsURL)
	require.NoError(b, err)
	var parts []string
	for _, c := range walker.HTTP.Jar.Cookies(u) {
		parts = append(parts, c.Name+"="+c.Value)
	}
	return strings.Join(parts, "; ")
}

// asks sends requests from eight connections and returns the processor time that each cost the process.
func asks(b *testing.B, s *testbed.Service, address, cookies string, count int) time.Duration {
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 8}}
	var left atomic.Int64
	var wrong atomic.Int64
	var wait sync.WaitGroup
	begin := s.Processor(b)
	left.Store(int64(count))
	for range 8 {
		wait.Go(func() {
			for left.Add(-1) >= 0 {
				r, err := http.NewRequest(http.MethodGet, address+"/", nil)
				if err != nil {
					wrong.Add(1)
					return
				}
				r.Header.Set("Cookie", cookies)
				answer, err := client.Do(r)
				if err != nil || answer.StatusCode != http.StatusOK {
					wrong.Add(1)
					continue
				}
				io.Copy(io.Discard, answer.Body)
				answer.Body.Close()
			}
		})
	}
	wait.Wait()
	require.Zero(b, wrong.Load())
	client.CloseIdleConnections()
	return (s.Processor(b) - begin) / time.Duration(count)
}

// BenchmarkGuard runs guarded requests with a session, identity in headers. The metric of-bare is the processor time of
// a proxy that checks nothing over the guard's, which is the part of its throughput that remains on one core; the bound
// is at least 0.7. The metrics of-nginx and of-nginx-kept are the same of nginx, where it is installed; the bound is at
// least 0.3. MiB-more is by how much the process grows while 1,000 MiB go through it and back.
func BenchmarkGuard(b *testing.B) {
	w, s := prepared(b)
	cookies := berths(b, w)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(b, err)
	listen := l.Addr().String()
	l.Close()
	bare := &testbed.Service{Cmd: exec.Command(os.Args[0])}
	bare.Cmd.Env = append(os.Environ(), "INNERGATE_BARE_PROXY="+w.InnerURL, "INNERGATE_BARE_LISTEN="+listen)
	require.NoError(b, bare.Cmd.Start())
	b.Cleanup(func() { bare.Cmd.Process.Kill(); bare.Cmd.Wait() })
	require.Eventually(b, func() bool {
		answer, err := http.Get("http://" + listen + "/")
		if err == nil {
			answer.Body.Close()
		}
		return err == nil
	}, 10*time.Second, 10*time.Millisecond)
	for b.Loop() {
	}
	const count = 20000
	asks(b, bare, "http://"+listen, cookies, 2000)
	asks(b, s, w.BerthsURL, cookies, 2000)
	floor, used := asks(b, bare, "http://"+listen, cookies, count), asks(b, s, w.BerthsURL, cookies, count)
	b.ReportMetric(float64(floor)/float64(used), "of-bare")
	b.ReportMetric(float64(used.Microseconds()), "guard-µs")
	b.ReportMetric(float64(floor.Microseconds()), "bare-µs")

	for name, kept := range map[string]string{"nginx": "", "nginx-kept": `proxy_http_version 1.1; proxy_set_header Connection "";`} {
		if front := nginx(b, w.InnerURL, kept); front != nil {
			asks(b, front, front.URL, cookies, 2000)
			other := asks(b, front, front.URL, cookies, count)
			b.ReportMetric(float64(other)/float64(used), "of-"+name)
			b.ReportMetric(float64(other.Microseconds()), name+"-µs")
		}
	}

	before, most := s.Resident(b), 0.0
	r, err := http.NewRequest(http.MethodPost, w.BerthsURL+"/echo", io.LimitReader(zeroes{}, 1000<<20))
	require.NoError(b, err)
	r.Header.Set("Cookie", cookies)
	answer, err := http.DefaultClient.Do(r)
	require.NoError(b, err)
	defer answer.Body.Close()
	var got int64
	for {
		n, err := io.CopyN(io.Discard, answer.Body, 32<<20)
		got += n
		most = max(most, s.Resident(b))
		if err == io.EOF {
			break
		}
		require.NoError(b, err)
	}
	require.EqualValues(b, 1000<<20, got)
	b.ReportMetric(most-before, "MiB-more")
	b.ReportMetric(0, "ns/op")
}

// nginx starts one as a single process before an address, as Debian sets it up, or with connections to the inner side
// kept; nothing where it is not installed.
func nginx(b *testing.B, to, kept string) *testbed.Service {
	program, err := exec.LookPath("nginx")
	if err != nil {
		return nil
	}
	listen, folder := testbed.FreeAddress(b), b.TempDir()
	conf := fmt.Sprintf(`daemon off; master_process off; pid %[1]s/pid; error_log %[1]s/errors; events {}
http { access_log off; client_body_temp_path %[1]s/a; proxy_temp_path %[1]s/b; fastcgi_temp_path %[1]s/c; uwsgi_temp_path %[1]s/d; `+
		`scgi_temp_path %[1]s/e; keepalive_requests 1000000;
upstream inner { server %[2]s; keepalive 64; keepalive_requests 1000000; }
server { listen %[3]s; location / { proxy_pass http://inner; %[4]s } } }`, folder, strings.TrimPrefix(to, "http://"), listen, kept)
	require.NoError(b, os.WriteFile(filepath.Join(folder, "conf"), []byte(conf), 0o600))
	s := &testbed.Service{Cmd: exec.Command(program, "-p", folder, "-c", filepath.Join(folder, "conf")), URL: "http://" + listen}
	require.NoError(b, s.Cmd.Start())
	b.Cleanup(func() { s.Cmd.Process.Kill(); s.Cmd.Wait() })
	require.Eventually(b, func() bool {
		answer, err := http.Get(s.URL + "/")
		if err == nil {
			answer.Body.Close()
		}
		return err == nil
	}, 10*time.Second, 10*time.Millisecond)
	return s
}

type zeroes struct{}

func (zeroes) Read(p []byte) (int, error) { return len(p), nil }

// BenchmarkReturning runs SP-initiated sign-ins of somebody whose browser has a session. The metric ratio is the gate's
// processor time over that of one RSA-2048 signature and one transaction of the same kind, measured bare here; the
// bound is 1.5.
func BenchmarkReturning(b *testing.B) {
	w, s := prepared(b)
	ctx := context.Background()
	walker := demo.NewWalker(nil)
	require.NoError(b, walker.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	once := func() {
		if err := walker.Get(ctx, w.RotaURL+"/sign-in"); err != nil {
			b.Fatal(err)
		}
		if err := walker.Onward(ctx); err != nil || walker.Inner("nameid") != "mvoss" {
			b.Fatal(err, walker.Text)
		}
	}
	for range 100 {
		once()
	}
	n := 0
	before := s.Processor(b)
	for b.Loop() {
		once()
		n++
	}
	used := (s.Processor(b) - before) / time.Duration(n)
	floor := bareSignature(b) + bareTransaction(b)
	b.ReportMetric(float64(used)/float64(floor), "ratio")
	b.ReportMetric(float64(used.Microseconds())/1000, "gate-ms")
	b.ReportMetric(float64(floor.Microseconds())/1000, "bare-ms")
}

// BenchmarkOpenLoop lets sign-ins begin at a fixed rate, whether or not those before have ended, for ten seconds each:
// 200 a second with a session, and 60 a second in full. Load, stand-ins and gate share the machine. None may fail; the
// bound for p99 is 150 ms.
func BenchmarkOpenLoop(b *testing.B) {
	for name, one := range map[string]struct {
		rate int
		full bool
	}{"session": {200, false}, "full": {60, true}} {
		b.Run(name, func(b *testing.B) {
			w, _ := prepared(b)
			ctx := context.Background()
			ready := make(chan *demo.Walker, 64)
			if !one.full {
				for range cap(ready) {
					walker := demo.NewWalker(nil)
					require.NoError(b, walker.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
					ready <- walker
				}
			}
			sign := func() error {
				if one.full {
					walker := demo.NewWalker(nil)
					defer walker.HTTP.CloseIdleConnections()
					if err := walker.SignIn(ctx, w.RotaURL+"/sign-in", "zoberg"); err != nil || walker.Inner("nameid") != "zoberg" {
						return fmt.Errorf("%w %s", err, walker.Text)
					}
					return nil
				}
				walker := <-ready
				defer func() { ready <- walker }()
				if err := walker.Get(ctx, w.RotaURL+"/sign-in"); err != nil {
					return err
				}
				if err := walker.Onward(ctx); err != nil || walker.Inner("nameid") != "mvoss" {
					return fmt.Errorf("%w %s", err, walker.Text)
				}
				return nil
			}
			for range 20 {
				require.NoError(b, sign())
			}
			for b.Loop() {
			}
			count := one.rate * 10
			took := make([]time.Duration, count)
			failed := make([]error, count)
			var wait sync.WaitGroup
			begin := time.Now()
			for i := range count {
				due := begin.Add(time.Duration(i) * time.Second / time.Duration(one.rate))
				time.Sleep(time.Until(due))
				wait.Go(func() {
					failed[i] = sign()
					took[i] = time.Since(due)
				})
			}
			wait.Wait()
			for _, err := range failed {
				require.NoError(b, err)
			}
			b.ReportMetric(float64(percentile(took, 99).Microseconds())/1000, "p99-ms")
			b.ReportMetric(float64(percentile(took, 50).Microseconds())/1000, "p50-ms")
			b.ReportMetric(0, "ns/op")
		})
	}
}

func percentile(took []time.Duration, n int) time.Duration {
	slices.Sort(took)
	return took[(len(took)-1)*n/100]
}

// own is this process's processor time so far.
func own(b *testing.B) time.Duration {
	var u syscall.Rusage
	require.NoError(b, syscall.Getrusage(syscall.RUSAGE_SELF, &u))
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

func bareSignature(b *testing.B) time.Duration {
	signer, err := keys.Generate(keys.RSA2048)
	require.NoError(b, err)
	sum := sha256.Sum256([]byte("x"))
	const rounds = 300
	begin := own(b)
	for range rounds {
		if _, err := signer.Sign(rand.Reader, sum[:], crypto.SHA256); err != nil {
			b.Fatal(err)
		}
	}
	return (own(b) - begin) / rounds
}

// bareTransaction is one transaction that writes what a returning sign-in writes: the sign-in, the session, and its
// use.
func bareTransaction(b *testing.B) time.Duration {
	sealer, err := store.NewSealer(bytes.Repeat([]byte{7}, 32))
	require.NoError(b, err)
	st, err := store.Open(b.TempDir(), sealer)
	require.NoError(b, err)
	defer st.Close()
	const rounds = 300
	begin := own(b)
	for i := range rounds {
		now, id := time.Now().UTC(), fmt.Sprint(i)
		err := st.Write(context.Background(), func(tx *gorm.DB) error {
			for _, q := range []struct {
				text string
				args []any
			}{
				{"INSERT INTO sign_ins (id, reference, address, application_id, request_id, provider_id, flow, our_request_id, " +
					"rehearsal_id, created_at, expires_at, finished_at) VALUES (?, ?, '', 'a', ?, 'p', 'sp', '', '', ?, ?, ?)",
					[]any{id, id, id, now, now, now}},
				{"UPDATE sessions SET last_used = ? WHERE id = ? AND ended_at IS NULL", []any{now, id}},
				{"INSERT INTO session_uses (session_id, application_id, name_value, session_index, name_id, first_at, last_at, told) " +
					"VALUES (?, 'a', '', '', '', ?, ?, '') ON CONFLICT (session_id, application_id) DO UPDATE SET last_at = " +
					"excluded.last_at", []any{"s", now, now}},
			} {
				if _, err := store.Exec(tx, q.text, q.args...); err != nil {
					return err
				}
			}
			return nil
		})
		require.NoError(b, err)
	}
	return (own(b) - begin) / rounds
}
