package saml

import (
	"strings"
	"unicode"

	"innergate/core/explain"
	"innergate/core/xmltree"
)

// NameID identifies a subject (SAML Core, section 2.2.3). Two are the same only if every field is, octet for octet; an
// absent format is the unspecified one.
type NameID struct {
	Value           string `json:"value"`
	Format          string `json:"format,omitempty"`
	NameQualifier   string `json:"nameQualifier,omitempty"`
	SPNameQualifier string `json:"spNameQualifier,omitempty"`
}

// EffectiveFormat is the format, or the unspecified one where none is given (SAML Core, section 2.2.2).
func (n NameID) EffectiveFormat() string {
	if n.Format == "" {
		return FormatUnspecified
	}
	return n.Format
}

const maxNameID = 1024

func (c *checker) nameID(e *xmltree.Element) (*NameID, error) {
	value, err := c.plain(e, maxNameID)
	if err != nil {
		return nil, err
	}
	n := &NameID{
		Value:           value,
		Format:          e.Value("Format"),
		NameQualifier:   e.Value("NameQualifier"),
		SPNameQualifier: e.Value("SPNameQualifier"),
	}
	for _, q := range []string{n.Format, n.NameQualifier, n.SPNameQualifier} {
		if err := c.bounded("NameID", q, maxNameID); err != nil {
			return nil, err
		}
	}
	if strings.TrimFunc(value, unicode.IsSpace) == "" {
		return nil, c.fail(explain.SAMLNameIDMissing, explain.Fact("NameID", "it is empty"))
	}
	if strings.ContainsFunc(value, unicode.IsControl) {
		return nil, c.fail(explain.SAMLValueRefused, explain.Fact("value", "<NameID> holds a control character"))
	}
	return n, nil
}

func (n NameID) element() *xmltree.Element {
	e := xmltree.New(NSAssertion, "saml", "NameID")
	for _, a := range [][2]string{{"Format", n.Format}, {"NameQualifier", n.NameQualifier}, {"SPNameQualifier", n.SPNameQualifier}} {
		if a[1] != "" {
			e.Set(a[0], a[1])
		}
	}
	return e.AddText(n.Value)
}
