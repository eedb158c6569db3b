package kerberos

import (
	"bytes"
	"encoding/base64"
	"encoding/binary"
	"slices"
	"strings"

	"github.com/jcmturner/gofork/encoding/asn1"
	"github.com/jcmturner/gokrb5/v8/gssapi"
	"github.com/jcmturner/gokrb5/v8/messages"
	"github.com/jcmturner/gokrb5/v8/spnego"

	"innergate/core/explain"
)

// MostToken is how long the value of an Authorization header may be that is read. Tickets of people in very many groups have some
// 48 KiB at most.
const MostToken = 64 << 10

// Shown is what a browser showed: an AP-REQ, and how it was wrapped.
type Shown struct {
	req  messages.APReq
	wrap wrapping
	// octets are the message as it came.
	octets []byte
}

// wrapping is how an AP-REQ came, which is how its answer goes.
type wrapping struct {
	negotiated bool // in SPNEGO, and not bare
	mechanism  asn1.ObjectIdentifier
}

// ntlm begins every message of the scheme to which browsers fall back that find no ticket.
var ntlm = []byte("NTLMSSP\x00")

var oidNTLM = asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 311, 2, 2, 10}

// unreadable explains a token that is none.
func unreadable(why string) error {
	return explain.New(explain.KerberosUnreadable, explain.Fact("token", why))
}

// Read reads the value of an Authorization header. Its errors are explanations.
func Read(header string) (shown *Shown, err error) {
	scheme, value, _ := strings.Cut(header, " ")
	if !strings.EqualFold(scheme, "Negotiate") {
		return nil, explain.New(explain.KerberosNoTicket, explain.Fact("header", "none of the scheme Negotiate"))
	}
	if len(value) > MostToken {
		return nil, unreadable("it is longer than 64 KiB")
	}
	raw, err := base64.StdEncoding.DecodeString(strings.TrimSpace(value))
	if err != nil {
		return nil, unreadable("it is no base64")
	}
	if bytes.HasPrefix(raw, ntlm) {
		return nil, explain.New(explain.KerberosNTLM, explain.Fact("token", "NTLM, bare"))
	}
	defer func() {
		if recover() != nil { // the library trusts some of what it reads
			shown, err = nil, unreadable("its parts don't fit together")
		}
	}()
	shown = &Shown{}
	mechanism := raw
	if len(raw) > 0 && !bareKerberos(raw) {
		if mechanism, err = shown.unwrap(raw); err != nil {
			return nil, err
		}
	}
	return shown, shown.request(mechanism)
}

// bareKerberos says whether a token is of the Kerberos mechanism itself, and not of SPNEGO.
func bareKerberos(raw []byte) bool {
	var oid asn1.ObjectIdentifier
	_, err := asn1.UnmarshalWithParams(raw, &oid, "application,explicit,tag:0")
	return err == nil && oid.Equal(gssapi.OIDKRB5.OID())
}

// unwrap takes the mechanism's token out of SPNEGO (RFC 4178, section 4.2.1).
func (s *Shown) unwrap(raw []byte) ([]byte, error) {
	var token spnego.SPNEGOToken
	if err := token.Unmarshal(raw); err != nil || !token.Init {
		return nil, unreadable("it begins no negotiation (SPNEGO)")
	}
	offered := token.NegTokenInit.MechTypes
	inside := token.NegTokenInit.MechTokenBytes
	if len(offered) == 0 {
		return nil, unreadable("it offers no mechanism")
	}
	s.wrap = wrapping{true, offered[0]}
	if bytes.HasPrefix(inside, ntlm) || slices.ContainsFunc(offered[:1], oidNTLM.Equal) {
		return nil, explain.New(explain.KerberosNTLM, explain.Fact("token", "NTLM, negotiated"))
	}
	if !offered[0].Equal(gssapi.OIDKRB5.OID()) && !offered[0].Equal(gssapi.OIDMSLegacyKRB5.OID()) {
		return nil, unreadable("the mechanism that it prefers is " + offered[0].String() + ", and not Kerberos")
	}
	return inside, nil
}

// request reads the AP-REQ of the mechanism's first token (RFC 4121, section 4.1).
func (s *Shown) request(token []byte) error {
	var oid asn1.ObjectIdentifier
	rest, err := asn1.UnmarshalWithParams(token, &oid, "application,explicit,tag:0")
	if err != nil || !oid.Equal(gssapi.OIDKRB5.OID()) || len(rest) < 2 {
		return unreadable("there is no token of Kerberos in it")
	}
	if binary.BigEndian.Uint16(rest) != tokenRequest {
		return unreadable("it is no request (AP-REQ)")
	}
	s.octets = rest[2:]
	if err := s.req.Unmarshal(s.octets); err != nil {
		return unreadable("its request (AP-REQ) can't be read")
	}
	if len(s.req.Ticket.SName.NameString) == 0 {
		return unreadable("its ticket is for nobody")
	}
	return nil
}

// The tokens of the mechanism (RFC 4121, section 4.1).
const (
	tokenRequest = 0x0100
	tokenAnswer  = 0x0200
)
