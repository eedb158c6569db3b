package server_test

import (
	"context"
	"net"
	"net/http"
	"strings"
)

// hostClient reaches the gate while it names another host.
func hostClient(_, gate string) *http.Client {
	return &http.Client{Transport: &http.Transport{DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, network, strings.TrimPrefix(gate, "http://"))
	}}}
}
