package portal_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate/core/keys"
	"innergate/gate/persons"
	"innergate/gate/sessions"
	"innergate/gate/signin"
	"innergate/store"
	"innergate/testbed"
)

// TestNobodySeesAPageWithoutASession begins a sign-in in its place, and gives a made-up session nothing.
func TestNobodySeesAPageWithoutASession(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	first, err := l.Portal.Portal(ctx, signin.Browser{}, "")
	require.NoError(t, err)
	assert.Equal(t, signin.Redirect(l.PublicURL+"/console/"), first.Next.To, "nobody can sign in yet")
	l.Furnish(t)
	for _, session := range []string{"", "made-up-session-token-that-is-long-enough"} {
		b := signin.Browser{Address: "192.0.2.1", Session: session}
		page, err := l.Portal.Portal(ctx, b, "")
		require.NoError(t, err)
		require.NotNil(t, page.Next)
		assert.Empty(t, page.Tiles)
		own, err := l.Portal.OwnAccount(ctx, b)
		require.NoError(t, err)
		require.NotNil(t, own.Next)
		assert.Empty(t, own.Person)
	}
}

// TestNobodyTouchesWhatIsSomebodyElses tries to end a session and to take a credential away without being that person.
func TestNobodyTouchesWhatIsSomebodyElses(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	l.Furnish(t)
	mira := l.Person(t, "mvoss", "Mira Voss")
	open := func(id, person, token string) {
		require.NoError(t, l.Store.Write(ctx, func(tx *gorm.DB) error {
			row := &store.Session{ID: id, PersonID: person, Person: person, LastUsed: l.Clock, ExpiresAt: l.Clock.Add(time.Hour)}
			return sessions.Insert(tx, row, keys.HashSecret(token), l.Store.Sealer.Seal(store.PlaceSession, id, []byte("{}")))
		}))
	}
	const hers, his = "the-token-of-her-own-browser", "the-token-of-another-browser"
	open("HERS", mira.ID, hers)
	open("HIS", l.Person(t, "cdunn", "Callum Dunn").ID, his)
	require.NoError(t, l.Store.Write(ctx, func(tx *gorm.DB) error {
		return persons.AddCredential(tx, &store.Credential{ID: "KEY", PersonID: mira.ID, Kind: "passkey", CreatedAt: l.Clock})
	}))
	for _, token := range []string{"", "made-up-session-token-that-is-long-enough", his} {
		_ = l.Portal.EndOwn(ctx, signin.Browser{Session: token}, "HERS") // whatever is answered, nothing may come of it
		_ = l.Portal.RemoveOwn(ctx, signin.Browser{Session: token}, "KEY")
		h, err := l.Sessions.SessionByToken(ctx, hers)
		require.NoError(t, err)
		assert.NotNil(t, h, token)
		left, err := l.Persons.CredentialViews(ctx, mira.ID)
		require.NoError(t, err)
		assert.Len(t, left, 1, token)
	}
	require.NoError(t, l.Portal.EndOwn(ctx, signin.Browser{Session: hers}, "HERS"))
	h, err := l.Sessions.SessionByToken(ctx, hers)
	require.NoError(t, err)
	assert.Nil(t, h, "her own she may end")
}
