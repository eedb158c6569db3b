package standin

import (
	cryptorand "crypto/rand"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"sync"
	"time"

	"github.com/jcmturner/gofork/encoding/asn1"
	"github.com/jcmturner/gokrb5/v8/asn1tools"
	"github.com/jcmturner/gokrb5/v8/gssapi"
	"github.com/jcmturner/gokrb5/v8/iana/chksumtype"
	"github.com/jcmturner/gokrb5/v8/iana/etypeID"
	"github.com/jcmturner/gokrb5/v8/iana/nametype"
	"github.com/jcmturner/gokrb5/v8/keytab"
	"github.com/jcmturner/gokrb5/v8/messages"
	"github.com/jcmturner/gokrb5/v8/spnego"
	"github.com/jcmturner/gokrb5/v8/types"
)

// Quayside is a simulated Kerberos realm with its machines: it makes keytabs, and shows tickets as the browser of a machine does at
// which somebody has signed in (RFC 4120, RFC 4559). Nobody asks it by the network: it makes the tickets itself.
type Quayside struct {
	Realm string

	mu      sync.Mutex
	seed    string
	keys    map[string]*keytab.Keytab // by service, the present one
	version map[string]uint8
	mistake string
}

// Mistakes that a realm and its machines make.
const (
	QuaysideNTLM    = "ntlm"    // the browser finds no ticket and offers NTLM
	QuaysideClock   = "clock"   // the machine's clock is ten minutes behind
	QuaysideRenewed = "renewed" // the service's key was made anew, and the keytab was not sent
	QuaysideOther   = "other"   // the ticket is for another name of the host
	QuaysideForeign = "foreign" // somebody of another realm comes
	QuaysideMachine = "machine" // the browser runs as the machine itself
)

// NewQuayside makes a realm without services. Its keys come from the seed; without one they are others each time.
func NewQuayside(seed string) *Quayside {
	if seed == "" {
		seed = cryptorand.Text()
	}
	return &Quayside{Realm: "QUAYSIDE.EXAMPLE", seed: seed, keys: map[string]*keytab.Keytab{}, version: map[string]uint8{}}
}

// Make has the realm's machines make a mistake; the empty one ends it.
func (q *Quayside) Make(mistake string) {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.mistake = mistake
}

// Keytab gives a service a new key, and returns the keytab that holds it, in base64.
func (q *Quayside) Keytab(service string) (string, error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if err := q.renew(service); err != nil {
		return "", err
	}
	data, err := q.keys[service].Marshal()
	return base64.StdEncoding.EncodeToString(data), err
}

func (q *Quayside) renew(service string) error {
	q.version[service]++
	fresh := keytab.New()
	secret := fmt.Sprintf("%s %s %d", q.seed, service, q.version[service])
	err := fresh.AddEntry(service, q.Realm, secret, time.Now(), q.version[service], etypeID.AES256_CTS_HMAC_SHA1_96)
	q.keys[service] = fresh
	return err
}

// Show is what the browser of somebody who sits at a machine of the realm shows to a service: the value after Negotiate, or nothing where
// it has no ticket.
func (q *Quayside) Show(person, service string) (string, error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.mistake == QuaysideNTLM {
		return base64.StdEncoding.EncodeToString([]byte("NTLMSSP\x00\x01\x00\x00\x00\x97\x82\x08\xe2")), nil
	}
	if q.mistake == QuaysideRenewed {
		if err := q.renew(service); err != nil {
			return "", err
		}
		q.mistake = ""
	}
	realm, clock := q.Realm, time.Duration(0)
	switch q.mistake {
	case QuaysideClock:
		clock = -10 * time.Minute
	case QuaysideOther:
		service = "HTTP/old-gate.harbour.example"
		if err := q.renew(service); err != nil {
			return "", err
		}
	case QuaysideForeign:
		realm = "NORTHQUAY.EXAMPLE"
	case QuaysideMachine:
		person = "QUAY07$"
	}
	held := q.keys[service]
	if person == "" || held == nil {
		return "", nil
	}
	now := time.Now().UTC()
	name := types.NewPrincipalName(nametype.KRB_NT_PRINCIPAL, person)
	ticket, session, err := messages.NewTicket(name, realm, types.NewPrincipalName(nametype.KRB_NT_SRV_INST, service), q.Realm,
		types.NewKrbFlags(), held, etypeID.AES256_CTS_HMAC_SHA1_96, int(q.version[service]), now.Add(-time.Hour), now.Add(-time.Hour),
		now.Add(8*time.Hour), now.Add(8*time.Hour))
	if err != nil {
		return "", err
	}
	a, err := types.NewAuthenticator(realm, name)
	if err != nil {
		return "", err
	}
	a.CTime = a.CTime.Add(clock)
	sum := make([]byte, 24) // RFC 4121, section 4.1.1
	binary.LittleEndian.PutUint32(sum, 16)
	binary.LittleEndian.PutUint32(sum[20:], gssapi.ContextFlagMutual)
	a.Cksum = types.Checksum{CksumType: chksumtype.GSSAPI, Checksum: sum}
	return negotiated(ticket, session, a)
}

// negotiated wraps a request as browsers do.
func negotiated(ticket messages.Ticket, session types.EncryptionKey, a types.Authenticator) (string, error) {
	req, err := messages.NewAPReq(ticket, session, a)
	if err != nil {
		return "", err
	}
	octets, err := req.Marshal()
	if err != nil {
		return "", err
	}
	oid, err := asn1.Marshal(gssapi.OIDKRB5.OID())
	if err != nil {
		return "", err
	}
	const request = 1 // the token's number in two octets
	mechanism := asn1tools.AddASNAppTag(append(append(oid, request, 0), octets...), 0)
	token := spnego.SPNEGOToken{Init: true, NegTokenInit: spnego.NegTokenInit{
		MechTypes: []asn1.ObjectIdentifier{gssapi.OIDKRB5.OID()}, MechTokenBytes: mechanism,
	}}
	whole, err := token.Marshal()
	return base64.StdEncoding.EncodeToString(whole), err
}
