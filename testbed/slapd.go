package testbed

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Slapd is a directory server of Debian's, in a folder of its own, with the staff of the quays.
type Slapd struct {
	LDAPS, LDAP string // addresses
	CA          string // the certificate of the authority that signed its own, in PEM
	// Client is a certificate of the gate's own entry, cn=gate, with its key, in PEM.
	Client string
	Folder string
	cmd    *exec.Cmd
	args   []string
}

// What is the same in all of them.
const (
	SlapdBase     = "dc=saltmere,dc=example"
	SlapdAdmin    = "cn=admin," + SlapdBase
	SlapdSecret   = "a-secret-of-the-gate"
	SlapdPassword = "Kelp-Harbour-7"
)

// NewSlapd starts one. Where it is not installed, the test is left out, unless the judges are required.
func NewSlapd(t testing.TB) *Slapd {
	t.Helper()
	program, err := exec.LookPath("slapd")
	if err != nil {
		program = "/usr/sbin/slapd"
	}
	if _, err := os.Stat(program); err != nil {
		if os.Getenv("INNERGATE_JUDGES") == "required" {
			t.Fatal("slapd is not installed; `make tools` installs it")
		}
		t.Skip("slapd is not installed")
	}
	s := &Slapd{Folder: Folder(t)}
	plain, secure := FreeAddress(t), FreeAddress(t)
	_, port, err := net.SplitHostPort(plain)
	require.NoError(t, err)
	_, securePort, err := net.SplitHostPort(secure)
	require.NoError(t, err)
	s.LDAP, s.LDAPS = "ldap://localhost:"+port, "ldaps://localhost:"+securePort
	s.certify(t)
	require.NoError(t, os.Mkdir(filepath.Join(s.Folder, "db"), 0o700))
	s.write(t, "slapd.conf", strings.ReplaceAll(slapdConf, "FOLDER", s.Folder))
	s.write(t, "base.ldif", slapdPeople)
	s.write(t, "groups.ldif", slapdGroups)
	out, err := exec.Command(program, "-T", "add", "-q", "-f", filepath.Join(s.Folder, "slapd.conf"), "-l",
		filepath.Join(s.Folder, "base.ldif")).CombinedOutput()
	require.NoError(t, err, string(out))
	s.args = []string{program, "-f", filepath.Join(s.Folder, "slapd.conf"), "-h", "ldap://127.0.0.1:" + port + " ldaps://127.0.0.1:" +
		securePort, "-d", "0"}
	s.Start(t)
	t.Cleanup(s.Stop)
	// Groups are added by the server, which notes of each person what they are in.
	s.Change(t, "ldapadd", slapdGroups)
	return s
}

// Start starts it, again.
func (s *Slapd) Start(t testing.TB) {
	t.Helper()
	s.cmd = exec.Command(s.args[0], s.args[1:]...)
	require.NoError(t, s.cmd.Start())
	listens(t, strings.TrimPrefix(s.LDAP, "ldap://"))
}

// Stop stops it.
func (s *Slapd) Stop() {
	if s.cmd != nil {
		s.cmd.Process.Signal(syscall.SIGTERM)
		s.cmd.Wait() // how it ended does not matter
		s.cmd = nil
	}
}

// Fill adds many entries at once, while it is stopped.
func (s *Slapd) Fill(t testing.TB, ldif string) {
	t.Helper()
	s.Stop()
	s.write(t, "more.ldif", ldif)
	out, err := exec.Command(s.args[0], "-T", "add", "-q", "-f", filepath.Join(s.Folder, "slapd.conf"), "-l",
		filepath.Join(s.Folder, "more.ldif")).CombinedOutput()
	require.NoError(t, err, string(out))
	s.Start(t)
}

// Change has one of the directory's own programs change it as its administrator.
func (s *Slapd) Change(t testing.TB, program, ldif string) {
	t.Helper()
	c := exec.Command(program, "-x", "-H", s.LDAP, "-D", SlapdAdmin, "-w", SlapdSecret)
	c.Stdin = strings.NewReader(ldif)
	out, err := c.CombinedOutput()
	require.NoError(t, err, string(out))
}

func (s *Slapd) write(t testing.TB, name, text string) {
	t.Helper()
	require.NoError(t, os.WriteFile(filepath.Join(s.Folder, name), []byte(text), 0o600))
}

// certify makes an authority and the server's certificate.
func (s *Slapd) certify(t testing.TB) {
	t.Helper()
	key := func() *ecdsa.PrivateKey {
		k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		require.NoError(t, err)
		return k
	}
	ca, own := key(), key()
	form := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Harbour Office CA"}, IsCA: true,
		BasicConstraintsValid: true, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(48 * time.Hour),
		KeyUsage: x509.KeyUsageCertSign}
	der, err := x509.CreateCertificate(rand.Reader, form, form, ca.Public(), ca)
	require.NoError(t, err)
	s.CA = string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
	leaf := &x509.Certificate{SerialNumber: big.NewInt(2), Subject: pkix.Name{CommonName: "localhost"}, DNSNames: []string{"localhost"},
		NotBefore: form.NotBefore, NotAfter: form.NotAfter, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	signed, err := x509.CreateCertificate(rand.Reader, leaf, form, own.Public(), ca)
	require.NoError(t, err)
	held, err := x509.MarshalPKCS8PrivateKey(own)
	require.NoError(t, err)
	client := key()
	leaf = &x509.Certificate{SerialNumber: big.NewInt(3), Subject: pkix.Name{CommonName: "gate"}, NotBefore: form.NotBefore,
		NotAfter: form.NotAfter, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}}
	given, err := x509.CreateCertificate(rand.Reader, leaf, form, client.Public(), ca)
	require.NoError(t, err)
	secret, err := x509.MarshalPKCS8PrivateKey(client)
	require.NoError(t, err)
	s.Client = string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: given})) +
		string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secret}))
	s.write(t, "ca.crt", s.CA)
	s.write(t, "ldap.crt", string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: signed})))
	s.write(t, "ldap.key", string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: held})))
}

const slapdConf = `include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/nis.schema
include /etc/ldap/schema/inetorgperson.schema
modulepath /usr/lib/ldap
moduleload back_mdb
moduleload memberof
moduleload ppolicy
TLSCACertificateFile FOLDER/ca.crt
TLSVerifyClient allow
authz-regexp "^cn=gate$" "cn=admin,dc=saltmere,dc=example"
TLSCertificateFile FOLDER/ldap.crt
TLSCertificateKeyFile FOLDER/ldap.key
sizelimit size.soft=500 size.hard=500 size.prtotal=unlimited size.pr=1000
password-hash {SSHA}
database mdb
maxsize 1073741824
suffix "dc=saltmere,dc=example"
rootdn "cn=admin,dc=saltmere,dc=example"
rootpw ` + SlapdSecret + `
directory FOLDER/db
index objectClass,uid,mail,member,uniqueMember,memberUid,memberOf,entryUUID eq
overlay memberof
memberof-group-oc groupOfNames
memberof-member-ad member
memberof-memberof-ad memberOf
overlay ppolicy
ppolicy_default "cn=standard,ou=policies,dc=saltmere,dc=example"
ppolicy_use_lockout
ppolicy_hash_cleartext
access to attrs=userPassword by self write by anonymous auth by * none
access to * by * read
`

// slapdPerson is one entry of the staff.
func slapdPerson(uid, given, family string) string {
	return fmt.Sprintf("dn: uid=%[1]s,ou=people,%[4]s\nobjectClass: inetOrgPerson\nuid: %[1]s\ncn: %[2]s "+
		"%[3]s\ngivenName: %[2]s\nsn: %[3]s\n"+
		"mail: %[1]s@saltmere.example\nuserPassword: %[5]s\n\n", uid, given, family, SlapdBase, SlapdPassword)
}

var slapdPeople = `dn: dc=saltmere,dc=example
objectClass: dcObject
objectClass: organization
o: Saltmere
dc: saltmere

dn: ou=people,dc=saltmere,dc=example
objectClass: organizationalUnit
ou: people

dn: ou=groups,dc=saltmere,dc=example
objectClass: organizationalUnit
ou: groups

dn: ou=policies,dc=saltmere,dc=example
objectClass: organizationalUnit
ou: policies

dn: cn=standard,ou=policies,dc=saltmere,dc=example
objectClass: device
objectClass: pwdPolicy
cn: standard
pwdAttribute: userPassword
pwdLockout: TRUE
pwdMaxFailure: 3
pwdLockoutDuration: 300
pwdMaxAge: 8640000
pwdMinLength: 8
pwdCheckQuality: 1
pwdInHistory: 3
pwdMustChange: TRUE
pwdAllowUserChange: TRUE

dn: cn=short,ou=policies,dc=saltmere,dc=example
objectClass: device
objectClass: pwdPolicy
cn: short
pwdAttribute: userPassword
pwdMaxAge: 1
pwdGraceAuthNLimit: 0

` + slapdPerson("wfell", "Wanda", "Fell") + slapdPerson("hbrook", "Hal", "Brook") + slapdPerson("ilark", "Ida", "Lark") +
	slapdPerson("ntide", "Nils", "Tide") + `dn: cn=Odd (Name)*\, Esq,ou=people,dc=saltmere,dc=example
objectClass: inetOrgPerson
uid: odd*(x)\y
cn: Odd (Name)*, Esq
sn: Odd
mail: odd@saltmere.example
userPassword: ` + SlapdPassword + `
`

const slapdGroups = `dn: cn=quay-staff,ou=groups,dc=saltmere,dc=example
objectClass: groupOfNames
cn: quay-staff
member: uid=wfell,ou=people,dc=saltmere,dc=example
member: uid=hbrook,ou=people,dc=saltmere,dc=example

dn: cn=harbour,ou=groups,dc=saltmere,dc=example
objectClass: groupOfNames
cn: harbour
member: cn=quay-staff,ou=groups,dc=saltmere,dc=example

dn: cn=everyone,ou=groups,dc=saltmere,dc=example
objectClass: groupOfNames
cn: everyone
member: cn=harbour,ou=groups,dc=saltmere,dc=example
member: cn=everyone,ou=groups,dc=saltmere,dc=example

dn: cn=cranes,ou=groups,dc=saltmere,dc=example
objectClass: groupOfUniqueNames
cn: cranes
uniqueMember: uid=wfell,ou=people,dc=saltmere,dc=example

dn: cn=ropes,ou=groups,dc=saltmere,dc=example
objectClass: posixGroup
cn: ropes
gidNumber: 500
memberUid: wfell
`
