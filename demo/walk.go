package demo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"slices"
	"strings"
	"time"

	"golang.org/x/net/html"
)

// Walker goes through sign-ins as a browser would, by plain HTTP: it keeps cookies, follows redirects and sends forms.
type Walker struct {
	HTTP *http.Client
	// Provider is chosen where several can be, or the first.
	Provider string
	// Language is what the browser asks for (Accept-Language).
	Language string
	// Ticket is what the browser shows to a service that asks for a ticket (RFC 4559): the value after Negotiate, or nothing. Nil shows
	// none.
	Ticket func(service string) (string, error)
	// Page is the last page, Address where it came from.
	Page    *html.Node
	Text    string
	Address *url.URL
	Status  int
}

// NewWalker makes one with an empty cookie jar. The transport may be nil.
func NewWalker(transport http.RoundTripper) *Walker {
	jar, err := cookiejar.New(nil)
	if err != nil {
		panic(err) // without options it can't fail
	}
	return &Walker{HTTP: &http.Client{Jar: jar, Transport: transport, Timeout: 30 * time.Second}}
}

// Get opens an address.
func (w *Walker) Get(ctx context.Context, address string) error {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return err
	}
	return w.do(r)
}

// Post sends a form as a browser does, which says from where it comes.
func (w *Walker) Post(ctx context.Context, address string, form url.Values) error {
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, address, strings.NewReader(form.Encode()))
	if err != nil {
		return err
	}
	r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	if w.Address != nil {
		r.Header.Set("Origin", w.Address.Scheme+"://"+w.Address.Host)
	}
	return w.do(r)
}

func (w *Walker) do(r *http.Request) error {
	if w.Language != "" {
		r.Header.Set("Accept-Language", w.Language)
	}
	r.Header.Set("Accept", "text/html,*/*;q=0.8")
	answer, err := w.HTTP.Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	body, err := io.ReadAll(io.LimitReader(answer.Body, 4<<20))
	if err != nil {
		return err
	}
	w.Text, w.Address, w.Status = string(body), answer.Request.URL, answer.StatusCode
	if shown, err := w.ticketFor(answer); err != nil {
		return err
	} else if shown != nil {
		return w.do(shown)
	}
	if w.Page, err = html.Parse(strings.NewReader(w.Text)); err != nil {
		return err
	}
	// What another site posts to the gate is answered by a page that posts it again, from there.
	if w.Find(func(n *html.Node) bool { return n.Data == "input" && attr(n, "name") == "came" }) != nil {
		return w.Submit(r.Context(), nil)
	}
	return nil
}

// ticketFor is the same request with a ticket, where one is asked for and there is one; nil otherwise.
func (w *Walker) ticketFor(answer *http.Response) (*http.Request, error) {
	asked := answer.StatusCode == http.StatusUnauthorized && answer.Header.Get("WWW-Authenticate") == "Negotiate"
	if w.Ticket == nil || !asked || answer.Request.Header.Get("Authorization") != "" {
		return nil, nil
	}
	shown, err := w.Ticket("HTTP/" + answer.Request.URL.Hostname())
	if err != nil || shown == "" {
		return nil, err
	}
	again, err := http.NewRequestWithContext(answer.Request.Context(), http.MethodGet, answer.Request.URL.String(), nil)
	if err == nil {
		again.Header.Set("Authorization", "Negotiate "+shown)
	}
	return again, err
}

func attr(n *html.Node, name string) string {
	for _, a := range n.Attr {
		if a.Key == name {
			return a.Val
		}
	}
	return ""
}

// Find returns the first element for which match holds.
func (w *Walker) Find(match func(*html.Node) bool) *html.Node {
	for n := range w.Page.Descendants() {
		if n.Type == html.ElementNode && match(n) {
			return n
		}
	}
	return nil
}

// Inner is the text of the element with this id.
func (w *Walker) Inner(id string) string {
	n := w.Find(func(n *html.Node) bool { return attr(n, "id") == id })
	if n == nil {
		return ""
	}
	var b strings.Builder
	for c := range n.Descendants() {
		if c.Type == html.TextNode {
			b.WriteString(c.Data)
		}
	}
	return b.String()
}

// Words are the page's text as a person reads it.
func (w *Walker) Words() string {
	var words []string
	for n := range w.Page.Descendants() {
		if n.Type == html.TextNode && n.Parent.Data != "style" && n.Parent.Data != "script" && n.Parent.Data != "title" {
			words = append(words, strings.Fields(n.Data)...)
		}
	}
	return strings.Join(words, " ")
}

// Link is the address of the first link with this text.
func (w *Walker) Link(text string) string {
	n := w.Find(func(n *html.Node) bool {
		return n.Data == "a" && n.FirstChild != nil && n.FirstChild.Type == html.TextNode && n.FirstChild.Data == text
	})
	if n == nil {
		return ""
	}
	return attr(n, "href")
}

// form is the first form that is shown without a script: a passkey's is not.
func (w *Walker) form() *html.Node {
	return w.Find(func(n *html.Node) bool {
		return n.Data == "form" && !slices.ContainsFunc(n.Attr, func(a html.Attribute) bool { return a.Key == "hidden" })
	})
}

// Submit sends the page's form, with extra values for what a person would choose.
func (w *Walker) Submit(ctx context.Context, extra url.Values) error {
	form := w.form()
	if form == nil {
		return fmt.Errorf("the page at %s has no form", w.Address)
	}
	values := url.Values{}
	for n := range form.Descendants() {
		if n.Type == html.ElementNode && n.Data == "input" {
			values.Add(attr(n, "name"), attr(n, "value"))
		}
	}
	for k, v := range extra {
		values[k] = v
	}
	target, err := w.Address.Parse(attr(form, "action"))
	if err != nil {
		return err
	}
	return w.Post(ctx, target.String(), values)
}

// buttons is among how many buttons of a form a person would choose.
func buttons(form *html.Node) int {
	n := 0
	for c := range form.Descendants() {
		if c.Data == "button" {
			n++
		}
	}
	return n
}

// Onward follows pages that send on by themselves: a refresh, or a form that a script would send.
func (w *Walker) Onward(ctx context.Context) error {
	for range 10 {
		refresh := w.Find(func(n *html.Node) bool { return n.Data == "meta" && attr(n, "http-equiv") == "refresh" })
		if refresh != nil {
			_, address, _ := strings.Cut(attr(refresh, "content"), "url=")
			to, err := w.Address.Parse(address)
			if err != nil {
				return err
			}
			if err := w.Get(ctx, to.String()); err != nil {
				return err
			}
			continue
		}
		script := w.Find(func(n *html.Node) bool { return n.Data == "script" })
		asks := w.Find(func(n *html.Node) bool { return n.Data == "form" && n != w.form() }) != nil
		if script == nil || w.form() == nil || asks || buttons(w.form()) > 1 {
			return nil
		}
		if err := w.Submit(ctx, nil); err != nil {
			return err
		}
	}
	return errors.New("the way has no end: more than ten pages sent on by themselves")
}

// SignIn goes from an address through the provider's page, as the person with this user name, until no page sends on.
func (w *Walker) SignIn(ctx context.Context, address, user string) error {
	if err := w.Get(ctx, address); err != nil {
		return err
	}
	return w.Choose(ctx, user)
}

// Choose goes on from a page of the gate or of a provider, as the person with this user name, until no page sends on.
func (w *Walker) Choose(ctx context.Context, user string) error {
	if err := w.Onward(ctx); err != nil {
		return err
	}
	for _, step := range []struct{ button, value string }{{"provider", w.Provider}, {"person", user}, {"answer", "yes"}} {
		button := w.Find(func(n *html.Node) bool { return n.Data == "button" && attr(n, "name") == step.button })
		if button == nil {
			continue
		}
		if step.value == "" {
			step.value = attr(button, "value")
		}
		if err := w.Submit(ctx, url.Values{step.button: {step.value}}); err != nil {
			return err
		}
		if err := w.Onward(ctx); err != nil {
			return err
		}
	}
	return nil
}

// Rehearse opens a rehearsal's link, begins, and signs in.
func (w *Walker) Rehearse(ctx context.Context, link, user string) error {
	if err := w.Get(ctx, link); err != nil {
		return err
	}
	if err := w.Submit(ctx, nil); err != nil {
		return err
	}
	return w.Choose(ctx, user)
}
