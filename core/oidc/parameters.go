package oidc

import (
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"

	"innergate/core/explain"
)

// Parameters are those of a query or a form (RFC 6749, section 3.1): each at most once, and one without a value counts
// as left out.
type Parameters map[string]string

// known are the parameters that mean something here. Of others it does not matter how often they stand (RFC 6749, section 3.1:
// what is not understood is passed over); resource may well stand twice (RFC 8707, section 2).
var known = map[string]bool{}

func init() {
	for _, name := range strings.Fields("client_id client_secret client_assertion client_assertion_type redirect_uri response_type " +
		"response_mode scope state nonce code code_challenge code_challenge_method code_verifier prompt max_age login_hint " +
		"id_token_hint acr_values ui_locales claims request request_uri grant_type refresh_token device_code token token_type_hint " +
		"access_token id_token iss error error_description session_state post_logout_redirect_uri logout_token sid username password") {
		known[name] = true
	}
}

// ReadParameters reads the encoded form, without a leading question mark. Failures carry a code; with that of a parameter that
// stands twice come the others, so that the failure can be answered.
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
	var twice error
	for _, name := range slices.Sorted(maps.Keys(values)) {
		list := values[name]
		switch {
		case len(list) > 1 && known[name]:
			twice = explain.New(explain.OIDCParameterTwice, explain.Fact("parameter", shown(name)))
		case len(list) == 1 && list[0] != "":
			out[name] = list[0]
		}
	}
	return out, twice
}
