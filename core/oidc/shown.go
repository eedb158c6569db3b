package oidc

import (
	"bytes"
	"encoding/json"
	"fmt"
	"mime"
	"net/url"
	"strings"

	"innergate/core/jose"
)

// What goes into a trace never lets its reader become somebody: codes, tokens and secrets are left out, and of a signed
// token its header and content are shown, without the signature.

// ShownURL writes a request that goes by way of the browser, one parameter on a line.
func ShownURL(location string) string {
	_, query, _ := strings.Cut(location, "?")
	return ShownParameters(query)
}

// ShownParameters writes a query or form, one parameter on a line. What can't be read is shown as far as it may be.
func ShownParameters(raw string) string {
	if len(raw) > MaxParameters {
		raw = raw[:MaxParameters]
	}
	values, err := url.ParseQuery(raw)
	if err != nil && len(values) == 0 {
		return fmt.Sprintf("(%d octets that can't be read)", len(raw))
	}
	return Redacted(values)
}

// Shown writes an answer of the back channel; opened holds the tokens in it, taken apart.
func (a Answer) Shown() (raw, opened string) {
	raw = fmt.Sprintf("status %d, %s\n\n", a.Status, a.ContentType)
	body := a.Body
	if len(body) > MaxDocument {
		body = body[:MaxDocument]
	}
	media, _, _ := mime.ParseMediaType(a.ContentType)
	if media == "application/jwt" {
		return raw + fmt.Sprintf("(a signed token of %d characters)", len(body)), ShownToken(strings.TrimSpace(string(body)))
	}
	o, err := jose.ReadObject(body)
	if err != nil {
		var list []any
		if json.Unmarshal(body, &list) == nil {
			return raw + indented(hideIn(list)), ""
		}
		if media == "application/x-www-form-urlencoded" || media == "text/plain" {
			return raw + ShownParameters(string(body)), ""
		}
		if len(body) > 2000 {
			body = append(bytes.Clone(body[:2000]), "…"...)
		}
		return raw + shownText(string(body)), ""
	}
	if token, ok := o["id_token"].(string); ok {
		opened = ShownToken(token)
	}
	return raw + indented(hideIn(map[string]any(o))), opened
}

// shownText keeps a text's lines and leaves out what could be a token.
func shownText(s string) string {
	var lines []string
	for line := range strings.Lines(s) {
		words := strings.Fields(shown(line))
		for i, w := range words {
			if strings.Count(w, ".") >= 2 && strings.Contains(w, "eyJ") {
				words[i] = "(a token, not shown)"
			}
		}
		lines = append(lines, strings.Join(words, " "))
	}
	return strings.Join(lines, "\n")
}

// hideIn leaves out the values of secret members, however deep they stand, and signatures of tokens under other names.
func hideIn(v any) any {
	switch x := v.(type) {
	case map[string]any:
		out := map[string]any{}
		for name, value := range x {
			if text, ok := value.(string); ok && (secret[name] || strings.HasPrefix(text, "eyJ") && strings.Count(text, ".") >= 2) {
				value = fmt.Sprintf("(%d characters, not shown)", len(text))
			}
			out[name] = hideIn(value)
		}
		return out
	case []any:
		out := make([]any, len(x))
		for i := range x {
			out[i] = hideIn(x[i])
		}
		return out
	}
	return v
}

func indented(v any) string {
	plain, err := jose.Write(v)
	if err != nil {
		return "(not shown)"
	}
	var b bytes.Buffer
	if err := json.Indent(&b, plain, "", "  "); err != nil {
		return "(not shown)"
	}
	return strings.NewReplacer(`\u003c`, "<", `\u003e`, ">", `\u0026`, "&").Replace(b.String())
}

// ShownToken takes a signed token apart for people: header and content, without the signature.
func ShownToken(compact string) string {
	p, err := jose.Parse(compact)
	if err != nil {
		return fmt.Sprintf("(%d characters that are no signed token)", len(compact))
	}
	return indented(p.Header) + "\n" + indented(p.Claims)
}

// ShownContent writes JSON objects for people, one after the other.
func ShownContent(objects ...map[string]any) string {
	var out []string
	for _, o := range objects {
		out = append(out, indented(o))
	}
	return strings.Join(out, "\n")
}

// Said is what a token answer says besides tokens, for providers that tell there who signed in.
func (t *Tokens) Said() jose.Object {
	out := jose.Object{}
	for name, value := range t.Members {
		switch {
		case secret[name], name == "token_type", name == "expires_in", name == "scope":
		default:
			out[name] = value
		}
	}
	return out
}
