package testbed

import (
	"context"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/gate"
	"innergate/gate/fetch"
	"innergate/gate/ground"
	"innergate/store"
)

// Lab is a gate without a server, with a clock that tests turn.
type Lab struct {
	*gate.Gate
	Clock  time.Time
	Folder string
}

// Owner is somebody who may do everything.
var Owner = ground.Actor{Name: "Fenna", Role: ground.RoleOwner, From: "192.0.2.7"}

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
