package oidc

import (
	"cmp"
	"strings"

	"innergate/core/explain"
	"innergate/core/trace"
)

// AnswerRules is what an authorization response is held against.
type AnswerRules struct {
	Partner string
	Issuers Issuers
	// IssuerPromised is set where the provider's discovery document promises "iss".
	IssuerPromised bool
	// State is the one that this very browser was sent away with.
	State string
	// Passive is set where the provider was asked not to ask the person anything, ACR where a strength was demanded.
	Passive bool
	ACR     []string
}

var (
	ruleState     = rule{"oidc.state", "Answers our request from this browser", "RFC 6749 10.12"}
	ruleAnswerIss = rule{"oidc.answer-issuer", "The provider that was asked answers", "RFC 9207 2.4"}
	ruleCode      = rule{"oidc.code", "A code came, and no token by way of the browser", "RFC 9700 2.1.2"}
	ruleNoError   = rule{"oidc.no-error", "The provider signed the person in", "OpenID Connect Core 3.1.2.6"}
)

// ReadAnswer checks what came back to our redirect URI and returns the code (OpenID Connect Core 1.0, section 3.1.2.5).
// The state and the issuer are checked before an error in the answer is believed.
func ReadAnswer(p Parameters, r AnswerRules, rec *trace.Recorder) (code string, err error) {
	c := checker{rec, r.Partner}
	// The state is a secret of this browser: the trace tells only whether it is the same.
	if p["state"] == "" {
		c.that(ruleState, false, "", "none")
		return "", c.fail(explain.OIDCStateMissing, explain.Pair("state", "the one that was sent", "none"))
	}
	if !c.that(ruleState, r.State != "" && p["state"] == r.State, "", told(p["state"], r.State)) {
		return "", c.fail(explain.OIDCState, explain.Pair("state", "the one that was sent", told(p["state"], r.State)))
	}
	iss, there := p["iss"]
	if there || r.IssuerPromised {
		if !c.that(ruleAnswerIss, r.Issuers.Accepts(iss), r.Issuers.Names(), iss) {
			if !there {
				return "", c.fail(explain.OIDCAnswerIssuerMissing, explain.Pair("iss", r.Issuers.Names(), ""))
			}
			return "", c.fail(explain.OIDCAnswerIssuer, explain.Pair("iss", r.Issuers.Names(), shown(iss)))
		}
	}
	if !c.that(ruleNoError, p["error"] == "", "", p["error"]) {
		return "", c.refused(r, p["error"], p["error_description"])
	}
	for _, token := range []string{"id_token", "access_token"} {
		if p[token] != "" {
			c.that(ruleCode, false, "code", token)
			return "", c.fail(explain.OIDCTokenInAnswer, explain.Pair("answer", "code", token))
		}
	}
	if !c.that(ruleCode, p["code"] != "", "", "") {
		return "", c.fail(explain.OIDCCodeMissing)
	}
	return p["code"], nil
}

// told says how a state differs without telling it.
func told(got, expected string) string {
	switch {
	case got == "":
		return "none"
	case got == expected:
		return "the one that was sent"
	}
	return "another"
}

// refused turns an error of the authorization endpoint into a failure (RFC 6749, section 4.1.2.1; OpenID Connect Core
// 1.0, section 3.1.2.6).
func (c checker) refused(r AnswerRules, code, description string) error {
	evidence := []trace.Evidence{explain.Fact("error", shown(code))}
	if description != "" {
		evidence = append(evidence, explain.Fact("error_description", shown(description)))
	}
	switch code {
	case ErrAccessDenied:
		return c.fail(explain.OIDCDenied, evidence...)
	case ErrLoginRequired, ErrInteractionRequired, ErrConsentRequired, ErrAccountSelection:
		if !r.Passive {
			return c.fail(explain.OIDCWouldNotAsk, evidence...)
		}
		return c.fail(explain.OIDCNoPassive, evidence...)
	case ErrUnmetAuthRequirement:
		demanded := cmp.Or(strings.Join(r.ACR, " or "), "no strength that we asked for")
		return c.fail(explain.OIDCContextUnmet, append([]trace.Evidence{explain.Pair("acr", demanded, shown(code))}, evidence...)...)
	case ErrServer, ErrUnavailable:
		return c.fail(explain.OIDCProviderFailed, evidence...)
	}
	return c.fail(explain.OIDCRequestRefused, evidence...)
}
