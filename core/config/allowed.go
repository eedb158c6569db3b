package config

import (
	"slices"

	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/jose"
	"innergate/core/oidc"
	"innergate/core/saml"
	"innergate/core/xmlsig"
)

// Allowed are the values that can be chosen for a field, by the type that it stands in and its name in files. The validators and
// the JSON Schema of files speak from this one table. An empty value is the same as leaving the field away.
var Allowed = map[string][]string{
	"Application.kind":                   {KindSAML, KindOIDC, KindGuarded, KindLink},
	"Application.reach":                  reaches,
	"Application.contexts":               ContextUses,
	"Accounts.proveBy":                   {ProveByToken, ProveByOAuth, ProveByBasic},
	"Accounts.who":                       {WhoAssigned, WhoEverybody, WhoCircle},
	"Accounts.unassigned":                {AccountDeactivate, AccountDelete, AccountLeave},
	"Accounts.approve":                   {ApproveAll, ApproveFirst, ApproveNone},
	"Accounts.drift":                     {DriftCorrect, DriftTell, DriftAccept},
	"Application.signOut":                {SignOutProvider, SignOutGate, SignOutApplication},
	"Provider.kind":                      {KindSAML, KindOIDC, KindOAuth2, KindDirectory, KindLDAP, KindKerberos},
	"Provider.reach":                     reaches,
	"Provider.admission":                 Admissions,
	"SAMLApplication.sign":               {"assertion", "response", "both"},
	"SAMLApplication.encrypt":            {"assertion", "nameid"},
	"SAMLApplication.contentEncryption":  {xmlsig.AES256GCM, xmlsig.AES128GCM, xmlsig.AES256CBC, xmlsig.AES128CBC},
	"SAMLApplication.keyTransport":       {xmlsig.OAEPMGF1P, OAEPSHA256},
	"SAMLApplication.signatureAlgorithm": signatures,
	"SAMLProvider.signatureAlgorithm":    signatures,
	"SAMLProvider.requestBinding":        {"HTTP-Redirect", "HTTP-POST"},
	"SAMLProvider.responseBinding":       {"HTTP-POST", "HTTP-Artifact"},
	"OIDCApplication.authentication":     oidc.AuthMethods,
	"OIDCApplication.algorithm":          SigningAlgorithms,
	"OIDCApplication.scopes":             Scopes,
	"OIDCProvider.authentication":        oidc.AuthMethods,
	"OIDCProvider.algorithms":            jose.Algorithms,
	"GuardedApplication.pass":            {PassNothing, PassHeaders, PassToken, PassBasic},
	"PathRule.then":                      {PathOpen, PathSignedIn, PathGroups, PathRules, PathRefuse},
	"Mail.encryption":                    {"starttls", "tls", "none"},
	"Notices.from":                       {"broken", "attention", "remark"},
	"DirectoryProvider.passkeys":         {"off", "second", "alone"},
	"DirectoryProvider.secondFactor":     {"offered", "required"},
	"LDAPProvider.passwordChange":        {"off", "must"},
	"LDAPProvider.bindBy":                {"password", BindByCertificate},
	"LDAPLookUp.otherwise":               {"refuse", "without"},
	"LDAPGroups.by":                      {"memberOf", "member", "uniqueMember", "memberUid"},
	"RuleSet.kind":                       {SetMapping, SetAccess},
	"Subject.source":                     {"profile", "pairwise", "public", "transient"},
	"Source.kind":                        {SourceAggregate, SourceQuery, SourceFile},
	"Template.side":                      {"application", "provider"},
	"Watch.policy":                       {PolicyAsk, PolicyCertificates, PolicyApply},
	"Certificate.use":                    {"signing", "encryption"},
	"ConsoleRule.role":                   {"viewer", "assigner", "engineer", "owner"},
	"Policy.to":                          {access.Everybody, access.Assigned},
	"Policy.otherwise":                   {access.Allow, access.Refuse},
	"Rule.then":                          {access.Allow, access.Refuse, access.Stronger},
	"Routes.field":                       {access.FieldNeeded, access.FieldAlways, access.FieldNever},
	"Rule.place":                         {claims.PlaceBoth, claims.PlaceIDToken, claims.PlaceUserInfo},
	"RequestedContext.comparison":        {"exact", "minimum", "maximum", "better"},
	"Endpoint.binding":                   {"HTTP-Redirect", "HTTP-POST", "SOAP", "HTTP-Artifact"},
	"Endpoint.service":                   {saml.ServiceACS, saml.ServiceSSO, saml.ServiceSLO, saml.ServiceArtifact},
}

var (
	reaches    = []string{string(access.Draft), string(access.InCircle), string(access.Everyone), string(access.Closed)}
	signatures = []string{
		string(xmlsig.RSASHA256), string(xmlsig.RSASHA384), string(xmlsig.RSASHA512),
		string(xmlsig.ECDSASHA256), string(xmlsig.ECDSASHA384), string(xmlsig.ECDSASHA512),
	}
)

// allowed refuses a value that the table does not hold for a field. Empty is left to whoever must have one.
func (v *validator) allowed(field, value, in string) {
	if value != "" && !slices.Contains(Allowed[in], value) {
		v.oneOf(field, value, Allowed[in]...)
	}
}
