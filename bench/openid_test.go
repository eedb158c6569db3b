package bench

import (
	"bufio"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	jose "github.com/go-jose/go-jose/v4"
	"github.com/gofiber/fiber/v3"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/keys"
	"innergate/demo"
	"innergate/store"
)

// TestBareServer is no test: a benchmark starts it as a process of its own, to have a floor that runs as the gate does.
// It does the least that each endpoint must.
func TestBareServer(t *testing.T) {
	folder := os.Getenv("INNERGATE_BARE")
	if folder == "" {
		t.Skip("a benchmark starts it")
	}
	db := bareStore(t, folder)
	signer := bareSigner(t)
	app := fiber.New()
	app.Post("/token", func(c fiber.Ctx) error {
		token, err := bareSign(signer)
		if err != nil {
			return err
		}
		if err := db.Write(c.Context(), func(tx *gorm.DB) error { return bareInsert(tx, 200) }); err != nil {
			return err
		}
		return c.JSON(map[string]any{
			"access_token":  keys.NewSecret(),
			"refresh_token": keys.NewSecret(),
			"id_token":      token,
			"token_type":    "Bearer",
			"expires_in":    600,
		})
	})
	app.Get("/read", func(c fiber.Ctx) error {
		var row store.UsedID
		if err := db.Read(c.Context()).Where("issuer = ? AND value = ?", "bare", "x").Take(&row).Error; err != nil {
			return err
		}
		return c.JSON(map[string]any{
			"sub":    row.Value,
			"email":  "mira.voss@saltmere.example",
			"name":   "Mira Voss",
			"groups": []string{"staff", "ferry-crew", "ferry-purser"},
		})
	})
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	fmt.Printf("bare http://%s\n", l.Addr())
	_ = app.Listener(l, fiber.ListenConfig{DisableStartupMessage: true})
}

func bareStore(t testing.TB, folder string) *store.Store {
	t.Helper()
	sealer, err := store.NewSealer(make([]byte, 32))
	require.NoError(t, err)
	s, err := store.Open(folder, sealer)
	require.NoError(t, err)
	require.NoError(t, s.Write(context.Background(), func(tx *gorm.DB) error {
		return tx.Exec("INSERT INTO used_ids (issuer, value, expires_at) VALUES ('bare', 'x', ?)", time.Now().Add(time.Hour)).Error
	}))
	return s
}

func bareInsert(tx *gorm.DB, size int) error {
	return tx.Exec(
		"INSERT INTO artifacts (handle, application_id, sealed, expires_at) VALUES (?, 'x', ?, ?)", keys.NewSecret(),
		make([]byte, size), time.Now(),
	).Error
}

func bareSigner(t testing.TB) jose.Signer {
	t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: k}, nil)
	require.NoError(t, err)
	return signer
}

func bareSign(signer jose.Signer) (string, error) {
	body, err := json.Marshal(map[string]any{
		"iss":       "https://gate.example",
		"sub":       "x",
		"aud":       "bench",
		"exp":       time.Now().Unix(),
		"iat":       time.Now().Unix(),
		"nonce":     "n",
		"sid":       "s",
		"at_hash":   "h",
		"auth_time": 1,
	})
	if err != nil {
		return "", err
	}
	signed, err := signer.Sign(body)
	if err != nil {
		return "", err
	}
	return signed.CompactSerialize()
}

// bareServer starts TestBareServer as a process of its own.
func bareServer(b *testing.B) string {
	cmd := exec.Command(os.Args[0], "-test.run", "^TestBareServer$", "-test.v")
	cmd.Env = append(os.Environ(), "INNERGATE_BARE="+b.TempDir())
	out, err := cmd.StdoutPipe()
	require.NoError(b, err)
	require.NoError(b, cmd.Start())
	b.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	for lines := bufio.NewScanner(out); lines.Scan(); {
		if address, ok := strings.CutPrefix(lines.Text(), "bare "); ok {
			go io.Copy(io.Discard, out)
			return address
		}
	}
	b.Fatal("the bare server did not start")
	return ""
}

const benchVerifier = "dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk"

// bench is an application that takes codes.
type benchClient struct {
	w      *demo.World
	secret string
	server *httptest.Server
	codes  chan string
}

func newBenchClient(b *testing.B, w *demo.World) *benchClient {
	ctx := context.Background()
	c := &benchClient{w: w, codes: make(chan string, 1)}
	c.server = httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { c.codes <- r.URL.Query().Get("code") }))
	b.Cleanup(c.server.Close)
	_, err := w.Client().
		AddApplication(ctx, config.Application{Slug: "bench", Name: "Bench", Kind: "oidc", Reach: access.Everyone,
			Providers: []string{"saltmere-staff"}, Access: access.Policy{To: access.Everybody}, Mapping: claims.OutgoingOIDC(),
			OIDC: &config.OIDCApplication{
				RedirectURIs:  []string{c.server.URL + "/cb"},
				Algorithm:     "ES256",
				Refresh:       true,
				Introspection: true,
				Scopes:        []string{"openid", "profile", "email", "groups"},
			}})
	require.NoError(b, err)
	s, err := w.Client().NewSecret(ctx, "bench", api.NewSecret{})
	require.NoError(b, err)
	c.secret = s.Secret
	return c
}

func (c *benchClient) code(b *testing.B) string {
	sum := sha256.Sum256([]byte(benchVerifier))
	q := url.Values{
		"response_type":         {"code"},
		"client_id":             {"bench"},
		"redirect_uri":          {c.server.URL + "/cb"},
		"scope":                 {"openid profile email groups"},
		"state":                 {"s"},
		"nonce":                 {"n"},
		"code_challenge":        {base64.RawURLEncoding.EncodeToString(sum[:])},
		"code_challenge_method": {"S256"},
	}
	walker := demo.NewWalker(nil)
	if err := walker.SignIn(context.Background(), c.w.URL+"/oidc/authorize?"+q.Encode(), "mvoss"); err != nil {
		b.Fatal(err)
	}
	walker.HTTP.CloseIdleConnections()
	return <-c.codes
}

func (c *benchClient) redeem(b *testing.B, client *http.Client, code string) map[string]any {
	form := url.Values{
		"grant_type":    {"authorization_code"},
		"code":          {code},
		"redirect_uri":  {c.server.URL + "/cb"},
		"code_verifier": {benchVerifier},
	}
	r, err := http.NewRequest(http.MethodPost, c.w.URL+"/oidc/token", strings.NewReader(form.Encode()))
	if err != nil {
		b.Fatal(err)
	}
	r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	r.SetBasicAuth("bench", c.secret)
	return fetch(b, client, r)
}

func fetch(b *testing.B, client *http.Client, r *http.Request) map[string]any {
	answer, err := client.Do(r)
	if err != nil {
		b.Fatal(err)
	}
	defer answer.Body.Close()
	var out map[string]any
	if err := json.NewDecoder(answer.Body).Decode(&out); err != nil || answer.StatusCode != 200 {
		b.Fatal(answer.Status, out, err)
	}
	return out
}

// BenchmarkToken exchanges codes at the token endpoint over loopback. The metric ratio is its time over that of a bare
// Fiber handler, a process of its own too, that makes the same signature and one SQLite transaction. The bound is 2.5.
func BenchmarkToken(b *testing.B) {
	w, _ := prepared(b)
	c, bare := newBenchClient(b, w), bareServer(b)
	const rounds = 300
	client := &http.Client{}
	for b.Loop() {
	}
	var ours, floor time.Duration
	for range 3 { // a code is good for a minute
		var codes []string
		for range rounds {
			codes = append(codes, c.code(b))
		}
		begin := time.Now()
		for _, code := range codes {
			if c.redeem(b, client, code)["refresh_token"] == nil {
				b.Fatal("no refresh token")
			}
		}
		ours += time.Since(begin)
		begin = time.Now()
		for range rounds {
			r, err := http.NewRequest(http.MethodPost, bare+"/token", strings.NewReader("grant_type=authorization_code"))
			require.NoError(b, err)
			r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
			fetch(b, client, r)
		}
		floor += time.Since(begin)
	}
	b.ReportMetric(float64(ours)/float64(floor), "ratio")
	b.ReportMetric(float64(ours.Microseconds())/3/rounds, "token-µs")
	b.ReportMetric(float64(floor.Microseconds())/3/rounds, "bare-µs")
	b.ReportMetric(0, "ns/op")
}

// BenchmarkBridge runs whole sign-ins from the SAML provider to an OpenID Connect application, the token endpoint
// included. The metric ratio is the gate's processor time over that of its public-key operations (one RSA-2048
// signature and verification, one ES256 signature) and its seven database transactions, measured bare here. The bound
// is 2.5.
func BenchmarkBridge(b *testing.B) {
	w, s := prepared(b)
	c := newBenchClient(b, w)
	client := &http.Client{}
	for range 50 {
		c.redeem(b, client, c.code(b))
	}
	n := 0
	before := s.Processor(b)
	for b.Loop() {
		c.redeem(b, client, c.code(b))
		n++
	}
	used := (s.Processor(b) - before) / time.Duration(n)
	bare := bareBridge(b)
	b.ReportMetric(float64(used)/float64(bare), "ratio")
	b.ReportMetric(float64(used.Microseconds())/1000, "gate-ms")
	b.ReportMetric(float64(bare.Microseconds())/1000, "bare-ms")
}

func bareBridge(b *testing.B) time.Duration {
	db, signer := bareStore(b, b.TempDir()), bareSigner(b)
	defer db.Close()
	const rounds = 300
	begin := time.Now()
	for range rounds {
		if _, err := bareSign(signer); err != nil {
			b.Fatal(err)
		}
		for range 7 {
			if err := db.Write(context.Background(), func(tx *gorm.DB) error { return bareInsert(tx, 2000) }); err != nil {
				b.Fatal(err)
			}
		}
	}
	return time.Since(begin)/rounds + bareOperations(b)/2 // half of two RSA signatures and verifications
}

// BenchmarkUserInfo and BenchmarkIntrospection measure throughput with eight callers, as a share of a bare Fiber
// handler, a process of its own too, that does one indexed SQLite read. The bound is 0.5.
func BenchmarkUserInfo(b *testing.B) {
	throughput(b, func(w *demo.World, c *benchClient, access string) *http.Request {
		r, err := http.NewRequest(http.MethodGet, w.URL+"/oidc/userinfo", nil)
		require.NoError(b, err)
		r.Header.Set("Authorization", "Bearer "+access)
		return r
	})
}

func BenchmarkIntrospection(b *testing.B) {
	throughput(b, func(w *demo.World, c *benchClient, access string) *http.Request {
		r, err := http.NewRequest(http.MethodPost, w.URL+"/oidc/introspect", strings.NewReader(url.Values{"token": {access}}.Encode()))
		require.NoError(b, err)
		r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		r.SetBasicAuth("bench", c.secret)
		return r
	})
}

func throughput(b *testing.B, request func(w *demo.World, c *benchClient, access string) *http.Request) {
	w, _ := prepared(b)
	c, bare := newBenchClient(b, w), bareServer(b)
	token, _ := c.redeem(b, &http.Client{}, c.code(b))["access_token"].(string)
	for b.Loop() {
	}
	run := func(make func() *http.Request) float64 {
		client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 8}}
		var done atomic.Int64
		var all sync.WaitGroup
		end := time.Now().Add(3 * time.Second)
		for range 8 {
			all.Go(func() {
				for time.Now().Before(end) {
					answer, err := client.Do(make())
					if err != nil || answer.StatusCode != 200 {
						b.Error(err, answer)
						return
					}
					io.Copy(io.Discard, answer.Body)
					answer.Body.Close()
					done.Add(1)
				}
			})
		}
		all.Wait()
		return float64(done.Load()) / 3
	}
	ours := run(func() *http.Request { return request(w, c, token) })
	floor := run(func() *http.Request {
		r, err := http.NewRequest(http.MethodGet, bare+"/read", nil)
		require.NoError(b, err)
		return r
	})
	b.ReportMetric(ours/floor, "share")
	b.ReportMetric(ours, "gate/s")
	b.ReportMetric(floor, "bare/s")
	b.ReportMetric(0, "ns/op")
}
