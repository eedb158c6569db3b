package oidc

import (
	"fmt"
	"net/url"
	"strings"

	"innergate/core/explain"
)

// Parameters are those of a query or a form (RFC 6749, section 3.1): each at most once, and one without a value counts
// as left out.
type Parameters map[string]string

// ReadParameters reads the encoded form, without a leading question mark. Failures carry a code.
func ReadParameters(raw string) (Parameters, error) {
	if len(raw) > MaxParameters {
		return nil, explain.New(
			explain.OIDCRequestUnreadable,
			explain.Fact("parameters", fmt.Sprintf("they have %d octets; %d are read", len(raw), MaxParameters)),
		)
	}
	if strings.Count(raw, "&") >= maxParameters {
		return nil, explain.New(
			explain.OIDCRequestUnreadable,
			explain.Fact("parameters", fmt.Sprintf("there are more than %d of them", maxParameters)),
		)
	}
	values, err := url.ParseQuery(raw)
	if err != nil {
		return nil, explain.New(explain.OIDCRequestUnreadable, explain.Fact("parameters", shown(err.Error())))
	}
	out := Parameters{}
	for name, list := range values {
		if len(list) > 1 {
			return nil, explain.New(explain.OIDCParameterTwice, explain.Fact("parameter", shown(name)))
		}
		if list[0] != "" {
			out[name] = list[0]
		}
	}
	return out, nil
}
