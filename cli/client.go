package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/http/cookiejar"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"innergate/api"
	"innergate/client"
	"innergate/core/saml"
)

// login is what `innergate login` keeps.
type login struct {
	URL   string `json:"url"`
	Token string `json:"token"`
}

func loginFile() (string, error) {
	folder, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("there is no folder for settings: %w", err)
	}
	return filepath.Join(folder, "innergate", "login.json"), nil
}

func readLogin() (login, error) {
	var l login
	file, err := loginFile()
	if err != nil {
		return l, nil
	}
	data, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return l, nil
	}
	if err != nil {
		return l, fmt.Errorf("the file %s can't be read: %w", file, err)
	}
	if err := json.Unmarshal(data, &l); err != nil {
		return l, fmt.Errorf("the file %s is damaged; run `innergate login` again", file)
	}
	return l, nil
}

// client makes a client from flags, environment and login, in this order.
func (p *program) client(c *cli.Command) (*client.Client, error) {
	address, token := c.Root().String("url"), os.Getenv("INNERGATE_TOKEN")
	if address == "" || token == "" {
		l, err := readLogin()
		if err != nil {
			return nil, err
		}
		if address == "" {
			address = l.URL
		}
		if token == "" && (l.URL == address) {
			token = l.Token
		}
	}
	if address == "" {
		return nil, usage("no gate is named. Run `innergate login URL`, or set INNERGATE_URL and INNERGATE_TOKEN")
	}
	return client.New(address, token), nil
}

func (p *program) login() *cli.Command {
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
		Metadata: examples(
			"innergate login https://gate.saltmere.example", "innergate login https://gate.saltmere.example --device",
			"innergate login https://gate.saltmere.example --name Fenna",
			"echo $TOKEN | innergate login https://gate.saltmere.example",
		),
		Action: func(ctx context.Context, c *cli.Command) error {
			args, err := arguments(c, "URL")
			if err != nil {
				return err
			}
			l := login{URL: strings.TrimSuffix(args[0], "/")}
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
			case c.Bool("browser") || p.interactive():
				l.Token, err = p.tokenByBrowser(ctx, l.URL)
			default:
				l.Token, err = p.secret("Token: ")
			}
			if err != nil {
				return err
			}
			me, err := client.New(l.URL, l.Token).Me(ctx)
			if err != nil {
				return err
			}
			file, err := loginFile()
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

// interactive says whether somebody sits before a terminal.
func (p *program) interactive() bool {
	f, ok := p.In.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// secret reads one line without showing it.
func (p *program) secret(prompt string) (string, error) {
	if f, ok := p.In.(*os.File); ok && p.interactive() {
		fmt.Fprint(p.Err, prompt)
		b, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(p.Err)
		return string(b), err
	}
	line, err := bufio.NewReader(io.LimitReader(p.In, 4096)).ReadString('\n')
	if err != nil && !errors.Is(err, io.EOF) {
		return "", err
	}
	return strings.TrimRight(line, "\r\n"), nil
}

// tokenByPassword signs in like the console does, makes a token, and signs out.
func (p *program) tokenByPassword(ctx context.Context, address, name string) (string, error) {
	password, err := p.secret("Password: ")
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

// takeIn reads SOURCE for "take theirs": an address, a file, or - for standard input.
func (p *program) takeIn(source string, c *cli.Command) (api.TakeIn, error) {
	in := api.TakeIn{EntityID: c.String("entity")}
	if file := c.String("certificate"); file != "" {
		data, err := p.input(file, 1<<20)
		if err != nil {
			return in, err
		}
		in.Certificate = saml.Text(data)
	}
	if strings.HasPrefix(source, "https://") || strings.HasPrefix(source, "http://") {
		in.URL = source
		return in, nil
	}
	data, err := p.input(source, 4<<20)
	if err != nil {
		return in, err
	}
	in.Text = saml.Text(data)
	return in, nil
}
