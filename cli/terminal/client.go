package terminal

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"innergate/api"
	"innergate/client"
	"innergate/core/saml"
)

// Login is what `innergate login` keeps.
type Login struct {
	URL   string `json:"url"`
	Token string `json:"token"`
}

// LoginFile is where a login is kept, in the folder for the settings of this account.
func LoginFile() (string, error) {
	folder, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("there is no folder for settings: %w", err)
	}
	return filepath.Join(folder, "innergate", "login.json"), nil
}

func readLogin() (Login, error) {
	var l Login
	file, err := LoginFile()
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

// Client makes a client from flags, environment and login, in this order.
func (p *Program) Client(c *cli.Command) (*client.Client, error) {
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
		return nil, Usage("no gate is named. Run `innergate login URL`, or set INNERGATE_URL and INNERGATE_TOKEN")
	}
	return client.New(address, token), nil
}

// Interactive says whether somebody sits before a terminal.
func (p *Program) Interactive() bool {
	f, ok := p.In.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// Secret reads one line without showing it.
func (p *Program) Secret(prompt string) (string, error) {
	if f, ok := p.In.(*os.File); ok && p.Interactive() {
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

// TakeIn reads SOURCE for "take theirs": an address, a file, or - for standard input.
func (p *Program) TakeIn(source string, c *cli.Command) (api.TakeIn, error) {
	in := api.TakeIn{EntityID: c.String("entity")}
	if file := c.String("certificate"); file != "" {
		data, err := p.Input(file, 1<<20)
		if err != nil {
			return in, err
		}
		in.Certificate = saml.Text(data)
	}
	if strings.HasPrefix(source, "https://") || strings.HasPrefix(source, "http://") {
		in.URL = source
		return in, nil
	}
	data, err := p.Input(source, 4<<20)
	if err != nil {
		return in, err
	}
	in.Text = saml.Text(data)
	return in, nil
}
