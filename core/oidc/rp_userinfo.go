package oidc

import (
	"cmp"
	"fmt"
	"mime"
	"slices"
	"strings"

	"innergate/core/explain"
	"innergate/core/jose"
	"innergate/core/trace"
)

// UserInfoRules is what a UserInfo answer is held against.
type UserInfoRules struct {
	Partner string
	// Subject is the ID token's. Empty for plain OAuth 2.0, where nothing else names the person.
	Subject  string
	Issuers  Issuers
	ClientID string
	Keys     jose.KeySet
}

var (
	ruleUserInfo    = rule{"oidc.userinfo", "UserInfo answers as it must", "OpenID Connect Core 5.3.2"}
	ruleSameSubject = rule{"oidc.userinfo-subject", "UserInfo is about the same subject as the ID token", "OpenID Connect Core 5.3.2"}
	ruleUserSigned  = rule{"oidc.userinfo-signature", "UserInfo is signed by a key of the provider", "OpenID Connect Core 5.3.2"}
)

// ReadUserInfo reads a UserInfo answer, plain or signed (OpenID Connect Core 1.0, section 5.3.2). For an OpenID
// provider its subject must be the ID token's, or somebody else's claims could be slipped in (section 5.3.4). Failures
// carry a code.
func ReadUserInfo(a Answer, r UserInfoRules, rec *trace.Recorder) (jose.Object, error) {
	c := checker{rec, r.Partner}
	media, _, _ := mime.ParseMediaType(a.ContentType)
	var o jose.Object
	switch {
	case a.Status == 401 || a.Status == 403:
		c.that(ruleUserInfo, false, "status 200", fmt.Sprintf("status %d", a.Status))
		return nil, c.fail(explain.OIDCUserinfoRefused, explain.Fact("answer", fmt.Sprintf("status %d", a.Status)))
	case a.Status != 200:
		c.that(ruleUserInfo, false, "status 200", fmt.Sprintf("status %d", a.Status))
		return nil, c.fail(explain.OIDCUserinfoFailed, explain.Fact("answer", fmt.Sprintf("status %d", a.Status)))
	case media == "application/jwt":
		signed, err := c.signedUserInfo(strings.TrimSpace(string(a.Body)), r)
		if err != nil {
			return nil, err
		}
		o = signed
	default:
		plain, why := readBody(a, false)
		if plain == nil {
			c.that(ruleUserInfo, false, "application/json", why)
			return nil, c.fail(explain.OIDCUserinfoFailed, explain.Fact("answer", why))
		}
		if code, _ := plain.Text("error"); code != "" {
			c.that(ruleUserInfo, false, "", shown(code))
			return nil, c.fail(explain.OIDCUserinfoFailed, explain.Fact("answer", "status 200 with the error "+shown(code)))
		}
		o = plain
	}
	c.that(ruleUserInfo, true, "", cmp.Or(shown(media), "no content type"))
	if r.Subject == "" {
		return o, nil
	}
	subject, _ := o.Text("sub")
	if !c.equal(ruleSameSubject, r.Subject, subject) {
		return nil, c.fail(explain.OIDCUserinfoSubject, explain.Pair("sub", r.Subject, cmp.Or(shown(subject), "nobody")))
	}
	return o, nil
}

func (c checker) signedUserInfo(compact string, r UserInfoRules) (jose.Object, error) {
	parsed, err := jose.Parse(compact)
	if err != nil {
		return nil, c.of(err)
	}
	token, err := parsed.Verify(jose.Rules{Types: []string{"", jose.TypeID}, Keys: r.Keys})
	if err != nil {
		c.that(ruleUserSigned, false, "", err.Error())
		return nil, c.of(err)
	}
	c.that(ruleUserSigned, true, "", strings.TrimSpace(token.Header.Algorithm+" "+token.Header.KeyID))
	// A signed answer names issuer and audience (section 5.3.2); one that names others was made for somebody else.
	issuer, ok := token.Claims.Text("iss")
	if !ok || !r.Issuers.Accepts(issuer) {
		return nil, c.fail(explain.OIDCIssuer, explain.Pair("iss", r.Issuers.Names(), cmp.Or(shown(issuer), "(none)")))
	}
	audience, ok := token.Claims.Texts("aud")
	if !ok || !slices.Contains(audience, r.ClientID) {
		return nil, c.fail(explain.OIDCAudience, explain.Pair("aud", r.ClientID, cmp.Or(shown(strings.Join(audience, " ")), "nobody")))
	}
	return token.Claims, nil
}
