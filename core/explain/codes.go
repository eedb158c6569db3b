package explain

// Code names a way in which a sign-in can fail. It never changes once it was given out.
type Code string

// Codes of SAML messages.
const (
	SAMLUnreadable              Code = "saml.unreadable"
	SAMLTooLarge                Code = "saml.too-large"
	SAMLNotARequest             Code = "saml.not-a-request"
	SAMLApplicationUnknown      Code = "saml.application-unknown"
	SAMLProviderUnknown         Code = "saml.provider-unknown"
	SAMLLogoutUnsigned          Code = "saml.logout-unsigned"
	SAMLLogoutOver              Code = "saml.logout-over"
	SAMLLogoutIssuer            Code = "saml.logout-issuer"
	SAMLContextNotProven        Code = "saml.context-not-proven"
	SAMLContextDeclaration      Code = "saml.context-declaration"
	SAMLNameIDQualifier         Code = "saml.nameid-qualifier"
	SAMLSignatureEncryptionKey  Code = "saml.signature-encryption-key"
	SAMLQuerySignature          Code = "saml.query-signature"
	SAMLEncryptionUnsigned      Code = "saml.encryption-unsigned"
	SAMLOtherProvider           Code = "saml.other-provider"
	SAMLUnsolicitedProvider     Code = "saml.unsolicited-provider"
	AddressUnknown              Code = "saml.address-unknown"
	SAMLDestinationMismatch     Code = "saml.destination-mismatch"
	SAMLDestinationMissing      Code = "saml.destination-missing"
	SAMLRequestOld              Code = "saml.request-old"
	SAMLRequestEarly            Code = "saml.request-early"
	SAMLRequestRepeated         Code = "saml.request-repeated"
	SAMLRequestUnsigned         Code = "saml.request-unsigned"
	SAMLACSUnregistered         Code = "saml.acs-unregistered"
	SAMLACSIndexUnknown         Code = "saml.acs-index-unknown"
	SAMLACSMissing              Code = "saml.acs-missing"
	SAMLBindingUnsupported      Code = "saml.binding-unsupported"
	SAMLNameIDPolicy            Code = "saml.nameid-policy"
	SAMLNameIDNoCreate          Code = "saml.nameid-no-create"
	SAMLContextNotMet           Code = "saml.context-not-met"
	SAMLProxyRefused            Code = "saml.proxy-refused"
	SAMLProviderNotListed       Code = "saml.provider-not-listed"
	SAMLSubjectDiffers          Code = "saml.subject-differs"
	SAMLAttributeIndexUnknown   Code = "saml.attribute-index-unknown"
	SAMLSignatureMissing        Code = "saml.signature-missing"
	SAMLSignatureOnResponseOnly Code = "saml.signature-on-response-only"
	SAMLSignatureWrongKey       Code = "saml.signature-wrong-key"
	SAMLSignatureNoKey          Code = "saml.signature-no-key"
	SAMLSignatureAltered        Code = "saml.signature-altered"
	SAMLSignatureMalformed      Code = "saml.signature-malformed"
	SAMLSignatureSHA1           Code = "saml.signature-sha1"
	SAMLSignatureAlgorithm      Code = "saml.signature-algorithm"
	SAMLCertificateExpired      Code = "saml.certificate-expired"
	SAMLDecryptionFailed        Code = "saml.decryption-failed"
	SAMLEncryptionAlgorithm     Code = "saml.encryption-algorithm"
	SAMLStatus                  Code = "saml.status"
	SAMLStatusNoPassive         Code = "saml.status-no-passive"
	SAMLStatusNoContext         Code = "saml.status-no-context"
	SAMLStatusNameIDPolicy      Code = "saml.status-nameid-policy"
	SAMLStatusDenied            Code = "saml.status-denied"
	SAMLResponseBinding         Code = "saml.response-binding"
	SAMLArtifactRefused         Code = "saml.artifact-refused"
	SAMLArtifactEmpty           Code = "saml.artifact-empty"
	SAMLArtifactSource          Code = "saml.artifact-source"
	SAMLArtifactEndpoint        Code = "saml.artifact-endpoint"
	SAMLBackChannel             Code = "saml.back-channel"
	SAMLNotAResponse            Code = "saml.not-a-response"
	SAMLVersion                 Code = "saml.version"
	SAMLAssertionCount          Code = "saml.assertion-count"
	SAMLStructure               Code = "saml.structure"
	SAMLAudienceMismatch        Code = "saml.audience-mismatch"
	SAMLAudienceMissing         Code = "saml.audience-missing"
	SAMLRecipientMismatch       Code = "saml.recipient-mismatch"
	SAMLExpired                 Code = "saml.expired"
	SAMLNotYetValid             Code = "saml.not-yet-valid"
	SAMLNoEnd                   Code = "saml.no-end"
	SAMLLifetime                Code = "saml.lifetime"
	SAMLConfirmation            Code = "saml.confirmation"
	SAMLConditionUnknown        Code = "saml.condition-unknown"
	SAMLProxyRestricted         Code = "saml.proxy-restricted"
	SAMLAuthnMissing            Code = "saml.authn-missing"
	SAMLAuthnOld                Code = "saml.authn-old"
	SAMLSessionOver             Code = "saml.session-over"
	SAMLInResponseMismatch      Code = "saml.in-response-mismatch"
	SAMLUnsolicited             Code = "saml.unsolicited"
	SAMLUnsolicitedWhere        Code = "saml.unsolicited-where"
	SAMLReplayed                Code = "saml.replayed"
	SAMLNameIDMissing           Code = "saml.nameid-missing"
	SAMLNameIDFormat            Code = "saml.nameid-format"
	SAMLValueRefused            Code = "saml.value-refused"
)

// Codes that begin with metadata.
const (
	MetadataExpired Code = "metadata.expired"
)

// Codes that begin with browser.
const (
	BrowserLost     Code = "browser.lost"
	BrowserExpired  Code = "browser.expired"
	BrowserFinished Code = "browser.finished"
	BrowserLoop     Code = "browser.loop"
)

// Codes that begin with relay.
const (
	RelayTooLong Code = "relay.too-long"
	RelayRefused Code = "relay.refused"
)

// Codes that begin with start.
const (
	StartSPOnly Code = "start.sp-only"
)

// Codes that begin with route.
const (
	RouteNone      Code = "route.none"
	RouteNoPassive Code = "route.no-passive"
)

// Codes that begin with reach.
const (
	ReachApplicationDraft  Code = "reach.application-draft"
	ReachApplicationCircle Code = "reach.application-circle"
	ReachProviderCircle    Code = "reach.provider-circle"
	ReachApplicationClosed Code = "reach.application-closed"
	ReachProviderDraft     Code = "reach.provider-draft"
	ReachProviderClosed    Code = "reach.provider-closed"
)

// Codes that begin with match.
const (
	MatchStranger            Code = "match.stranger"
	MatchInactive            Code = "match.inactive"
	MatchTransient           Code = "match.transient"
	MatchSeveral             Code = "match.several"
	MatchDiffers             Code = "match.differs"
	MatchMailUnverified      Code = "match.mail-unverified"
	MatchForeignDomain       Code = "match.foreign-domain"
	MatchForeignScope        Code = "match.foreign-scope"
	MatchAlreadyLinked       Code = "match.already-linked"
	MatchFailed              Code = "match.failed"
	MatchNoLastingIdentifier Code = "match.no-lasting-identifier"
)

// Codes that begin with map.
const (
	MapRequiredMissing Code = "map.required-missing"
	MapFailed          Code = "map.failed"
)

// Codes that begin with subject.
const (
	SubjectEmpty Code = "subject.empty"
	SubjectTaken Code = "subject.taken"
	SubjectUnfit Code = "subject.unfit"
)

// Codes that begin with gate.
const (
	GateFailed Code = "gate.failed"
	GateBusy   Code = "gate.busy"
)

// Codes that begin with session.
const (
	SessionOver Code = "session.over"
)

// Codes that begin with logout.
const (
	LogoutLost    Code = "logout.lost"
	LogoutRefused Code = "logout.refused"
)

// Codes that begin with guard.
const (
	GuardPathRefused Code = "guard.path-refused"
	GuardPathGroups  Code = "guard.path-groups"
	GuardPathRules   Code = "guard.path-rules"
	GuardPathUnclear Code = "guard.path-unclear"
	GuardUserName    Code = "guard.user-name"
	GuardNoPassword  Code = "guard.no-password"
	GuardTicket      Code = "guard.ticket"
	GuardUnreachable Code = "guard.unreachable"
	GuardSlow        Code = "guard.slow"
)

// Codes that begin with rehearsal.
const (
	RehearsalOver       Code = "rehearsal.over"
	RehearsalAskedAgain Code = "rehearsal.asked-again"
	RehearsalUnapproved Code = "rehearsal.unapproved"
	RehearsalOther      Code = "rehearsal.other"
)

// Codes of signed tokens.
const (
	JWTUnreadable     Code = "jwt.unreadable"
	JWTTooLarge       Code = "jwt.too-large"
	JWTCritical       Code = "jwt.critical"
	JWTAlgorithm      Code = "jwt.algorithm"
	JWTType           Code = "jwt.type"
	JWTKeyUnknown     Code = "jwt.key-unknown"
	JWTKeyUnfit       Code = "jwt.key-unfit"
	JWTSignature      Code = "jwt.signature"
	JWTKeysUnreadable Code = "jwt.keys-unreadable"
)

// Codes of OpenID Connect and OAuth 2.0.
const (
	OIDCDiscoveryUnreadable    Code = "oidc.discovery-unreadable"
	OIDCDiscoveryIssuer        Code = "oidc.discovery-issuer"
	OIDCRequestUnreadable      Code = "oidc.request-unreadable"
	OIDCParameterTwice         Code = "oidc.parameter-twice"
	OIDCState                  Code = "oidc.state"
	OIDCAnswerIssuer           Code = "oidc.answer-issuer"
	OIDCAnswerIssuerMissing    Code = "oidc.answer-issuer-missing"
	OIDCDenied                 Code = "oidc.denied"
	OIDCNoPassive              Code = "oidc.no-passive"
	OIDCWouldNotAsk            Code = "oidc.would-not-ask"
	OIDCStateMissing           Code = "oidc.state-missing"
	OIDCAnswerTooLarge         Code = "oidc.answer-too-large"
	OIDCPostLogoutUnregistered Code = "oidc.post-logout-unregistered"
	OIDCDeviceUnknown          Code = "oidc.device-unknown"
	OIDCCodeUnfetched          Code = "oidc.code-unfetched"
	OIDCContextUnmet           Code = "oidc.context-unmet"
	OIDCProviderFailed         Code = "oidc.provider-failed"
	OIDCRequestRefused         Code = "oidc.request-refused"
	OIDCTokenInAnswer          Code = "oidc.token-in-answer"
	OIDCCodeMissing            Code = "oidc.code-missing"
	OIDCTokenEndpointFailed    Code = "oidc.token-endpoint-failed"
	OIDCTokenAnswer            Code = "oidc.token-answer"
	OIDCTokenRefused           Code = "oidc.token-refused"
	OIDCCodeRefused            Code = "oidc.code-refused"
	OIDCClientRejected         Code = "oidc.client-rejected"
	OIDCClientSecretID         Code = "oidc.client-secret-id"
	OIDCClientSecretExpired    Code = "oidc.client-secret-expired"
	OIDCClientMethod           Code = "oidc.client-method"
	OIDCClientInactive         Code = "oidc.client-inactive"
	OIDCTokenType              Code = "oidc.token-type"
	OIDCIDTokenMissing         Code = "oidc.id-token-missing"
	OIDCIssuer                 Code = "oidc.issuer"
	OIDCAudience               Code = "oidc.audience"
	OIDCAuthorizedParty        Code = "oidc.authorized-party"
	OIDCAuthorizedPartyMissing Code = "oidc.authorized-party-missing"
	OIDCNonce                  Code = "oidc.nonce"
	OIDCExpired                Code = "oidc.expired"
	OIDCNotYetValid            Code = "oidc.not-yet-valid"
	OIDCIssuedLongAgo          Code = "oidc.issued-long-ago"
	OIDCAuthTimeMissing        Code = "oidc.auth-time-missing"
	OIDCAuthTimeOld            Code = "oidc.auth-time-old"
	OIDCAtHash                 Code = "oidc.at-hash"
	OIDCCHash                  Code = "oidc.c-hash"
	OIDCIDTokenClaim           Code = "oidc.id-token-claim"
	OIDCSubjectMissing         Code = "oidc.subject-missing"
	OIDCUserinfoRefused        Code = "oidc.userinfo-refused"
	OIDCUserinfoFailed         Code = "oidc.userinfo-failed"
	OIDCUserinfoSubject        Code = "oidc.userinfo-subject"
	OIDCClientUnknown          Code = "oidc.client-unknown"
	OIDCRedirectUnregistered   Code = "oidc.redirect-unregistered"
	OIDCResponseType           Code = "oidc.response-type"
	OIDCParameterWrong         Code = "oidc.parameter-wrong"
	OIDCScopeOpenid            Code = "oidc.scope-openid"
	OIDCPKCEMissing            Code = "oidc.pkce-missing"
	OIDCPKCEMethod             Code = "oidc.pkce-method"
	OIDCRequestObject          Code = "oidc.request-object"
	OIDCRequestURI             Code = "oidc.request-uri"
	OIDCPushedUnknown          Code = "oidc.pushed-unknown"
	OIDCConfirmNeeded          Code = "oidc.confirm-needed"
	OIDCConfirmDenied          Code = "oidc.confirm-denied"
	OIDCGrantType              Code = "oidc.grant-type"
	OIDCCodeUnknown            Code = "oidc.code-unknown"
	OIDCCodeUsed               Code = "oidc.code-used"
	OIDCCodeRedirect           Code = "oidc.code-redirect"
	OIDCVerifier               Code = "oidc.verifier"
	OIDCTokenUnknown           Code = "oidc.token-unknown"
	OIDCTokenUsed              Code = "oidc.token-used"
	OIDCGrantOver              Code = "oidc.grant-over"
	OIDCScopeMore              Code = "oidc.scope-more"
	OIDCNotAllowed             Code = "oidc.not-allowed"
	OIDCDevicePending          Code = "oidc.device-pending"
	OIDCDeviceSlow             Code = "oidc.device-slow"
	OIDCDeviceOver             Code = "oidc.device-over"
	OIDCRegistration           Code = "oidc.registration"
	OIDCBackChannel            Code = "oidc.back-channel"
	OIDCKeysUnreachable        Code = "oidc.keys-unreachable"
	OIDCClientSecretNone       Code = "oidc.client-secret-none"
	OIDCClaimsUnreadable       Code = "oidc.claims-unreadable"
	OIDCProofMissing           Code = "oidc.proof-missing"
	OIDCProofMethod            Code = "oidc.proof-method"
	OIDCProofSeveral           Code = "oidc.proof-several"
	OIDCProofUnreadable        Code = "oidc.proof-unreadable"
	OIDCProofSecret            Code = "oidc.proof-secret"
	OIDCProofAssertion         Code = "oidc.proof-assertion"
	OIDCLogoutToken            Code = "oidc.logout-token"
)

// Codes that begin with bridge.
const (
	BridgeNoPassive Code = "bridge.no-passive"
	BridgeNoFresh   Code = "bridge.no-fresh"
	BridgeNoContext Code = "bridge.no-context"
	BridgeTooOld    Code = "bridge.too-old"
)

// Codes that begin with console.
const (
	ConsoleUnconfirmed Code = "console.unconfirmed"
	ConsoleNoRole      Code = "console.no-role"
)

// Codes that begin with admission.
const (
	AdmissionIncomplete Code = "admission.incomplete"
	AdmissionCodeWrong  Code = "admission.code-wrong"
	AdmissionMailKnown  Code = "admission.mail-known"
	AdmissionDeclined   Code = "admission.declined"
)

// Codes that begin with access.
const (
	AccessNotAssigned        Code = "access.not-assigned"
	AccessGroupRequired      Code = "access.group-required"
	AccessRefused            Code = "access.refused"
	AccessNoRule             Code = "access.no-rule"
	AccessStrongerImpossible Code = "access.stronger-impossible"
)

// Codes that begin with ldap.
const (
	LDAPUnreachable  Code = "ldap.unreachable"
	LDAPTrust        Code = "ldap.trust"
	LDAPBind         Code = "ldap.bind"
	LDAPSearch       Code = "ldap.search"
	LDAPSeveral      Code = "ldap.several"
	LDAPNoIdentifier Code = "ldap.no-identifier"
	LDAPReferral     Code = "ldap.referral"
	LDAPExpired      Code = "ldap.expired"
	LDAPMustChange   Code = "ldap.must-change"
	LDAPLocked       Code = "ldap.locked"
	LDAPDisabled     Code = "ldap.disabled"
	LDAPRefused      Code = "ldap.refused"
)

// Codes that begin with kerberos.
const (
	KerberosNoTicket     Code = "kerberos.no-ticket"
	KerberosNTLM         Code = "kerberos.ntlm"
	KerberosUnreadable   Code = "kerberos.unreadable"
	KerberosOtherService Code = "kerberos.other-service"
	KerberosKeyVersion   Code = "kerberos.key-version"
	KerberosEncryption   Code = "kerberos.encryption"
	KerberosWrongKey     Code = "kerberos.wrong-key"
	KerberosTicketOver   Code = "kerberos.ticket-over"
	KerberosClock        Code = "kerberos.clock"
	KerberosNotTheirs    Code = "kerberos.not-theirs"
	KerberosRealm        Code = "kerberos.realm"
	KerberosNoPerson     Code = "kerberos.no-person"
	KerberosReplayed     Code = "kerberos.replayed"
	KerberosNoKeytab     Code = "kerberos.no-keytab"
)

// Codes that begin with scim.
const (
	SCIMUnreachable  Code = "scim.unreachable"
	SCIMNoSecret     Code = "scim.no-secret"
	SCIMTokenRefused Code = "scim.token-refused"
	SCIMBusy         Code = "scim.busy"
	SCIMUnreadable   Code = "scim.unreadable"
	SCIMNoService    Code = "scim.no-service"
	SCIMTaken        Code = "scim.taken"
	SCIMMapping      Code = "scim.mapping"
	SCIMValue        Code = "scim.value-refused"
	SCIMRefused      Code = "scim.refused"
	SCIMFailed       Code = "scim.failed"
	SCIMMeanwhile    Code = "scim.changed-meanwhile"
	SCIMOtherAccount Code = "scim.other-account"
	SCIMFilter       Code = "scim.filter-ignored"
	SCIMSeveral      Code = "scim.several"
	SCIMTooManyGone  Code = "scim.too-many-gone"
	SCIMNotCompared  Code = "scim.not-compared"
	SCIMUnkept       Code = "scim.unkept"
	SCIMDrift        Code = "scim.drift"
)

// Codes that begin with directory.
const (
	DirectoryWrong   Code = "directory.wrong"
	DirectoryTooMany Code = "directory.too-many"
)
