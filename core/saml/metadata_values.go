package saml

import (
	"encoding/pem"
	"regexp"
	"strings"

	"innergate/core/keys"
)

// Labelled is one value with the label that stood before it.
type Labelled struct{ Label, Value string }

var labelForm = regexp.MustCompile(`^[\s*•–-]*\**([\p{L}][\p{L}\p{N} ()./'_-]{0,80}?)\**\s*(?:[:=\t|]|\s{2,})\s*(.*)$`)

// ReadLabelled finds values with labels in a text such as a mail: "label: value" on one line, or the value on the line
// below. Blocks in PEM are values too.
func ReadLabelled(text string) []Labelled {
	var out []Labelled
	rest := []byte(text)
	for {
		block, behind := pem.Decode(rest)
		if block == nil {
			break
		}
		out = append(out, Labelled{block.Type, string(pem.EncodeToMemory(block))})
		at := strings.Index(text, "-----BEGIN")
		text = text[:at] + text[len(text)-len(behind):]
		rest = []byte(text)
	}
	waiting := ""
	for line := range strings.Lines(text) {
		line = strings.Trim(strings.TrimSpace(line), "|` ")
		if line == "" || len(line) > 2000 {
			continue
		}
		if len(out) > 200 {
			break
		}
		if waiting != "" && !labelForm.MatchString(line) || isAddress(line) {
			out = append(out, Labelled{waiting, strings.Trim(line, "`\"'<>")})
			waiting = ""
			continue
		}
		m := labelForm.FindStringSubmatch(line)
		if m == nil {
			waiting = strings.TrimSpace(line)
			if len(waiting) > 80 {
				waiting = ""
			}
			continue
		}
		if waiting = ""; strings.TrimSpace(m[2]) == "" {
			waiting = m[1]
			continue
		}
		out = append(out, Labelled{strings.TrimSpace(m[1]), strings.Trim(strings.TrimSpace(m[2]), "`\"'<>|")})
	}
	return out
}

func isAddress(s string) bool {
	return (strings.HasPrefix(s, "https://") || strings.HasPrefix(s, "http://") || strings.HasPrefix(s, "urn:")) &&
		!strings.ContainsAny(s, " \t")
}

// What a label may mean. The order counts: the first that is found wins.
var meanings = []struct {
	field string
	words *regexp.Regexp
}{
	{"certificate", regexp.MustCompile(`(?i)certificate|public key|x\.?509`)},
	{"artifact", regexp.MustCompile(`(?i)artifact`)},
	{"slo", regexp.MustCompile(`(?i)log[\s-]?out|sign[\s-]?out|\bslo\b|single ?logout`)},
	{"acs", regexp.MustCompile(`(?i)\bacs\b|assertion ?consumer|consumer service|reply|recipient|destination`)},
	{"sso", regexp.MustCompile(`(?i)\bsso\b|single[\s-]?sign|log[\s-]?in|sign[\s-]?in|sign[\s-]?on`)},
	{"format", regexp.MustCompile(`(?i)name ?id`)},
	{"entity", regexp.MustCompile(`(?i)entity|issuer|audience|identifier`)},
}

// Meaning tells what a label stands for: entity, acs, sso, slo, certificate, format, or nothing.
func Meaning(label string) string {
	for _, m := range meanings {
		if m.words.MatchString(label) {
			return m.field
		}
	}
	return ""
}

// values understands a list of labelled values, and reports whether it found enough to be one.
func (m *metadataReader) values(text string) bool {
	entity := Entity{EntityID: m.EntityID}
	idp, sp := Role{Kind: RoleIDP}, Role{Kind: RoleSP}
	var keysFound []KeyDescriptor
	var formats []string
	found := 0
	for _, l := range ReadLabelled(text) {
		switch field := Meaning(l.Label); {
		case field == "certificate":
			cert, err := keys.ParseCertificate([]byte(l.Value))
			if err != nil {
				continue
			}
			keysFound = append(keysFound, KeyDescriptor{Certificate: cert})
		case field == "entity" && entity.EntityID == "":
			if _, err := ParseEntityID(l.Value); err != nil || strings.ContainsAny(l.Value, " ") {
				continue
			}
			entity.EntityID = l.Value
		case field == "acs" && isAddress(l.Value):
			sp.Endpoints = append(sp.Endpoints, Endpoint{Service: ServiceACS, Binding: BindingPost, Location: l.Value})
		case field == "sso" && isAddress(l.Value):
			binding := BindingRedirect
			if strings.Contains(strings.ToLower(l.Label), "post") {
				binding = BindingPost
			}
			idp.Endpoints = append(idp.Endpoints, Endpoint{Service: ServiceSSO, Binding: binding, Location: l.Value})
		case field == "slo" && isAddress(l.Value):
			e := Endpoint{Service: ServiceSLO, Binding: BindingRedirect, Location: l.Value}
			idp.Endpoints, sp.Endpoints = append(idp.Endpoints, e), append(sp.Endpoints, e)
		case field == "format" && strings.HasPrefix(l.Value, "urn:oasis:names:tc:SAML:"):
			formats = append(formats, l.Value)
		default:
			continue
		}
		found++
	}
	for _, r := range []*Role{&idp, &sp} {
		wanted := ServiceSSO
		if r.Kind == RoleSP {
			wanted = ServiceACS
		}
		if len(r.Service(wanted)) > 0 {
			r.Keys, r.NameIDFormats = keysFound, formats
			entity.Roles = append(entity.Roles, *r)
		}
	}
	if found < 2 || len(entity.Roles) == 0 {
		return false
	}
	m.problem(
		false, "from-values",
		"This is a list of values, not metadata; %d of them were recognised by their labels. Compare each with what the other side wrote.",
		found,
	)
	if entity.EntityID == "" {
		m.doc.NeedsEntityID = true
		m.problem(false, "entity-id-missing", "No entity ID was found in the list. Enter it by hand, exactly as the other side writes it.")
	}
	for i := range entity.Roles {
		m.complain(&entity.Roles[i], &entity)
	}
	m.finish(&entity)
	return true
}
