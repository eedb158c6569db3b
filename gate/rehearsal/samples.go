package rehearsal

import (
	"context"
	"encoding/json"
	"strings"

	"innergate/core/claims"
	"innergate/core/jose"
	"innergate/core/oidc"
	"innergate/core/pasted"
	"innergate/core/trace"
	"innergate/gate/ground"
)

const maxSample = 2 << 20

// ReadSample makes attributes of what somebody pasted: a trace's number, an assertion or response in any form, a token,
// claims in JSON, or a list of names with or without values. Nothing in it is verified; it only serves to try and to
// propose rules.
func (g *Room) ReadSample(ctx context.Context, text string) (claims.Bag, string, error) {
	text = strings.TrimSpace(text)
	switch {
	case text == "":
		return nil, "", ground.BadRequest(
			"nothing-given", "There is no sample.",
			"Give a trace's number, an assertion, a token, claims as JSON, or a list of names.",
		)
	case len(text) > maxSample:
		return nil, "", ground.BadRequest("too-large", "The sample is larger than 2 MiB.", "")
	case trace.ReferenceForm.MatchString(text):
		return g.traceSample(ctx, text)
	case strings.HasPrefix(text, "{"):
		bag, err := pasted.JSONSample([]byte(text))
		if err != nil {
			return nil, "", ground.BadRequest("sample-json", "This begins like JSON, but can't be read: "+err.Error()+".", "")
		}
		return bag, "claims in JSON", nil
	}
	if bag := pasted.TokenSample(text); bag != nil {
		return bag, "a token, not verified", nil
	}
	if strings.HasPrefix(text, "<") || strings.Contains(text, "SAMLResponse=") || len(text) > 200 && !strings.ContainsAny(text, " \t:") {
		if d, err := DecodeAnything(text); err == nil && d.Kind == "saml" {
			if bag := pasted.AssertionSample([]byte(d.Text)); len(bag) > 0 {
				return bag, "a SAML " + d.Message + ", not verified", nil
			}
			return nil, "", ground.BadRequest(
				"sample-empty", "There are no attributes in this "+d.Message+".",
				"If it is encrypted, give the number of its trace: the gate shows there what stood inside.",
			)
		} else if strings.HasPrefix(text, "<") {
			return nil, "", ground.BadRequest("sample-xml", "This begins like XML, but is no SAML message.", "")
		}
	}
	bag := pasted.ListSample(text)
	if len(bag) == 0 {
		return nil, "", ground.BadRequest(
			"sample-unknown", "No attributes were found in this.",
			"Give a trace's number, an assertion, a token, claims as JSON, or a list of names, one a line.",
		)
	}
	return bag, "a list of names", nil
}

// traceSample takes what a provider sent out of a trace.
func (g *Room) traceSample(ctx context.Context, reference string) (claims.Bag, string, error) {
	row, entries, err := g.traces.TraceEntries(ctx, reference)
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
				for name, values := range pasted.AssertionSample([]byte(doc)) {
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
		return nil, "", ground.BadRequest(
			"sample-empty", "In the trace "+row.Reference+" no attributes arrived.",
			"Choose a trace in which the provider answered.",
		)
	}
	return bag, "the trace " + row.Reference, nil
}
