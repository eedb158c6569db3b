package oidc

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"innergate/core/explain"
	"innergate/core/jose"
	"innergate/core/keys"
	"innergate/core/trace"
)

// eventLogout is the one event that a logout token holds (OpenID Connect Back-Channel Logout 1.0, section 2.4).
const eventLogout = "http://schemas.openid.net/event/backchannel-logout"

// logoutLife is how long a logout token of ours may be used; section 2.4 recommends two minutes at most.
const logoutLife = 2 * time.Minute

// LogoutClaims is the content of a logout token of ours, for one client and a subject, a session of it, or both. It
// never holds a nonce, so that it can't be taken for an ID token.
func LogoutClaims(issuer, clientID, subject, sessionID string, now time.Time) map[string]any {
	out := map[string]any{
		"iss":    issuer,
		"aud":    clientID,
		"iat":    now.Unix(),
		"exp":    now.Add(logoutLife).Unix(),
		"jti":    keys.RandomID(),
		"events": map[string]any{eventLogout: map[string]any{}},
	}
	if subject != "" {
		out["sub"] = subject
	}
	if sessionID != "" {
		out["sid"] = sessionID
	}
	return out
}

// LogoutRules is what a provider's logout token is held against.
type LogoutRules struct {
	Partner  string
	Issuers  Issuers
	ClientID string
	Keys     jose.KeySet
	Now      time.Time
	Skew     time.Duration
}

// Logout is what a checked logout token asks for.
type Logout struct {
	Issuer, Subject, SessionID string
	// Used is the token's ID, which must be accepted once.
	Used Used
}

// maxLogoutAge is how long after it was made a logout token without an end is still taken.
const maxLogoutAge = 10 * time.Minute

var ruleLogout = rule{
	"oidc.logout-token",
	"A logout token for us, used once, and no other kind of token",
	"OpenID Connect Back-Channel Logout 2.6",
}

// CheckLogoutToken holds a logout token against section 2.6. Whoever calls it must see that its ID is used once.
func CheckLogoutToken(compact string, r LogoutRules, rec *trace.Recorder) (*Logout, error) {
	c := checker{rec, r.Partner}
	parsed, err := jose.Parse(compact)
	if err != nil {
		return nil, c.of(err)
	}
	// Many providers leave the type out; the events tell the kind then, and an ID token has none.
	token, err := parsed.Verify(jose.Rules{Types: []string{"", jose.TypeID, jose.TypeLogout}, Keys: r.Keys})
	if err != nil {
		c.that(ruleSigned, false, "", err.Error())
		return nil, c.of(err)
	}
	c.that(ruleSigned, true, "", strings.TrimSpace(token.Header.Algorithm+" "+token.Header.KeyID))
	o, l := token.Claims, &Logout{}
	bad := func(why string) (*Logout, error) {
		c.that(ruleLogout, false, "", why)
		return nil, c.fail(explain.OIDCLogoutToken, explain.Fact("token", why))
	}
	for name, to := range map[string]*string{"iss": &l.Issuer, "sub": &l.Subject, "sid": &l.SessionID, "jti": &l.Used.ID} {
		value, ok := o.Text(name)
		if !ok || len(value) > maxShort {
			return bad(name + " is not a string of at most 1024 octets")
		}
		*to = value
	}
	audience, ok := o.Texts("aud")
	events, _ := o["events"].(map[string]any)
	_, isLogout := events[eventLogout].(map[string]any)
	_, holdsNonce := o["nonce"]
	iat, hasBegin, okBegin := o.Number("iat")
	exp, hasEnd, okEnd := o.Number("exp")
	begin := time.Unix(iat, 0)
	end := begin.Add(maxLogoutAge)
	if given := time.Unix(exp, 0); hasEnd && given.Before(end) {
		end = given
	}
	switch {
	case !r.Issuers.Accepts(l.Issuer):
		return nil, c.fail(explain.OIDCIssuer, explain.Pair("iss", r.Issuers.Names(), cmp.Or(shown(l.Issuer), "(none)")))
	case !ok || !slices.Contains(audience, r.ClientID):
		return nil, c.fail(explain.OIDCAudience, explain.Pair("aud", r.ClientID, cmp.Or(shown(strings.Join(audience, " ")), "nobody")))
	case !isLogout:
		return bad("it holds no logout event, so it is another kind of token")
	case holdsNonce:
		return bad("it holds a nonce, so it is an ID token")
	case l.Subject == "" && l.SessionID == "":
		return bad("it names neither a subject nor a session")
	case l.Used.ID == "":
		return bad("it has no jti, so it could be used again")
	case !hasBegin || !okBegin || !okEnd:
		return bad("it does not say when it was made, or names a time that is none")
	case begin.After(r.Now.Add(r.Skew)):
		return bad("it was made in the future, at " + formatTime(begin))
	case !r.Now.Before(end.Add(r.Skew)):
		return bad("it was over at " + formatTime(end))
	}
	c.that(ruleLogout, true, "", "")
	l.Used.Until = end.Add(r.Skew)
	return l, nil
}
