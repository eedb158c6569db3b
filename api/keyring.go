package api

import (
	"time"

	"innergate/core/keys"
)

// Key is a key of the gate's, without its private part.
type Key struct {
	ID      string `json:"id"`
	Purpose string `json:"purpose"`
	Kind    string `json:"kind"`
	// State is next, active, retiring or retired.
	State string `json:"state"`
	// For is the partner that the key is for alone; nil for the gate's own.
	For       *Reference `json:"for,omitempty"`
	Created   time.Time  `json:"created"`
	Published *time.Time `json:"published,omitempty"`
	SwitchAt  *time.Time `json:"switchAt,omitempty"`
	Switched  *time.Time `json:"switched,omitempty"`
	Retired   *time.Time `json:"retired,omitempty"`
	LastUsed  *time.Time `json:"lastUsed,omitempty"`
	// UsedBy is how many partners meet this key.
	UsedBy int `json:"usedBy"`
	keys.Description
	PEM   string   `json:"pem"`
	Chain []string `json:"chain,omitempty"` // the subjects of the certificates above
}

// NewKey makes the next key for a purpose. For, if set, names the partner that it is for alone, as applications/slug or
// providers/slug.
type NewKey struct {
	Purpose    string `json:"purpose"`
	Kind       string `json:"kind,omitempty"` // rsa-2048 (the default), rsa-3072, rsa-4096, p-256 or p-384
	CommonName string `json:"commonName,omitempty"`
	Days       int    `json:"days,omitempty"` // how long its certificate is good, default five years
	For        string `json:"for,omitempty"`
}

// ImportKey brings a private key with its certificate: PEM, or PKCS #12 in base64 with its password.
type ImportKey struct {
	Purpose  string `json:"purpose"`
	For      string `json:"for,omitempty"`
	Data     string `json:"data"`
	Password string `json:"password,omitempty"`
}

// CertificateText is a certificate, or a chain, in PEM or base64.
type CertificateText struct {
	Text string `json:"text"`
}

// SwitchKey makes the next key the active one, at once or at a time.
type SwitchKey struct {
	At *time.Time `json:"at,omitempty"`
	// Anyway switches though partners are not known to have the next certificate.
	Anyway bool `json:"anyway,omitempty"`
}

// Rollover is how far the replacement of a key is, and what can be done next.
type Rollover struct {
	Purpose  string     `json:"purpose"`
	For      *Reference `json:"for,omitempty"`
	Active   *Key       `json:"active,omitempty"`
	Next     *Key       `json:"next,omitempty"`
	Retiring []Key      `json:"retiring"`
	// Step is make, publish, wait, scheduled, keep or none: what comes next.
	Step string `json:"step"`
	// Partners are those who must have the next certificate, the ones that do not have it first.
	Partners []KeyPartner `json:"partners"`
	Have     int          `json:"have"`
	Count    int          `json:"count"`
}

// KeyPartner is a partner that needs one of our certificates.
type KeyPartner struct {
	Reference
	Has        bool       `json:"has"`
	How        string     `json:"how,omitempty"` // fetched or confirmed
	By         string     `json:"by,omitempty"`
	At         *time.Time `json:"at,omitempty"`
	LastSignIn *time.Time `json:"lastSignIn,omitempty"`
}

// TrustedCertificate is a certificate that is held, ours or a partner's.
type TrustedCertificate struct {
	Owner      Reference  `json:"owner"`
	Side       string     `json:"side"` // ours, application or provider
	Use        string     `json:"use"`
	SHA256     string     `json:"sha256"`
	Subject    string     `json:"subject"`
	Key        string     `json:"key"`
	NotBefore  time.Time  `json:"notBefore"`
	NotAfter   time.Time  `json:"notAfter"`
	HeldSince  time.Time  `json:"heldSince"`
	Origin     string     `json:"origin"`
	LastUsed   *time.Time `json:"lastUsed,omitempty"`
	State      string     `json:"state,omitempty"`
	Superseded bool       `json:"superseded"` // a later one of the same owner and use is held
}
