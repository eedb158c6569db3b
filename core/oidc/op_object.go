package oidc

import (
	"slices"
	"time"

	"innergate/core/explain"
	"innergate/core/jose"
	"innergate/core/trace"
)

// ObjectRules is what a request object is held against.
type ObjectRules struct {
	Partner, ClientID string
	Issuer            string // ours, which must be the audience
	Keys              jose.KeySet
	Now               time.Time
	Skew              time.Duration
}

var ruleObject = rule{"oidc.request-object", "The request object is the client's, for us, and in time", "RFC 9101 6.3"}

// ReadRequestObject checks a request that the client has signed and returns its parameters; those beside it do not
// count (RFC 9101, section 6.3). An unsigned one is refused.
func ReadRequestObject(compact string, r ObjectRules, rec *trace.Recorder) (Parameters, error) {
	c := checker{rec, r.Partner}
	bad := func(why string) (Parameters, error) {
		c.that(ruleObject, false, "", why)
		return nil, c.fail(explain.OIDCRequestObject, explain.Fact("request", why))
	}
	parsed, err := jose.Parse(compact)
	if err != nil {
		return bad(err.Error())
	}
	token, err := parsed.Verify(jose.Rules{Types: []string{"", jose.TypeID, "oauth-authz-req+jwt"}, Keys: r.Keys})
	if err != nil {
		return bad(err.Error())
	}
	o := token.Claims
	issuer, _ := o.Text("iss")
	audience, okAudience := o.Texts("aud")
	exp, hasEnd, okEnd := o.Number("exp")
	nbf, _, okBegin := o.Number("nbf")
	client, _ := o.Text("client_id")
	switch {
	case issuer != r.ClientID || client != r.ClientID:
		return bad("its iss and client_id are not the client ID")
	case !okAudience || !slices.Contains(audience, r.Issuer):
		return bad("its aud is not " + r.Issuer)
	case !okEnd || !okBegin:
		return bad("its exp or nbf is no time")
	case hasEnd && !r.Now.Before(time.Unix(exp, 0).Add(r.Skew)):
		return bad("it ended at " + formatTime(time.Unix(exp, 0)))
	case time.Unix(nbf, 0).After(r.Now.Add(r.Skew)):
		return bad("it begins in the future")
	case o.Has("request") || o.Has("request_uri"):
		return bad("it holds another request")
	case o.Has("events"), o.Has("sub"):
		return bad("it is another kind of token")
	}
	out := Parameters{}
	for name, value := range o {
		switch v := value.(type) {
		case nil:
		case string:
			if v != "" {
				out[name] = v
			}
		default:
			text, err := jose.Write(v)
			if err != nil {
				return bad(name + " can't be used")
			}
			out[name] = string(text)
		}
	}
	for _, name := range []string{"iss", "aud", "exp", "nbf", "iat", "jti"} {
		delete(out, name)
	}
	c.that(ruleObject, true, "", "")
	return out, nil
}
