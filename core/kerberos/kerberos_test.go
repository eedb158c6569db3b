package kerberos_test

import (
	"encoding/base64"
	"encoding/binary"
	"testing"
	"time"

	"github.com/jcmturner/gofork/encoding/asn1"
	"github.com/jcmturner/gokrb5/v8/asn1tools"
	"github.com/jcmturner/gokrb5/v8/crypto"
	"github.com/jcmturner/gokrb5/v8/gssapi"
	"github.com/jcmturner/gokrb5/v8/iana/chksumtype"
	"github.com/jcmturner/gokrb5/v8/iana/etypeID"
	"github.com/jcmturner/gokrb5/v8/iana/flags"
	"github.com/jcmturner/gokrb5/v8/iana/keyusage"
	"github.com/jcmturner/gokrb5/v8/keytab"
	"github.com/jcmturner/gokrb5/v8/messages"
	"github.com/jcmturner/gokrb5/v8/spnego"
	"github.com/jcmturner/gokrb5/v8/types"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/explain"
	"innergate/core/kerberos"
	"innergate/core/trace"
)

const (
	realm = "SALTMERE.EXAMPLE"
	host  = "gate.saltmere.example"
	spn   = "HTTP/" + host
)

// made is a ticket as a KDC makes it and what is shown of it, with all that an attacker or a mistake may have changed.
type made struct {
	keytab                     *keytab.Keytab
	service, realm             string
	etype                      int32
	version                    int
	name, from                 string // whose ticket
	starts, ends               time.Duration
	shownName, shownFrom       string // in the authenticator, where they differ
	clock                      time.Duration
	checksum                   int32
	mechanisms                 []asn1.ObjectIdentifier
	bare, mutual, noKey, cross bool
	session                    types.EncryptionKey
	at                         time.Time
}

func keysOf(t testing.TB, service string, version uint8, etypes ...int32) *keytab.Keytab {
	t.Helper()
	kt := keytab.New()
	for _, e := range etypes {
		require.NoError(t, kt.AddEntry(service, realm, "Kelp-Harbour-7", time.Unix(1_780_000_000, 0), version, e))
	}
	return kt
}

func octets(t testing.TB, kt *keytab.Keytab) []byte {
	t.Helper()
	b, err := kt.Marshal()
	require.NoError(t, err)
	return b
}

func (m *made) header(t testing.TB) string {
	t.Helper()
	m.at = time.Now().UTC()
	ticket, session, err := messages.NewTicket(types.NewPrincipalName(1, m.name), m.from, types.NewPrincipalName(2, m.service), m.realm,
		types.NewKrbFlags(),
		m.keytab, m.etype, m.version, m.at.Add(m.starts), m.at.Add(m.starts), m.at.Add(m.ends), m.at.Add(m.ends))
	require.NoError(t, err)
	m.session = session
	name, from := m.name, m.from
	if m.shownName != "" {
		name = m.shownName
	}
	if m.shownFrom != "" {
		from = m.shownFrom
	}
	a, err := types.NewAuthenticator(from, types.NewPrincipalName(1, name))
	require.NoError(t, err)
	a.CTime = a.CTime.Add(m.clock)
	sum := make([]byte, 24)
	sum[0] = 16
	if m.mutual {
		binary.LittleEndian.PutUint32(sum[20:], gssapi.ContextFlagMutual)
	}
	a.Cksum = types.Checksum{CksumType: m.checksum, Checksum: sum}
	if m.noKey {
		etype, err := crypto.GetEtype(m.etype)
		require.NoError(t, err)
		session, err = types.GenerateEncryptionKey(etype)
		require.NoError(t, err)
	}
	req, err := messages.NewAPReq(ticket, session, a)
	require.NoError(t, err)
	if m.cross {
		types.SetFlag(&req.APOptions, flags.APOptionUseSessionKey)
	}
	b, err := req.Marshal()
	require.NoError(t, err)
	oid, err := asn1.Marshal(gssapi.OIDKRB5.OID())
	require.NoError(t, err)
	token := asn1tools.AddASNAppTag(append(append(oid, 1, 0), b...), 0)
	if !m.bare {
		s := spnego.SPNEGOToken{Init: true, NegTokenInit: spnego.NegTokenInit{MechTypes: m.mechanisms, MechTokenBytes: token}}
		token, err = s.Marshal()
		require.NoError(t, err)
	}
	return "Negotiate " + base64.StdEncoding.EncodeToString(token)
}

func right(t testing.TB) *made {
	return &made{
		keytab: keysOf(t, spn, 3, etypeID.AES256_CTS_HMAC_SHA1_96), service: spn, realm: realm, etype: etypeID.AES256_CTS_HMAC_SHA1_96,
		version: 3, name: "ada", from: realm, starts: -time.Minute, ends: time.Hour, checksum: chksumtype.GSSAPI,
		mechanisms: []asn1.ObjectIdentifier{gssapi.OIDMSLegacyKRB5.OID(), gssapi.OIDKRB5.OID()},
	}
}

func rules(t testing.TB, kt *keytab.Keytab) kerberos.Rules {
	t.Helper()
	k, err := kerberos.ReadKeytab(octets(t, kt), []string{host})
	require.NoError(t, err)
	return kerberos.Rules{Partner: "Quayside Desk", Keytab: k, Hosts: []string{host}, Realms: []string{realm}, Skew: 2 * time.Minute,
		Now: time.Now()}
}

func verify(r kerberos.Rules, header string) (*kerberos.Identity, []trace.Entry, error) {
	rec := trace.NewRecorder(time.Now(), time.Now)
	shown, err := kerberos.Read(header)
	if err != nil {
		return nil, nil, err
	}
	id, err := r.Verify(shown, rec)
	return id, rec.Entries(), err
}

// TestTicketsOfPeopleAreTaken takes each encryption that the library can make keys of, SPNEGO and the bare mechanism, and
// answers with a proof where one is asked for.
func TestTicketsOfPeopleAreTaken(t *testing.T) {
	t.Parallel()
	for _, etype := range []int32{17, 18, 19} {
		for _, bare := range []bool{true, false} {
			for _, mutual := range []bool{true, false} {
				m := right(t)
				m.keytab, m.etype, m.bare, m.mutual = keysOf(t, spn, 3, etype), etype, bare, mutual
				header := m.header(t)
				id, entries, err := verify(rules(t, m.keytab), header)
				require.NoError(t, err)
				assert.Equal(t, "ada@"+realm, id.Principal())
				assert.Equal(t, spn+"@"+realm, id.Service)
				assert.Equal(t, 3, id.Version)
				assert.Len(t, id.UsedID, 64)
				assert.True(t, id.UsedUntil.After(time.Now().Add(2*time.Minute)))
				assert.GreaterOrEqual(t, len(entries), 8)
				answered(t, m, id.Answer)
			}
		}
	}
}

// answered reads the answer as a browser does (RFC 4178, section 4.2.2; RFC 4120, section 3.2.5).
func answered(t *testing.T, m *made, answer string) {
	t.Helper()
	raw, err := base64.StdEncoding.DecodeString(answer)
	require.NoError(t, err)
	if !m.bare {
		var resp spnego.NegTokenResp
		require.NoError(t, resp.Unmarshal(raw))
		assert.EqualValues(t, spnego.NegStateAcceptCompleted, resp.NegState)
		assert.True(t, resp.SupportedMech.Equal(m.mechanisms[0]))
		raw = resp.ResponseToken
	}
	if !m.mutual {
		assert.Empty(t, raw)
		return
	}
	var token spnego.KRB5Token
	require.NoError(t, token.Unmarshal(raw))
	require.True(t, token.IsAPRep())
	plain, err := crypto.DecryptEncPart(token.APRep.EncPart, m.session, keyusage.AP_REP_ENCPART)
	require.NoError(t, err)
	var part messages.EncAPRepPart
	require.NoError(t, part.Unmarshal(plain))
	assert.WithinDuration(t, m.at, part.CTime, 2*time.Second)
}

// TestWhatIsNotTaken changes one thing at a time.
func TestWhatIsNotTaken(t *testing.T) {
	t.Parallel()
	aes := []int32{etypeID.AES256_CTS_HMAC_SHA1_96}
	for name, c := range map[string]struct {
		change func(*made)
		rules  func(*kerberos.Rules)
		want   explain.Code
	}{
		"another service": {change: func(m *made) {
			m.service, m.keytab = "HTTP/other.example", keysOf(t, "HTTP/other.example", 3, aes...)
		},
			want: explain.KerberosOtherService},
		"another kind of service": {change: func(m *made) { m.service, m.keytab = "cifs/"+host, keysOf(t, "cifs/"+host, 3, aes...) },
			want: explain.KerberosOtherService},
		"a weak encryption": {change: func(m *made) {
			m.etype, m.keytab = etypeID.RC4_HMAC, keysOf(t, spn, 3, etypeID.RC4_HMAC)
		}, want: explain.KerberosEncryption},
		"an encryption that the keytab lacks": {change: func(m *made) { m.etype, m.keytab = 17, keysOf(t, spn, 3, 17) },
			want: explain.KerberosEncryption},
		"a newer key": {change: func(m *made) { m.version, m.keytab = 4, keysOf(t, spn, 4, aes...) }, want: explain.KerberosKeyVersion},
		"another key of this version": {change: func(m *made) {
			m.keytab = keytab.New()
			require.NoError(t, m.keytab.AddEntry(spn, realm, "another", time.Now(), 3, aes[0]))
		}, want: explain.KerberosWrongKey},
		"over": {change: func(m *made) { m.starts, m.ends = -time.Hour, -3*time.Minute },
			want: explain.KerberosTicketOver},
		"not yet":                          {change: func(m *made) { m.starts = 3 * time.Minute }, want: explain.KerberosTicketOver},
		"a clock ten minutes behind":       {change: func(m *made) { m.clock = -10 * time.Minute }, want: explain.KerberosClock},
		"a clock ten minutes ahead":        {change: func(m *made) { m.clock = 10 * time.Minute }, want: explain.KerberosClock},
		"another name beside the ticket":   {change: func(m *made) { m.shownName = "root" }, want: explain.KerberosNotTheirs},
		"another realm beside the ticket":  {change: func(m *made) { m.shownFrom = "OTHER.EXAMPLE" }, want: explain.KerberosNotTheirs},
		"a ticket without its session key": {change: func(m *made) { m.noKey = true }, want: explain.KerberosNotTheirs},
		"no checksum of GSS-API":           {change: func(m *made) { m.checksum = 7 }, want: explain.KerberosNotTheirs},
		"user to user":                     {change: func(m *made) { m.cross = true }, want: explain.KerberosUnreadable},
		"a foreign realm":                  {change: func(m *made) { m.from = "OTHER.EXAMPLE" }, want: explain.KerberosRealm},
		"a machine":                        {change: func(m *made) { m.name = "QUAY07$" }, want: explain.KerberosNoPerson},
		"a service":                        {change: func(m *made) { m.name = "host/quay07" }, want: explain.KerberosNoPerson},
		"nobody":                           {change: func(m *made) { m.name = "WELLKNOWN/ANONYMOUS" }, want: explain.KerberosNoPerson},
		"NTLM preferred": {change: func(m *made) { m.mechanisms = []asn1.ObjectIdentifier{{1, 3, 6, 1, 4, 1, 311, 2, 2, 10}} },
			want: explain.KerberosNTLM},
		"another mechanism": {change: func(m *made) { m.mechanisms = []asn1.ObjectIdentifier{{1, 2, 3}} },
			want: explain.KerberosUnreadable},
		"no host of ours": {rules: func(r *kerberos.Rules) { r.Hosts = []string{"gate.other.example"} },
			want: explain.KerberosOtherService},
		"no keytab whatever": {rules: func(r *kerberos.Rules) { r.Keytab = &kerberos.Keytab{} }, want: explain.KerberosOtherService},
	} {
		m := right(t)
		r := rules(t, m.keytab)
		if c.change != nil {
			c.change(m)
		}
		if c.rules != nil {
			c.rules(&r)
		}
		id, _, err := verify(r, m.header(t))
		var f *explain.Failure
		require.ErrorAs(t, err, &f, name)
		assert.Equal(t, c.want, f.Code, "%s: %s", name, f)
		assert.Nil(t, id, name)
		if f.Code != explain.KerberosNTLM && c.want != explain.KerberosUnreadable {
			assert.Contains(t, f.Explain().Cause, "Quayside Desk", name)
		}
	}
}

// TestTokensThatAreNone reads what is no ticket, and never falls over it.
func TestTokensThatAreNone(t *testing.T) {
	t.Parallel()
	encoded := func(b ...byte) string { return "Negotiate " + base64.StdEncoding.EncodeToString(b) }
	for header, want := range map[string]explain.Code{
		"":            explain.KerberosNoTicket,
		"Basic YTpi":  explain.KerberosNoTicket,
		"Negotiate":   explain.KerberosUnreadable,
		"Negotiate !": explain.KerberosUnreadable,
		encoded([]byte("NTLMSSP\x00\x01\x00\x00\x00")...): explain.KerberosNTLM,
		encoded(0x60, 0x03, 1, 2, 3):                      explain.KerberosUnreadable,
		encoded(0xa1, 0x03, 1, 2, 3):                      explain.KerberosUnreadable,
		encoded(make([]byte, 49_500)...):                  explain.KerberosUnreadable,
	} {
		_, err := kerberos.Read(header)
		var f *explain.Failure
		require.ErrorAs(t, err, &f, header[:min(len(header), 40)])
		assert.Equal(t, want, f.Code, header[:min(len(header), 40)])
	}
	whole, err := base64.StdEncoding.DecodeString(right(t).header(t)[len("Negotiate "):])
	require.NoError(t, err)
	r := rules(t, right(t).keytab)
	for i := range whole { // each octet changed, and cut off after each
		changed := append([]byte{}, whole...)
		changed[i] ^= 0x55
		for _, shown := range [][]byte{changed, whole[:i]} {
			id, _, err := verify(r, encoded(shown...))
			var f *explain.Failure
			if err != nil {
				require.ErrorAs(t, err, &f)
				continue
			}
			assert.Equal(t, "ada@"+realm, id.Principal(), "an octet that says nothing was changed: %d", i)
			assert.Len(t, shown, len(whole), "cut off after %d", i)
		}
	}
}

// TestKeytabs shows what a keytab has without its keys, and refuses one with which nothing could be opened.
func TestKeytabs(t *testing.T) {
	t.Parallel()
	both := keysOf(t, spn, 3, etypeID.AES256_CTS_HMAC_SHA1_96, etypeID.RC4_HMAC)
	other := keysOf(t, "cifs/"+host, 1, etypeID.AES256_CTS_HMAC_SHA1_96)
	both.Entries = append(both.Entries, other.Entries...)
	k, err := kerberos.ReadKeytab(octets(t, both), []string{host})
	require.NoError(t, err)
	keys := k.Keys()
	require.Len(t, keys, 3)
	assert.Equal(t, spn, keys[0].Service)
	assert.Equal(t, "aes256-cts-hmac-sha1-96", keys[0].Encryption)
	assert.Empty(t, keys[0].Unfit)
	assert.Contains(t, keys[1].Unfit, "too weak")
	assert.Contains(t, keys[2].Unfit, "another service")
	assert.Equal(t, spn+"@"+realm+" v3", k.Summary())
	assert.Len(t, k.With(k).Keys(), 6)
	for name, c := range map[string]struct {
		data []byte
		want string
	}{
		"nothing":      {nil, "no keytab"},
		"a text":       {[]byte("-----BEGIN CERTIFICATE-----"), "no keytab"},
		"empty":        {[]byte{5, 2, 0, 0, 0, 0}, "no key in it"},
		"cut off":      {octets(t, both)[:40], "no keytab"},
		"long":         {make([]byte, kerberos.MostKeytab+1), "more than 64 KiB"},
		"of another":   {octets(t, other), "another service"},
		"weak alone":   {octets(t, keysOf(t, spn, 1, etypeID.RC4_HMAC)), "too weak"},
		"another host": {octets(t, keysOf(t, "HTTP/other.example", 1, etypeID.AES256_CTS_HMAC_SHA1_96)), "another service"},
	} {
		_, err := kerberos.ReadKeytab(c.data, []string{host})
		require.Error(t, err, name)
		assert.Contains(t, err.Error(), c.want, name)
	}
}

// FuzzRead holds the reading of tokens and keytabs against whatever comes.
func FuzzRead(f *testing.F) {
	whole, err := base64.StdEncoding.DecodeString(right(f).header(f)[len("Negotiate "):])
	require.NoError(f, err)
	f.Add(whole)
	f.Add(octets(f, keysOf(f, spn, 3, 18)))
	r := rules(f, right(f).keytab)
	f.Fuzz(func(t *testing.T, data []byte) {
		shown, err := kerberos.Read("Negotiate " + base64.StdEncoding.EncodeToString(data))
		if err == nil {
			_, _ = r.Verify(shown, trace.NewRecorder(time.Now(), time.Now))
		}
		_, _ = kerberos.ReadKeytab(data, []string{host})
	})
}

// BenchmarkVerify tells what a shown ticket costs, against the library's own verification of the same.
func BenchmarkVerify(b *testing.B) {
	m := right(b)
	header, r := m.header(b), rules(b, m.keytab)
	raw, err := base64.StdEncoding.DecodeString(header[len("Negotiate "):])
	require.NoError(b, err)
	var floor time.Duration
	b.ReportAllocs()
	for b.Loop() {
		began := time.Now()
		var token spnego.SPNEGOToken
		var inner spnego.KRB5Token
		require.NoError(b, token.Unmarshal(raw))
		require.NoError(b, inner.Unmarshal(token.NegTokenInit.MechTokenBytes))
		ok, err := inner.APReq.Verify(m.keytab, 2*time.Hour, types.HostAddress{}, nil)
		require.NoError(b, err)
		require.True(b, ok)
		floor += time.Since(began)
		r.Now = m.at
		_, _, err = verify(r, header)
		require.NoError(b, err)
	}
	whole := b.Elapsed()
	b.ReportMetric(float64(floor.Nanoseconds())/float64(b.N), "floor-ns/op")
	b.ReportMetric(float64(whole-floor)/float64(floor), "ratio")
}
