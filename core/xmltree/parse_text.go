package xmltree

import (
	"strconv"
	"strings"
	"unicode/utf8"
)

func (p *parser) attrValue() string {
	if p.at >= len(p.src) || p.src[p.at] != '"' && p.src[p.at] != '\'' {
		p.fail("an attribute value must stand in quotes")
	}
	quote := p.src[p.at]
	p.at++
	end := strings.IndexByte(p.src[p.at:], quote)
	if end < 0 {
		p.fail("an attribute value has no closing quote")
	}
	raw := p.src[p.at : p.at+end]
	if strings.IndexByte(raw, '<') >= 0 {
		p.fail("< must not stand in an attribute value")
	}
	value := p.unescape(raw, true)
	p.at += end + 1
	return value
}

// unescape resolves references and normalises line ends; in an attribute, white space characters become spaces (XML
// 1.0, sections 2.11 and 3.3.3).
func (p *parser) unescape(raw string, attribute bool) string {
	plain := true
	for i := 0; i < len(raw); i++ {
		switch c := raw[i]; {
		case c >= 0x20 && c != '&' && c != 0xEF:
		case c == '\n' && !attribute:
		case c == 0xEF:
			p.chars(raw[i:min(i+3, len(raw))])
		default:
			plain = false
		}
	}
	if plain {
		return raw
	}
	p.chars(raw)
	var b strings.Builder
	b.Grow(len(raw))
	for i := 0; i < len(raw); i++ {
		switch c := raw[i]; c {
		case '\r':
			if i+1 < len(raw) && raw[i+1] == '\n' {
				i++
			}
			if attribute {
				b.WriteByte(' ')
			} else {
				b.WriteByte('\n')
			}
		case '\n', '\t':
			if attribute {
				c = ' '
			}
			b.WriteByte(c)
		case '&':
			end := strings.IndexByte(raw[i:], ';')
			if end < 0 || end > 12 {
				p.fail("an & does not begin a character reference")
			}
			b.WriteRune(p.reference(raw[i+1 : i+end]))
			i += end
		default:
			b.WriteByte(c)
		}
	}
	return b.String()
}

func (p *parser) reference(name string) rune {
	switch name {
	case "amp":
		return '&'
	case "lt":
		return '<'
	case "gt":
		return '>'
	case "quot":
		return '"'
	case "apos":
		return '\''
	}
	if digits, ok := strings.CutPrefix(name, "#"); ok {
		base := 10
		if hex, ok := strings.CutPrefix(digits, "x"); ok {
			digits, base = hex, 16
		}
		n, err := strconv.ParseUint(digits, base, 32)
		r := rune(n)
		if err == nil && n <= 0x10FFFF &&
			(r == '\t' || r == '\n' || r == '\r' || r >= 0x20 && r <= 0xD7FF || r >= 0xE000 && r <= 0xFFFD || r >= 0x10000) {
			return r
		}
		p.fail("&%s; is not a character that XML allows", clip(name))
	}
	p.fail("the entity &%s; is not allowed; only amp, lt, gt, quot and apos are", clip(name))
	return 0
}

// name reads a name with at most one colon, of letters as in XML 1.0 (fifth edition), productions 4 and 4a.
func (p *parser) name() string {
	start := p.at
	for p.at < len(p.src) && isName(p.src[p.at]) {
		p.at++
	}
	name := p.src[start:p.at]
	if name == "" {
		p.fail("a name is expected")
	}
	if len(name) > p.limits.Name {
		p.fail("a name is longer than the %d bytes allowed", p.limits.Name)
	}
	return name
}

func (p *parser) split(name string) (prefix, local string) {
	local = name
	if i := strings.IndexByte(name, ':'); i >= 0 {
		prefix, local = name[:i], name[i+1:]
		if prefix == "" || !nameStarts(prefix) || strings.IndexByte(local, ':') >= 0 {
			p.fail("%q is not a proper name", clip(name))
		}
	}
	if local == "" || !nameStarts(local) {
		p.fail("%q is not a proper name", clip(name))
	}
	if prefix == "xmlns" {
		p.fail("the prefix xmlns can't be used in a name")
	}
	return prefix, local
}

func (p *parser) space() {
	for p.at < len(p.src) && isSpace(p.src[p.at]) {
		p.at++
	}
}

func (p *parser) expect(c byte, reason string) {
	if p.at >= len(p.src) || p.src[p.at] != c {
		p.fail("%s", reason)
	}
	p.at++
}

func isSpace(c byte) bool { return c == ' ' || c == '\n' || c == '\t' || c == '\r' }

func isNameStart(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_' || c >= 0x80
}

func isName(c byte) bool {
	return isNameStart(c) || c >= '0' && c <= '9' || c == '-' || c == '.' || c == ':'
}

// nameStarts judges the first character of a name, and every one beyond ASCII, by production 4.
func nameStarts(name string) bool {
	if !isNameStart(name[0]) {
		return false
	}
	for i := 0; i < len(name); i++ {
		if name[i] >= 0x80 {
			return wideName(name)
		}
	}
	return true
}

func wideName(name string) bool {
	for i, r := range name {
		start := r < 0x80 || r >= 0xC0 && r <= 0x2FF && r != 0xD7 && r != 0xF7 || r >= 0x370 && r <= 0x1FFF && r != 0x37E ||
			r == 0x200C || r == 0x200D || r >= 0x2070 && r <= 0x218F || r >= 0x2C00 && r <= 0x2FEF || r >= 0x3001 && r <= 0xD7FF ||
			r >= 0xF900 && r <= 0xFDCF || r >= 0xFDF0 && r <= 0xFFFD || r >= 0x10000 && r <= 0xEFFFF
		more := r == 0xB7 || r >= 0x300 && r <= 0x36F || r == 0x203F || r == 0x2040
		if !start && (i == 0 || !more) {
			return false
		}
	}
	return true
}

// newlines normalises line ends (XML 1.0, section 2.11).
func newlines(s string) string {
	if strings.IndexByte(s, '\r') < 0 {
		return s
	}
	return strings.ReplaceAll(strings.ReplaceAll(s, "\r\n", "\n"), "\r", "\n")
}

// clip shortens a foreign value before it goes into a message.
func clip(s string) string {
	if len(s) <= 60 {
		return s
	}
	cut := 60
	for cut > 0 && !utf8.RuneStart(s[cut]) {
		cut--
	}
	return s[:cut] + "…"
}
