package listen

import (
	"crypto/tls"
	"net"
	"syscall"
	"time"
)

// How long a request may run before somebody looks whether its client is still there, and how often then.
const (
	lookAfter = 300 * time.Millisecond
	lookEvery = 200 * time.Millisecond
)

// WhenGone calls gone once the client at the other end of a connection has left while its request is worked on. What it returns
// ends the watching, and must be called before anything else reads from the connection. Where it can't be seen, nothing is
// watched.
func WhenGone(c net.Conn, gone func()) (stop func()) {
	raw := rawOf(c)
	if raw == nil {
		return func() {}
	}
	ended := make(chan struct{})
	watched := make(chan struct{})
	timer := time.AfterFunc(lookAfter, func() {
		defer close(watched)
		tick := time.NewTicker(lookEvery)
		defer tick.Stop()
		for {
			if left(raw) {
				gone()
				return
			}
			select {
			case <-tick.C:
			case <-ended:
				return
			}
		}
	})
	return func() {
		if timer.Stop() {
			return
		}
		close(ended)
		<-watched
	}
}

// rawOf is the socket below a connection.
func rawOf(c net.Conn) syscall.RawConn {
	for range 8 {
		switch one := c.(type) {
		case *boundedConn:
			c = one.Conn
		case *plainConn:
			c = one.Conn
		case *tls.Conn:
			c = one.NetConn()
		case syscall.Conn:
			raw, err := one.SyscallConn()
			if err != nil {
				return nil
			}
			return raw
		default:
			return nil
		}
	}
	return nil
}

// left looks whether the other end has closed, without taking anything that it sent.
func left(raw syscall.RawConn) (closed bool) {
	var one [1]byte
	err := raw.Control(func(fd uintptr) {
		n, _, err := syscall.Recvfrom(int(fd), one[:], syscall.MSG_PEEK|syscall.MSG_DONTWAIT)
		closed = n == 0 && err == nil || err == syscall.ECONNRESET
	})
	return closed || err != nil
}
