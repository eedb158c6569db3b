package accounts_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/config"
	"innergate/gate/fetch"
	"innergate/store"
	"innergate/testbed"
)

// many is how many accounts are made; INNERGATE_ACCOUNTS sets another number.
func many() int {
	if n, err := strconv.Atoi(os.Getenv("INNERGATE_ACCOUNTS")); err == nil {
		return n
	}
	return 100_000
}

// thin is an application that keeps no more of accounts than that they are there.
type thin struct {
	takes time.Duration // for each answer
	mu    sync.Mutex
	held  map[string]int
	next  atomic.Int64
}

func (s *thin) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "application/scim+json")
	time.Sleep(s.takes)
	if r.Method == http.MethodGet {
		if strings.HasSuffix(r.URL.Path, "/ServiceProviderConfig") {
			fmt.Fprint(w, `{"patch":{"supported":true},"filter":{"supported":true,"maxResults":100}}`)
			return
		}
		fmt.Fprint(w, `{"schemas":["urn:ietf:params:scim:api:messages:2.0:ListResponse"],"totalResults":0,"Resources":[]}`)
		return
	}
	data, _ := io.ReadAll(r.Body)
	var in map[string]any
	_ = json.Unmarshal(data, &in)
	in["id"] = strconv.FormatInt(s.next.Add(1), 10)
	s.mu.Lock()
	s.held[in["externalId"].(string)]++
	s.mu.Unlock()
	w.WriteHeader(http.StatusCreated)
	_ = json.NewEncoder(w).Encode(in)
}

// BenchmarkSend makes accounts for everybody of a group, against a bare client that does the same requests, as many at a time: at an
// application that answers at once, and at one that takes two milliseconds. It tells the highest memory that was in use besides.
func BenchmarkSend(b *testing.B) {
	b.Run("at-once", func(b *testing.B) { benchmarkSend(b, 0) })
	b.Run("2ms", func(b *testing.B) { benchmarkSend(b, 2*time.Millisecond) })
}

func benchmarkSend(b *testing.B, takes time.Duration) {
	n := many()
	receiver := &thin{held: map[string]int{}, takes: takes}
	server := httptest.NewServer(receiver)
	b.Cleanup(server.Close)
	l := testbed.NewLab(b)
	l.Fetch = &fetch.Fetcher{AllowPrivate: true}
	ctx := b.Context()
	_, err := l.Persons.SaveGroup(ctx, testbed.Owner, "", config.Group{Slug: "crew", Name: "Crew"})
	require.NoError(b, err)
	_, err = l.Configuration.SaveApplication(ctx, testbed.Owner, "", config.Application{Slug: "cargo", Name: "Cargo", Kind: config.KindLink,
		StartURL: "https://cargo.example/", Access: access.Policy{To: access.Assigned}, Accounts: &config.Accounts{Address: server.URL,
			On: true, Approve: config.ApproveNone, AtOnce: 8}}, 0)
	require.NoError(b, err)
	_, err = l.Partners.KeepAccountSecret(ctx, testbed.Owner, "cargo", api.TheirSecret{Value: token})
	require.NoError(b, err)
	hire(b, l, n)
	app, err := l.Partners.Application(ctx, "cargo")
	require.NoError(b, err)
	_, err = l.Accounts.Compare(ctx, testbed.Owner, "cargo")
	require.NoError(b, err)
	require.Eventually(b, func() bool {
		v, err := l.Accounts.Accounts(ctx, testbed.Owner, "cargo")
		return err == nil && v.Comparison.State == "done"
	}, time.Minute, 10*time.Millisecond)
	for b.Loop() {
		runtime.GC()
		var most atomic.Uint64
		stop := make(chan struct{})
		go watchHeap(&most, stop)
		require.NoError(b, l.Persons.Assign(ctx, testbed.Owner, "cargo", api.Assignment{Kind: "group", Who: "crew"}))
		began := time.Now()
		for more := true; more; {
			more, err = l.Accounts.WorkOut(ctx)
			require.NoError(b, err)
		}
		out := time.Since(began)
		began, used := time.Now(), processor()
		require.NoError(b, l.Accounts.Pump(ctx, app.ID))
		sent, ours := time.Since(began), processor()-used
		close(stop)
		require.Len(b, receiver.held, n)
		some := min(n, 20_000)
		used = processor()
		bare := bareClient(b, server.URL, some, 8)
		theirs := processor() - used
		b.ReportMetric(float64(n)/out.Seconds(), "worked-out/s")
		b.ReportMetric(float64(n)/sent.Seconds(), "sent/s")
		b.ReportMetric(bare, "bare/s")
		b.ReportMetric(float64(n)/sent.Seconds()/bare, "of-bare")
		b.ReportMetric(float64(ours.Microseconds())/float64(n), "cpu-µs/sent")
		b.ReportMetric(float64(theirs.Microseconds())/float64(some), "cpu-µs/bare")
		b.ReportMetric(float64(most.Load())/(1<<20), "MiB")
	}
}

// processor is the processor's time that this process has used: beside other work on the machine it says more than the clock.
func processor() time.Duration {
	var used syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &used); err != nil {
		return 0
	}
	return time.Duration(used.Utime.Nano() + used.Stime.Nano())
}

// hire puts people into the group, past everything that is only for people.
func hire(b *testing.B, l *testbed.Lab, n int) {
	group, err := store.One[store.Group](l.Store.Read(b.Context()), "slug = 'crew'")
	require.NoError(b, err)
	for from := 0; from < n; from += 1000 {
		require.NoError(b, l.Store.Write(b.Context(), func(tx *gorm.DB) error {
			for i := from; i < min(n, from+1000); i++ {
				user := fmt.Sprintf("hand%06d", i)
				profile := map[string][]string{"preferred_username": {user}, "email": {user + "@saltmere.example"}, "name": {"Hand " +
					user},
					"given_name": {"Hand"}, "family_name": {user}}
				data, err := json.Marshal(profile)
				if err != nil {
					return err
				}
				p := store.Person{ID: store.NewID(), Name: "Hand " + user, Active: true, Profile: string(data), Sources: "{}",
					Type: "staff"}
				p.SetKeys(profile)
				if err := tx.Create(&p).Error; err != nil {
					return err
				}
				if err := tx.Create(&store.Membership{PersonID: p.ID, GroupID: group.ID, Giver: "hand"}).Error; err != nil {
					return err
				}
			}
			return nil
		}))
	}
	for more := true; more; {
		more, err = l.Accounts.WorkOut(b.Context())
		require.NoError(b, err)
	}
}

// watchHeap notes the highest heap until it is stopped.
func watchHeap(most *atomic.Uint64, stop chan struct{}) {
	for {
		select {
		case <-stop:
			return
		case <-time.After(50 * time.Millisecond):
		}
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		if m.HeapInuse > most.Load() {
			most.Store(m.HeapInuse)
		}
	}
}

// bareClient makes accounts with the same requests and nothing else, and says how many a second.
func bareClient(b *testing.B, base string, n, atOnce int) float64 {
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: atOnce}}
	ask := func(method, path string, body []byte) {
		r, err := http.NewRequest(method, base+path, bytes.NewReader(body))
		require.NoError(b, err)
		r.Header.Set("Authorization", "Bearer "+token)
		answer, err := client.Do(r)
		require.NoError(b, err)
		_, _ = io.Copy(io.Discard, answer.Body)
		answer.Body.Close()
	}
	var next atomic.Int64
	var all sync.WaitGroup
	began := time.Now()
	for range atOnce {
		all.Go(func() {
			for {
				i := next.Add(1)
				if i > int64(n) {
					return
				}
				user := fmt.Sprintf("bare%06d", i)
				ask(http.MethodGet, "/Users?count=2&filter="+url.QueryEscape(fmt.Sprintf("externalId eq %q", user)), nil)
				data, _ := json.Marshal(map[string]any{"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:User"}, "userName": user,
					"externalId": user, "active": true, "displayName": "Hand " + user, "name": map[string]any{"givenName": "Hand",
						"familyName": user}, "emails": []any{map[string]any{"value": user + "@saltmere.example", "type": "work"}}})
				ask(http.MethodPost, "/Users", data)
			}
		})
	}
	all.Wait()
	return float64(n) / time.Since(began).Seconds()
}
