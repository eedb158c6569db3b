package testbed

import (
	"context"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/keys"
	"innergate/core/people"
	"innergate/core/saml"
	"innergate/gate"
	"innergate/gate/fetch"
	"innergate/gate/ground"
	"innergate/gate/persons"
	"innergate/store"
)

// Lab is a gate without a server, with a clock that tests turn.
type Lab struct {
	*gate.Gate
	Clock  time.Time
	Folder string
}

// Owner is somebody who may do everything.
var Owner = ground.Actor{ID: "administrator/fenna", Name: "Fenna", Role: ground.RoleOwner, From: "192.0.2.7"}

// NewLab makes a gate over an empty store, at nine o'clock of a Monday.
func NewLab(t testing.TB) *Lab {
	t.Helper()
	l := &Lab{Clock: time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC), Folder: Folder(t)}
	master, err := store.MasterKeys("", filepath.Join(l.Folder, "master.key"), true)
	require.NoError(t, err)
	sealer, err := store.NewSealer(master[0], master[1:]...)
	require.NoError(t, err)
	s, err := store.Open(l.Folder, sealer)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	l.Gate, err = gate.New(context.Background(), gate.Options{
		Store:        s,
		PublicURL:    "https://gate.saltmere.example/",
		Now:          func() time.Time { return l.Clock },
		Fetch:        &fetch.Fetcher{AllowPrivate: true},
		KeySource:    Keys(),
		PasswordCost: Cost,
	})
	require.NoError(t, err)
	return l
}

// Turn turns the clock forward.
func (l *Lab) Turn(by time.Duration) { l.Clock = l.Clock.Add(by) }

// Status is the status of a problem, or 0.
func Status(err error) int {
	if p, ok := err.(*api.Problem); ok {
		return p.Status
	}
	return 0
}

// Metadata makes an entity's metadata with the given roles.
func Metadata(t testing.TB, id string, roles ...saml.RoleKind) string {
	t.Helper()
	k, err := keys.Generate(keys.P256)
	require.NoError(t, err)
	der, err := keys.SelfSigned(k, id, time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC), 365*24*time.Hour)
	require.NoError(t, err)
	cert, err := keys.ParseCertificate(der)
	require.NoError(t, err)
	entity := saml.Entity{EntityID: id}
	for _, kind := range roles {
		r := saml.Role{
			Kind:          kind,
			DisplayName:   "Ferry " + string(kind),
			Keys:          []saml.KeyDescriptor{{Use: "signing", Certificate: cert}},
			NameIDFormats: []string{saml.FormatPersistent},
		}
		service := saml.ServiceSSO
		if kind == saml.RoleSP {
			service = saml.ServiceACS
		}
		r.Endpoints = []saml.Endpoint{{Service: service, Binding: saml.BindingPost, Location: id + "/" + string(kind)}}
		entity.Roles = append(entity.Roles, r)
	}
	doc, err := saml.WriteMetadata(entity, 0, time.Now(), nil)
	require.NoError(t, err)
	return string(doc)
}

// Furnish gives a lab a provider (staff) and applications of three kinds: rota (SAML), ledger (OpenID Connect) and notes (a
// plain address). All are open to everybody, and everything people need to get in is there.
func (l *Lab) Furnish(t testing.TB) {
	t.Helper()
	ctx := context.Background()
	pair := NewPair(t, "staff")
	pem := []config.Certificate{{Use: "signing", PEM: string(keys.EncodeCertificate(pair.Cert.Raw))}}
	_, err := l.Configuration.SaveProvider(ctx, Owner, "", config.Provider{
		Slug: "staff", Name: "Saltmere Staff", Kind: config.KindSAML, Reach: access.Everyone, Admission: "create",
		SAML: &config.SAMLProvider{
			EntityID: "https://id.example/idp", Certificates: pem,
			SSO: []saml.Endpoint{{Binding: saml.BindingRedirect, Location: "https://id.example/sso"}},
		},
		Mapping:  claims.Standard(),
		Matching: &people.Matching{Domains: []string{"saltmere.example"}, Unscoped: true, Groups: []string{"*"}},
	}, 0)
	require.NoError(t, err)
	for _, a := range []config.Application{
		{
			Slug: "rota", Name: "Crew Rota", Kind: config.KindSAML,
			SAML: &config.SAMLApplication{
				EntityID: "https://rota.example/saml",
				ACS:      []saml.Endpoint{{Binding: saml.BindingPost, Location: "https://rota.example/acs"}},
			},
			Subject: config.Subject{Source: "profile", From: "preferred_username"}, StartURL: "https://rota.example/",
		},
		{
			Slug: "ledger", Name: "Cargo Ledger", Kind: config.KindOIDC,
			OIDC:    &config.OIDCApplication{RedirectURIs: []string{"https://ledger.example/cb"}, Scopes: []string{"openid", "email"}},
			Subject: config.Subject{Source: "pairwise"},
		},
		{Slug: "notes", Name: "Notes", Kind: config.KindLink, StartURL: "https://notes.example/"},
	} {
		a.Reach, a.Access.To, a.Providers = access.Everyone, access.Everybody, []string{"staff"}
		_, err := l.Configuration.SaveApplication(ctx, Owner, "", a, 0)
		require.NoError(t, err, a.Slug)
	}
}

// Person adds somebody to a lab, by the name of their account.
func (l *Lab) Person(t testing.TB, account, name string) *api.Person {
	t.Helper()
	p, err := l.Persons.SavePerson(context.Background(), Owner, "", api.SavePerson{Profile: claims.Bag{
		"name": {name}, "preferred_username": {account}, "email": {account + "@saltmere.example"},
	}})
	require.NoError(t, err)
	return p
}

// Link links somebody to the provider of a furnished lab, as a sign-in does.
func (l *Lab) Link(t testing.TB, person *api.Person, subject string) {
	t.Helper()
	ctx := context.Background()
	p, err := l.Partners.Provider(ctx, "staff")
	require.NoError(t, err)
	require.NoError(t, l.Store.Write(ctx, func(tx *gorm.DB) error {
		_, err := persons.LinkOnce(tx, person.ID, p.ID, subject, subject, l.Clock)
		return err
	}))
}
