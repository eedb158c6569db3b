package config

import (
	"innergate/core/access"
	"innergate/core/keys"
	"innergate/core/xmlsig"
)

// The kinds of sources of metadata.
const (
	SourceAggregate = "aggregate" // one document of many entities, at an address
	SourceQuery     = "query"     // a service that is asked for one entity at a time (Metadata Query Protocol)
	SourceFile      = "file"      // one document of many entities, uploaded
)

// Source is where metadata of many entities comes from.
type Source struct {
	Slug        string `json:"slug"`
	Name        string `json:"name"`
	Description string `json:"description,omitempty"`
	// Kind is aggregate, query or file.
	Kind string `json:"kind"`
	URL  string `json:"url,omitempty"`
	// Certificate, in PEM, is the one whose key must have signed. Only a file may do without.
	Certificate string `json:"certificate,omitempty"`
	// EveryMinutes is how often an aggregate is fetched; 0 for what its cacheDuration says, between 15 minutes and a
	// day.
	EveryMinutes int `json:"everyMinutes,omitempty"`
}

// Validate fills defaults and says what is wrong.
func (s *Source) Validate() error {
	v := &validator{}
	if s.Kind == "" {
		s.Kind = SourceAggregate
	}
	v.common(s.Slug, s.Name, s.Description, "", nil, access.Draft)
	v.oneOf("kind", s.Kind, Allowed["Source.kind"]...)
	v.url("url", s.URL)
	if s.Kind != SourceFile && s.URL == "" {
		v.add("url", "the address is missing")
	}
	if s.Kind == SourceFile && s.URL != "" {
		v.add("url", "an uploaded file has no address")
	}
	if s.Kind != SourceFile && s.Certificate == "" {
		v.add("certificate", "the certificate of whoever signs the metadata is missing; without it anybody on the way could add partners")
	}
	if s.EveryMinutes != 0 && (s.EveryMinutes < 5 || s.EveryMinutes > 7*24*60) {
		v.add("everyMinutes", "it must be between 5 minutes and a week, or 0 for what the metadata says")
	}
	if s.Certificate != "" {
		cert, err := keys.ParseCertificate([]byte(s.Certificate))
		if err == nil {
			err = xmlsig.CheckKey(cert.PublicKey)
		}
		if err != nil {
			v.add("certificate", "%s", err)
		} else {
			s.Certificate = string(keys.EncodeCertificate(cert.Raw))
		}
	}
	return v.err()
}
