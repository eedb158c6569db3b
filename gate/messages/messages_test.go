package messages_test

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate/store"
	"innergate/testbed"
)

// TestAnArrivalIsTakenOnceInTimeAtItsPlace keeps a posted message for one request.
func TestAnArrivalIsTakenOnceInTimeAtItsPlace(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	l.Furnish(t)
	keep := func() string {
		handle, err := l.Messages.KeepArrival(ctx, "192.0.2.1", "acs/staff", "SAMLResponse", "value", "relay")
		require.NoError(t, err)
		return handle
	}
	handle := keep()
	_, err := l.Messages.TakeArrival(ctx, handle, "acs/other")
	assert.ErrorContains(t, err, "browser.finished", "another place")
	a, err := l.Messages.TakeArrival(ctx, handle, "acs/staff")
	require.NoError(t, err)
	assert.Equal(t, "value", string(a.Value))
	assert.Equal(t, "relay", a.Relay)
	_, err = l.Messages.TakeArrival(ctx, handle, "acs/staff")
	assert.ErrorContains(t, err, "browser.finished", "a second time")

	late := keep()
	l.Turn(3 * time.Minute)
	_, err = l.Messages.TakeArrival(ctx, late, "acs/staff")
	assert.ErrorContains(t, err, "browser.finished", "too late")
}

// TestStrangersHaveOnlySoMuchRoom bounds what one address, and all of them, may leave.
func TestStrangersHaveOnlySoMuchRoom(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	l.Furnish(t)
	keep := func(address, value string) error {
		_, err := l.Messages.KeepArrival(ctx, address, "sso", "SAMLRequest", value, "")
		return err
	}
	for range 200 {
		require.NoError(t, keep("192.0.2.1", "x"))
	}
	assert.ErrorContains(t, keep("192.0.2.1", "x"), "gate.busy", "one address")
	require.NoError(t, keep("192.0.2.2", "x"), "others go on")
	var err error
	for i := 0; err == nil && i < 200; i++ {
		err = keep("198.51.100."+strconv.Itoa(i), strings.Repeat("x", 1<<20))
	}
	assert.ErrorContains(t, err, "gate.busy", "all together")
	l.Turn(3 * time.Minute)
	assert.NoError(t, keep("192.0.2.1", "x"), "what is past its time counts no more, before anybody has tidied up")
}

// TestOneNetworkIsOneStranger posts from each address of an IPv6 network.
func TestOneNetworkIsOneStranger(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	l.Furnish(t)
	kept := 0
	for i := range 400 {
		if _, err := l.Messages.KeepArrival(ctx, fmt.Sprintf("2001:db8::%x", i), "acs/staff", "SAMLResponse", "x", ""); err == nil {
			kept++
		}
	}
	assert.Equal(t, 200, kept)
	_, err := l.Messages.KeepArrival(ctx, "192.0.2.1", "acs/staff", "SAMLResponse", "x", "")
	assert.NoError(t, err)
}

// TestAnswersThatAreAwaitedAreTaken fills the room for strangers, and has the answer to a sign-in in flight come then.
func TestAnswersThatAreAwaitedAreTaken(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	l.Furnish(t)
	_, err := l.Messages.KeepArrival(ctx, "192.0.2.1", "acs/nobody", "SAMLResponse", "x", "")
	require.Error(t, err, "no provider is there that could answer")
	for i := 0; err != nil || i < 200; i++ {
		if _, err = l.Messages.KeepArrival(ctx, "198.51.100."+strconv.Itoa(i), "acs/staff", "SAMLResponse", strings.Repeat("x", 1<<20),
			""); err != nil {
			break
		}
	}
	require.ErrorContains(t, err, "gate.busy")
	id := store.NewIDAt(l.Now())
	answer := func(relay string) error {
		_, err := l.Messages.KeepArrival(ctx, "198.51.100.7", "acs/staff", "SAMLResponse", strings.Repeat("x", 1<<20), relay)
		return err
	}
	assert.ErrorContains(t, answer(id), "gate.busy", "nothing is in flight under this name")
	require.NoError(t, l.Store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Create(&store.SignIn{ID: id, ApplicationID: "a", RequestID: "r", CreatedAt: l.Now(),
			ExpiresAt: l.Now().Add(time.Minute)}).Error
	}))
	for range 5 {
		assert.NoError(t, answer(id))
	}
	assert.ErrorContains(t, answer(id), "gate.busy", "one sign-in is no room for any number")
}
