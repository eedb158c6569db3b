package pasted

import (
	"encoding/base64"
	"encoding/json"
	"strings"

	"innergate/core/claims"
	"innergate/core/jose"
	"innergate/core/oidc"
	"innergate/core/saml"
	"innergate/core/xmltree"
)

// JSONSample reads attributes out of a JSON object, such as a UserInfo answer.
func JSONSample(data []byte) (claims.Bag, error) {
	var wrapped struct {
		Attributes claims.Bag `json:"attributes"`
	}
	if json.Unmarshal(data, &wrapped) == nil && len(wrapped.Attributes) > 0 {
		return wrapped.Attributes, nil
	}
	object, err := jose.ReadObject(data)
	if err != nil {
		return nil, err
	}
	var found oidc.Claims
	if err := found.Add("sample", object); err != nil {
		return nil, err
	}
	return found.Values, nil
}

// TokenSample reads the claims of a JWT, or nothing.
func TokenSample(text string) claims.Bag {
	parts := strings.Split(text, ".")
	if len(parts) != 3 {
		return nil
	}
	payload, err := base64.RawURLEncoding.DecodeString(parts[1])
	if err != nil {
		return nil
	}
	bag, err := JSONSample(payload)
	if err != nil {
		return nil
	}
	return bag
}

// AssertionSample gathers the attributes and the NameID of a SAML document.
func AssertionSample(doc []byte) claims.Bag {
	root, err := xmltree.Parse(doc, xmltree.Limits{Bytes: 4 << 20})
	if err != nil {
		return nil
	}
	bag := claims.Bag{}
	root.Walk(func(e *xmltree.Element) bool {
		switch {
		case e.Is(saml.NSAssertion, "Attribute"):
			name := e.Value("Name")
			for _, v := range e.All(saml.NSAssertion, "AttributeValue") {
				bag[name] = append(bag[name], strings.TrimSpace(v.Text()))
			}
			if len(bag[name]) == 0 {
				bag[name] = []string{""}
			}
		case e.Is(saml.NSAssertion, "NameID") && len(bag["NameID"]) == 0:
			bag["NameID"] = []string{strings.TrimSpace(e.Text())}
		}
		return true
	})
	return bag
}

// ListSample reads names, one a line or parted by commas, each perhaps with a value behind : or =.
func ListSample(text string) claims.Bag {
	bag := claims.Bag{}
	lines := strings.Split(text, "\n")
	if len(lines) == 1 && !strings.ContainsAny(text, "=") {
		lines = strings.Split(text, ",")
	}
	for _, l := range lines {
		l = strings.TrimSpace(strings.Trim(strings.TrimSpace(l), ",;"))
		if l == "" || len(l) > 4000 || len(bag) > 500 {
			continue
		}
		name, value := l, ""
		if i := strings.IndexByte(l, '='); i > 0 {
			name, value = l[:i], l[i+1:]
		} else if i := strings.Index(l, ": "); i > 0 {
			name, value = l[:i], l[i+2:]
		} else if i := strings.IndexByte(l, '\t'); i > 0 {
			name, value = l[:i], l[i+1:]
		}
		name, value = strings.TrimSpace(name), strings.Trim(strings.TrimSpace(value), `"`)
		bag[name] = append(bag[name], value)
	}
	return bag
}
