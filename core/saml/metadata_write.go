package saml

import (
	"encoding/base64"
	"strconv"
	"time"

	"innergate/core/keys"
	"innergate/core/xmlsig"
	"innergate/core/xmltree"
)

// WriteMetadata makes an EntityDescriptor (SAML Metadata, section 2.3.2). With a signer it is signed.
func WriteMetadata(entity Entity, validity time.Duration, now time.Time, signer *xmlsig.Signer) ([]byte, error) {
	e := xmltree.New(NSMetadata, "md", "EntityDescriptor").Declare("md", NSMetadata).Declare("ds", xmlsig.NS)
	e.Set("ID", keys.RandomID()).Set("entityID", entity.EntityID)
	if validity > 0 {
		e.Set("validUntil", formatTime(now.Add(validity)))
	}
	for i := range entity.Roles {
		e.Append(roleElement(&entity.Roles[i]))
	}
	if signer != nil {
		if err := signer.Sign(e, nil); err != nil {
			return nil, err
		}
	}
	return append([]byte(`<?xml version="1.0" encoding="UTF-8"?>`+"\n"), e.Bytes()...), nil
}

func roleElement(r *Role) *xmltree.Element {
	name := "IDPSSODescriptor"
	if r.Kind == RoleSP {
		name = "SPSSODescriptor"
	}
	d := xmltree.New(NSMetadata, "md", name)
	flags := []struct {
		name string
		set  bool
	}{{"AuthnRequestsSigned", r.AuthnRequestsSigned}, {"WantAssertionsSigned", r.WantAssertionsSigned},
		{"WantAuthnRequestsSigned", r.WantAuthnRequestsSigned}}
	for _, f := range flags {
		if f.set {
			d.Set(f.name, "true")
		}
	}
	d.Set("protocolSupportEnumeration", NSProtocol)
	if r.DisplayName != "" {
		ui := xmltree.New(NSMDUI, "mdui", "UIInfo").Declare("mdui", NSMDUI)
		ui.Child("DisplayName").SetNS(xmltree.XMLNamespace, "xml", "lang", "en").AddText(r.DisplayName)
		d.Child("Extensions").Append(ui)
	}
	for _, k := range r.Keys {
		key := d.Child("KeyDescriptor")
		if k.Use != "" {
			key.Set("use", k.Use)
		}
		info := xmltree.New(xmlsig.NS, "ds", "KeyInfo")
		key.Append(info)
		info.Child("X509Data").Child("X509Certificate").AddText(base64.StdEncoding.EncodeToString(k.Certificate.Raw))
		if k.Use == "encryption" {
			for _, method := range []string{xmlsig.AES256GCM, xmlsig.AES128GCM, xmlsig.OAEPMGF1P} {
				key.Child("EncryptionMethod").Set("Algorithm", method)
			}
		}
	}
	// The schema wants the services in this order: artifact resolution, logout, then formats, then sign-on or consumer.
	appendEndpoints(d, r, ServiceArtifact)
	appendEndpoints(d, r, ServiceSLO)
	for _, f := range r.NameIDFormats {
		d.Child("NameIDFormat").AddText(f)
	}
	appendEndpoints(d, r, ServiceSSO)
	appendEndpoints(d, r, ServiceACS)
	if len(r.RequestedAttributes) > 0 {
		set := d.Child("AttributeConsumingService").Set("index", "0").Set("isDefault", "true")
		set.Child("ServiceName").SetNS(xmltree.XMLNamespace, "xml", "lang", "en").AddText(r.DisplayName)
		for _, a := range r.RequestedAttributes {
			set.Append(a.element())
		}
	}
	return d
}

func appendEndpoints(d *xmltree.Element, r *Role, service string) {
	for _, p := range r.Service(service) {
		e := d.Child(p.Service).Set("Binding", p.Binding).Set("Location", p.Location)
		if p.ResponseLocation != "" {
			e.Set("ResponseLocation", p.ResponseLocation)
		}
		if p.Index != nil {
			e.Set("index", strconv.Itoa(*p.Index))
		}
		if p.Default {
			e.Set("isDefault", "true")
		}
	}
}

func (a RequestedAttribute) element() *xmltree.Element {
	w := xmltree.New(NSMetadata, "md", "RequestedAttribute")
	if a.FriendlyName != "" {
		w.Set("FriendlyName", a.FriendlyName)
	}
	w.Set("Name", a.Name)
	if a.NameFormat != "" {
		w.Set("NameFormat", a.NameFormat)
	}
	return w.Set("isRequired", strconv.FormatBool(a.Required))
}

// RequestedAttributesXML writes attributes as the elements of an AttributeConsumingService (SAML Metadata, section
// 2.4.4.2), one a line, to be copied into a document that binds the prefix md.
func RequestedAttributesXML(list []RequestedAttribute) string {
	var b []byte
	for _, a := range list {
		b = append(append(b, a.element().Bytes()...), '\n')
	}
	return string(b)
}
