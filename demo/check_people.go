package demo

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/pquerna/otp/totp"
	"golang.org/x/net/html"
)

// SignInHere signs in at the gate's own directory, from the page that asks for name and password until no page asks any
// more. Secret is that of a second factor which is there already; where one is set up on the way, its secret and the
// recovery codes are returned.
func (w *Walker) SignInHere(ctx context.Context, name, password, secret string, now time.Time) (made string, codes []string, err error) {
	if err := w.Submit(ctx, url.Values{"name": {name}, "password": {password}}); err != nil {
		return "", nil, err
	}
	if strings.Contains(w.Text, "Set up a second factor") {
		n := w.Find(func(n *html.Node) bool { return n.Data == "span" && attr(n, "class") == "ref" && n.FirstChild != nil })
		if n == nil {
			return "", nil, errors.New("the page shows no secret")
		}
		made = strings.ReplaceAll(n.FirstChild.Data, " ", "")
		secret = made
	}
	if secret == "" {
		return "", nil, w.Onward(ctx)
	}
	code, err := totp.GenerateCode(secret, now)
	if err != nil {
		return "", nil, err
	}
	if err := w.Submit(ctx, url.Values{"code": {code}}); err != nil {
		return made, nil, err
	}
	if made != "" {
		w.Find(func(n *html.Node) bool {
			if n.Data == "li" && attr(n, "class") == "ref" && n.FirstChild != nil {
				codes = append(codes, n.FirstChild.Data)
			}
			return false
		})
		if err := w.Submit(ctx, nil); err != nil {
			return made, codes, err
		}
	}
	return made, codes, w.Onward(ctx)
}

// checkRegister signs a skipper of the agency in, who sets up a second factor on the way.
func checkRegister(ctx context.Context, w *World, step func(string, ...any)) error {
	b := w.Walker()
	if err := b.Get(ctx, w.LedgerURL+"/sign-in"); err != nil {
		return err
	}
	if err := b.Onward(ctx); err != nil {
		return err
	}
	if err := b.Submit(ctx, url.Values{"provider": {"harbour-register"}}); err != nil {
		return err
	}
	if err := b.Onward(ctx); err != nil {
		return err
	}
	_, codes, err := b.SignInHere(ctx, "runa.holt", w.AgencyPassword(), "", time.Now())
	if err != nil {
		return err
	}
	if !strings.Contains(b.Text, "Runa Holt") || len(codes) != 10 {
		return fmt.Errorf("the skipper did not come in: %s", b.Text)
	}
	step("Harbour Register: Runa Holt of the agency signed in with a password and a second factor, which she set up on the way")
	return nil
}
