package listen_test

import (
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/listen"
)

// pair is a connection over loopback, both ends of it.
func pair(t *testing.T) (server, client net.Conn) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	client, err = net.Dial("tcp", l.Addr().String())
	require.NoError(t, err)
	server, err = l.Accept()
	require.NoError(t, err)
	t.Cleanup(func() { server.Close(); client.Close() })
	return server, client
}

// TestAClientThatLeavesIsNoticed: one that has closed, and not one that waits, or that has sent its next request already.
func TestAClientThatLeavesIsNoticed(t *testing.T) {
	t.Parallel()
	server, client := pair(t)
	gone := make(chan struct{})
	stop := listen.WhenGone(server, func() { close(gone) })
	_, err := client.Write([]byte("GET / HTTP/1.1\r\n"))
	require.NoError(t, err)
	select {
	case <-gone:
		t.Fatal("it is still there")
	case <-time.After(700 * time.Millisecond):
	}
	stop()
	var read [3]byte
	_, err = server.Read(read[:])
	require.NoError(t, err)
	assert.Equal(t, "GET", string(read[:]), "what it sent is still to be read")

	server, client = pair(t)
	gone = make(chan struct{})
	stop = listen.WhenGone(server, func() { close(gone) })
	defer stop()
	require.NoError(t, client.Close())
	select {
	case <-gone:
	case <-time.After(5 * time.Second):
		t.Fatal("it was not noticed")
	}
}
