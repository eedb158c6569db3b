package browser_test

import (
	"context"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate/gate"
	"innergate/gate/fetch"
	"innergate/gate/traces"
	"innergate/server"
	"innergate/store"
	"innergate/web"
)

var (
	page1    = store.Page{Limit: 1}
	noFilter = traces.Filter{}
)

// fresh is a gate on an empty data folder.
type fresh struct{ url, setup string }

func emptyGate(t testing.TB) fresh {
	t.Helper()
	folder := t.TempDir()
	master, err := store.MasterKeys("", folder+"/master.key", true)
	require.NoError(t, err)
	sealer, err := store.NewSealer(master[0], master[1:]...)
	require.NoError(t, err)
	st, err := store.Open(folder, sealer)
	require.NoError(t, err)
	t.Cleanup(st.Close)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	g, err := gate.New(context.Background(), gate.Options{Store: st, PublicURL: "http://" + l.Addr().String(), Fetch: &fetch.Fetcher{}})
	require.NoError(t, err)
	s := server.New(g, server.Options{Console: web.Console()})
	t.Cleanup(func() { _ = s.Shutdown(2 * time.Second) })
	go func() { _ = s.Serve(l, nil) }()
	return fresh{g.PublicURL, g.Console.NewSetupLink()}
}
