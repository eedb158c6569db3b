package config

import (
	"crypto"
	"crypto/x509"
	"fmt"
	"strings"

	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/core/xmlsig"
)

// Watch says where a partner publishes its metadata, and what may be taken from it unasked.
type Watch struct {
	URL string `json:"url,omitempty"`
	// Source is the short name of the source that gives it, in place of an address.
	Source string `json:"source,omitempty"`
	// Policy is ask, certificates (take certificates and ask about the rest) or apply. Empty means certificates where
	// Certificate pins the signer, else ask.
	Policy string `json:"policy,omitempty"`
	// Certificate, in PEM, is the one whose key must have signed the metadata.
	Certificate string `json:"certificate,omitempty"`
	// EveryMinutes is how often the address is looked at; 0 for what the metadata itself says, between 15 minutes and a
	// day, or every 6 hours.
	EveryMinutes int `json:"everyMinutes,omitempty"`
}

// The policies of a Watch.
const (
	PolicyAsk          = "ask"
	PolicyCertificates = "certificates"
	PolicyApply        = "apply"
)

// Effective is the policy that counts.
func (w *Watch) Effective() string {
	switch {
	case w.Policy != "":
		return w.Policy
	case w.Certificate != "" || w.Source != "":
		return PolicyCertificates
	}
	return PolicyAsk
}

// Place is where the metadata comes from: an address, source: and a short name, or nothing.
func (w *Watch) Place() string {
	switch {
	case w == nil:
		return ""
	case w.Source != "":
		return "source:" + w.Source
	}
	return w.URL
}

// Pinned is the certificate whose key must have signed, or nil.
func (w *Watch) Pinned() *x509.Certificate {
	if w == nil || w.Certificate == "" {
		return nil
	}
	cert, err := keys.ParseCertificate([]byte(w.Certificate))
	if err != nil {
		return nil
	}
	return cert
}

func (v *validator) watch(w *Watch) {
	if w == nil {
		return
	}
	v.url("saml.metadata.url", w.URL)
	if w.Source != "" && (w.URL != "" || w.Certificate != "") {
		v.add("saml.metadata.source", "metadata comes from a source or from an address, not from both")
	}
	v.allowed("saml.metadata.policy", w.Policy, "Watch.policy")
	if w.EveryMinutes != 0 && (w.EveryMinutes < 5 || w.EveryMinutes > 7*24*60) {
		v.add("saml.metadata.everyMinutes", "it must be between 5 minutes and a week, or 0 for what the metadata says")
	}
	if w.Certificate == "" {
		return
	}
	cert, err := keys.ParseCertificate([]byte(w.Certificate))
	if err == nil {
		err = xmlsig.CheckKey(cert.PublicKey)
	}
	if err != nil {
		v.add("saml.metadata.certificate", "%s", err)
		return
	}
	w.Certificate = string(keys.EncodeCertificate(cert.Raw))
}

// OAEPSHA256 stands for RSA-OAEP with SHA-256 as digest and as the mask's hash.
const OAEPSHA256 = xmlsig.OAEP11

func (v *validator) digest(uri string) {
	if uri != "" && xmlsig.Digest(uri) == 0 {
		v.add("saml.digestAlgorithm", "%q is not a digest algorithm that is signed with here", uri)
	}
}

// Encrypter encrypts for an application as it is set, or is nil where no certificate for it is held.
func (s *SAMLApplication) Encrypter() *xmlsig.Encrypter {
	keys := saml.RSAPublic(Parsed(s.Certificates, "encryption"))
	if len(keys) == 0 {
		return nil
	}
	x := &xmlsig.Encrypter{Key: keys[0], Content: s.ContentEncryption, KeyTransport: s.KeyTransport}
	if s.KeyTransport == OAEPSHA256 {
		x.Digest, x.Mask = crypto.SHA256, crypto.SHA256
	}
	return x
}

func (v *validator) steps(list []string) {
	if len(list) > 40 {
		v.add("steps", "there are %d steps; 40 are the most", len(list))
	}
	for i, s := range list {
		if strings.TrimSpace(s) == "" || len(s) > 1000 {
			v.add(fmt.Sprintf("steps[%d]", i), "a step has 1 to 1000 characters")
		}
	}
}
