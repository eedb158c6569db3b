package server

import (
	"bytes"
	"crypto/sha256"
	"embed"
	"encoding/base64"
	"html/template"
	"net/url"
	"strings"

	"github.com/gofiber/fiber/v3"

	"innergate/core/config"
	"innergate/gate/directory"
	"innergate/gate/exchange"
	"innergate/gate/kerberos"
	"innergate/gate/ldapdir"
	"innergate/gate/moves"
	"innergate/gate/portal"
	"innergate/gate/rehearsal"
	"innergate/gate/signin"
)

//go:embed pages
var pageFiles embed.FS

var pages = template.Must(
	template.New("pages").
		Funcs(template.FuncMap{"t": said, "strong": strong, "picture": picture, "moment": moment, "leftState": leftState,
			"sheetName": sheetName, "sheetHint": sheetHint, "sheetRole": sheetRole}).
		ParseFS(pageFiles, "pages/*.html"),
)

// pageData is what a page for people shows.
type pageData struct {
	Title, Text, More string
	Lang              string // set with the page
	Reference         string
	Back, BackName    string
	SignOutHere       bool // the page at which people sign out of the gate is offered
	Form              *signin.Form
	Choice            *signin.Choice
	Rehearsal         *rehearsal.RehearsalPage
	Handover          *exchange.HandoverPage
	Trial             *moves.TrialPage
	Confirm           *signin.Confirm
	Own               *directory.OwnPage
	Entry             *ldapdir.Page
	Ticket            *kerberos.Page
	Ask               *signin.AskProfile
	Picture           template.URL
	SignOut           *signin.SignOut
	Portal            *portal.Portal
	Account           *portal.OwnAccount
	Location          template.URL
	Code              string
	Action            string
	House             config.Pages
	HelpLink          template.URL
	MarkPicture       template.URL
	Style             template.CSS
	Script            template.JS
}

var (
	pageStyle  = mustRead("pages/page.css")
	pageScript = mustRead("pages/send.js")
	keyScript  = mustRead("pages/passkey.js")
	findScript = mustRead("pages/find.js")
	scripts    = "'sha256-" + sum(pageScript) + "' 'sha256-" + sum(keyScript) + "' 'sha256-" + sum(findScript) + "'"
)

// policyOf is what a page with this style may do.
func policyOf(style string) string {
	return "default-src 'none'; style-src 'sha256-" + sum(style) + "'; script-src " + scripts +
		"; img-src data:; base-uri 'none'; frame-ancestors 'none'"
}

// ownPolicy is that of a page in the gate's own look.
var ownPolicy = policyOf(pageStyle)

// styleOf is the pages' style in an operator's accent, which was checked to be a colour.
func styleOf(p config.Pages) (style, policy string) {
	light, dark := p.Accents()
	if light == "" {
		return pageStyle, ownPolicy
	}
	style = pageStyle + ":root{--sea:" + light + ";--on-sea:#fff}@media (prefers-color-scheme:dark){:root{--sea:" + dark +
		";--on-sea:#10191b}}"
	return style, policyOf(style)
}

func mustRead(name string) string {
	b, err := pageFiles.ReadFile(name)
	if err != nil {
		panic(err) // it is embedded
	}
	return string(b)
}

func sum(text string) string {
	h := sha256.Sum256([]byte(text))
	return base64.StdEncoding.EncodeToString(h[:])
}

// trusted marks an address to which the gate has decided to send somebody: a registered one, whose scheme was checked
// when it was entered. A program's own scheme would be taken out of the page otherwise.
func trusted(address string) template.URL {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "https" && u.Scheme != "http" && !strings.Contains(u.Scheme, ".") {
		return ""
	}
	return template.URL(address)
}

// page answers with a page for people. Chromium holds redirects after a form against form-action too, and applications
// do redirect to other hosts of theirs after taking a response; a page that posts elsewhere therefore allows any host,
// and has exactly one form.
func (s *Server) page(c fiber.Ctx, status int, name string, d pageData) error {
	d.Lang = s.languageOf(c)
	d.Title, d.Text, d.More = said(d.Lang, d.Title), said(d.Lang, d.Text), said(d.Lang, d.More)
	c.Set("Content-Language", d.Lang)
	d.House = s.looks(c)
	d.HelpLink, d.MarkPicture = template.URL(d.House.HelpLink()), template.URL(d.House.Mark)
	style, allowed := styleOf(d.House)
	d.Style, d.Script = template.CSS(style), template.JS(pageScript)
	if d.Choice != nil {
		d.Script = template.JS(findScript)
	}
	if d.Own != nil && d.Own.PasskeyAct != "" {
		d.Script = template.JS(keyScript)
	}
	var b bytes.Buffer
	if err := pages.ExecuteTemplate(&b, name, d); err != nil {
		return err
	}
	action := "'self'"
	if d.Form != nil {
		action = "https:"
		if !s.Gate.Secure() {
			action = "http: https:"
		}
	}
	framed := ""
	if d.SignOut != nil && len(d.SignOut.Frames) > 0 {
		framed = "; frame-src"
		for _, f := range d.SignOut.Frames {
			if u, err := url.Parse(f); err == nil {
				framed += " " + u.Scheme + "://" + u.Host
			}
		}
	}
	c.Set("Content-Security-Policy", allowed+"; form-action "+action+framed)
	c.Set("Cache-Control", "no-store")
	return c.Status(status).Type("html", "utf-8").Send(b.Bytes())
}
