package config

import (
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Pages is how the gate's pages for people look, and what they say of who runs it. Nothing set is the gate's own look, in
// the language that the browser asks for.
type Pages struct {
	// Name is the operator's, in place of the gate's own.
	Name string `json:"name,omitempty"`
	// Mark is the operator's sign, as a data: address of a PNG, JPEG, GIF or WebP of at most 32 KiB.
	Mark string `json:"mark,omitempty"`
	// Accent is the colour of buttons and links, as #rrggbb. What is set is used on light pages; on dark ones it is
	// lightened until it can be read.
	Accent string `json:"accent,omitempty"`
	// Help is where people find help: a mail address, a telephone number, or an address of a page.
	Help string `json:"help,omitempty"`
	// Language is the one for everybody, as a tag such as de; empty for what each browser asks for.
	Language string `json:"language,omitempty"`
}

var (
	accentForm   = regexp.MustCompile(`^#[0-9a-fA-F]{6}$`)
	languageForm = regexp.MustCompile(`^[a-z]{2,3}(-[A-Za-z0-9]{2,8})*$`)
)

// The colours that an accent has to be read on, of light and of dark pages.
const (
	lightCard = "#fffdf8"
	darkCard  = "#1b2527"
	readable  = 4.5 // WCAG 2.2, 1.4.3
)

// Validate says what is wrong.
func (p *Pages) Validate() error {
	v := &validator{}
	if utf8.RuneCountInString(p.Name) > 60 || strings.ContainsAny(p.Name, "\r\n") {
		v.add("name", "the name is one line of at most 60 characters")
	}
	if p.Mark != "" {
		if err := CheckPicture(p.Mark); err != nil {
			v.add("mark", "%v", err)
		}
	}
	switch {
	case p.Accent == "":
	case !accentForm.MatchString(p.Accent):
		v.add("accent", "a colour is written as #rrggbb, such as #12525c")
	case contrast(p.Accent, lightCard) < readable:
		v.add("accent", "%s can't be read on a light page: its contrast is %.1f, and %.1f is the least; take a darker one", p.Accent,
			contrast(p.Accent, lightCard), readable)
	}
	if len(p.Help) > 200 || strings.ContainsAny(p.Help, "\r\n<>") {
		v.add("help", "it is one line of at most 200 characters: a mail address, a number, or an address of a page")
	}
	if p.Language != "" && !languageForm.MatchString(p.Language) {
		v.add("language", "%q is no language; it is written as de or pt-BR", p.Language)
	}
	return v.err()
}

// Accents are the accent on light and on dark pages; empty where none is set.
func (p Pages) Accents() (light, dark string) {
	if p.Accent == "" {
		return "", ""
	}
	dark = p.Accent
	for part := 0.0; contrast(dark, darkCard) < readable && part < 1; part += 0.05 {
		dark = lightened(p.Accent, part)
	}
	return strings.ToLower(p.Accent), strings.ToLower(dark)
}

// HelpLink is the help's address for a link, or nothing where it is to be read only.
func (p Pages) HelpLink() string {
	switch {
	case strings.HasPrefix(p.Help, "https://"):
		return p.Help
	case strings.Count(p.Help, "@") == 1 && !strings.ContainsAny(p.Help, " /?&"):
		return "mailto:" + p.Help
	}
	return ""
}

func rgb(colour string) (out [3]float64) {
	n, _ := strconv.ParseUint(strings.TrimPrefix(colour, "#"), 16, 32) // its form was checked
	for i := range out {
		out[i] = float64(n >> (16 - 8*i) & 255)
	}
	return out
}

// luminance is the relative luminance of a colour (WCAG 2.2, definitions).
func luminance(colour string) float64 {
	weights, sum := [3]float64{0.2126, 0.7152, 0.0722}, 0.0
	for i, c := range rgb(colour) {
		c /= 255
		if c <= 0.04045 {
			c /= 12.92
		} else {
			c = math.Pow((c+0.055)/1.055, 2.4)
		}
		sum += weights[i] * c
	}
	return sum
}

// contrast is the ratio of two colours' luminances, from 1 to 21.
func contrast(a, b string) float64 {
	x, y := luminance(a), luminance(b)
	return (math.Max(x, y) + 0.05) / (math.Min(x, y) + 0.05)
}

// lightened is a colour with a part of white in it.
func lightened(colour string, part float64) string {
	c := rgb(colour)
	for i := range c {
		c[i] += (255 - c[i]) * part
	}
	return fmt.Sprintf("#%02x%02x%02x", int(c[0]), int(c[1]), int(c[2]))
}
