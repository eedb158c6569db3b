package messages_test

import (
	"context"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/testbed"
)

// TestAnArrivalIsTakenOnceInTimeAtItsPlace keeps a posted message for one request.
func TestAnArrivalIsTakenOnceInTimeAtItsPlace(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
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
	require.NoError(t, l.Tidy(ctx))
	assert.NoError(t, keep("192.0.2.1", "x"), "what nobody came for is gone")
}
