// Package config is the configuration of the gate as values: applications and providers with all their settings. The
// same form is spoken by the API, by configuration files and by the records of the store. The zero value of every
// option is the safe one.
package config

import (
	"crypto/x509"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"innergate/core/access"
	"innergate/core/address"
	"innergate/core/bridge"
	"innergate/core/claims"
	"innergate/core/keys"
	"innergate/core/people"
	"innergate/core/saml"
	"innergate/core/xmlsig"
)

// Application is a business application that people sign in to.
type Application struct {
	Slug        string       `json:"slug"`
	Name        string       `json:"name"`
	Description string       `json:"description,omitempty"`
	Contact     string       `json:"contact,omitempty"`
	Tags        []string     `json:"tags,omitempty"`
	Kind        string       `json:"kind"`
	Reach       access.Reach `json:"reach"`
	// Circle is whom it serves where the reach is circle. It is kept while another reach is set.
	Circle *access.Circle `json:"circle,omitempty"`
	// Providers are the slugs of the providers that people may sign in with here, in order of preference.
	Providers []string `json:"providers,omitempty"`
	// StartURL is the application's own address at which a person begins. GuessedStart is the one that was guessed from other
	// addresses of the application: while the two are the same, nobody has looked at it.
	StartURL     string           `json:"startUrl,omitempty"`
	GuessedStart string           `json:"guessedStart,omitempty"`
	SAML         *SAMLApplication `json:"saml,omitempty"`
	OIDC         *OIDCApplication `json:"oidc,omitempty"`
	// Guarded is set for an application that the gate stands in front of.
	Guarded *GuardedApplication `json:"guarded,omitempty"`
	// Tiles are what people see of it on their page; empty for one with its name and description.
	Tiles   []Tile         `json:"tiles,omitempty"`
	Subject Subject        `json:"subject"`
	Mapping claims.Mapping `json:"mapping,omitempty"`
	// Access says who may use the application.
	Access access.Policy `json:"access,omitempty"`
	// Session limits how long a session at the gate counts for this application.
	Session *SessionRules `json:"session,omitempty"`
	// SignOut is what a sign-out at the application ends: provider (everything, the session at the provider too; the
	// default), gate (the session at the gate and its applications) or application.
	SignOut string `json:"signOut,omitempty"`
	// Contexts is what becomes of the strength of sign-in that the application asks for: demand (the default; what its request
	// demands must be proven), prefer (it is asked for, and a sign-in without it is taken) or ignore.
	Contexts string `json:"contexts,omitempty"`
	// Steps are what the other side's engineer has to do, in order; they stand on the exchange sheet.
	Steps []string `json:"steps,omitempty"`
	// Accounts is set where the application's accounts are kept in step with whoever may use it.
	Accounts *Accounts `json:"accounts,omitempty"`
}

// StartGuessed says whether the start address is a guess that nobody has looked at.
func (a *Application) StartGuessed() bool { return a.StartURL != "" && a.StartURL == a.GuessedStart }

// Subject says which value identifies a person to an application, and in which NameID format it travels.
type Subject struct {
	// Source is profile (the attribute From), pairwise (a random value, stable for this person and application), public
	// (a random value, stable for this person at every application; OpenID Connect only) or transient.
	Source string `json:"source,omitempty"`
	From   string `json:"from,omitempty"`
	Format string `json:"format,omitempty"`
	// Attribute is the SAML attribute in which the identifier travels in place of the NameID, which then is a transient
	// one. Empty for the NameID (SAML) or sub.
	Attribute string `json:"attribute,omitempty"`
	// MaxLength is the most characters that the application takes; 0 for what the standard allows: 256 (SAML Core 2.0,
	// section 8.3.7) or 255 (OpenID Connect Core 1.0, section 2).
	MaxLength int `json:"maxLength,omitempty"`
	// Pattern is the form that the application takes, as an RE2 pattern for the whole value.
	Pattern string `json:"pattern,omitempty"`
}

// SAMLApplication holds a SAML application's own values and the options of talking to it.
type SAMLApplication struct {
	EntityID     string          `json:"entityId,omitempty"`
	ACS          []saml.Endpoint `json:"acs,omitempty"`
	Certificates []Certificate   `json:"certificates,omitempty"`
	// AttributeSets are the indexes of its AttributeConsumingServices.
	AttributeSets []int `json:"attributeSets,omitempty"`
	// RequireSignedRequests refuses requests without a signature.
	RequireSignedRequests bool `json:"requireSignedRequests,omitempty"`
	// Sign is assertion (the default), response or both.
	Sign string `json:"sign,omitempty"`
	// SignatureAlgorithm is the algorithm's URI; empty for the one that fits our key.
	SignatureAlgorithm string `json:"signatureAlgorithm,omitempty"`
	// Encrypt is empty, assertion or nameid.
	Encrypt string `json:"encrypt,omitempty"`
	// ContentEncryption is the URI of the content encryption; empty for AES-256-GCM.
	ContentEncryption string `json:"contentEncryption,omitempty"`
	// KeyTransport is the URI of the key transport, RSA-OAEP with SHA-1 as the mask's hash (empty) or with SHA-256.
	KeyTransport string `json:"keyTransport,omitempty"`
	// DigestAlgorithm is the URI of the digest in our signatures; empty for the signature algorithm's own.
	DigestAlgorithm string `json:"digestAlgorithm,omitempty"`
	// SLO are its addresses for single logout.
	SLO []saml.Endpoint `json:"slo,omitempty"`
	// UnsignedLogout takes its logout messages without a signature, over the browser and for the session of that very browser
	// alone.
	UnsignedLogout bool `json:"unsignedLogout,omitempty"`
	// Metadata says where the application publishes its metadata.
	Metadata *Watch `json:"metadata,omitempty"`
	// OwnEntityID gives us an entity ID and addresses of our own towards this application.
	OwnEntityID bool `json:"ownEntityId,omitempty"`
	// SPInitiatedOnly is set for an application that refuses unsolicited responses.
	SPInitiatedOnly bool `json:"spInitiatedOnly,omitempty"`
	// DefaultRelayState goes with an unsolicited response where no deep link is asked for.
	DefaultRelayState string `json:"defaultRelayState,omitempty"`
	// DeepLinks are the beginnings of addresses that may be asked for as deep links.
	DeepLinks               []string `json:"deepLinks,omitempty"`
	AllowSHA1               bool     `json:"allowSha1,omitempty"`
	EnforceCertificateDates bool     `json:"enforceCertificateDates,omitempty"`
	ClockSkewSeconds        int      `json:"clockSkewSeconds,omitempty"`
}

// Provider is whoever vouches for people.
type Provider struct {
	Slug        string       `json:"slug"`
	Name        string       `json:"name"`
	Description string       `json:"description,omitempty"`
	Contact     string       `json:"contact,omitempty"`
	Tags        []string     `json:"tags,omitempty"`
	Kind        string       `json:"kind"`
	Reach       access.Reach `json:"reach"`
	// Circle is whom it serves where the reach is circle.
	Circle *access.Circle `json:"circle,omitempty"`
	SAML   *SAMLProvider  `json:"saml,omitempty"`
	OIDC   *OIDCProvider  `json:"oidc,omitempty"`
	// Directory is set for the gate's own people.
	Directory *DirectoryProvider `json:"directory,omitempty"`
	// LDAP is set for a directory on somebody's premises.
	LDAP *LDAPProvider `json:"ldap,omitempty"`
	// Kerberos is set for a realm whose people hold a ticket.
	Kerberos *KerberosProvider `json:"kerberos,omitempty"`
	// Pushed is set where the provider pushes its people to the gate.
	Pushed  *Pushed        `json:"pushed,omitempty"`
	Mapping claims.Mapping `json:"mapping,omitempty"`
	// Matching says how people who are known already are found, besides by link.
	Matching *people.Matching `json:"matching,omitempty"`
	// Admission is what happens to a subject that matches nobody: refuse, create, ask (create after the person
	// confirmed the profile), or pass (nobody is matched or stored at all).
	Admission string `json:"admission,omitempty"`
	// Admit is what a person who is created begins with.
	Admit *people.Admission `json:"admit,omitempty"`
	// Grants give groups and a person type at each sign-in.
	Grants []people.Grant `json:"grants,omitempty"`
	// Keep says for attributes of the profile what happens at later sign-ins: provider (what it sends wins, the
	// default), first or local.
	Keep map[string]string `json:"keep,omitempty"`
	// Stronger is what the provider is asked for where an access rule wants a second factor: a context class (SAML) or
	// an acr value. Empty where it can't be asked.
	Stronger string `json:"stronger,omitempty"`
	// TwoFactorContexts are the contexts and acr values that prove a second factor, besides what amr says and what
	// Stronger names.
	TwoFactorContexts []string `json:"twoFactorContexts,omitempty"`
	// Contexts say what the provider's context classes, acr values and amr stand for towards applications, both ways.
	Contexts []bridge.Meaning `json:"contexts,omitempty"`
	// Steps are what the other side's engineer has to do, in order; they stand on the exchange sheet.
	Steps []string `json:"steps,omitempty"`
}

// SAMLProvider holds a SAML provider's own values and the options of talking to it.
type SAMLProvider struct {
	EntityID     string          `json:"entityId,omitempty"`
	SSO          []saml.Endpoint `json:"sso,omitempty"`
	Certificates []Certificate   `json:"certificates,omitempty"`
	// Artifact are its addresses for artifact resolution.
	Artifact []saml.Endpoint `json:"artifact,omitempty"`
	// SLO are its addresses for single logout.
	SLO []saml.Endpoint `json:"slo,omitempty"`
	// UnsignedLogout takes its logout messages without a signature, over the browser and for the session of that very browser
	// alone.
	UnsignedLogout bool `json:"unsignedLogout,omitempty"`
	// Metadata says where the provider publishes its metadata.
	Metadata *Watch `json:"metadata,omitempty"`
	// OwnEntityID gives us an entity ID of our own towards this provider.
	OwnEntityID bool `json:"ownEntityId,omitempty"`
	// ResponseBinding is the binding that we ask the answer by: HTTP-POST (the default) or HTTP-Artifact.
	ResponseBinding string `json:"responseBinding,omitempty"`
	// DigestAlgorithm is the URI of the digest in our signatures; empty for the signature algorithm's own.
	DigestAlgorithm string `json:"digestAlgorithm,omitempty"`
	// SendUnsigned leaves our requests without a signature.
	SendUnsigned bool `json:"sendUnsigned,omitempty"`
	// RequestBinding is HTTP-Redirect (the default) or HTTP-POST.
	RequestBinding     string `json:"requestBinding,omitempty"`
	SignatureAlgorithm string `json:"signatureAlgorithm,omitempty"`
	// WantAssertionSigned refuses an assertion that is signed by its response only.
	WantAssertionSigned bool                   `json:"wantAssertionSigned,omitempty"`
	NameIDFormat        string                 `json:"nameIdFormat,omitempty"`
	RequestedContext    *saml.RequestedContext `json:"requestedContext,omitempty"`
	ForceAuthn          bool                   `json:"forceAuthn,omitempty"`
	// AllowUnsolicited accepts sign-ins that the provider started by itself.
	AllowUnsolicited bool `json:"allowUnsolicited,omitempty"`
	// SignOutURL is a plain sign-out address, for a provider without single logout. It is no SLO address: nothing is
	// sent there.
	SignOutURL string `json:"signOutUrl,omitempty"`
	// SubjectFrom names the attribute that identifies a person, for providers that send no useful NameID.
	SubjectFrom             string `json:"subjectFrom,omitempty"`
	AllowSHA1               bool   `json:"allowSha1,omitempty"`
	AllowCBC                bool   `json:"allowCbc,omitempty"`
	EnforceCertificateDates bool   `json:"enforceCertificateDates,omitempty"`
	ClockSkewSeconds        int    `json:"clockSkewSeconds,omitempty"`
	MaxLifetimeMinutes      int    `json:"maxLifetimeMinutes,omitempty"`
}

// Certificate is a trusted certificate in PEM, for signing, encryption or (empty) both.
type Certificate struct {
	Use string `json:"use,omitempty"`
	PEM string `json:"pem"`
}

// Parse reads the certificate.
func (c Certificate) Parse() (*x509.Certificate, error) { return keys.ParseCertificate([]byte(c.PEM)) }

// Parsed returns the certificates meant for a use, unreadable ones left out.
func Parsed(list []Certificate, use string) []*x509.Certificate {
	var out []*x509.Certificate
	for _, c := range list {
		if c.Use != "" && c.Use != use {
			continue
		}
		if cert, err := c.Parse(); err == nil {
			out = append(out, cert)
		}
	}
	return out
}

// ParsedOnly gives those that are held for one use and no other.
func ParsedOnly(list []Certificate, use string) []*x509.Certificate {
	return Parsed(slices.DeleteFunc(slices.Clone(list), func(c Certificate) bool { return c.Use != use }), use)
}

// Problem is one thing wrong with a configuration, at a field such as saml.acs[0].location.
type Problem struct {
	Field   string `json:"field"`
	Message string `json:"message"`
	// File and Line are where it stands, for what was read from files.
	File string `json:"file,omitempty"`
	Line int    `json:"line,omitempty"`
	// Offer is a value that could be meant, and the field that it belongs into.
	Offer *Offer `json:"offer,omitempty"`
}

// Offer is a value in its right place.
type Offer struct {
	Field string `json:"field"`
	Value string `json:"value"`
}

// String is the problem in one line, with its place.
func (p Problem) String() string {
	place := p.File
	if p.Line > 0 {
		if place == "" {
			place = "line"
		}
		place = strings.TrimPrefix(fmt.Sprintf("%s:%d", place, p.Line), "line:")
		if p.File == "" {
			place = "line " + place
		}
	}
	var parts []string
	for _, part := range []string{place, p.Field, p.Message} {
		if part != "" {
			parts = append(parts, part)
		}
	}
	return strings.Join(parts, ": ")
}

// Problems is the error for a configuration that can't be taken.
type Problems []Problem

func (p Problems) Error() string {
	var lines []string
	for _, one := range p {
		lines = append(lines, one.String())
	}
	return strings.Join(lines, "; ")
}

type validator struct{ problems Problems }

func (v *validator) add(field, format string, args ...any) {
	v.problems = append(v.problems, Problem{Field: field, Message: fmt.Sprintf(format, args...)})
}

// offer is add with a value that could be meant.
func (v *validator) offer(field, right, value, format string, args ...any) {
	v.problems = append(v.problems, Problem{Field: field, Message: fmt.Sprintf(format, args...), Offer: &Offer{right, value}})
}

func (v *validator) err() error {
	if len(v.problems) == 0 {
		return nil
	}
	return v.problems
}

var slugForm = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,62}[a-z0-9])?$`)

// SlugFits says whether a short name can stand in addresses.
func SlugFits(slug string) bool { return slugForm.MatchString(slug) }

// reservedSlugs would be mistaken for addresses of ours.
var reservedSlugs = []string{"sso", "slo", "acs", "metadata", "artifact"}

// Slug makes a slug out of a name.
func Slug(name string) string {
	s := regexp.MustCompile(`[^a-z0-9]+`).ReplaceAllString(strings.ToLower(name), "-")
	s = strings.Trim(s, "-")
	if len(s) > 64 {
		s = strings.Trim(s[:64], "-")
	}
	return s
}

func (v *validator) common(slug, name, description, contact string, tags []string, reach access.Reach) {
	if !slugForm.MatchString(slug) {
		v.add("slug", "%q can't stand in addresses; use 1 to 64 small letters, digits and dashes", slug)
	}
	if strings.TrimSpace(name) == "" || len(name) > 200 {
		v.add("name", "a name of 1 to 200 characters is needed")
	}
	if len(description) > 4000 || len(contact) > 400 || len(tags) > 50 {
		v.add("description", "description, contact or tags are too long")
	}
	if !slices.Contains(access.Reaches, reach) {
		v.add("reach", "%q is no reach; draft, circle, everyone and closed are", reach)
	}
}

func (v *validator) circle(reach access.Reach, c *access.Circle) {
	if reach != access.InCircle && c == nil {
		return
	}
	if err := c.Check(); err != nil {
		v.add("circle", "%s", err)
	}
}

// Validate fills defaults and says what is wrong. A draft may lack the partner's values; what is missing before it can
// be opened is told by Missing.
func (a *Application) Validate() error {
	v := &validator{}
	if a.Kind == "" {
		a.Kind = "saml"
	}
	if a.Reach == "" {
		a.Reach = access.Draft
	}
	if a.Subject.Source == "" {
		if a.Subject.Source = "profile"; a.Kind == KindOIDC {
			a.Subject.Source = "pairwise"
		}
	}
	if a.Subject.Source == "profile" && a.Subject.From == "" {
		a.Subject.From = "preferred_username"
	}
	v.common(a.Slug, a.Name, a.Description, a.Contact, a.Tags, a.Reach)
	v.circle(a.Reach, a.Circle)
	v.oneOf("kind", a.Kind, Allowed["Application.kind"]...)
	if a.GuessedStart != a.StartURL {
		a.GuessedStart = "" // somebody entered another one
	}
	v.tiles(a.Tiles)
	if slices.Contains(reservedSlugs, a.Slug) {
		v.add("slug", "%q stands in addresses of the gate's own; choose another short name", a.Slug)
	}
	v.url("startUrl", a.StartURL)
	v.steps(a.Steps)
	v.subject(a.Subject, a.Kind)
	v.mapping(a.Mapping)
	v.access(&a.Access)
	v.session(a.Session)
	v.allowed("contexts", a.Contexts, "Application.contexts")
	v.allowed("signOut", a.SignOut, "Application.signOut")
	v.accounts(a.Accounts)
	switch a.Kind {
	case KindOIDC:
		a.SAML, a.Guarded = nil, nil
		a.validateOIDC(v)
	case KindGuarded:
		a.SAML, a.OIDC = nil, nil
		a.validateGuarded(v)
	case KindLink:
		a.SAML, a.OIDC, a.Guarded = nil, nil, nil
	default:
		if a.OIDC, a.Guarded = nil, nil; a.SAML == nil {
			a.SAML = &SAMLApplication{}
		}
		a.SAML.validate(v)
	}
	v.open(a.Reach, a.Missing)
	return v.err()
}

func (s *SAMLApplication) validate(v *validator) {
	v.samlPartner(samlPartner{s.EntityID, s.Certificates, s.SLO, s.SignatureAlgorithm, s.DigestAlgorithm, s.Metadata, s.ClockSkewSeconds})
	v.endpoints("saml.acs", s.ACS, saml.ServiceACS)
	if s.Sign == "" {
		s.Sign = "assertion"
	}
	v.oneOf("saml.sign", s.Sign, Allowed["SAMLApplication.sign"]...)
	v.allowed("saml.encrypt", s.Encrypt, "SAMLApplication.encrypt")
	v.allowed("saml.contentEncryption", s.ContentEncryption, "SAMLApplication.contentEncryption")
	v.allowed("saml.keyTransport", s.KeyTransport, "SAMLApplication.keyTransport")
	for i, l := range s.DeepLinks {
		v.url(fmt.Sprintf("saml.deepLinks[%d]", i), l)
	}
	if s.Encrypt != "" && len(Parsed(s.Certificates, "encryption")) == 0 {
		v.add("saml.encrypt", "to encrypt, a certificate of the application for encryption is needed")
	}
}

// Validate fills defaults and says what is wrong.
func (p *Provider) Validate() error {
	v := &validator{}
	if p.Kind == "" {
		p.Kind = "saml"
	}
	if p.Reach == "" {
		p.Reach = access.Draft
	}
	if p.Admission == "" {
		p.Admission = "refuse"
	}
	v.common(p.Slug, p.Name, p.Description, p.Contact, p.Tags, p.Reach)
	v.circle(p.Reach, p.Circle)
	v.oneOf("kind", p.Kind, Allowed["Provider.kind"]...)
	v.steps(p.Steps)
	v.mapping(p.Mapping)
	v.people(p)
	v.pushed(p)
	switch {
	case p.OAuth():
		p.SAML, p.Directory, p.LDAP, p.Kerberos = nil, nil, nil, nil
		p.validateOIDC(v)
	case p.Kind == KindDirectory:
		p.SAML, p.OIDC, p.LDAP, p.Kerberos = nil, nil, nil, nil
		p.validateDirectory(v)
	case p.Kind == KindLDAP:
		p.SAML, p.OIDC, p.Directory, p.Kerberos = nil, nil, nil, nil
		p.validateLDAP(v)
	case p.Kind == KindKerberos:
		p.SAML, p.OIDC, p.Directory, p.LDAP = nil, nil, nil, nil
		p.validateKerberos(v)
	default:
		if p.OIDC, p.Directory, p.LDAP, p.Kerberos = nil, nil, nil, nil; p.SAML == nil {
			p.SAML = &SAMLProvider{}
		}
		p.SAML.validate(v)
	}
	v.open(p.Reach, p.Missing)
	return v.err()
}

func (s *SAMLProvider) validate(v *validator) {
	v.samlPartner(samlPartner{s.EntityID, s.Certificates, s.SLO, s.SignatureAlgorithm, s.DigestAlgorithm, s.Metadata, s.ClockSkewSeconds})
	v.endpoints("saml.sso", s.SSO, saml.ServiceSSO)
	if s.RequestBinding == "" {
		s.RequestBinding = "HTTP-Redirect"
	}
	v.oneOf("saml.requestBinding", s.RequestBinding, Allowed["SAMLProvider.requestBinding"]...)
	if s.ResponseBinding == "" {
		s.ResponseBinding = "HTTP-POST"
	}
	v.oneOf("saml.responseBinding", s.ResponseBinding, Allowed["SAMLProvider.responseBinding"]...)
	v.url("saml.signOutUrl", s.SignOutURL)
	v.endpoints("saml.artifact", s.Artifact, saml.ServiceArtifact)
	if s.RequestedContext != nil {
		if s.RequestedContext.Comparison == "" {
			s.RequestedContext.Comparison = "exact"
		}
		v.allowed("saml.requestedContext.comparison", s.RequestedContext.Comparison, "RequestedContext.comparison")
	}
	if s.MaxLifetimeMinutes < 0 || s.MaxLifetimeMinutes > 24*60 {
		v.add("saml.maxLifetimeMinutes", "it must be between 0 (for the usual 720) and 1440")
	}
}

// Missing lists what must be known before a provider can be opened.
func (p *Provider) Missing() []string {
	switch {
	case p.OAuth():
		return p.missingOIDC()
	case p.Kind == KindDirectory:
		return nil
	case p.Kind == KindLDAP:
		return p.missingLDAP()
	case p.Kind == KindKerberos:
		return p.missingKerberos()
	}
	var out []string
	if p.SAML == nil || p.SAML.EntityID == "" {
		out = append(out, "the provider's entity ID is missing")
	}
	if p.SAML == nil || p.SAML.Endpoint() == nil {
		out = append(out, "the provider's SSO URL for the chosen binding is missing")
	}
	if p.SAML == nil || len(Parsed(p.SAML.Certificates, "signing")) == 0 {
		out = append(out, "no certificate to check its signatures with is held")
	}
	if p.SAML != nil && p.SAML.ResponseBinding == "HTTP-Artifact" && len(p.SAML.Artifact) == 0 {
		out = append(out, "answers are wanted by artifact, and the address at which artifacts are resolved is missing")
	}
	return out
}

// Endpoint is the address to which requests go, by the binding that is set or the other one.
func (s *SAMLProvider) Endpoint() *saml.Endpoint {
	order := []string{saml.BindingRedirect, saml.BindingPost}
	if s.RequestBinding == "HTTP-POST" {
		slices.Reverse(order)
	}
	for _, b := range order {
		for i := range s.SSO {
			if s.SSO[i].Binding == b {
				return &s.SSO[i]
			}
		}
	}
	return nil
}

// samlPartner is what SAML applications and providers have alike.
type samlPartner struct {
	entityID                   string
	certificates               []Certificate
	slo                        []saml.Endpoint
	signatureAlgorithm, digest string
	metadata                   *Watch
	clockSkewSeconds           int
}

func (v *validator) samlPartner(s samlPartner) {
	if s.entityID != "" {
		v.entityID("saml.entityId", s.entityID)
	}
	v.certificates("saml.certificates", s.certificates)
	v.endpoints("saml.slo", s.slo, saml.ServiceSLO)
	v.algorithm("saml.signatureAlgorithm", s.signatureAlgorithm)
	v.digest(s.digest)
	v.watch(s.metadata)
	v.skew("saml.clockSkewSeconds", s.clockSkewSeconds)
}

// open says what is still missing of what is to serve somebody.
func (v *validator) open(reach access.Reach, missing func() []string) {
	if reach == access.Draft {
		return
	}
	for _, m := range missing() {
		v.add("reach", "it can't be opened yet: %s", m)
	}
}

func (v *validator) entityID(field, value string) {
	if _, err := saml.ParseEntityID(value); err != nil {
		v.add(field, "%s", err)
	}
}

func (v *validator) oneOf(field, value string, allowed ...string) {
	if !slices.Contains(allowed, value) {
		v.add(field, "%q can't be chosen; it can be %s", value, strings.Trim(strings.Join(allowed, ", "), ", "))
	}
}

func (v *validator) algorithm(field, value string) {
	if value != "" && !xmlsig.Algorithm(value).Known() {
		v.add(field, "%q is not a signature algorithm that is signed with here", value)
	}
}

func (v *validator) skew(field string, seconds int) {
	if seconds < 0 || seconds > 600 {
		v.add(field, "it must be between 0 (for the usual 60) and 600 seconds")
	}
}

// URL checks an address that a browser is sent to.
func (v *validator) url(field, value string) {
	if value == "" {
		return
	}
	err := address.Check(value)
	if err == nil {
		return
	}
	// White space around it, or a missing beginning, is offered to be put right.
	for _, meant := range []string{strings.TrimSpace(value), "https://" + strings.TrimSpace(value)} {
		if meant != value && address.Check(meant) == nil {
			v.offer(field, field, meant, "%s", err)
			return
		}
	}
	v.add(field, "%s", err)
}

func (v *validator) endpoints(field string, list []saml.Endpoint, service string) {
	if len(list) > 200 {
		v.add(field, "there are %d addresses; 200 are the most", len(list))
		return
	}
	indexes := map[int]bool{}
	for i := range list {
		e := &list[i]
		at := fmt.Sprintf("%s[%d]", field, i)
		e.Service = service
		e.Binding = saml.BindingURI(e.Binding)
		if e.Binding == "" {
			if e.Binding = saml.BindingPost; service == saml.ServiceArtifact {
				e.Binding = saml.BindingSOAP
			}
		}
		if e.Location == "" {
			v.add(at+".location", "the address is missing")
		}
		v.url(at+".location", e.Location)
		if e.Index != nil {
			if indexes[*e.Index] {
				v.add(at+".index", "the index %d stands twice", *e.Index)
			}
			indexes[*e.Index] = true
		}
	}
}

func (v *validator) certificates(field string, list []Certificate) {
	if len(list) > 32 {
		v.add(field, "there are %d certificates; 32 are the most", len(list))
		return
	}
	for i, c := range list {
		at := fmt.Sprintf("%s[%d]", field, i)
		v.allowed(at+".use", c.Use, "Certificate.use")
		cert, err := c.Parse()
		if err != nil {
			v.add(at+".pem", "%s", err)
			continue
		}
		if err := xmlsig.CheckKey(cert.PublicKey); err != nil {
			v.add(at+".pem", "%s", err)
		}
		list[i].PEM = string(keys.EncodeCertificate(cert.Raw))
	}
}
