package saml

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"innergate/core/explain"
	"innergate/core/span"
	"innergate/core/xmlsig"
	"innergate/core/xmltree"
)

// assertion reads a verified assertion and checks all that it says.
func (c *checker) assertion(rules ResponseRules, v xmlsig.Verified, responseSigned bool) (*Assertion, error) {
	e := v.Element()
	a := &Assertion{ID: e.Value("ID"), Issuer: rules.Issuer}
	if !c.equal(ruleVersion, "2.0", e.Value("Version")) {
		return nil, c.fail(explain.SAMLVersion, explain.Pair("version of the assertion", "2.0", e.Value("Version")))
	}
	if a.ID == "" || len(a.ID) > 1024 {
		return nil, c.fail(explain.SAMLStructure, explain.Fact("detail", "the assertion has no proper ID"))
	}
	issuer := e.First(NSAssertion, "Issuer")
	if issuer == nil {
		return nil, c.fail(explain.SAMLStructure, explain.Fact("detail", "the assertion has no issuer"))
	}
	name, err := c.plain(issuer, 1024)
	if err != nil {
		return nil, err
	}
	if !c.equal(ruleIssuer, string(rules.Issuer), name) {
		return nil, c.fail(explain.SAMLProviderUnknown, explain.Pair("issuer of the assertion", string(rules.Issuer), name))
	}
	issued, has, err := c.time(e, "IssueInstant")
	if err != nil {
		return nil, err
	}
	if !has {
		return nil, c.fail(explain.SAMLStructure, explain.Fact("detail", "the assertion has no IssueInstant"))
	}
	if issued.After(c.now.Add(c.skew)) {
		c.that(ruleTime, false, formatTime(c.now), formatTime(issued))
		return nil, c.fail(explain.SAMLNotYetValid, explain.Pair("IssueInstant", formatTime(c.now), formatTime(issued)))
	}
	if err := c.conditions(e, rules, issued); err != nil {
		return nil, err
	}
	if err := c.subject(e, rules, a, issued, responseSigned || xmlsig.Signed(e)); err != nil {
		return nil, err
	}
	if err := c.authn(e, rules, a); err != nil {
		return nil, err
	}
	if a.Attributes, err = c.attributes(e, rules, responseSigned || xmlsig.Signed(e)); err != nil {
		return nil, err
	}
	return a, nil
}

func (c *checker) conditions(e *xmltree.Element, rules ResponseRules, issued time.Time) error {
	conditions := e.First(NSAssertion, "Conditions")
	if conditions == nil {
		c.that(ruleAudience, false, string(rules.Audience), "")
		return c.fail(explain.SAMLAudienceMissing, explain.Pair("audience", string(rules.Audience), ""))
	}
	from, hasFrom, err := c.time(conditions, "NotBefore")
	if err != nil {
		return err
	}
	until, hasUntil, err := c.time(conditions, "NotOnOrAfter")
	if err != nil {
		return err
	}
	if hasFrom && c.now.Add(c.skew).Before(from) {
		c.that(ruleTime, false, formatTime(c.now), formatTime(from))
		return c.fail(explain.SAMLNotYetValid, explain.Pair("NotBefore", formatTime(c.now), formatTime(from)))
	}
	if hasUntil {
		if err := c.end("conditions", until, issued, rules.MaxLifetime); err != nil {
			return err
		}
	}
	audiences := 0
	for child := range conditions.Elements {
		switch {
		case child.Is(NSAssertion, "AudienceRestriction"):
			audiences++
			if err := c.audience(child, rules); err != nil {
				return err
			}
		case child.Is(NSAssertion, "OneTimeUse"):
		case child.Is(NSAssertion, "ProxyRestriction"):
			if count := child.Value("Count"); count == "0" || len(child.All(NSAssertion, "Audience")) > 0 {
				c.that(ruleConditions, false, "", "ProxyRestriction")
				return c.fail(explain.SAMLProxyRestricted, explain.Fact("restriction", "Count "+count))
			}
		default:
			name := child.Name()
			if kind, typed := child.AttrNS(nsXSI, "type"); typed {
				name += " of the type " + clip(kind, 200)
			}
			c.that(ruleConditions, false, "", name)
			return c.fail(explain.SAMLConditionUnknown, explain.Fact("condition", name))
		}
	}
	c.that(ruleConditions, true, "", "")
	if audiences == 0 {
		c.that(ruleAudience, false, string(rules.Audience), "")
		return c.fail(explain.SAMLAudienceMissing, explain.Pair("audience", string(rules.Audience), ""))
	}
	return nil
}

// audience checks one restriction; all of them must hold, each if any of its audiences is ours (SAML Core, section
// 2.5.1.4).
func (c *checker) audience(restriction *xmltree.Element, rules ResponseRules) error {
	var named []string
	for _, a := range restriction.All(NSAssertion, "Audience") {
		v, err := c.plain(a, 1024)
		if err != nil {
			return err
		}
		named = append(named, v)
	}
	got := strings.Join(named, ", ")
	if !c.that(ruleAudience, slices.Contains(named, string(rules.Audience)), string(rules.Audience), got) {
		return c.fail(explain.SAMLAudienceMismatch, explain.Pair("audience", string(rules.Audience), got))
	}
	return nil
}

// end checks a NotOnOrAfter against now and against the longest lifetime.
func (c *checker) end(where string, until, issued time.Time, limit time.Duration) error {
	if !c.that(ruleTime, c.now.Add(-c.skew).Before(until), formatTime(c.now), formatTime(until)) {
		return c.fail(explain.SAMLExpired, explain.Pair("NotOnOrAfter of "+where, formatTime(c.now), formatTime(until)))
	}
	if life := until.Sub(issued); life > limit {
		c.that(ruleLifetime, false, span.Words(limit), span.Words(life))
		return c.fail(explain.SAMLLifetime, explain.Pair("lifetime by "+where, span.Words(limit), span.Words(life)))
	}
	return nil
}

func (c *checker) subject(e *xmltree.Element, rules ResponseRules, a *Assertion, issued time.Time, signed bool) error {
	subjects := e.All(NSAssertion, "Subject")
	switch {
	case len(subjects) == 0:
		c.that(ruleNameID, false, "a Subject", "")
		return c.fail(explain.SAMLNameIDMissing, explain.Fact("Subject", "none"))
	case len(subjects) > 1:
		return c.fail(explain.SAMLStructure, explain.Fact("detail", fmt.Sprintf("the assertion has %d Subjects, where one may stand",
			len(subjects))))
	}
	subject := subjects[0]
	names, sealed := subject.All(NSAssertion, "NameID"), subject.All(NSAssertion, "EncryptedID")
	if len(names)+len(sealed) > 1 || subject.First(NSAssertion, "BaseID") != nil {
		return c.fail(explain.SAMLStructure, explain.Fact("detail", "the subject is named twice, or by a BaseID"))
	}
	if len(sealed) == 1 {
		inner, err := c.open(sealed[0], rules, signed)
		if err != nil {
			return err
		}
		if !inner.Is(NSAssertion, "NameID") {
			return c.fail(explain.SAMLStructure, explain.Fact("detail", "what was encrypted is not a NameID"))
		}
		names = append(names, inner)
	}
	switch {
	case len(names) == 1:
		n, err := c.nameID(names[0])
		if err != nil {
			return err
		}
		a.NameID = n
		wanted := rules.NameIDFormat
		if wanted == FormatUnspecified {
			wanted = ""
		}
		if !c.that(ruleNameID, wanted == "" || n.EffectiveFormat() == wanted, wanted, n.EffectiveFormat()) {
			return c.fail(explain.SAMLNameIDFormat, explain.Pair("NameID format", wanted, n.EffectiveFormat()))
		}
	case !rules.SubjectOptional:
		c.that(ruleNameID, false, "a NameID", "")
		return c.fail(explain.SAMLNameIDMissing)
	}
	return c.confirmed(subject, rules, a, issued)
}

// confirmed looks for a bearer confirmation that holds. Several may be there; the first reason against one is told if
// none holds.
func (c *checker) confirmed(subject *xmltree.Element, rules ResponseRules, a *Assertion, issued time.Time) error {
	var first error
	for _, confirmation := range subject.All(NSAssertion, "SubjectConfirmation") {
		if confirmation.Value("Method") != methodBearer {
			continue
		}
		err := c.bearer(confirmation, rules, a, issued)
		if err == nil {
			return c.lastEnd(subject, a)
		}
		if first == nil {
			first = err
		}
	}
	if first == nil {
		c.that(ruleBearer, false, "bearer", "none")
		first = c.fail(explain.SAMLConfirmation, explain.Fact("detail", "there is no bearer confirmation"))
	}
	return first
}

// lastEnd has an assertion remembered for as long as any of its bearer confirmations could be used.
func (c *checker) lastEnd(subject *xmltree.Element, a *Assertion) error {
	for _, confirmation := range subject.All(NSAssertion, "SubjectConfirmation") {
		data := confirmation.First(NSAssertion, "SubjectConfirmationData")
		if confirmation.Value("Method") != methodBearer || data == nil {
			continue
		}
		until, has, err := c.time(data, "NotOnOrAfter")
		if err != nil {
			return err
		}
		if end := until.Add(c.skew); has && end.After(a.NotOnOrAfter) {
			a.NotOnOrAfter = end
		}
	}
	return nil
}

func (c *checker) bearer(confirmation *xmltree.Element, rules ResponseRules, a *Assertion, issued time.Time) error {
	data := confirmation.First(NSAssertion, "SubjectConfirmationData")
	if data == nil {
		c.that(ruleBearer, false, "SubjectConfirmationData", "")
		return c.fail(explain.SAMLConfirmation, explain.Fact("detail", "it has no SubjectConfirmationData"))
	}
	if _, has := data.Attr("NotBefore"); has {
		c.that(ruleBearer, false, "", "NotBefore")
		return c.fail(explain.SAMLConfirmation, explain.Fact("detail", "it has a NotBefore, which a bearer confirmation must not have"))
	}
	until, has, err := c.time(data, "NotOnOrAfter")
	if err != nil {
		return err
	}
	if !c.that(ruleBearer, has, "NotOnOrAfter", "") {
		return c.fail(explain.SAMLNoEnd)
	}
	recipient := data.Value("Recipient")
	if !c.equal(ruleRecipient, rules.ACS, recipient) {
		if recipient == "" {
			return c.fail(explain.SAMLConfirmation, explain.Fact("detail", "it names no Recipient; that must be our ACS URL"))
		}
		return c.fail(explain.SAMLRecipientMismatch, explain.Pair("Recipient", rules.ACS, recipient))
	}
	if err := c.end("the confirmation", until, issued, rules.MaxLifetime); err != nil {
		return err
	}
	answers := &IncomingResponse{}
	if err := answers.answers(c, rules, "confirmation", data.Value("InResponseTo")); err != nil {
		return err
	}
	a.InResponseTo, a.NotOnOrAfter = data.Value("InResponseTo"), until.Add(c.skew)
	return nil
}

func (c *checker) authn(e *xmltree.Element, rules ResponseRules, a *Assertion) error {
	statement := e.First(NSAssertion, "AuthnStatement")
	if !c.that(ruleAuthn, statement != nil, "", "") {
		return c.fail(explain.SAMLAuthnMissing)
	}
	at, has, err := c.time(statement, "AuthnInstant")
	if err != nil {
		return err
	}
	if !has {
		return c.fail(explain.SAMLStructure, explain.Fact("detail", "the AuthnStatement has no AuthnInstant"))
	}
	a.AuthnInstant, a.SessionIndex = at, statement.Value("SessionIndex")
	if err := c.bounded("SessionIndex", a.SessionIndex, 1024); err != nil {
		return err
	}
	if at.After(c.now.Add(c.skew)) {
		c.that(ruleFresh, false, formatTime(c.now), formatTime(at))
		return c.fail(explain.SAMLNotYetValid, explain.Pair("AuthnInstant", formatTime(c.now), formatTime(at)))
	}
	if !rules.FreshSince.IsZero() {
		if !c.that(ruleFresh, !at.Before(rules.FreshSince.Add(-c.skew)), formatTime(rules.FreshSince), formatTime(at)) {
			return c.fail(explain.SAMLAuthnOld, explain.Pair("AuthnInstant", formatTime(rules.FreshSince), formatTime(at)))
		}
	}
	end, has, err := c.time(statement, "SessionNotOnOrAfter")
	if err != nil {
		return err
	}
	if has {
		if !c.that(ruleSession, c.now.Add(-c.skew).Before(end), formatTime(c.now), formatTime(end)) {
			return c.fail(explain.SAMLSessionOver, explain.Pair("SessionNotOnOrAfter", formatTime(c.now), formatTime(end)))
		}
		a.SessionNotOnOrAfter = end
	}
	return c.context(statement, rules, a)
}

func (c *checker) context(statement *xmltree.Element, rules ResponseRules, a *Assertion) error {
	if context := statement.First(NSAssertion, "AuthnContext"); context != nil {
		if class := context.First(NSAssertion, "AuthnContextClassRef"); class != nil {
			v, err := c.plain(class, 1024)
			if err != nil {
				return err
			}
			a.Context = strings.TrimSpace(v)
		}
		for _, authority := range context.All(NSAssertion, "AuthenticatingAuthority") {
			v, err := c.plain(authority, 1024)
			if err != nil {
				return err
			}
			if a.Authorities = append(a.Authorities, v); len(a.Authorities) > 32 {
				return c.fail(explain.SAMLStructure, explain.Fact("detail", "there are more than 32 AuthenticatingAuthorities"))
			}
		}
	}
	if rules.RequestedContext == nil {
		return nil
	}
	wanted := rules.RequestedContext.Comparison + " " + strings.Join(rules.RequestedContext.Classes, ", ")
	if !c.that(ruleContext, rules.RequestedContext.Met(a.Context), wanted, a.Context) {
		return c.fail(explain.SAMLContextNotProven, explain.Pair("context", wanted, a.Context))
	}
	return nil
}

// Bounds of what one assertion may carry.
const (
	maxAttributes = 500
	maxValues     = 10000
	maxValue      = 64 << 10
)

func (c *checker) attributes(e *xmltree.Element, rules ResponseRules, signed bool) ([]Attribute, error) {
	var out []Attribute
	values := 0
	for _, statement := range e.All(NSAssertion, "AttributeStatement") {
		for child := range statement.Elements {
			if child.Is(NSAssertion, "EncryptedAttribute") {
				inner, err := c.open(child, rules, signed)
				if err != nil {
					return nil, err
				}
				child = inner
			}
			if !child.Is(NSAssertion, "Attribute") {
				return nil, c.fail(explain.SAMLStructure, explain.Fact("detail", "<"+child.Name()+"> stands among the attributes"))
			}
			attr, err := c.attribute(child)
			if err != nil {
				return nil, err
			}
			out, values = append(out, attr), values+len(attr.Values)
			if len(out) > maxAttributes || values > maxValues {
				return nil, c.fail(
					explain.SAMLValueRefused,
					explain.Fact("value", fmt.Sprintf("there are more than %d attributes or %d values", maxAttributes, maxValues)),
				)
			}
		}
	}
	return out, nil
}

func (c *checker) attribute(e *xmltree.Element) (Attribute, error) {
	attr := Attribute{Name: e.Value("Name"), NameFormat: e.Value("NameFormat"), FriendlyName: e.Value("FriendlyName")}
	if attr.Name == "" {
		return attr, c.fail(explain.SAMLStructure, explain.Fact("detail", "an attribute has no Name"))
	}
	if err := c.bounded("Attribute Name", attr.Name, 1024); err != nil {
		return attr, err
	}
	values := e.All(NSAssertion, "AttributeValue")
	attr.Values = make([]string, 0, len(values))
	for _, v := range values {
		if isNil, _ := v.AttrNS(nsXSI, "nil"); isNil == "true" || isNil == "1" {
			continue
		}
		// A NameID may stand inside a value; its text is the value then.
		if inner := v.First(NSAssertion, "NameID"); inner != nil {
			v = inner
		} else if first := firstElement(v); first != nil {
			// Structured values have no place in a profile; they stay visible in the raw message.
			continue
		}
		text, ok := v.PlainText()
		if !ok {
			return attr, c.fail(
				explain.SAMLValueRefused,
				explain.Fact("value", "a value of "+attr.Name+" holds something other than text, such as a comment"),
			)
		}
		if err := c.bounded(attr.Name, text, maxValue); err != nil {
			return attr, err
		}
		attr.Values = append(attr.Values, text)
	}
	return attr, nil
}

func firstElement(e *xmltree.Element) *xmltree.Element {
	for c := range e.Elements {
		return c
	}
	return nil
}
