package testbed

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// KDC is the key distribution center of a realm of MIT Kerberos, Debian's, in a folder of its own.
type KDC struct {
	Folder string
	// Env is what programs need in their environment to find the realm.
	Env []string
	cmd *exec.Cmd
}

// What is the same in all realms.
const (
	Realm       = "SALTMERE.EXAMPLE"
	KDCPassword = "Kelp-Harbour-7"
)

// NewKDC makes a realm with one person, ada, and starts its KDC. Where it is not installed, the test is left out, unless the judges are
// required.
func NewKDC(t testing.TB) *KDC {
	t.Helper()
	for _, program := range []string{"/usr/sbin/krb5kdc", "/usr/sbin/kadmin.local", "/usr/sbin/kdb5_util", "/usr/bin/kinit"} {
		if _, err := os.Stat(program); err != nil {
			if os.Getenv("INNERGATE_JUDGES") == "required" {
				t.Fatal(program + " is not installed; `make tools` installs it")
			}
			t.Skip(program + " is not installed")
		}
	}
	k := &KDC{Folder: t.TempDir()}
	address := FreeAddress(t)
	_, port, err := net.SplitHostPort(address)
	require.NoError(t, err)
	fill := strings.NewReplacer("FOLDER", k.Folder, "PORT", port, "REALM", Realm)
	require.NoError(t, os.WriteFile(filepath.Join(k.Folder, "krb5.conf"), []byte(fill.Replace(krb5Conf)), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(k.Folder, "kdc.conf"), []byte(fill.Replace(kdcConf)), 0o600))
	k.Env = append(os.Environ(), "KRB5_CONFIG="+filepath.Join(k.Folder, "krb5.conf"),
		"KRB5_KDC_PROFILE="+filepath.Join(k.Folder, "kdc.conf"),
		"KRB5CCNAME=FILE:"+filepath.Join(k.Folder, "tickets"), "KRB5RCACHETYPE=none")
	k.run(t, "", "/usr/sbin/kdb5_util", "create", "-s", "-r", Realm, "-P", "master")
	k.Admin(t, "addprinc -pw "+KDCPassword+" ada")
	k.cmd = exec.Command("/usr/sbin/krb5kdc", "-n", "-r", Realm, "-P", filepath.Join(k.Folder, "pid"))
	k.cmd.Env = k.Env
	require.NoError(t, k.cmd.Start())
	t.Cleanup(func() {
		k.cmd.Process.Signal(syscall.SIGTERM)
		k.cmd.Wait() // how it ended does not matter
	})
	listens(t, address)
	return k
}

// Admin has the realm's administrator do something.
func (k *KDC) Admin(t testing.TB, query string) {
	t.Helper()
	k.run(t, "", "/usr/sbin/kadmin.local", "-r", Realm, "-q", query)
}

// Keytab makes a service known, if it is not yet, gives it a new key, and returns the keytab that holds the key.
func (k *KDC) Keytab(t testing.TB, service string) []byte {
	t.Helper()
	k.Admin(t, "addprinc -randkey "+service) // one that is there stays
	file := filepath.Join(k.Folder, fmt.Sprintf("%x.keytab", service))
	require.NoError(t, os.RemoveAll(file))
	k.Admin(t, "ktadd -k "+file+" "+service)
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	return data
}

// SignIn gets the person's ticket, as a machine does at whose keyboard somebody signs in.
func (k *KDC) SignIn(t testing.TB, name string) {
	t.Helper()
	k.run(t, KDCPassword+"\n", "/usr/bin/kinit", name)
}

// Config is the path of the realm's client configuration.
func (k *KDC) Config() string { return filepath.Join(k.Folder, "krb5.conf") }

func (k *KDC) run(t testing.TB, in, program string, args ...string) {
	t.Helper()
	c := exec.Command(program, args...)
	c.Env, c.Stdin = k.Env, strings.NewReader(in)
	out, err := c.CombinedOutput()
	require.NoError(t, err, "%s %v: %s", program, args, out)
}

const krb5Conf = `[libdefaults]
 default_realm = REALM
 dns_lookup_realm = false
 dns_lookup_kdc = false
 dns_canonicalize_hostname = false
 rdns = false
 udp_preference_limit = 1
 forwardable = true
[realms]
 REALM = {
  kdc = 127.0.0.1:PORT
 }
[domain_realm]
 .saltmere.example = REALM
 localhost = REALM
 127.0.0.1 = REALM
`

const kdcConf = `[kdcdefaults]
 kdc_listen = 127.0.0.1:PORT
 kdc_tcp_listen = 127.0.0.1:PORT
[realms]
 REALM = {
  database_name = FOLDER/principal
  key_stash_file = FOLDER/stash
  acl_file = FOLDER/kadm5.acl
  max_life = 10h
  supported_enctypes = aes256-cts-hmac-sha1-96:normal aes256-cts-hmac-sha384-192:normal
  master_key_type = aes256-cts-hmac-sha1-96
 }
[logging]
 kdc = FILE:FOLDER/kdc.log
`
