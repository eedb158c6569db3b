package kerberos

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/jcmturner/gokrb5/v8/iana/etypeID"
	"github.com/jcmturner/gokrb5/v8/keytab"
	"github.com/jcmturner/gokrb5/v8/types"
)

// MostKeytab is how many octets a keytab may have.
const MostKeytab = 64 << 10

// mostKeys is how many keys of a keytab are looked at.
const mostKeys = 500

// Service is the name under which browsers ask for a ticket to a web server, before the slash and its host (RFC 4559, section 4).
const Service = "HTTP"

// encryptions are the types of encryption that are taken, with how long a key of each is. All others are too weak.
var encryptions = map[int32]struct {
	name   string
	octets int
}{
	etypeID.AES128_CTS_HMAC_SHA1_96:    {"aes128-cts-hmac-sha1-96", 16},
	etypeID.AES256_CTS_HMAC_SHA1_96:    {"aes256-cts-hmac-sha1-96", 32},
	etypeID.AES128_CTS_HMAC_SHA256_128: {"aes128-cts-hmac-sha256-128", 16},
	etypeID.AES256_CTS_HMAC_SHA384_192: {"aes256-cts-hmac-sha384-192", 32},
}

// encryptionName names a type of encryption, also one that is not taken.
func encryptionName(id int32) string {
	if e, ok := encryptions[id]; ok {
		return e.name
	}
	for _, name := range slices.Sorted(maps.Keys(etypeID.ETypesByName)) {
		if etypeID.ETypesByName[name] == id {
			return name
		}
	}
	return fmt.Sprint("type ", id)
}

// Key is what may be shown of one key of a keytab.
type Key struct {
	// Service is the name before the realm, such as HTTP/gate.saltmere.example.
	Service, Realm string
	Version        int
	Encryption     string
	Made           time.Time
	// Unfit says why nothing is opened with it; empty where something is.
	Unfit string
}

// Keytab is the keys with which tickets are opened. The zero value opens none.
type Keytab struct{ keys []key }

type key struct {
	Key
	id  int32
	key types.EncryptionKey
}

// ReadKeytab reads a keytab as the tools of a realm write it. It refuses one with which no ticket for one of the hosts could be opened.
func ReadKeytab(data []byte, hosts []string) (k *Keytab, err error) {
	if len(data) > MostKeytab {
		return nil, fmt.Errorf("it has more than %d KiB, as no keytab for one service has", MostKeytab>>10)
	}
	defer func() {
		if recover() != nil { // the library trusts the lengths that stand in the file
			k, err = nil, errors.New("it is damaged: a length in it can't be")
		}
	}()
	held := keytab.New()
	if held.Unmarshal(data) != nil {
		return nil, errors.New("it is no keytab; a keytab is a binary file that ktutil, kadmin's ktadd or ktpass writes")
	}
	if len(held.Entries) > mostKeys {
		return nil, fmt.Errorf("it holds more than %d keys", mostKeys)
	}
	k = &Keytab{}
	for _, e := range held.Entries {
		one := key{id: e.Key.KeyType, key: e.Key, Key: Key{
			Service: strings.Join(e.Principal.Components, "/"), Realm: e.Principal.Realm, Version: int(e.KVNO), Made: e.Timestamp.UTC(),
			Encryption: encryptionName(e.Key.KeyType),
		}}
		one.Unfit = unfit(&one, hosts)
		k.keys = append(k.keys, one)
	}
	if len(k.keys) == 0 {
		return nil, errors.New("there is no key in it")
	}
	if !slices.ContainsFunc(k.keys, func(one key) bool { return one.Unfit == "" }) {
		return nil, fmt.Errorf("no key in it opens tickets for %s/%s: %s: %s", Service, strings.Join(hosts, " or "), k.keys[0].Service,
			k.keys[0].Unfit)
	}
	return k, nil
}

// unfit says why a key opens nothing here.
func unfit(k *key, hosts []string) string {
	e, ok := encryptions[k.id]
	switch {
	case !servesHost(k.Service, hosts):
		return "it is for another service than " + Service + "/" + strings.Join(hosts, " or ")
	case !ok:
		return k.Encryption + " is too weak; only AES is taken"
	case len(k.key.KeyValue) != e.octets:
		return fmt.Sprintf("a key of %s has %d octets, and this one %d", e.name, e.octets, len(k.key.KeyValue))
	}
	return ""
}

// servesHost says whether a service's name is that of a web server at one of the hosts. Hosts are compared as DNS does.
func servesHost(service string, hosts []string) bool {
	kind, host, ok := strings.Cut(service, "/")
	return ok && kind == Service && slices.ContainsFunc(hosts, func(h string) bool { return strings.EqualFold(h, host) })
}

// Keys are all keys of the keytab, in its order.
func (k *Keytab) Keys() []Key {
	out := []Key{}
	for _, one := range k.keys {
		out = append(out, one.Key)
	}
	return out
}

// With is the keys of both: while a key is replaced, tickets of the old and of the new one are shown.
func (k *Keytab) With(other *Keytab) *Keytab {
	return &Keytab{append(slices.Clone(k.keys), other.keys...)}
}

// Summary is a keytab in a line, without its keys.
func (k *Keytab) Summary() string {
	var out []string
	for _, one := range k.keys {
		if line := fmt.Sprintf("%s@%s v%d", one.Service, one.Realm, one.Version); one.Unfit == "" && !slices.Contains(out, line) {
			out = append(out, line)
		}
	}
	return strings.Join(out, ", ")
}
