package kerberos

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jcmturner/gokrb5/v8/crypto"
	"github.com/jcmturner/gokrb5/v8/iana/chksumtype"
	"github.com/jcmturner/gokrb5/v8/iana/flags"
	"github.com/jcmturner/gokrb5/v8/iana/keyusage"
	"github.com/jcmturner/gokrb5/v8/messages"
	"github.com/jcmturner/gokrb5/v8/types"

	"innergate/core/explain"
	"innergate/core/trace"
)

// Rules are what a shown ticket is held against.
type Rules struct {
	// Partner is the provider's name, for explanations.
	Partner string
	Keytab  *Keytab
	// Hosts are the names under which this service is reached. A ticket for another one is none for us.
	Hosts []string
	// Realms are those whose people may come. The realm that counts is the one in the ticket, which the KDC wrote.
	Realms []string
	Now    time.Time
	// Skew is how far the clock of whoever shows the ticket may be from ours.
	Skew time.Duration
}

// Identity is whom a ticket vouches for.
type Identity struct {
	// Name is the principal without its realm.
	Name, Realm string
	// Service is for whom the ticket was, with its realm, Encryption how, and Version of which key.
	Service, Encryption string
	Version             int
	// SignedIn is when the person got the ticket from which this one was made; Until is the ticket's end.
	SignedIn, Until time.Time
	// UsedID is a name of what was shown that nothing else has. It must not come again before UsedUntil.
	UsedID    string
	UsedUntil time.Time
	// Answer is the token with which this side says that it is the one that was meant, for the header WWW-Authenticate.
	Answer string
}

// Principal is the whole name.
func (i *Identity) Principal() string { return i.Name + "@" + i.Realm }

// verification is one run of the checks.
type verification struct {
	Rules
	rec   *trace.Recorder
	shown *Shown
}

// Verify holds what was shown against the rules (RFC 4120, section 3.2.3), one check after the other; each is recorded. Its errors are
// explanations. Whether it was shown before is the caller's to find out, by UsedID.
func (r Rules) Verify(shown *Shown, rec *trace.Recorder) (id *Identity, err error) {
	v := &verification{r, rec, shown}
	defer func() {
		if recover() != nil { // the library trusts some of what it decrypted
			id, err = nil, v.of(unreadable("what was encrypted can't be read"))
		}
	}()
	key, err := v.keyOf()
	if err != nil {
		return nil, err
	}
	ticket, err := v.opened(key)
	if err != nil {
		return nil, err
	}
	if err := v.inTime(ticket); err != nil {
		return nil, err
	}
	if err := v.authentic(ticket); err != nil {
		return nil, err
	}
	id, err = v.person(ticket)
	if err != nil {
		return nil, err
	}
	id.Service, id.Version, id.Encryption = v.service(), key.Version, key.Encryption
	return id, v.answer(ticket, id)
}

func (v *verification) of(err error) error {
	var f *explain.Failure
	if errors.As(err, &f) {
		return f.Of(v.Partner)
	}
	return err
}

// check records one check and refuses where it did not hold.
func (v *verification) check(name, text, section string, ok bool, expected, got string, code explain.Code) error {
	v.rec.Check(trace.Check{Name: "kerberos." + name, Text: text, Section: section, Expected: expected, Got: got, OK: ok})
	if ok {
		return nil
	}
	return explain.New(code, explain.Pair(name, expected, got)).Of(v.Partner)
}

// service is for whom the ticket is, as it says in clear.
func (v *verification) service() string {
	t := &v.shown.req.Ticket
	return strings.Join(t.SName.NameString, "/") + "@" + t.Realm
}

// keyOf finds the key with which the ticket was encrypted, and tells what is missing where there is none.
func (v *verification) keyOf() (*key, error) {
	t := &v.shown.req.Ticket
	service, _, _ := strings.Cut(v.service(), "@")
	expected := Service + "/" + strings.Join(v.Hosts, " or ")
	if err := v.check("service", "The ticket is for this service", "RFC 4120, section 3.2.3", servesHost(service, v.Hosts), expected,
		v.service(), explain.KerberosOtherService); err != nil {
		return nil, err
	}
	_, fits := encryptions[t.EncPart.EType]
	if err := v.check("encryption", "It is encrypted by AES", "RFC 8429", fits, "AES", encryptionName(t.EncPart.EType),
		explain.KerberosEncryption); err != nil {
		return nil, err
	}
	var named, versions, types []string
	for i := range v.Keytab.keys {
		k := &v.Keytab.keys[i]
		if !strings.EqualFold(k.Service, service) || k.Realm != t.Realm {
			named = append(named, k.Service+"@"+k.Realm)
			continue
		}
		if t.EncPart.KVNO != 0 && t.EncPart.KVNO != k.Version {
			versions = append(versions, fmt.Sprint(k.Version))
			continue
		}
		if k.id != t.EncPart.EType || k.Unfit != "" {
			types = append(types, k.Encryption)
			continue
		}
		return k, v.check("key", "The keytab has its key", "RFC 4120, section 3.2.3", true, v.service(), fmt.Sprintf("version %d, %s",
			k.Version, k.Encryption), "")
	}
	const text = "The keytab has its key"
	switch {
	case len(types) > 0:
		return nil, v.check("key", text, "RFC 4120, section 3.2.3", false, strings.Join(types, ", "), encryptionName(t.EncPart.EType),
			explain.KerberosEncryption)
	case len(versions) > 0:
		return nil, v.check("key", text, "RFC 4120, section 3.2.3", false, "version "+strings.Join(slices.Compact(versions), ", "),
			fmt.Sprint("version ", t.EncPart.KVNO), explain.KerberosKeyVersion)
	}
	return nil, v.check("key", text, "RFC 4120, section 3.2.3", false, strings.Join(slices.Compact(named), ", "), v.service(),
		explain.KerberosOtherService)
}

// opened decrypts the ticket. Whoever can't be decrypted by the key of this name and version was encrypted by another one.
func (v *verification) opened(k *key) (*messages.EncTicketPart, error) {
	t := &v.shown.req.Ticket
	err := t.Decrypt(k.key)
	return &t.DecryptedEncPart, v.check("ticket", "The ticket was made for this key", "RFC 4120, section 3.2.3", err == nil,
		fmt.Sprintf("version %d of %s", k.Version, k.Service), how(err == nil, "it opens", "it does not open it"), explain.KerberosWrongKey)
}

func how(ok bool, yes, no string) string {
	if ok {
		return yes
	}
	return no
}

// inTime holds the ticket's times against now.
func (v *verification) inTime(t *messages.EncTicketPart) error {
	starts := t.StartTime
	if starts.IsZero() {
		starts = t.AuthTime
	}
	ok := !types.IsFlagSet(&t.Flags, flags.Invalid) && !v.Now.Add(v.Skew).Before(starts) && v.Now.Add(-v.Skew).Before(t.EndTime)
	return v.check("time", "The ticket counts now", "RFC 4120, section 3.2.3", ok, v.Now.UTC().Format(time.RFC3339),
		starts.UTC().Format(time.RFC3339)+" to "+t.EndTime.UTC().Format(time.RFC3339), explain.KerberosTicketOver)
}

// authentic opens the authenticator, by which whoever shows the ticket proves that it is theirs, just now.
func (v *verification) authentic(t *messages.EncTicketPart) error {
	a := &v.shown.req
	if types.IsFlagSet(&a.APOptions, flags.APOptionUseSessionKey) {
		return v.of(unreadable("it asks for a key that a server of this kind has not (user-to-user)"))
	}
	plain, err := crypto.DecryptEncPart(a.EncryptedAuthenticator, t.Key, keyusage.AP_REQ_AUTHENTICATOR)
	if err == nil {
		err = a.Authenticator.Unmarshal(plain)
	}
	who := &a.Authenticator
	ok := err == nil && who.CName.Equal(t.CName) && who.CRealm == t.CRealm
	if err := v.check("authenticator", "Whoever shows the ticket has its key, and its name", "RFC 4120, section 3.2.3", ok,
		strings.Join(t.CName.NameString, "/")+"@"+t.CRealm, how(err == nil, strings.Join(who.CName.NameString, "/")+"@"+who.CRealm,
			"it does not open"), explain.KerberosNotTheirs); err != nil {
		return err
	}
	const octets = 24
	if err := v.check("checksum", "It was made for a sign-in such as this", "RFC 4121, section 4.1.1",
		who.Cksum.CksumType == chksumtype.GSSAPI && len(who.Cksum.Checksum) >= octets, "the checksum of GSS-API",
		fmt.Sprint("type ", who.Cksum.CksumType), explain.KerberosNotTheirs); err != nil {
		return err
	}
	at := who.CTime.Add(time.Duration(who.Cusec) * time.Microsecond)
	apart := v.Now.Sub(at).Abs()
	return v.check("clock", "It was made just now", "RFC 4120, section 3.2.3", apart <= v.Skew && who.Cusec >= 0 && who.Cusec < 1e6,
		fmt.Sprint("at most ", v.Skew), apart.Round(time.Second).String(), explain.KerberosClock)
}

// person finds whom the ticket is of. Services, machines and nobody in particular are no people.
func (v *verification) person(t *messages.EncTicketPart) (*Identity, error) {
	parts := t.CName.NameString
	id := &Identity{Name: strings.Join(parts, "/"), Realm: t.CRealm, SignedIn: t.AuthTime, Until: t.EndTime}
	if err := v.check("realm", "It is of a realm whose people may come", "RFC 4120, section 2.7", slices.Contains(v.Realms, t.CRealm),
		strings.Join(v.Realms, " or "), t.CRealm, explain.KerberosRealm); err != nil {
		return nil, err
	}
	ok := len(parts) == 1 && parts[0] != "" && !strings.HasSuffix(parts[0], "$") && !strings.ContainsAny(parts[0], "\x00\r\n")
	if err := v.check("person", "It is of a person", "RFC 4120, section 6.2", ok, "a name of one part", id.Principal(),
		explain.KerberosNoPerson); err != nil {
		return nil, err
	}
	a := &v.shown.req.Authenticator
	sum := sha256.New()
	fmt.Fprintf(sum, "%s\x00%s\x00%d\x00%d\x00", id.Principal(), v.service(), a.CTime.Unix(), a.Cusec)
	sum.Write(v.shown.req.EncryptedAuthenticator.Cipher)
	id.UsedID, id.UsedUntil = hex.EncodeToString(sum.Sum(nil)), a.CTime.Add(2*v.Skew)
	return id, nil
}
