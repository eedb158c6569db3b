package bench

import (
	"context"
	"io"
	"net"
	"net/http"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate/demo"
)

// BenchmarkFlood has five times as many people come back within their session as the machine can serve, for five seconds. Nobody
// may wait longer than two seconds, for a sign-in or for being told to try again; load and gate share the machine.
func BenchmarkFlood(b *testing.B) {
	w, _ := prepared(b)
	ctx := context.Background()
	walker := demo.NewWalker(nil)
	require.NoError(b, walker.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	var from atomic.Int64
	c := &http.Client{
		Jar:     walker.HTTP.Jar,
		Timeout: 30 * time.Second,
		Transport: &http.Transport{
			MaxIdleConnsPerHost: 2000,
			DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
				_, port, err := net.SplitHostPort(address)
				if err != nil {
					return nil, err
				}
				// They come from many networks: one alone may have so many connections.
				own := &net.TCPAddr{IP: net.IPv4(127, 0, 1, byte(from.Add(1)%100))}
				return (&net.Dialer{LocalAddr: own}).DialContext(ctx, "tcp4", net.JoinHostPort("127.0.0.1", port))
			},
		},
	}
	ask := func() (int, error) {
		answer, err := c.Get(w.URL + "/start/crew-rota")
		if err != nil {
			return 0, err
		}
		defer answer.Body.Close()
		_, err = io.Copy(io.Discard, answer.Body)
		return answer.StatusCode, err
	}
	status, err := ask()
	require.NoError(b, err)
	require.Equal(b, http.StatusOK, status)
	for b.Loop() {
	}
	const rate, seconds = 1000, 5
	took := make([]time.Duration, rate*seconds)
	var good, away, failed atomic.Int64
	var wait sync.WaitGroup
	begin := time.Now()
	for i := range took {
		time.Sleep(time.Until(begin.Add(time.Duration(i) * time.Second / rate)))
		wait.Go(func() {
			mine := time.Now()
			status, err := ask()
			took[i] = time.Since(mine)
			switch {
			case err == nil && status == http.StatusOK:
				good.Add(1)
			case err == nil && status == http.StatusServiceUnavailable:
				away.Add(1)
			default:
				if failed.Add(1) == 1 {
					b.Log(status, err)
				}
			}
		})
	}
	wait.Wait()
	lasted := time.Since(begin).Seconds()
	slices.Sort(took)
	b.ReportMetric(float64(good.Load())/lasted, "good/s")
	b.ReportMetric(float64(away.Load())/lasted, "away/s")
	b.ReportMetric(float64(failed.Load()), "failed")
	b.ReportMetric(float64(took[len(took)/2].Milliseconds()), "p50-ms")
	b.ReportMetric(float64(took[len(took)-1].Milliseconds()), "longest-ms")
}
