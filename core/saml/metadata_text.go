package saml

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"html"
	"regexp"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"innergate/core/keys"
	"innergate/core/xmlsig"
	"innergate/core/xmltree"
)

// What people copy by hand is small. Larger texts are documents, or nothing.
const (
	tidiedMost   = 4 << 20
	labelledMost = 256 << 10
)

// parse finds the document in what was handed over.
func (m *metadataReader) parse(data []byte) *xmltree.Element {
	trimmed := bytes.TrimSpace(data)
	switch {
	case len(trimmed) == 0:
		m.problem(true, "empty", "There is nothing in the document.")
		return nil
	case len(data) > MaxMetadata:
		m.problem(
			true, "too-large",
			"The document has %d bytes; %d are the most that is read in one piece. Add it as a source, which is read as a stream.",
			len(data), MaxMetadata,
		)
		return nil
	case (trimmed[0] == '{' || trimmed[0] == '[') && json.Valid(trimmed):
		m.problem(true, "json", "This is JSON, not SAML metadata. A discovery document belongs to OpenID Connect.")
		return nil
	case bytes.HasPrefix(trimmed, []byte("-----BEGIN")):
		m.problem(
			true, "certificate",
			"This is a certificate or a key, not metadata. A certificate can be added to an application or provider by itself.",
		)
		return nil
	}
	text, err := toUTF8(data)
	if err != nil {
		m.problem(true, "encoding", "The document can't be read: %s.", err)
		return nil
	}
	root, err := xmltree.Parse(text, metadataLimits)
	if err == nil && !isHTML(root) && (m.Whole || !foldMarks.Match(text)) {
		return root
	}
	if !m.Whole && len(text) <= tidiedMost {
		if cut := m.recover(text); cut != nil {
			return cut
		}
	}
	switch {
	case looksLikeHTML(trimmed) || err == nil:
		if title := pageTitle(text); errorWords.MatchString(title) {
			m.problem(
				true, "error-page",
				"This is an error page (%q), not metadata. Look at the address in a browser, and ask the other side where its metadata is.",
				clip(title, 100),
			)
		} else {
			m.problem(true, "html", "This is a web page, not metadata. Perhaps the address needs a sign-in, or leads to a page that "+
				"describes the metadata.")
		}
	case !m.Whole && len(text) <= labelledMost && m.values(string(text)):
	default:
		m.problem(true, "not-xml", "The document is not well-formed XML: %s.", err)
	}
	return nil
}

func isHTML(e *xmltree.Element) bool { return strings.EqualFold(e.Local, "html") }

func looksLikeHTML(doc []byte) bool {
	head := bytes.ToLower(doc[:min(len(doc), 512)])
	return bytes.HasPrefix(head, []byte("<!doctype html")) || bytes.Contains(head, []byte("<html"))
}

var (
	titleForm  = regexp.MustCompile(`(?is)<title[^>]*>(.{0,300}?)</title>`)
	errorWords = regexp.MustCompile(`(?i)\b(404|403|401|500|502|503|not found|forbidden|denied|error|unavailable)\b`)
)

func pageTitle(text []byte) string {
	if t := titleForm.FindSubmatch(text); t != nil {
		return strings.Join(strings.Fields(html.UnescapeString(string(t[1]))), " ")
	}
	return ""
}

// usualScope holds the prefixes that metadata is usually written with, for pieces that were cut out of the element that
// declares them.
var usualScope = []xmltree.Declaration{
	{
		Prefix: "",
		Space:  NSMetadata,
	}, {Prefix: "md", Space: NSMetadata}, {Prefix: "m", Space: NSMetadata}, {Prefix: "ds", Space: xmlsig.NS},
	{Prefix: "dsig", Space: xmlsig.NS}, {Prefix: "saml", Space: NSAssertion},
	{
		Prefix: "saml2",
		Space:  NSAssertion,
	}, {Prefix: "mdui", Space: NSMDUI}, {Prefix: "alg", Space: NSAlgorithms}, {Prefix: "mdattr", Space: NSEntityAttributes},
	{Prefix: "xs", Space: nsXS}, {Prefix: "xsi", Space: nsXSI},
	{
		Prefix: "mdrpi",
		Space:  "urn:oasis:names:tc:SAML:metadata:rpi",
	}, {Prefix: "idpdisc", Space: "urn:oasis:names:tc:SAML:profiles:SSO:idp-discovery-protocol"},
	{Prefix: "init", Space: "urn:oasis:names:tc:SAML:profiles:SSO:request-init"},
}

var (
	beginForm  = regexp.MustCompile(`<(?:[\w.-]+:)?(?:EntityDescriptor|EntitiesDescriptor|IDPSSODescriptor|SPSSODescriptor)[\s/>]`)
	foldForm   = regexp.MustCompile(`(?m)(^|>)[ \t\x{A0}]*[▼▶▸▾▿▹⊟⊞−+-][ \t\x{A0}]*<`)
	foldMarks  = regexp.MustCompile(`[▼▶▸▾▿▹]\s*<`)
	foldedForm = regexp.MustCompile(`>\s*(?:…|\.\.\.)\s*</`)
	quotedForm = regexp.MustCompile(`(?m)^(?:>[ \t]?)+`)
	tagQuotes  = regexp.MustCompile(`=\s*[“”„][^“”„<]*[“”„]`)
	escapedXML = regexp.MustCompile(`&lt;(?:[\w.-]+:)?(?:EntityDescriptor|EntitiesDescriptor|IDPSSODescriptor|SPSSODescriptor)\b`)
	base64Form = regexp.MustCompile(`^[A-Za-z0-9+/\s]{80,}={0,2}\s*$`)
)

// recover finds metadata in a text that is not a document: with notes around it, fold marks, escapes, quotation marks
// of a mail, or declarations missing. What it gives is not what was signed, if anything was.
func (m *metadataReader) recover(text []byte) *xmltree.Element {
	s := string(text)
	if base64Form.MatchString(s) {
		if raw, err := xmlsig.DecodeBase64(s); err == nil && bytes.Contains(raw, []byte("Descriptor")) {
			s = string(raw)
		}
	}
	for range 2 {
		if escapedXML.MatchString(s) && !beginForm.MatchString(s) {
			s = html.UnescapeString(s)
		}
	}
	s = strings.NewReplacer("\u200b", "", "\ufeff", "", "\u00a0", " ").Replace(s)
	begin := beginForm.FindStringIndex(s)
	if begin == nil {
		return nil
	}
	if line := strings.LastIndexByte(s[:begin[0]], '\n') + 1; strings.HasPrefix(s[line:], ">") {
		s = quotedForm.ReplaceAllString(s, "")
		begin = beginForm.FindStringIndex(s)
	}
	s = s[begin[0]:]
	s = foldForm.ReplaceAllString(s, "$1<")
	s = tagQuotes.ReplaceAllStringFunc(s, func(q string) string { return strings.NewReplacer("“", `"`, "”", `"`, "„", `"`).Replace(q) })
	folded := foldedForm.MatchString(s)
	name := strings.TrimRight(s[1:begin[1]-begin[0]], " \t\r\n/>")
	end := strings.LastIndex(s, "</"+name)
	if close := strings.IndexByte(s[max(end, 0):], '>'); end > 0 && close > 0 {
		s = s[:end+close+1]
	}
	root, err := xmltree.ParseFragment([]byte(s), usualScope, metadataLimits)
	if err != nil {
		return nil
	}
	m.doc.Tidied = true
	m.problem(
		false,
		"tidied",
		"The text was not a whole document as it stood, such as one copied from a browser's view or cut out of a larger one; the "+
			"metadata in it was found nevertheless.",
	)
	if folded {
		m.problem(
			false,
			"folded",
			"Part of the document was folded away when it was copied (…), so its content is missing. Unfold everything, or take the "+
				"file itself.",
		)
	}
	return root
}

// encodingOf finds the encoding of a document from its first bytes; nil means UTF-8.
func encodingOf(data []byte) encoding.Encoding {
	head := string(data[:min(len(data), 200)])
	switch {
	case bytes.HasPrefix(data, []byte{0xFE, 0xFF}), bytes.HasPrefix(data, []byte{0xFF, 0xFE}):
		return unicode.UTF16(unicode.BigEndian, unicode.UseBOM)
	case len(data) > 1 && data[0] == 0 && data[1] == '<':
		return unicode.UTF16(unicode.BigEndian, unicode.IgnoreBOM)
	case len(data) > 1 && data[0] == '<' && data[1] == 0:
		return unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM)
	case strings.HasPrefix(head, "<?xml"):
		declaration, _, _ := strings.Cut(head, "?>")
		switch lower := strings.ToLower(declaration); {
		case strings.Contains(lower, "iso-8859-15"):
			return charmap.ISO8859_15
		case strings.Contains(lower, "iso-8859-1"), strings.Contains(lower, "latin1"):
			return charmap.ISO8859_1
		case strings.Contains(lower, "windows-1252"):
			return charmap.Windows1252
		}
	}
	return nil
}

// toUTF8 turns UTF-16 and Latin-1 into UTF-8, and takes the encoding's name out of the XML declaration, as it no longer
// holds.
func toUTF8(data []byte) ([]byte, error) {
	enc := encodingOf(data)
	if enc == nil {
		return data, nil
	}
	out, err := enc.NewDecoder().Bytes(data)
	if err != nil || !utf8.Valid(out) {
		return nil, fmt.Errorf("its characters are not in the encoding that it names")
	}
	if bytes.HasPrefix(out, []byte("<?xml")) {
		if end := bytes.Index(out, []byte("?>")); end > 0 {
			out = out[end+2:]
		}
	}
	return out, nil
}

// Text turns a file's octets into text that can travel as such: UTF-16 and Latin-1 as UTF-8, and what is binary, such
// as a certificate in DER, as base64.
func Text(data []byte) string {
	if enc := encodingOf(data); enc != nil {
		if text, err := toUTF8(data); err == nil {
			return string(text)
		}
	}
	if utf8.Valid(data) {
		return string(data)
	}
	if _, err := keys.ParseCertificate(data); err == nil {
		return base64.StdEncoding.EncodeToString(data)
	}
	return string(bytes.ToValidUTF8(data, []byte("\uFFFD")))
}

var durationForm = regexp.MustCompile(
	`^P(?:(\d{1,6})Y)?(?:(\d{1,6})M)?(?:(\d{1,6})D)?(?:T(?:(\d{1,6})H)?(?:(\d{1,7})M)?(?:(\d{1,9})(?:\.\d+)?S)?)?$`,
)

// ParseDuration reads an xs:duration (XML Schema 2, section 3.2.6). A year counts 365 days, a month 30.
func ParseDuration(s string) (time.Duration, error) {
	parts := durationForm.FindStringSubmatch(strings.TrimSpace(s))
	if parts == nil || strings.HasSuffix(s, "P") || strings.HasSuffix(s, "T") {
		return 0, fmt.Errorf("%q is not a duration such as PT6H", s)
	}
	var d time.Duration
	for i, unit := range []time.Duration{365 * 24 * time.Hour, 30 * 24 * time.Hour, 24 * time.Hour, time.Hour, time.Minute, time.Second} {
		if parts[i+1] == "" {
			continue
		}
		n, err := strconv.Atoi(parts[i+1])
		if err != nil || time.Duration(n) > (1<<62)/unit {
			return 0, fmt.Errorf("%q is too long a duration", s)
		}
		d += time.Duration(n) * unit
	}
	return d, nil
}
