package config

import (
	"cmp"
	"slices"
	"strings"
)

// KindKerberos is a realm whose people hold a ticket before the browser opens.
const KindKerberos = "kerberos"

// KerberosProvider holds the options of a Kerberos realm (RFC 4120). The keytab is no part of it: it is kept sealed beside it, like
// secrets. A ticket is tried only where a route leads here.
type KerberosProvider struct {
	// Realms are those whose people may come, in capitals as a rule, such as SALTMERE.EXAMPLE.
	Realms []string `json:"realms,omitempty"`
	// Hosts are the names under which browsers know this gate, and in which they ask for tickets; empty for that of its address.
	Hosts []string `json:"hosts,omitempty"`
	// ClockSkewSeconds is how far another machine's clock may be from the gate's; 0 for 120.
	ClockSkewSeconds int `json:"clockSkewSeconds,omitempty"`
}

const (
	mostRealms   = 50
	mostTicketed = 300 // seconds: beyond that the protocol's own replays count no more
)

func (p *Provider) validateKerberos(v *validator) {
	if p.Kerberos == nil {
		p.Kerberos = &KerberosProvider{}
	}
	k := p.Kerberos
	if len(k.Realms) > mostRealms || len(k.Hosts) > mostRealms {
		v.add("kerberos.realms", "%d are the most", mostRealms)
	}
	for _, r := range k.Realms {
		if r == "" || len(r) > 253 || strings.ContainsAny(r, " /:\x00@\\") {
			v.add("kerberos.realms", "%q is no realm; it is written such as SALTMERE.EXAMPLE", r)
		}
	}
	for _, h := range k.Hosts {
		if h == "" || len(h) > 253 || strings.ContainsAny(h, " /:\x00@\\") {
			v.add("kerberos.hosts", "%q is no host's name; it is written without a port, such as gate.saltmere.example", h)
		}
	}
	if k.ClockSkewSeconds < 0 || k.ClockSkewSeconds > mostTicketed {
		v.add("kerberos.clockSkewSeconds", "it must be between 0 (for the usual 120) and %d", mostTicketed)
	}
}

func (p *Provider) missingKerberos() []string {
	if p.Kerberos == nil || len(p.Kerberos.Realms) == 0 {
		return []string{"the realm whose people may come is missing"}
	}
	return nil
}

// Skew is how many seconds a clock may be off.
func (k *KerberosProvider) Skew() int { return cmp.Or(k.ClockSkewSeconds, 120) }

// At are the names under which browsers ask for tickets, where this is the host of the gate's own address.
func (k *KerberosProvider) At(own string) []string {
	if len(k.Hosts) > 0 {
		return slices.Clone(k.Hosts)
	}
	return []string{own}
}
