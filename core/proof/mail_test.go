package proof_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/proof"
)

func TestCodes(t *testing.T) {
	now := time.Date(2026, 11, 2, 9, 0, 0, 0, time.UTC)
	const most = 3
	fresh := func() (proof.Mail, string) {
		m, code, err := proof.Mail{}.Next("sign-in", "mvoss@saltmere.example", now.Add(time.Minute))
		require.NoError(t, err)
		require.Regexp(t, `^\d{6}$`, code)
		return m, code
	}
	m, code := fresh()
	assert.True(t, m.Try("sign-in", code[:3]+" "+code[3:], now, most), "written with a blank")
	assert.Zero(t, m.Wrong)
	assert.False(t, m.Try("another", code, now, most), "of another sign-in")
	assert.False(t, m.Try("sign-in", code, now.Add(time.Minute), most), "past its time")
	assert.False(t, m.Try("sign-in", "", now, most))
	assert.Equal(t, 3, m.Wrong)
	assert.False(t, m.Try("sign-in", code, now, most), "the right one, after too many wrong ones")

	m, code = fresh()
	m.Wrong = 1
	again, second, err := m.Next("sign-in", "other@saltmere.example", now.Add(time.Minute))
	require.NoError(t, err)
	assert.Equal(t, 2, again.Sent)
	assert.Equal(t, 1, again.Wrong, "what was wrong before goes on counting")
	if code != second {
		assert.False(t, again.Try("sign-in", code, now, most), "the code before")
	}
	var none proof.Mail
	assert.False(t, none.Try("", "", now, most), "where no code was sent, none is right")
}
