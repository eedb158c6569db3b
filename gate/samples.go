package gate

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"regexp"
	"strings"

	"innergate/core/claims"
	"innergate/core/jose"
	"innergate/core/oidc"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/core/xmltree"
	"innergate/store"
)

var referenceForm = regexp.MustCompile(`(?i)^[23456789A-Z]{4}-[23456789A-Z]{4}$`)

const maxSample = 2 << 20

// ReadSample makes attributes of what somebody pasted: a trace's number, an assertion or response in any form, a token, claims in JSON, or a list of names with or without
// values. Nothing in it is verified; it only serves to try and to propose rules.
func (g *Gate) ReadSample(ctx context.Context, text string) (claims.Bag, string, error) {
	text = strings.TrimSpace(text)
	switch {
	case text == "":
		return nil, "", badRequest("nothing-given", "There is no sample.", "Give a trace's number, an assertion, a token, claims as JSON, or a list of names.")
	case len(text) > maxSample:
		return nil, "", badRequest("too-large", "The sample is larger than 2 MiB.", "")
	case referenceForm.MatchString(text):
		return g.traceSample(ctx, text)
	case strings.HasPrefix(text, "{"):
		bag, err := jsonSample([]byte(text))
		if err != nil {
			return nil, "", badRequest("sample-json", "This begins like JSON, but can't be read: "+err.Error()+".", "")
		}
		return bag, "claims in JSON", nil
	}
	if bag := tokenSample(text); bag != nil {
		return bag, "a token, not verified", nil
	}
	if strings.HasPrefix(text, "<") || strings.Contains(text, "SAMLResponse=") || len(text) > 200 && !strings.ContainsAny(text, " \t:") {
		if d, err := DecodeAnything(text); err == nil && d.Kind == "saml" {
			if bag := assertionSample([]byte(d.Text)); len(bag) > 0 {
				return bag, "a SAML " + d.Message + ", not verified", nil
			}
			return nil, "", badRequest("sample-empty", "There are no attributes in this "+d.Message+".", "If it is encrypted, give the number of its trace: the gate shows there what stood inside.")
		} else if strings.HasPrefix(text, "<") {
			return nil, "", badRequest("sample-xml", "This begins like XML, but is no SAML message.", "")
		}
	}
	bag := listSample(text)
	if len(bag) == 0 {
		return nil, "", badRequest("sample-unknown", "No attributes were found in this.", "Give a trace's number, an assertion, a token, claims as JSON, or a list of names, one a line.")
	}
	return bag, "a list of names", nil
}

func jsonSample(data []byte) (claims.Bag, error) {
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

// tokenSample reads the claims of a JWT, or nothing.
func tokenSample(text string) claims.Bag {
	parts := strings.Split(text, ".")
	if len(parts) != 3 {
		return nil
	}
	payload, err := base64.RawURLEncoding.DecodeString(parts[1])
	if err != nil {
		return nil
	}
	bag, err := jsonSample(payload)
	if err != nil {
		return nil
	}
	return bag
}

// assertionSample gathers the attributes and the NameID of a SAML document.
func assertionSample(doc []byte) claims.Bag {
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

// listSample reads names, one a line or parted by commas, each perhaps with a value behind : or =.
func listSample(text string) claims.Bag {
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

// traceSample takes what a provider sent out of a trace.
func (g *Gate) traceSample(ctx context.Context, reference string) (claims.Bag, string, error) {
	row, entries, err := g.traceEntries(ctx, reference)
	if err != nil {
		return nil, "", err
	}
	bag := claims.Bag{}
	var found oidc.Claims
	for _, e := range entries {
		m := e.Message
		if m == nil || m.From != trace.Provider {
			continue
		}
		for _, doc := range []string{m.Opened, m.Raw} {
			doc = strings.TrimSpace(doc)
			if strings.HasPrefix(doc, "<") {
				for name, values := range assertionSample([]byte(doc)) {
					if len(bag[name]) == 0 {
						bag[name] = values
					}
				}
				continue
			}
			dec := json.NewDecoder(strings.NewReader(doc))
			for {
				var part json.RawMessage
				if dec.Decode(&part) != nil {
					break
				}
				object, err := jose.ReadObject(part)
				if err != nil || object.Has("alg") || object.Has("access_token") {
					continue
				}
				_ = found.Add(m.Name, object) // what is nested too deep is left out of the sample
			}
		}
	}
	for name, values := range found.Values {
		bag[name] = values
	}
	if len(bag) == 0 {
		return nil, "", badRequest("sample-empty", "In the trace "+row.Reference+" no attributes arrived.", "Choose a trace in which the provider answered.")
	}
	return bag, "the trace " + row.Reference, nil
}

func (g *Gate) traceEntries(ctx context.Context, reference string) (*store.Trace, []trace.Entry, error) {
	var row store.Trace
	if err := g.Store.Read(ctx).Where("reference = ?", strings.ToUpper(strings.TrimSpace(reference))).Take(&row).Error; err != nil {
		return nil, nil, missing(err, "trace", reference)
	}
	entries, err := g.entries(&row)
	return &row, entries, err
}
