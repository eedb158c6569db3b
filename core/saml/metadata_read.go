package saml

import (
	"bytes"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"innergate/core/keys"
	"innergate/core/xmlsig"
	"innergate/core/xmltree"
)

// MaxMetadata bounds a metadata document that is read as a whole, in bytes.
const MaxMetadata = 16 << 20

var metadataLimits = xmltree.Limits{Bytes: MaxMetadata, Depth: 64, Elements: 1 << 20, Attrs: 128}

type metadataReader struct {
	doc *Document
	now time.Time
}

func (m *metadataReader) problem(fatal bool, code, format string, args ...any) {
	p := Problem{"metadata." + code, fmt.Sprintf(format, args...), fatal}
	if len(m.doc.Problems) < 200 && !slices.Contains(m.doc.Problems, p) {
		m.doc.Problems = append(m.doc.Problems, p)
	}
}

// ReadMetadata understands a metadata document (SAML Metadata, section 2) as far as it can: one entity or a group of them, in any usual encoding. It never
// fails; what is wrong is listed in Problems. Signatures are noticed here and verified by VerifyMetadata.
func ReadMetadata(data []byte, now time.Time) *Document {
	m := &metadataReader{doc: &Document{}, now: now}
	root := m.parse(data)
	if root == nil {
		return m.doc
	}
	m.doc.Signed = xmlsig.Signed(root)
	switch {
	case root.Is(NSMetadata, "EntityDescriptor"):
		m.entity(root, nil)
	case root.Is(NSMetadata, "EntitiesDescriptor"):
		m.group(root, nil)
	default:
		m.problem(true, "not-metadata", "The document is XML, but not SAML metadata: its root is <%s>, not EntityDescriptor.", root.Local)
		return m.doc
	}
	if len(m.doc.Entities) == 0 {
		m.problem(true, "no-entity", "The document holds no entity.")
	} else if !m.doc.Usable() {
		m.problem(true, "no-role", "No entity in the document is an identity provider or a service provider.")
	}
	return m.doc
}

// VerifyMetadata checks the signature of a whole document against pinned certificates (SAML Metadata, section 3). The error is an *xmlsig.Error.
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

func (m *metadataReader) parse(data []byte) *xmltree.Element {
	trimmed := bytes.TrimSpace(data)
	switch {
	case len(trimmed) == 0:
		m.problem(true, "empty", "There is nothing in the document.")
		return nil
	case len(data) > MaxMetadata:
		m.problem(true, "too-large", "The document has %d bytes; %d are the most that is read in one piece.", len(data), MaxMetadata)
		return nil
	case json.Valid(trimmed) && (trimmed[0] == '{' || trimmed[0] == '['):
		m.problem(true, "json", "This is JSON, not SAML metadata. A discovery document belongs to OpenID Connect.")
		return nil
	case looksLikeHTML(trimmed):
		m.problem(true, "html", "This is a web page, not metadata. Perhaps the address needs a sign-in, or leads to a page that describes the metadata.")
		return nil
	case bytes.HasPrefix(trimmed, []byte("-----BEGIN")):
		m.problem(true, "certificate", "This is a certificate or a key, not metadata. A certificate can be added to an application or provider by itself.")
		return nil
	}
	text, err := toUTF8(data)
	if err != nil {
		m.problem(true, "encoding", "The document can't be read: %s.", err)
		return nil
	}
	root, err := xmltree.Parse(text, metadataLimits)
	if err != nil {
		m.problem(true, "not-xml", "The document is not well-formed XML: %s.", err)
		return nil
	}
	return root
}

func looksLikeHTML(doc []byte) bool {
	head := bytes.ToLower(doc[:min(len(doc), 512)])
	return bytes.HasPrefix(head, []byte("<!doctype html")) || bytes.Contains(head, []byte("<html"))
}

// toUTF8 turns UTF-16 and Latin-1 into UTF-8, and takes the encoding's name out of the XML declaration, as it no longer holds.
func toUTF8(data []byte) ([]byte, error) {
	var enc encoding.Encoding
	head := string(data[:min(len(data), 200)])
	switch {
	case bytes.HasPrefix(data, []byte{0xFE, 0xFF}), bytes.HasPrefix(data, []byte{0xFF, 0xFE}):
		enc = unicode.UTF16(unicode.BigEndian, unicode.UseBOM)
	case len(data) > 1 && data[0] == 0 && data[1] == '<':
		enc = unicode.UTF16(unicode.BigEndian, unicode.IgnoreBOM)
	case len(data) > 1 && data[0] == '<' && data[1] == 0:
		enc = unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM)
	case strings.HasPrefix(head, "<?xml"):
		declaration, _, _ := strings.Cut(head, "?>")
		switch lower := strings.ToLower(declaration); {
		case strings.Contains(lower, "iso-8859-1"), strings.Contains(lower, "latin1"):
			enc = charmap.ISO8859_1
		case strings.Contains(lower, "windows-1252"):
			enc = charmap.Windows1252
		case strings.Contains(lower, "iso-8859-15"):
			enc = charmap.ISO8859_15
		}
	}
	if enc == nil {
		return data, nil
	}
	out, err := enc.NewDecoder().Bytes(data)
	if err != nil || !utf8.Valid(out) {
		return nil, fmt.Errorf("its characters are not in the encoding that it names")
	}
	if bytes.HasPrefix(out, []byte("<?xml")) {
		if end := bytes.Index(out, []byte("?>")); end > 0 {
			out = out[end+2:]
		}
	}
	return out, nil
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
	entity := Entity{EntityID: e.Value("entityID"), ValidUntil: m.sooner(e, until), Signed: xmlsig.Signed(e)}
	if _, err := ParseEntityID(entity.EntityID); err != nil {
		m.problem(false, "entity-id", "An entity can't be used: %s.", err)
		return
	}
	if entity.ValidUntil != nil && !m.now.Before(*entity.ValidUntil) {
		m.problem(false, "expired", "The metadata of %s was valid until %s.", entity.EntityID, formatTime(*entity.ValidUntil))
	}
	for child := range e.Elements {
		kind := RoleKind("")
		switch {
		case child.Is(NSMetadata, "IDPSSODescriptor"):
			kind = RoleIDP
		case child.Is(NSMetadata, "SPSSODescriptor"):
			kind = RoleSP
		case child.Is(NSMetadata, "Organization"):
			entity.Organization = localised(child, NSMetadata, "OrganizationDisplayName")
		case child.Is(NSMetadata, "ContactPerson"):
			if mail := child.First(NSMetadata, "EmailAddress"); mail != nil && entity.Contact == "" {
				entity.Contact = strings.TrimPrefix(strings.TrimSpace(mail.Text()), "mailto:")
			}
		}
		if kind == "" {
			continue
		}
		if !slices.Contains(strings.Fields(child.Value("protocolSupportEnumeration")), NSProtocol) {
			m.problem(false, "protocol", "The %s role of %s does not speak SAML 2.0.", kind, entity.EntityID)
			continue
		}
		entity.Roles = append(entity.Roles, m.role(child, kind, &entity))
	}
	for _, r := range entity.Roles {
		if entity.DisplayName == "" {
			entity.DisplayName = r.DisplayName
		}
	}
	if entity.DisplayName == "" {
		entity.DisplayName = entity.Organization
	}
	if len(entity.Roles) == 2 {
		m.problem(false, "both-roles", "%s is an identity provider and a service provider; the part that fits where it is added is used.", entity.EntityID)
	}
	m.doc.Entities = append(m.doc.Entities, entity)
	if len(m.doc.Entities) == 2 {
		m.problem(false, "several-entities", "The document holds several entities; one has to be chosen.")
	}
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
	r.WantAuthnRequestsSigned, r.AuthnRequestsSigned, r.WantAssertionsSigned = flag("WantAuthnRequestsSigned"), flag("AuthnRequestsSigned"), flag("WantAssertionsSigned")
	if until := m.sooner(e, nil); until != nil && !m.now.Before(*until) {
		m.problem(false, "expired", "The %s role of %s was valid until %s.", kind, entity.EntityID, formatTime(*until))
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
		m.problem(false, "no-certificate", "The %s role of %s carries no certificate for signing.", r.Kind, entity.EntityID)
	}
	wanted := ServiceSSO
	if r.Kind == RoleSP {
		wanted = ServiceACS
	}
	list := r.Service(wanted)
	if len(list) == 0 {
		m.problem(false, "no-endpoint", "The %s role of %s has no %s.", r.Kind, entity.EntityID, wanted)
	}
	seen := map[int]bool{}
	for _, e := range list {
		if e.Index != nil {
			if seen[*e.Index] {
				m.problem(false, "duplicate-index", "%s uses the %s index %d twice.", entity.EntityID, wanted, *e.Index)
			}
			seen[*e.Index] = true
		}
	}
}

func (m *metadataReader) endpoint(e *xmltree.Element, r *Role, entity *Entity) {
	p := Endpoint{Service: e.Local, Binding: strings.TrimSpace(e.Value("Binding")), Location: e.Value("Location"), ResponseLocation: strings.TrimSpace(e.Value("ResponseLocation"))}
	if trimmed := strings.TrimSpace(p.Location); trimmed != p.Location {
		m.problem(false, "spaces", "An address of %s has white space around it: %q. It is left out.", entity.EntityID, p.Location)
		p.Location = trimmed
	}
	if v, has := e.Attr("index"); has {
		if n, err := strconv.Atoi(strings.TrimSpace(v)); err == nil && n >= 0 {
			p.Index = &n
		} else {
			m.problem(false, "index", "The index %q of a %s of %s is not a number.", v, p.Service, entity.EntityID)
		}
	}
	p.Default = strings.TrimSpace(e.Value("isDefault")) == "true" || e.Value("isDefault") == "1"
	if BindingName(p.Binding) == p.Binding && (p.Service == ServiceACS || p.Service == ServiceSSO) {
		m.problem(false, "unknown-binding", "The binding %q of a %s of %s is not known here.", p.Binding, p.Service, entity.EntityID)
	}
	u, err := url.Parse(p.Location)
	switch {
	case err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http":
		m.problem(false, "location", "The address %q of a %s of %s is not an http or https URL and is left out.", p.Location, p.Service, entity.EntityID)
		return
	case u.Scheme == "http" && !isLoopback(u.Hostname()):
		m.problem(false, "http-endpoint", "The address %s of %s is not protected by TLS.", p.Location, entity.EntityID)
	}
	r.Endpoints = append(r.Endpoints, p)
}

func isLoopback(host string) bool {
	return host == "localhost" || host == "::1" || strings.HasPrefix(host, "127.")
}

func (m *metadataReader) keys(e *xmltree.Element, r *Role, entity *Entity) {
	use := e.Value("use")
	if use != "" && use != "signing" && use != "encryption" {
		m.problem(false, "key-use", "A key of %s has the unknown use %q and is left out.", entity.EntityID, use)
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
			m.problem(false, "bad-certificate", "A certificate of %s can't be read and is left out: %s.", entity.EntityID, err)
			return true
		}
		if err := xmlsig.CheckKey(cert.PublicKey); err != nil {
			m.problem(false, "weak-key", "A certificate of %s is left out: %s.", entity.EntityID, err)
			return true
		}
		if m.now.After(cert.NotAfter) {
			m.problem(false, "certificate-expired", "The certificate %s of %s ended on %s.", keys.Fingerprint(cert.Raw), entity.EntityID, formatTime(cert.NotAfter))
		}
		r.Keys = append(r.Keys, KeyDescriptor{use, cert})
		return true
	})
	if !found {
		m.problem(false, "key-without-certificate", "A key of %s comes without a certificate and is left out.", entity.EntityID)
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
		r.RequestedAttributes = append(r.RequestedAttributes, RequestedAttribute{a.Value("Name"), a.Value("NameFormat"), a.Value("FriendlyName"), required == "true" || required == "1"})
	}
}
