package saml

import (
	"crypto/x509"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"innergate/core/address"
	"innergate/core/keys"
	"innergate/core/xmlsig"
	"innergate/core/xmltree"
)

// MaxMetadata bounds a metadata document that is read as a whole, in bytes. Larger ones are read by StreamMetadata.
const MaxMetadata = 16 << 20

var metadataLimits = xmltree.Limits{Bytes: MaxMetadata, Depth: 64, Elements: 1 << 20, Attrs: 128}

// ReadOptions is what helps to understand a document.
type ReadOptions struct {
	Now time.Time
	// Ours are our own entity IDs, which nobody else may have.
	Ours []string
	// EntityID is given by hand for a role that was cut out of its entity.
	EntityID string
	// Whole reads the document as it stands or not at all: no text is tidied, and no piece is taken for the whole. It
	// is set where a signature counts, so that nothing is read but what was signed.
	Whole bool
	// Begin, if set, is told what the head of a document that is read as a stream says, before any entity.
	Begin func(*Aggregate) error
}

type metadataReader struct {
	ReadOptions
	doc *Document
}

func (m *metadataReader) problem(fatal bool, code, format string, args ...any) {
	p := Problem{"metadata." + code, fmt.Sprintf(format, args...), fatal}
	if len(m.doc.Problems) < 200 && !slices.Contains(m.doc.Problems, p) {
		m.doc.Problems = append(m.doc.Problems, p)
	}
}

// ReadMetadata is Read with nothing known but the time.
func ReadMetadata(data []byte, now time.Time) *Document { return Read(data, ReadOptions{Now: now}) }

// Read understands a metadata document (SAML Metadata, section 2) as far as it can: one entity, a group of them, or a
// role or an entity that was cut out of a larger document; in any usual encoding, also as it looks when copied from a
// browser; or a plain list of labelled values. It never fails; what is wrong is listed in Problems. Signatures are
// noticed here and verified by VerifyMetadata.
func Read(data []byte, o ReadOptions) *Document {
	m := &metadataReader{ReadOptions: o, doc: &Document{}}
	root := m.parse(data)
	if root == nil {
		return m.doc
	}
	m.doc.Signed = xmlsig.Signed(root)
	m.doc.CacheDuration = m.cacheDuration(root)
	switch {
	case root.Is(NSMetadata, "EntityDescriptor"):
		m.entity(root, nil)
	case root.Is(NSMetadata, "EntitiesDescriptor"):
		m.group(root, nil)
	case !m.Whole && (root.Is(NSMetadata, "IDPSSODescriptor") || root.Is(NSMetadata, "SPSSODescriptor")):
		m.loneRole(root)
	default:
		m.problem(
			true, "not-metadata", "The document is XML, but not SAML metadata: its root is <%s>, not EntityDescriptor.",
			clip(root.Local, 60),
		)
		return m.doc
	}
	if m.doc.Signed {
		var broken *xmlsig.Error
		if err := xmlsig.Intact(root, nil); errors.As(err, &broken) && (broken.Reason == xmlsig.Altered || m.doc.Tidied) {
			m.problem(
				false,
				"signature-broken",
				"The document carries a signature that no longer fits its content: something in it was changed, or lost while it was "+
					"copied or cut out. Take the original file if the signature matters.",
			)
			m.doc.Signed = false
		}
	}
	if len(m.doc.Entities) == 0 {
		m.problem(true, "no-entity", "The document holds no entity.")
	} else if !m.doc.Usable() {
		m.problem(true, "no-role", "No entity in the document is an identity provider or a service provider.")
	}
	return m.doc
}

// VerifyMetadata checks the signature of a whole document against pinned certificates (SAML Metadata, section 3). The
// error is an *xmlsig.Error.
func VerifyMetadata(data []byte, pinned []*x509.Certificate) error {
	text, err := toUTF8(data)
	if err != nil {
		return err
	}
	root, err := xmltree.Parse(text, metadataLimits)
	if err != nil {
		return err
	}
	_, err = xmlsig.Verify(root, nil, Trust{Certificates: pinned}.keys(), xmlsig.Policy{})
	return err
}

// loneRole reads a role descriptor that was cut out of its entity.
func (m *metadataReader) loneRole(e *xmltree.Element) {
	entity := Entity{EntityID: m.EntityID, Signed: xmlsig.Signed(e), ValidUntil: m.sooner(e, nil)}
	kind := RoleIDP
	if e.Local == "SPSSODescriptor" {
		kind = RoleSP
	}
	m.problem(
		false, "lone-role",
		"This is a role that was cut out of a larger document: what stood around it, such as the entity ID and the organisation, is lost.",
	)
	switch {
	case m.EntityID == "":
		m.doc.NeedsEntityID = true
		m.problem(
			false, "entity-id-missing",
			"The entity ID stood on the part that was cut off. Enter it by hand, exactly as the other side writes it.",
		)
	default:
		if _, err := ParseEntityID(m.EntityID); err != nil {
			m.problem(true, "entity-id", "The entity ID given can't be used: %s.", err)
			return
		}
	}
	m.addRole(&entity, e, kind)
	m.finish(&entity)
}

// sooner is the earlier of an inherited end and an element's own validUntil.
func (m *metadataReader) sooner(e *xmltree.Element, inherited *time.Time) *time.Time {
	v, ok := e.Attr("validUntil")
	if !ok {
		return inherited
	}
	t, err := parseTime(v)
	if err != nil {
		m.problem(false, "valid-until", "validUntil is not a time with a zone: %s.", v)
		return inherited
	}
	t = t.UTC()
	if inherited != nil && inherited.Before(t) {
		return inherited
	}
	return &t
}

func (m *metadataReader) group(e *xmltree.Element, until *time.Time) {
	until = m.sooner(e, until)
	for child := range e.Elements {
		switch {
		case child.Is(NSMetadata, "EntityDescriptor"):
			m.entity(child, until)
		case child.Is(NSMetadata, "EntitiesDescriptor"):
			m.group(child, until)
		}
	}
}

func (m *metadataReader) entity(e *xmltree.Element, until *time.Time) {
	entity := Entity{
		EntityID:      e.Value("entityID"),
		ValidUntil:    m.sooner(e, until),
		Signed:        xmlsig.Signed(e),
		CacheDuration: m.cacheDuration(e),
	}
	if trimmed := strings.TrimSpace(entity.EntityID); trimmed != entity.EntityID && trimmed != "" {
		m.problem(
			false, "entity-id", "An entity can't be used: the entity ID %q begins or ends with white space.",
			clip(entity.EntityID, 200),
		)
		return
	}
	if _, err := ParseEntityID(entity.EntityID); err != nil {
		m.problem(false, "entity-id", "An entity can't be used: %s.", err)
		return
	}
	if slices.Contains(m.Ours, entity.EntityID) {
		m.problem(
			false, "our-entity-id",
			"%s is our own entity ID. Perhaps this is our metadata, which belongs to the other side.", entity.EntityID,
		)
	}
	if entity.ValidUntil != nil && !m.Now.Before(*entity.ValidUntil) {
		m.problem(false, "expired", "The metadata of %s was valid until %s.", entity.EntityID, formatTime(*entity.ValidUntil))
	}
	for child := range e.Elements {
		switch {
		case child.Is(NSMetadata, "IDPSSODescriptor"):
			m.addRole(&entity, child, RoleIDP)
		case child.Is(NSMetadata, "SPSSODescriptor"):
			m.addRole(&entity, child, RoleSP)
		case child.Is(NSMetadata, "Organization"):
			entity.Organization = localised(child, NSMetadata, "OrganizationDisplayName")
		case child.Is(NSMetadata, "Extensions"):
			entity.Categories = categories(child)
		case child.Is(NSMetadata, "ContactPerson"):
			if mail := child.First(NSMetadata, "EmailAddress"); mail != nil && entity.Contact == "" {
				entity.Contact = strings.TrimPrefix(strings.TrimSpace(mail.Text()), "mailto:")
			}
		}
	}
	m.finish(&entity)
}

func (m *metadataReader) addRole(entity *Entity, e *xmltree.Element, kind RoleKind) {
	if !slices.Contains(strings.Fields(e.Value("protocolSupportEnumeration")), NSProtocol) {
		m.problem(false, "protocol", "The %s role of %s does not speak SAML 2.0.", kind, entity.name())
		return
	}
	entity.Roles = append(entity.Roles, m.role(e, kind, entity))
}

// finish adds an entity to what was understood.
func (m *metadataReader) finish(entity *Entity) {
	for _, r := range entity.Roles {
		if entity.DisplayName == "" {
			entity.DisplayName = r.DisplayName
		}
	}
	if entity.DisplayName == "" {
		entity.DisplayName = entity.Organization
	}
	if len(entity.Roles) == 2 && entity.Roles[0].Kind != entity.Roles[1].Kind {
		m.problem(
			false, "both-roles",
			"%s is an identity provider and a service provider; the part that fits where it is added is used.",
			entity.name(),
		)
	}
	for i := range m.doc.Entities {
		if m.doc.Entities[i].EntityID == entity.EntityID {
			m.problem(false, "entity-twice", "%s stands in the document twice; the first one is used.", entity.name())
			return
		}
	}
	m.doc.Entities = append(m.doc.Entities, *entity)
	if len(m.doc.Entities) == 2 {
		m.problem(false, "several-entities", "The document holds several entities; one has to be chosen.")
	}
}

// name is how an entity is called in sentences.
func (e *Entity) name() string {
	if e.EntityID == "" {
		return "the entity"
	}
	return e.EntityID
}

// categories lists the values of entity attributes, such as entity categories (SAML Metadata Extension for Entity
// Attributes).
func categories(extensions *xmltree.Element) []string {
	var out []string
	for _, set := range extensions.All(NSEntityAttributes, "EntityAttributes") {
		for _, a := range set.All(NSAssertion, "Attribute") {
			for _, v := range a.All(NSAssertion, "AttributeValue") {
				if text := strings.TrimSpace(v.Text()); text != "" && len(out) < 64 {
					out = append(out, text)
				}
			}
		}
	}
	return out
}

func (m *metadataReader) cacheDuration(e *xmltree.Element) time.Duration {
	v, ok := e.Attr("cacheDuration")
	if !ok {
		return 0
	}
	d, err := ParseDuration(v)
	if err != nil {
		m.problem(false, "cache-duration", "cacheDuration is not a duration: %s.", clip(v, 60))
	}
	return d
}

// localised picks the English text, else the first.
func localised(e *xmltree.Element, space, local string) string {
	best := ""
	for _, t := range e.All(space, local) {
		lang, _ := t.AttrNS(xmltree.XMLNamespace, "lang")
		text := strings.Join(strings.Fields(t.Text()), " ")
		if lang == "en" || strings.HasPrefix(lang, "en-") {
			return text
		}
		if best == "" {
			best = text
		}
	}
	return best
}

func (m *metadataReader) role(e *xmltree.Element, kind RoleKind, entity *Entity) Role {
	r := Role{Kind: kind}
	flag := func(name string) bool { v := strings.TrimSpace(e.Value(name)); return v == "true" || v == "1" }
	r.WantAuthnRequestsSigned = flag("WantAuthnRequestsSigned")
	r.AuthnRequestsSigned = flag("AuthnRequestsSigned")
	r.WantAssertionsSigned = flag("WantAssertionsSigned")
	if until := m.sooner(e, nil); until != nil && !m.Now.Before(*until) {
		m.problem(false, "expired", "The %s role of %s was valid until %s.", kind, entity.name(), formatTime(*until))
	}
	for child := range e.Elements {
		if child.Space != NSMetadata {
			continue
		}
		switch child.Local {
		case "Extensions":
			if ui := child.First(NSMDUI, "UIInfo"); ui != nil {
				r.DisplayName = localised(ui, NSMDUI, "DisplayName")
				if entity.Description == "" {
					entity.Description = localised(ui, NSMDUI, "Description")
				}
			}
			for _, method := range child.All(NSAlgorithms, "SigningMethod") {
				r.SigningMethods = append(r.SigningMethods, method.Value("Algorithm"))
			}
		case "KeyDescriptor":
			m.keys(child, &r, entity)
		case "NameIDFormat":
			if f := strings.TrimSpace(child.Text()); f != "" {
				r.NameIDFormats = append(r.NameIDFormats, f)
			}
		case "AttributeConsumingService":
			m.attributeSet(child, &r)
		default:
			if _, has := child.Attr("Location"); has && strings.HasSuffix(child.Local, "Service") {
				m.endpoint(child, &r, entity)
			}
		}
	}
	m.complain(&r, entity)
	return r
}

// complain lists what a role lacks.
func (m *metadataReader) complain(r *Role, entity *Entity) {
	if len(r.Certificates("signing")) == 0 {
		m.problem(false, "no-certificate", "The %s role of %s carries no certificate for signing.", r.Kind, entity.name())
	}
	wanted := ServiceSSO
	if r.Kind == RoleSP {
		wanted = ServiceACS
	}
	list := r.Service(wanted)
	if len(list) == 0 {
		m.problem(false, "no-endpoint", "The %s role of %s has no %s.", r.Kind, entity.name(), wanted)
	}
	seen := map[int]bool{}
	for _, e := range list {
		if e.Index != nil {
			if seen[*e.Index] {
				m.problem(false, "duplicate-index", "%s uses the %s index %d twice.", entity.name(), wanted, *e.Index)
			}
			seen[*e.Index] = true
		}
	}
}

func (m *metadataReader) endpoint(e *xmltree.Element, r *Role, entity *Entity) {
	p := Endpoint{
		Service:          e.Local,
		Binding:          strings.TrimSpace(e.Value("Binding")),
		Location:         e.Value("Location"),
		ResponseLocation: strings.TrimSpace(e.Value("ResponseLocation")),
	}
	if trimmed := strings.TrimSpace(p.Location); trimmed != p.Location {
		m.problem(false, "spaces", "An address of %s has white space around it: %q. It is left out.", entity.name(), p.Location)
		p.Location = trimmed
	}
	if v, has := e.Attr("index"); has {
		if n, err := strconv.Atoi(strings.TrimSpace(v)); err == nil && n >= 0 {
			p.Index = &n
		} else {
			m.problem(false, "index", "The index %q of a %s of %s is not a number.", v, p.Service, entity.name())
		}
	}
	p.Default = strings.TrimSpace(e.Value("isDefault")) == "true" || e.Value("isDefault") == "1"
	if BindingName(p.Binding) == p.Binding && (p.Service == ServiceACS || p.Service == ServiceSSO) {
		m.problem(false, "unknown-binding", "The binding %q of a %s of %s is not known here.", p.Binding, p.Service, entity.name())
	}
	u, err := url.Parse(p.Location)
	switch {
	case err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http":
		m.problem(
			false, "location", "The address %q of a %s of %s is not an http or https URL and is left out.", p.Location,
			p.Service, entity.name(),
		)
		return
	case address.Plain(p.Location):
		m.problem(false, "http-endpoint", "The address %s of %s is not protected by TLS.", p.Location, entity.name())
	}
	r.Endpoints = append(r.Endpoints, p)
}

func (m *metadataReader) keys(e *xmltree.Element, r *Role, entity *Entity) {
	use := e.Value("use")
	if use != "" && use != "signing" && use != "encryption" {
		m.problem(false, "key-use", "A key of %s has the unknown use %q and is left out.", entity.name(), use)
		return
	}
	for _, method := range e.All(NSMetadata, "EncryptionMethod") {
		r.EncryptionMethods = append(r.EncryptionMethods, method.Value("Algorithm"))
	}
	found := false
	e.Walk(func(x *xmltree.Element) bool {
		if !x.Is(xmlsig.NS, "X509Certificate") {
			return true
		}
		found = true
		// Text passes over comments, which some tools leave between the lines.
		der, err := xmlsig.DecodeBase64(x.Text())
		var cert *x509.Certificate
		if err == nil {
			cert, err = x509.ParseCertificate(der)
		}
		if err != nil {
			m.problem(false, "bad-certificate", "A certificate of %s can't be read and is left out: %s.", entity.name(), err)
			return true
		}
		if err := xmlsig.CheckKey(cert.PublicKey); err != nil {
			m.problem(false, "weak-key", "A certificate of %s is left out: %s.", entity.name(), err)
			return true
		}
		if m.Now.After(cert.NotAfter) {
			m.problem(
				false, "certificate-expired", "The certificate %s of %s ended on %s.", keys.Fingerprint(cert.Raw),
				entity.name(), formatTime(cert.NotAfter),
			)
		}
		r.Keys = append(r.Keys, KeyDescriptor{use, cert})
		return true
	})
	if !found {
		m.problem(false, "key-without-certificate", "A key of %s comes without a certificate and is left out.", entity.name())
	}
}

func (m *metadataReader) attributeSet(e *xmltree.Element, r *Role) {
	if n, err := strconv.Atoi(e.Value("index")); err == nil {
		r.AttributeSets = append(r.AttributeSets, n)
	}
	if r.DisplayName == "" {
		r.DisplayName = localised(e, NSMetadata, "ServiceName")
	}
	for _, a := range e.All(NSMetadata, "RequestedAttribute") {
		required := a.Value("isRequired")
		r.RequestedAttributes = append(
			r.RequestedAttributes,
			RequestedAttribute{a.Value("Name"), a.Value("NameFormat"), a.Value("FriendlyName"), required == "true" || required == "1"},
		)
	}
}
