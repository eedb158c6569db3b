package standin

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	cryptorand "crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/google/uuid"
)

// Office is a simulated directory server that speaks LDAP by TLS (RFC 4511): it binds, searches and changes passwords, and says of
// accounts what a password policy says. It knows the few operations that the gate asks for, and refuses all others.
type Office struct {
	// Base is below which it has entries; Gate and Secret are as whom the gate searches.
	Base, Gate, Secret string
	// Certificate is its own, in PEM.
	Certificate string

	mu      sync.Mutex
	entries []*officeEntry
	mistake string
	// open is how many connections there are, most how many there were at one time.
	open, most int
	settings   *tls.Config
}

// officeEntry is one entry. Reset, Expired and Locked are what its password policy says.
type officeEntry struct {
	dn                     string
	values                 map[string][]string
	password               string
	reset, expired, locked bool
}

// Result codes and tags (RFC 4511, section 4).
const (
	officeSuccess      = 0
	officeReferral     = 10
	officeNone         = 32
	officeInvalid      = 49
	officeInsufficient = 50
	officeUnwilling    = 53
	officeConstraint   = 19
	officeProtocol     = 2

	opBind, opBound         = 0, 1
	opUnbind                = 2
	opSearch, opEntry, opDo = 3, 4, 5
	opExtended, opExtDone   = 23, 24

	policyControl  = "1.3.6.1.4.1.42.2.27.8.5.1"
	passwordModify = "1.3.6.1.4.1.4203.1.11.1"
)

// NewOffice makes one with the staff of the quays.
func NewOffice() (*Office, error) {
	o := &Office{Base: "dc=harbour,dc=example", Secret: "quay-lantern-41"}
	o.Gate = "cn=gate,ou=services," + o.Base
	key, err := ecdsa.GenerateKey(elliptic.P256(), cryptorand.Reader)
	if err != nil {
		return nil, err
	}
	form := &x509.Certificate{
		SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: "Harbour Office"},
		DNSNames: []string{"localhost"}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(0, 0, 90),
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	der, err := x509.CreateCertificate(cryptorand.Reader, form, form, key.Public(), key)
	if err != nil {
		return nil, err
	}
	o.Certificate = string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
	o.settings = &tls.Config{MinVersion: tls.VersionTLS12, Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}}}
	o.staff()
	return o, nil
}

// OfficePassword is the password of everybody there.
const OfficePassword = "Kelp-Harbour-7"

// staff fills it.
func (o *Office) staff() {
	o.add(o.Base, map[string][]string{"objectClass": {"domain"}}, "")
	o.add(o.Gate, map[string][]string{"objectClass": {"device"}, "cn": {"gate"}}, o.Secret)
	groups := map[string][]string{}
	for _, p := range []struct{ uid, given, family, title, group string }{
		{"wfell", "Wanda", "Fell", "Foreman", "quay-crane"},
		{"rmoor", "Rufus", "Moor", "Tally clerk", "quay-tally"},
		{"hbrook", "Hal", "Brook", "Crane driver", "quay-crane"},
		{"ilark", "Ida", "Lark", "Tally clerk", "quay-tally"},
		{"ntide", "Nils", "Tide", "Apprentice", "quay-crane"},
	} {
		dn := "uid=" + p.uid + ",ou=people," + o.Base
		e := o.add(dn, map[string][]string{
			"objectClass": {"inetOrgPerson"}, "uid": {p.uid}, "cn": {p.given + " " + p.family}, "givenName": {p.given}, "sn": {p.family},
			"mail": {p.uid + "@harbour.example"}, "title": {p.title},
		}, OfficePassword)
		e.locked, e.expired, e.reset = p.uid == "hbrook", p.uid == "ilark", p.uid == "ntide"
		groups[p.group] = append(groups[p.group], dn)
	}
	var all []string
	for _, name := range []string{"quay-crane", "quay-tally"} {
		dn := "cn=" + name + ",ou=groups," + o.Base
		o.add(dn, map[string][]string{"objectClass": {"groupOfNames"}, "cn": {name}, "member": groups[name]}, "")
		all = append(all, dn)
	}
	o.add("cn=quay-staff,ou=groups,"+o.Base, map[string][]string{"objectClass": {"groupOfNames"}, "cn": {"quay-staff"}, "member": all}, "")
}

// Hire adds somebody to the staff, with everybody's password.
func (o *Office) Hire(uid string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.add("uid="+uid+",ou=people,"+o.Base, map[string][]string{
		"objectClass": {"inetOrgPerson"}, "uid": {uid}, "cn": {"Hand " + uid}, "sn": {uid}, "mail": {uid + "@harbour.example"},
	}, OfficePassword)
}

func (o *Office) add(dn string, values map[string][]string, password string) *officeEntry {
	values["entryUUID"] = []string{uuid.NewSHA1(uuid.NameSpaceX500, []byte(dn)).String()}
	e := &officeEntry{dn: dn, values: values, password: password}
	e.changed()
	o.entries = append(o.entries, e)
	return e
}

// SetMistake has it make one: referral (it points elsewhere), silent (it answers no search), several (each search finds everybody),
// or none.
func (o *Office) SetMistake(name string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.mistake = name
}

// Serve answers until the listener is closed.
func (o *Office) Serve(l net.Listener) {
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		go o.converse(tls.Server(c, o.settings))
	}
}

// Most is how many connections were open at one time, since this was asked last.
func (o *Office) Most() int {
	o.mu.Lock()
	defer o.mu.Unlock()
	most := o.most
	o.most = o.open
	return most
}

func (o *Office) count(by int) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.open += by
	o.most = max(o.most, o.open)
}

// talk is one connection, with who is bound.
type talk struct {
	net.Conn
	who *officeEntry
}

func (o *Office) converse(c net.Conn) {
	t := &talk{Conn: c}
	defer c.Close()
	o.count(1)
	defer o.count(-1)
	for {
		if err := c.SetDeadline(time.Now().Add(2 * time.Minute)); err != nil {
			return
		}
		q, err := ber.ReadPacket(c)
		if err != nil || len(q.Children) < 2 {
			return
		}
		id, ok := q.Children[0].Value.(int64)
		if !ok || !o.answer(t, id, q) {
			return
		}
	}
}

// answer answers one message, and says whether the talk goes on.
func (o *Office) answer(t *talk, id int64, q *ber.Packet) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	op := q.Children[1]
	switch op.Tag {
	case opBind:
		return o.bind(t, id, op)
	case opSearch:
		return o.search(t, id, op)
	case opExtended:
		return o.extended(t, id, op)
	case opUnbind:
		return false
	}
	return t.say(id, result(opDo, officeProtocol, "not known here"))
}

func text(p *ber.Packet) string { return p.Data.String() }

// result is the answer to an operation.
func result(tag ber.Tag, code int64, message string) *ber.Packet {
	r := ber.Encode(ber.ClassApplication, ber.TypeConstructed, tag, nil, "answer")
	r.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagEnumerated, code, "code"))
	r.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, "", "matched"))
	r.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, message, "message"))
	return r
}

// say sends a message, with controls.
func (t *talk) say(id int64, op *ber.Packet, controls ...*ber.Packet) bool {
	m := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSequence, nil, "message")
	m.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagInteger, id, "id"))
	m.AppendChild(op)
	if len(controls) > 0 {
		all := ber.Encode(ber.ClassContext, ber.TypeConstructed, 0, nil, "controls")
		for _, c := range controls {
			all.AppendChild(c)
		}
		m.AppendChild(all)
	}
	_, err := t.Write(m.Bytes())
	return err == nil
}

// policy is the control in which a password policy says an error.
func policy(code int64) *ber.Packet {
	value := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSequence, nil, "policy")
	value.AppendChild(ber.NewInteger(ber.ClassContext, ber.TypePrimitive, 1, code, "error"))
	c := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSequence, nil, "control")
	c.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, policyControl, "type"))
	c.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, string(value.Bytes()), "value"))
	return c
}

func (o *Office) bind(t *talk, id int64, op *ber.Packet) bool {
	if len(op.Children) < 3 {
		return false
	}
	t.who = nil
	dn, password := text(op.Children[1]), text(op.Children[2])
	if dn == "" && password == "" {
		return t.say(id, result(opBound, officeSuccess, ""))
	}
	e := o.entry(dn)
	switch {
	case e == nil || e.password == "" || password != e.password:
		return t.say(id, result(opBound, officeInvalid, ""))
	case e.locked:
		return t.say(id, result(opBound, officeInvalid, ""), policy(1))
	case e.expired:
		return t.say(id, result(opBound, officeInvalid, ""), policy(0))
	case e.reset:
		t.who = e
		return t.say(id, result(opBound, officeSuccess, ""), policy(2))
	}
	t.who = e
	return t.say(id, result(opBound, officeSuccess, ""))
}

func (o *Office) entry(dn string) *officeEntry {
	for _, e := range o.entries {
		if strings.EqualFold(e.dn, dn) {
			return e
		}
	}
	return nil
}

func (o *Office) search(t *talk, id int64, op *ber.Packet) bool {
	if len(op.Children) < 8 {
		return false
	}
	base, filter := text(op.Children[0]), op.Children[6]
	scope, _ := op.Children[1].Value.(int64)
	most, _ := op.Children[3].Value.(int64)
	if base == "" && scope == 0 { // what it is about, which everybody may ask
		root := &officeEntry{values: map[string][]string{"namingContexts": {o.Base}}}
		return t.say(id, shown(root, nil)) && t.say(id, result(opDo, officeSuccess, ""))
	}
	switch {
	case o.mistake == "silent":
		return true
	case o.mistake == "referral":
		r := result(opDo, officeReferral, "ldap://elsewhere.example/"+base)
		return t.say(id, r)
	case t.who == nil || t.who.reset:
		return t.say(id, result(opDo, officeInsufficient, "bind first, and change a password that was reset"))
	case o.entry(base) == nil && !strings.HasSuffix(base, o.Base):
		return t.say(id, result(opDo, officeNone, ""))
	}
	var wanted []string
	for _, a := range op.Children[7].Children {
		wanted = append(wanted, strings.ToLower(text(a)))
	}
	found := int64(0)
	for _, e := range o.entries {
		within := strings.EqualFold(e.dn, base) || scope == 2 && strings.HasSuffix(strings.ToLower(e.dn), ","+strings.ToLower(base))
		if !within || o.mistake != "several" && !e.fits(filter) {
			continue
		}
		if found++; most > 0 && found > most {
			return t.say(id, result(opDo, 4, "more than was asked for"))
		}
		if !t.say(id, shown(e, wanted)) {
			return false
		}
	}
	return t.say(id, result(opDo, officeSuccess, ""))
}

// shown is an entry with the attributes that are wanted.
func shown(e *officeEntry, wanted []string) *ber.Packet {
	p := ber.Encode(ber.ClassApplication, ber.TypeConstructed, opEntry, nil, "entry")
	p.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, e.dn, "dn"))
	all := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSequence, nil, "attributes")
	for name, values := range e.values {
		if len(wanted) > 0 && !slices.Contains(wanted, strings.ToLower(name)) && !slices.Contains(wanted, "*") {
			continue
		}
		a := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSequence, nil, "attribute")
		a.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, name, "name"))
		set := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSet, nil, "values")
		for _, v := range values {
			set.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, v, "value"))
		}
		a.AppendChild(set)
		all.AppendChild(a)
	}
	p.AppendChild(all)
	return p
}

// fits says whether a filter holds (RFC 4511, section 4.5.1.7). Of what it does not know, none does.
func (e *officeEntry) fits(f *ber.Packet) bool {
	switch f.Tag {
	case 0:
		return !slices.ContainsFunc(f.Children, func(c *ber.Packet) bool { return !e.fits(c) })
	case 1:
		return slices.ContainsFunc(f.Children, e.fits)
	case 2:
		return len(f.Children) == 1 && !e.fits(f.Children[0])
	case 3:
		return len(f.Children) == 2 && slices.ContainsFunc(e.get(text(f.Children[0])), func(v string) bool {
			return strings.EqualFold(v, text(f.Children[1]))
		})
	case 5: // times are written so that they are in order as text
		return len(f.Children) == 2 && slices.ContainsFunc(e.get(text(f.Children[0])), func(v string) bool {
			return v >= text(f.Children[1])
		})
	case 7:
		return strings.EqualFold(text(f), "objectClass") || len(e.get(text(f))) > 0
	}
	return false
}

// changed notes when an entry was changed (RFC 4512, section 3.4.1).
func (e *officeEntry) changed() {
	e.values["modifyTimestamp"] = []string{time.Now().UTC().Format("20060102150405Z")}
}

func (e *officeEntry) get(name string) []string {
	for have, values := range e.values {
		if strings.EqualFold(have, name) {
			return values
		}
	}
	return nil
}

// extended changes a password (RFC 3062), as whoever is bound.
func (o *Office) extended(t *talk, id int64, op *ber.Packet) bool {
	if len(op.Children) < 2 || text(op.Children[0]) != passwordModify {
		return t.say(id, result(opExtDone, officeProtocol, "not known here"))
	}
	asked, err := ber.DecodePacketErr(op.Children[1].Data.Bytes())
	if err != nil {
		return false
	}
	var old, fresh string
	for _, c := range asked.Children {
		switch c.Tag {
		case 1:
			old = text(c)
		case 2:
			fresh = text(c)
		}
	}
	switch {
	case t.who == nil || old != t.who.password:
		return t.say(id, result(opExtDone, officeUnwilling, "the old password is wrong"))
	case len(fresh) < 10:
		return t.say(id, result(opExtDone, officeConstraint, "Password is too short"))
	case fresh == old:
		return t.say(id, result(opExtDone, officeConstraint, "Password is in the history"))
	}
	t.who.password, t.who.reset = fresh, false
	t.who.changed()
	return t.say(id, result(opExtDone, officeSuccess, ""))
}
