package oidc

import (
	"cmp"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"fmt"
	"slices"
	"strings"
	"time"

	"innergate/core/explain"
	"innergate/core/jose"
	"innergate/core/trace"
)

// IDTokenRules is what an ID token is held against (OpenID Connect Core 1.0, section 3.1.3.7).
type IDTokenRules struct {
	Partner    string
	Issuers    Issuers
	ClientID   string
	Nonce      string // the one that this very browser was sent away with
	Keys       jose.KeySet
	Algorithms []string // all that the gate takes, if empty
	Now        time.Time
	Skew       time.Duration
	// MaxAge is what was sent as max_age; with it the token must say when the person signed in, and that must not be
	// longer ago.
	MaxAge *time.Duration
	// FreshSince, if set, is when a fresh sign-in was demanded: an earlier auth_time is refused.
	FreshSince time.Time
	// ACR lists what the person's sign-in must be one of, if that was demanded.
	ACR []string
	// AccessToken and Code are what came with the token; at_hash and c_hash must fit them.
	AccessToken, Code string
	// Alone is set where a token is looked at without what came with it; then at_hash and c_hash are left unchecked.
	Alone bool
}

// IDToken is what a checked ID token says.
type IDToken struct {
	Issuer, Subject string
	AuthTime        time.Time // zero if not said
	Expires         time.Time
	ACR             string
	AMR             []string
	SessionID       string
	Key             jose.Key
	Claims          jose.Object
}

var (
	ruleSigned    = rule{"oidc.signature", "Signed by a key of the provider", "OpenID Connect Core 3.1.3.7 (6, 7)"}
	ruleIssuer    = rule{"oidc.issuer", "Issued by the provider", "OpenID Connect Core 3.1.3.7 (2)"}
	ruleAudience  = rule{"oidc.audience", "Made for us", "OpenID Connect Core 3.1.3.7 (3)"}
	ruleParty     = rule{"oidc.authorized-party", "Asked for by us", "OpenID Connect Core 3.1.3.7 (4, 5)"}
	ruleExpires   = rule{"oidc.in-time", "Not over", "OpenID Connect Core 3.1.3.7 (9)"}
	ruleIssuedAt  = rule{"oidc.issued-at", "Issued just now", "OpenID Connect Core 3.1.3.7 (10)"}
	ruleNonce     = rule{"oidc.nonce", "Made for this sign-in", "OpenID Connect Core 3.1.3.7 (11)"}
	ruleACR       = rule{"oidc.acr", "As strong as was asked for", "OpenID Connect Core 3.1.3.7 (12)"}
	ruleAuthTime  = rule{"oidc.auth-time", "The person signed in recently enough", "OpenID Connect Core 3.1.3.7 (13)"}
	ruleHash      = rule{"oidc.at-hash", "Belongs to the access token that came with it", "OpenID Connect Core 3.1.3.8"}
	ruleCodeHash  = rule{"oidc.c-hash", "Belongs to the code that came with it", "OpenID Connect Core 3.3.2.11"}
	ruleSubject   = rule{"oidc.subject", "Names a subject", "OpenID Connect Core 2"}
	ruleTokenKind = rule{"oidc.token-kind", "Is an ID token and no other kind of token", "RFC 8725 3.11, 3.12"}
)

// lastTime is the end of the year 9999, in seconds since 1970. No token means a time behind it.
const lastTime = 253_402_300_799

// maxIssuedAgo is how old an ID token may be that has just been fetched, clocks aside.
const maxIssuedAgo = 10 * time.Minute

// CheckIDToken holds an ID token against every rule. A failure with the code jwt.key-unknown is the one after which the
// key set may be fetched again and the check repeated.
func CheckIDToken(compact string, r IDTokenRules, rec *trace.Recorder) (*IDToken, error) {
	c := checker{rec, r.Partner}
	parsed, err := jose.Parse(compact)
	if err != nil {
		return nil, c.of(err)
	}
	token, err := parsed.Verify(jose.Rules{Algorithms: r.Algorithms, Types: []string{"", jose.TypeID}, Keys: r.Keys})
	if err != nil {
		c.that(ruleSigned, false, "", err.Error())
		return nil, c.of(err)
	}
	c.that(ruleSigned, true, "", strings.TrimSpace(token.Header.Algorithm+" "+token.Header.KeyID))
	o := token.Claims
	t := &IDToken{Key: token.Key, Claims: o}
	texts := map[string]*string{"iss": &t.Issuer, "sub": &t.Subject, "acr": &t.ACR, "sid": &t.SessionID}
	var nonce, azp, atHash, cHash string
	texts["nonce"], texts["azp"], texts["at_hash"], texts["c_hash"] = &nonce, &azp, &atHash, &cHash
	for name, to := range texts {
		value, ok := o.Text(name)
		if !ok || len(value) > 4096 {
			return nil, c.fail(explain.OIDCIDTokenClaim, explain.Fact("claim", name+" is not a string of at most 4096 octets"))
		}
		*to = value
	}
	audience, ok := o.Texts("aud")
	if !ok {
		return nil, c.fail(explain.OIDCIDTokenClaim, explain.Fact("claim", "aud is neither a string nor a list of strings"))
	}
	if t.AMR, ok = o.Texts("amr"); !ok {
		return nil, c.fail(explain.OIDCIDTokenClaim, explain.Fact("claim", "amr is not a list of strings"))
	}
	// A logout token from the same keys must never pass (OpenID Connect Back-Channel Logout 1.0, section 2.4).
	if !c.that(ruleTokenKind, !o.Has("events"), "", "") {
		return nil, c.fail(explain.JWTType, explain.Pair("typ", "an ID token", "a token with events"))
	}
	if !c.that(ruleIssuer, r.Issuers.Accepts(t.Issuer), r.Issuers.Names(), t.Issuer) {
		return nil, c.fail(explain.OIDCIssuer, explain.Pair("iss", r.Issuers.Names(), cmp.Or(shown(t.Issuer), "(none)")))
	}
	if !c.that(ruleAudience, slices.Contains(audience, r.ClientID), r.ClientID, strings.Join(audience, " ")) {
		return nil, c.fail(explain.OIDCAudience, explain.Pair("aud", r.ClientID, cmp.Or(shown(strings.Join(audience, " ")), "nobody")))
	}
	if azp != "" || len(audience) > 1 {
		if !c.equal(ruleParty, r.ClientID, azp) {
			if azp == "" {
				return nil, c.fail(explain.OIDCAuthorizedPartyMissing, explain.Pair("azp", r.ClientID, ""))
			}
			return nil, c.fail(explain.OIDCAuthorizedParty, explain.Pair("azp", r.ClientID, shown(azp)))
		}
	}
	if err := t.times(c, r); err != nil {
		return nil, err
	}
	if !c.that(ruleNonce, r.Nonce != "" && nonce == r.Nonce, "", told(nonce, r.Nonce)) {
		return nil, c.fail(explain.OIDCNonce, explain.Pair("nonce", "the one that was sent", told(nonce, r.Nonce)))
	}
	if len(r.ACR) > 0 && !c.that(ruleACR, slices.Contains(r.ACR, t.ACR), strings.Join(r.ACR, " or "), t.ACR) {
		return nil, c.fail(explain.OIDCContextUnmet, explain.Pair("acr", strings.Join(r.ACR, " or "), cmp.Or(shown(t.ACR), "no acr")))
	}
	for _, h := range []struct {
		rule
		code    explain.Code
		got, of string
	}{{ruleHash, explain.OIDCAtHash, atHash, r.AccessToken}, {ruleCodeHash, explain.OIDCCHash, cHash, r.Code}} {
		// Neither is demanded in the code flow, since the token comes from the provider directly (section 3.1.3.6); one
		// that is there must fit.
		if h.got != "" && !r.Alone && !c.that(h.rule, h.got == HalfHash(token.Header.Algorithm, h.of), "", "") {
			return nil, c.fail(h.code)
		}
	}
	if !c.that(ruleSubject, t.Subject != "" && len(t.Subject) <= maxSubject, "", shown(t.Subject)) {
		return nil, c.fail(explain.OIDCSubjectMissing, explain.Fact("sub", fmt.Sprintf("it has %d octets", len(t.Subject))))
	}
	return t, nil
}

func (t *IDToken) times(c checker, r IDTokenRules) error {
	at := map[string]time.Time{}
	for _, name := range []string{"exp", "iat", "nbf", "auth_time"} {
		n, there, ok := t.Claims.Number(name)
		if !ok || n < 0 {
			return c.fail(explain.OIDCIDTokenClaim, explain.Fact("claim", name+" is not a time in seconds since 1970"))
		}
		if n > lastTime {
			return c.fail(explain.OIDCIDTokenClaim, explain.Fact("claim", fmt.Sprintf("%s is %d, which is beyond all measure for a "+
				"time in seconds since 1970; milliseconds, perhaps", name, n)))
		}
		if there {
			at[name] = time.Unix(n, 0)
		}
	}
	for _, name := range []string{"exp", "iat"} {
		if at[name].IsZero() {
			return c.fail(explain.OIDCIDTokenClaim, explain.Fact("claim", name+" is missing"))
		}
	}
	t.Expires, t.AuthTime = at["exp"], at["auth_time"]
	if !c.that(ruleExpires, r.Now.Before(t.Expires.Add(r.Skew)), formatTime(r.Now), formatTime(t.Expires)) {
		return c.fail(explain.OIDCExpired, explain.Pair("exp", formatTime(r.Now), formatTime(t.Expires)))
	}
	for _, name := range []string{"iat", "nbf"} {
		if !at[name].IsZero() && at[name].After(r.Now.Add(r.Skew)) {
			c.that(ruleIssuedAt, false, formatTime(r.Now), formatTime(at[name]))
			return c.fail(explain.OIDCNotYetValid, explain.Pair(name, formatTime(r.Now), formatTime(at[name])))
		}
	}
	if oldest := r.Now.Add(-maxIssuedAgo - r.Skew); !c.that(
		ruleIssuedAt, !at["iat"].Before(oldest), formatTime(oldest), formatTime(at["iat"]),
	) {
		return c.fail(explain.OIDCIssuedLongAgo, explain.Pair("iat", formatTime(oldest), formatTime(at["iat"])))
	}
	var oldest time.Time
	if r.MaxAge != nil {
		oldest = r.Now.Add(-*r.MaxAge - r.Skew)
	}
	if since := r.FreshSince.Add(-r.Skew); !r.FreshSince.IsZero() && since.After(oldest) {
		oldest = since
	}
	if oldest.IsZero() {
		return nil
	}
	if t.AuthTime.IsZero() {
		c.that(ruleAuthTime, false, formatTime(oldest), "")
		return c.fail(explain.OIDCAuthTimeMissing)
	}
	if !c.that(ruleAuthTime, !t.AuthTime.Before(oldest), formatTime(oldest), formatTime(t.AuthTime)) {
		return c.fail(explain.OIDCAuthTimeOld, explain.Pair("auth_time", formatTime(oldest), formatTime(t.AuthTime)))
	}
	return nil
}

// HalfHash is the left half of a value's hash in base64url, by the hash of the token's algorithm, as at_hash and c_hash
// hold it (OpenID Connect Core 1.0, section 3.1.3.6). With EdDSA the hash is SHA-512.
func HalfHash(alg, value string) string {
	var sum []byte
	switch {
	case strings.HasSuffix(alg, "384"):
		s := sha512.Sum384([]byte(value))
		sum = s[:]
	case strings.HasSuffix(alg, "512"), alg == jose.EdDSA:
		s := sha512.Sum512([]byte(value))
		sum = s[:]
	default:
		s := sha256.Sum256([]byte(value))
		sum = s[:]
	}
	return base64.RawURLEncoding.EncodeToString(sum[:len(sum)/2])
}
