package console

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"innergate/api"
	"innergate/cli/terminal"
	"innergate/client"
	"innergate/core/config"
	"innergate/core/oidc"
)

// Login is `innergate login`: remember a gate and a token for it.
func Login(of *terminal.Program) *cli.Command {
	p := &commands{of}
	return &cli.Command{
		Name: "login", Usage: "remember a gate and a token for it", ArgsUsage: "URL",
		Description: "In a terminal it opens the browser and signs in through a provider, which gives a token that ends with the " +
			"sign-in. Where there is no browser,\n--device prints a link and a code for another machine. With --name it asks for the " +
			"password and makes a token, which an owner may do; with\n" +
			"a token on standard input it takes that. Nothing secret is ever an argument.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "name", Usage: "administrator's name, to make a token by password"},
			&cli.BoolFlag{Name: "browser", Usage: "sign in with the browser, also where standard input is no terminal"},
			&cli.BoolFlag{Name: "device", Usage: "sign in on another device"},
		},
		Metadata: terminal.Examples(
			"innergate login https://gate.saltmere.example", "innergate login https://gate.saltmere.example --device",
			"innergate login https://gate.saltmere.example --name Fenna",
			"echo $TOKEN | innergate login https://gate.saltmere.example",
		),
		Action: func(ctx context.Context, c *cli.Command) error {
			args, err := terminal.Arguments(c, "URL")
			if err != nil {
				return err
			}
			l := terminal.Login{URL: strings.TrimSuffix(args[0], "/")}
			if needed, err := client.New(l.URL, "").SetupNeeded(ctx); err == nil && needed {
				return errors.New("nobody is an administrator of this gate yet. Run `innergate set-up --name NAME` on its machine, or " +
					"open the link that the service printed when it started")
			}
			name := c.String("name")
			switch {
			case name != "":
				l.Token, err = p.tokenByPassword(ctx, l.URL, name)
			case c.Bool("device"):
				l.Token, err = p.tokenByDevice(ctx, l.URL)
			case c.Bool("browser") || p.Interactive():
				l.Token, err = p.tokenByBrowser(ctx, l.URL)
			default:
				l.Token, err = p.Secret("Token: ")
			}
			if err != nil {
				return err
			}
			me, err := client.New(l.URL, l.Token).Me(ctx)
			if err != nil {
				return err
			}
			file, err := terminal.LoginFile()
			if err != nil {
				return err
			}
			data, err := json.Marshal(l)
			if err != nil {
				return err
			}
			if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
				return fmt.Errorf("the folder for settings can't be made: %w", err)
			}
			if err := os.WriteFile(file, data, 0o600); err != nil {
				return fmt.Errorf("the login can't be kept: %w", err)
			}
			fmt.Fprintf(p.Out, "%s is remembered, as %s with the role %s.\n", l.URL, me.Name, me.Role)
			return nil
		},
	}
}

// tokenByPassword signs in like the console does, makes a token, and signs out.
func (p *commands) tokenByPassword(ctx context.Context, address, name string) (string, error) {
	password, err := p.Secret("Password: ")
	if err != nil {
		return "", err
	}
	jar, err := cookiejar.New(nil)
	if err != nil {
		return "", err
	}
	c := client.New(address, "")
	c.HTTP.Jar = jar
	var me api.Me
	if err := c.Do(ctx, http.MethodPost, "/session", api.SignIn{Name: name, Password: password}, &me); err != nil {
		return "", err
	}
	c.HTTP.Transport = withHeader{me.CSRF}
	defer c.Do(ctx, http.MethodDelete, "/session", nil, nil)
	host, err := os.Hostname()
	if err != nil {
		host = "a terminal"
	}
	t, err := c.NewToken(ctx, api.NewToken{Name: name + " on " + host, Role: me.Role, Days: 30})
	if err != nil {
		return "", err
	}
	return t.Secret, nil
}

type withHeader struct{ csrf string }

func (t withHeader) RoundTrip(r *http.Request) (*http.Response, error) {
	r = r.Clone(r.Context())
	r.Header.Set("X-Innergate-CSRF", t.csrf)
	return http.DefaultTransport.RoundTrip(r)
}

// back is what the token endpoint answers.
type back struct {
	Access      string `json:"access_token"`
	Error       string `json:"error"`
	Description string `json:"error_description"`
	Device      string `json:"device_code"`
	User        string `json:"user_code"`
	Complete    string `json:"verification_uri_complete"`
	Address     string `json:"verification_uri"`
	Interval    int    `json:"interval"`
	Expires     int    `json:"expires_in"`
}

func post(ctx context.Context, address string, form url.Values) (*back, error) {
	form.Set("client_id", config.ConsoleClient)
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, address, strings.NewReader(form.Encode()))
	if err != nil {
		return nil, err
	}
	r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return nil, fmt.Errorf("the gate can't be reached: %w", err)
	}
	defer answer.Body.Close()
	data, err := io.ReadAll(io.LimitReader(answer.Body, 1<<20))
	if err != nil {
		return nil, err
	}
	var b back
	if err := json.Unmarshal(data, &b); err != nil {
		return nil, fmt.Errorf("%s does not answer as a gate does (status %s)", address, answer.Status)
	}
	return &b, nil
}

// tokenByBrowser signs in with the browser of this machine, which brings the answer to a loopback address (RFC 8252).
func (p *commands) tokenByBrowser(ctx context.Context, gate string) (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", fmt.Errorf("no loopback address can be opened for the answer: %w", err)
	}
	redirect := "http://" + l.Addr().String() + "/callback"
	state, verifier := oidc.NewVerifier(), oidc.NewVerifier()
	asked := oidc.Asked{
		Endpoint:    gate + "/oidc/authorize",
		ClientID:    config.ConsoleClient,
		RedirectURI: redirect,
		Scopes:      []string{oidc.ScopeOpenID},
		State:       state,
		Nonce:       oidc.NewVerifier(),
		Challenge:   oidc.Challenge(verifier),
	}
	location, err := asked.URL()
	if err != nil {
		return "", err
	}
	type result struct {
		code string
		err  error
	}
	answers := make(chan result, 1)
	s := &http.Server{ReadHeaderTimeout: 10 * time.Second, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/callback" {
			http.NotFound(w, r)
			return
		}
		parameters, err := oidc.ReadParameters(r.URL.RawQuery)
		var code string
		if err == nil {
			code, err = oidc.ReadAnswer(
				parameters,
				oidc.AnswerRules{Partner: "the gate", Issuers: oidc.Issuers{Issuer: gate}, IssuerPromised: true, State: state},
				nil,
			)
		}
		text := "You are signed in. You may close this page and go back to the terminal."
		if err != nil {
			text = "You were not signed in. The terminal says why."
		}
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		fmt.Fprintln(w, text)
		select {
		case answers <- result{code, err}:
		default:
		}
	})}
	go s.Serve(l) // ends with Shutdown
	defer func() {
		ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
		defer cancel()
		s.Shutdown(ctx)
	}()
	fmt.Fprintf(p.Err, "Sign in with your browser. If it does not open by itself, open this address on this machine:\n\n  %s\n\n", location)
	openBrowser(location)
	ctx, cancel := context.WithTimeout(ctx, 10*time.Minute)
	defer cancel()
	var got result
	select {
	case got = <-answers:
	case <-ctx.Done():
		return "", errors.New("nobody signed in within ten minutes; run the command again")
	}
	if got.err != nil {
		return "", got.err
	}
	b, err := post(
		ctx,
		gate+"/oidc/token",
		url.Values{"grant_type": {oidc.GrantCode}, "code": {got.code}, "redirect_uri": {redirect}, "code_verifier": {verifier}},
	)
	if err != nil {
		return "", err
	}
	return b.token()
}

func (b *back) token() (string, error) {
	if b.Access == "" {
		return "", fmt.Errorf("the gate gave no token: %s %s", b.Error, b.Description)
	}
	return b.Access, nil
}

func openBrowser(address string) {
	command := map[string][]string{"darwin": {"open"}, "windows": {"rundll32", "url.dll,FileProtocolHandler"}}[runtime.GOOS]
	if command == nil {
		command = []string{"xdg-open"}
	}
	// Where there is no browser the printed address serves.
	_ = exec.Command(command[0], append(command[1:], address)...).Start()
}

// tokenByDevice signs in on another device (RFC 8628).
func (p *commands) tokenByDevice(ctx context.Context, gate string) (string, error) {
	b, err := post(ctx, gate+"/oidc/device", url.Values{"scope": {oidc.ScopeOpenID}})
	if err != nil {
		return "", err
	}
	if b.Device == "" {
		return "", fmt.Errorf("the gate gave no code: %s %s", b.Error, b.Description)
	}
	fmt.Fprintf(p.Err, "On any device, open %s and type the code\n\n  %s\n\nor open %s\n", b.Address, b.User, b.Complete)
	wait := time.Duration(b.Interval) * time.Second
	end := time.Now().Add(time.Duration(b.Expires) * time.Second)
	for time.Now().Before(end) {
		select {
		case <-ctx.Done():
			return "", ctx.Err()
		case <-time.After(wait):
		}
		got, err := post(ctx, gate+"/oidc/token", url.Values{"grant_type": {oidc.GrantDevice}, "device_code": {b.Device}})
		if err != nil {
			return "", err
		}
		switch got.Error {
		case "authorization_pending":
		case "slow_down":
			wait += 5 * time.Second
		default:
			return got.token()
		}
	}
	return "", errors.New("nobody typed the code in time; run the command again")
}
