package cli_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/cli/terminal"
	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/demo"
	"innergate/store"
	"innergate/testbed"
)

// good runs a command line that must work, and returns what it printed.
func good(t testing.TB, args ...string) string {
	t.Helper()
	code, out, says := run(t, "", args...)
	require.Equal(t, 0, code, "%v: %s", args, says)
	return out
}

func TestKeysFromTheCommandLine(t *testing.T) {
	w := world(t)
	var made api.Key
	require.NoError(t, json.Unmarshal([]byte(good(t, "keys", "make", "--kind", "p-256", "-o", "json")), &made))
	assert.Equal(t, "next", made.State)
	assert.Contains(t, good(t, "keys", "rollover"), "Next step: `innergate keys publish`")
	assert.Contains(t, good(t, "keys", "request", made.ID), "CERTIFICATE REQUEST")
	certificate := good(t, "keys", "certificate", made.ID)
	assert.Contains(t, certificate, "BEGIN CERTIFICATE")
	file := filepath.Join(t.TempDir(), "chain.pem")
	require.NoError(t, os.WriteFile(file, []byte(certificate), 0o600))
	good(t, "keys", "certify", made.ID, file)
	code, _, says := run(t, "", "keys", "switch", made.ID)
	assert.Equal(t, terminal.ExitFailed, code)
	assert.Contains(t, says, "Publish it first")
	good(t, "keys", "publish", made.ID)
	good(t, "keys", "confirm", made.ID, "app", "crew-rota")
	assert.Contains(t, good(t, "keys", "rollover"), "1 of 2 partners")
	good(t, "keys", "confirm", made.ID, "app", "crew-rota", "--not")
	require.NoError(t, w.Fetch())
	assert.Contains(t, good(t, "keys", "rollover"), "2 of 2 partners")
	code, _, says = run(t, "", "keys", "switch", made.ID, "--at", "tomorrow")
	assert.Equal(t, terminal.ExitUsage, code)
	assert.Contains(t, says, "is no time")
	good(t, "keys", "switch", made.ID)
	assert.Contains(t, good(t, "keys", "rollover"), "the old one is kept")
	good(t, "keys", "undo", made.ID)
	good(t, "keys", "switch", made.ID)
	var list api.List[api.Key]
	require.NoError(t, json.Unmarshal([]byte(good(t, "keys", "list", "-o", "json")), &list))
	for _, k := range list.Items {
		if k.State == "retiring" {
			good(t, "keys", "retire", k.ID)
		}
	}
	assert.Contains(t, good(t, "keys", "list"), "retired")
	assert.Contains(t, good(t, "keys", "trusted", "--search", "crew"), "Crew Rota")

	// One that was made elsewhere, for one application alone.
	code, _, says = run(t, "not a key", "keys", "import", "-")
	assert.Equal(t, terminal.ExitFailed, code)
	assert.Contains(t, says, "neither PEM nor a PKCS #12")
	own := good(t, "keys", "make", "--for", "applications/crew-rota", "-o", "json")
	require.NoError(t, json.Unmarshal([]byte(own), &made))
	good(t, "keys", "discard", made.ID)
	code, _, says = run(t, "", "keys", "make", "--for", "nobody")
	assert.Equal(t, terminal.ExitFailed, code)
	assert.Contains(t, says, "names no partner")
}

func TestMetadataFromTheCommandLine(t *testing.T) {
	w := world(t)
	assert.Contains(t, good(t, "metadata", "refresh", "provider", "saltmere-staff"), "Nothing changed")
	require.NoError(t, w.Staff.AnnounceKey())
	assert.Contains(t, good(t, "metadata", "refresh", "provider", "saltmere-staff"), "waits for a decision")
	assert.Contains(t, good(t, "metadata", "diff", "provider", "saltmere-staff"), "certificate for signing")
	assert.Contains(t, good(t, "metadata", "history", "provider", "saltmere-staff"), "waiting")
	good(t, "metadata", "dismiss", "provider", "saltmere-staff")
	code, _, says := run(t, "", "metadata", "use", "provider", "saltmere-staff")
	assert.Equal(t, terminal.ExitFailed, code)
	assert.Contains(t, says, "no version waits")
	var list api.List[api.Document]
	require.NoError(t, json.Unmarshal([]byte(good(t, "metadata", "history", "provider", "saltmere-staff", "-o", "json")), &list))
	good(t, "metadata", "use", "provider", "saltmere-staff", "--version", list.Items[0].ID)
	code, _, says = run(t, "", "metadata", "refresh", "side", "x")
	assert.Equal(t, terminal.ExitUsage, code)
	assert.Contains(t, says, "is no side")
	assert.Contains(t, good(t, "metadata", "ours", "--app", "crew-rota"), "IDPSSODescriptor")

	// A lone role, with its entity ID given by hand; and a signature that is checked.
	doc, err := w.Desk.Metadata()
	require.NoError(t, err)
	cut := string(doc[strings.Index(string(doc), "<md:SPSSODescriptor"):strings.Index(string(doc), "</md:EntityDescriptor>")])
	code, out, _ := run(t, cut, "metadata", "read", "-", "--entity", "https://desk.saltmere.example")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "https://desk.saltmere.example")
	folder := t.TempDir()
	signed, pem := filepath.Join(folder, "signed.xml"), filepath.Join(folder, "gate.pem")
	require.NoError(t, os.WriteFile(signed, []byte(good(t, "metadata", "ours", "--signed")), 0o600))
	for _, k := range []string{"saml-signing", "saml-encryption"} {
		r, err := w.Client().Rollover(context.Background(), k, "")
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(pem, []byte(r.Active.PEM), 0o600))
		code, _, says := run(t, "", "metadata", "read", signed, "--certificate", pem)
		if k == "saml-signing" {
			assert.Equal(t, 0, code, says)
			assert.Contains(t, says, "The signature holds")
		} else {
			assert.Equal(t, terminal.ExitFailed, code)
			assert.Contains(t, says, "is not signed by")
		}
	}
	code, out, _ = run(t, "Issuer: "+w.URL+"/saml/idp/\n", "exchange", "app", "crew-rota", "--compare", "-")
	assert.Equal(t, terminal.ExitFailed, code)
	assert.Contains(t, out, "trailing slash")
	good(t, "exchange", "app", "crew-rota", "--note")
	assert.Contains(t, good(t, "exchange", "app", "crew-rota"), "handed out: sheet")
}

func TestSourcesAndTemplatesFromTheCommandLine(t *testing.T) {
	world(t)
	file := filepath.Join(t.TempDir(), "all.xml")
	var b strings.Builder
	b.WriteString(`<EntitiesDescriptor xmlns="` + saml.NSMetadata + `" Name="harbours.example">`)
	filler := strings.Repeat("x", 9000)
	for i := range 2000 {
		fmt.Fprintf(
			&b,
			`<EntityDescriptor entityID="https://port-%04d.example/saml"><SPSSODescriptor `+
				`protocolSupportEnumeration="%s"><Extensions><x xmlns="urn:x">%s</x></Extensions><AssertionConsumerService index="0" `+
				`Binding="%s" Location="https://port-%04d.example/acs"/></SPSSODescriptor></EntityDescriptor>`,
			i,
			saml.NSProtocol,
			filler,
			saml.BindingPost,
			i,
		)
	}
	b.WriteString("</EntitiesDescriptor>")
	require.Greater(t, b.Len(), saml.MaxMetadata, "too large for one piece")
	require.NoError(t, os.WriteFile(file, []byte(b.String()), 0o600))
	assert.Contains(t, good(t, "metadata", "read", file), "2000 entities: 0 identity providers, 2000 service providers")
	assert.Contains(t, good(t, "metadata", "read", file, "--entity", "https://port-1234.example/saml"), "https://port-1234.example/acs")
	assert.Contains(t, good(t, "source", "add", "--name", "Old list", "--file", file), "2000")
	assert.Contains(t, good(t, "source", "list"), "old-list")
	assert.Contains(t, good(t, "source", "entities", "old-list", "--search", "port-0007"), "https://port-0007.example/saml")
	code, out, _ := run(t, "", "source", "adopt", "old-list", "app", "https://port-0007.example/saml", "https://nowhere.example")
	assert.Equal(t, terminal.ExitFailed, code)
	assert.Contains(t, out, "created")
	assert.Contains(t, out, "refused")
	code, _, says := run(t, "", "source", "remove", "old-list")
	assert.Equal(t, terminal.ExitFailed, code)
	assert.Contains(t, says, "1 partners take their metadata")
	code, _, says = run(t, "", "source", "add", "--name", "X")
	assert.Equal(t, terminal.ExitUsage, code)
	assert.Contains(t, says, "--url")

	assert.Contains(t, good(t, "template", "list"), "role-pairs")
	assert.Contains(t, good(t, "template", "show", "role-pairs"), "blank account")
	good(t, "template", "start", "number-in-address", "--name", "Harbour App", "--value", "host=app.example", "--value", "number=7,8")
	assert.Contains(t, good(t, "app", "show", "harbour-app"), "https://app.example/saml/7,8/acs", "a value may hold a comma")
	good(t, "template", "save", "app", "harbour-app", "--name", "Ours", "--blank", "customer=7,8")
	assert.Contains(t, good(t, "template", "list"), "customer")
	good(t, "template", "remove", "ours")
	code, _, says = run(t, "", "template", "start", "role-pairs", "--name", "X", "--value", "account")
	assert.Equal(t, terminal.ExitUsage, code)
	assert.Contains(t, says, "name=value")
}

// TestMasterKeyIsRotated stops the gate, rotates, starts it again: everything is there, and no identifier of a person changed.
func TestMasterKeyIsRotated(t *testing.T) {
	folder := t.TempDir()
	w := testbed.World(t, demo.Options{Folder: folder})
	ctx := context.Background()
	doc, err := w.Desk.Metadata()
	require.NoError(t, err)
	_, err = w.Client().TakeProvider(ctx, "saltmere-staff", api.TakeIn{URL: w.StaffURL + "/metadata"})
	require.NoError(t, err)
	u, err := w.Client().Understand(ctx, "application", "", api.TakeIn{Text: string(doc)})
	require.NoError(t, err)
	u.App.Providers, u.App.StartURL, u.App.Reach, u.App.Access.To = []string{
		"saltmere-staff",
	}, w.DeskURL+"/sign-in", "everyone", "everybody"
	_, err = w.Client().AddApplication(ctx, *u.App)
	require.NoError(t, err)
	who := func() string {
		b := w.Walker()
		require.NoError(t, b.SignIn(ctx, w.DeskURL+"/sign-in", "jhale"))
		return b.Inner("nameid")
	}
	before := who()
	require.NotEmpty(t, before)
	active, err := w.Client().Rollover(ctx, keys.PurposeSigning, "")
	require.NoError(t, err)
	password := w.AgencyPassword()
	here := func(secret string, at time.Time) string {
		b := w.Walker()
		require.NoError(t, b.Get(ctx, w.LedgerURL+"/sign-in"))
		require.NoError(t, b.Onward(ctx))
		require.NoError(t, b.Submit(ctx, url.Values{"provider": {"harbour-register"}}))
		require.NoError(t, b.Onward(ctx))
		secret, _, err := b.SignInHere(ctx, "runa.holt", password, secret, at)
		require.NoError(t, err)
		require.NotEmpty(t, b.Inner("subject"), b.Text)
		return secret
	}
	factor := here("", time.Now())
	require.NotEmpty(t, factor)

	release, err := store.Hold(folder, false)
	require.NoError(t, err)
	code, _, says := run(t, "", "master-key", "rotate", "--data", folder)
	assert.Equal(t, terminal.ExitFailed, code)
	assert.Contains(t, says, "stop it first")
	release()
	old, err := os.ReadFile(filepath.Join(folder, "master.key"))
	require.NoError(t, err)
	w.Detach()
	assert.Contains(t, good(t, "master-key", "rotate", "--data", folder), "secrets were sealed anew")
	fresh, err := os.ReadFile(filepath.Join(folder, "master.key"))
	require.NoError(t, err)
	assert.NotEqual(t, old, fresh)
	assert.Len(t, strings.Fields(string(fresh)), 1)
	w, err = w.Reopen(folder)
	require.NoError(t, err)
	after, err := w.Client().Rollover(ctx, keys.PurposeSigning, "")
	require.NoError(t, err)
	assert.Equal(t, active.Active.SHA256, after.Active.SHA256)
	assert.Equal(t, before, who(), "subject identifiers stay")
	here(factor, time.Now().Add(30*time.Second)) // the second factor that was set up before is still one
	code, _, says = run(t, "", "master-key", "rotate", "--data", t.TempDir())
	assert.Equal(t, terminal.ExitFailed, code)
	assert.Contains(t, says, "no database")
}
