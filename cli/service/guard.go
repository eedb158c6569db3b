package service

import (
	"crypto/tls"
	"fmt"
	"net"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"innergate/gate"
	"innergate/guard"
)

// startGuard has the guard serve at an address, and returns what stops it.
func startGuard(g *gate.Gate, at, folder string, o guard.Options) (func(), error) {
	var t *tls.Config
	if folder != "" {
		held := &certificates{folder: folder}
		if err := held.read(); err != nil {
			return nil, err
		}
		t = &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: held.find}
	}
	l, err := net.Listen("tcp", at)
	if err != nil {
		return nil, fmt.Errorf("the guard's address %s can't be listened on: %w. Choose another with --guard-listen", at, rootCause(err))
	}
	d := guard.New(g, o)
	go func() {
		if err := d.Serve(l, t); err != nil {
			o.Log.Error("the guard ended", "error", err)
		}
	}()
	o.Log.Info("the guard is ready", "listen", l.Addr().String(), "tls", t != nil)
	return func() {
		if err := d.Shutdown(20 * time.Second); err != nil {
			o.Log.Error("the guard did not finish every visit in time", "error", err)
		}
	}, nil
}

// certificates are those of a folder, read again every ten seconds at most.
type certificates struct {
	folder string
	mu     sync.Mutex
	looked time.Time
	list   []*tls.Certificate
}

const lookAgain = 10 * time.Second

func (h *certificates) read() error {
	names, err := filepath.Glob(filepath.Join(h.folder, "*.crt"))
	if err != nil {
		return err
	}
	if len(names) == 0 {
		return fmt.Errorf("the folder %s holds no NAME.crt with a NAME.key beside it", h.folder)
	}
	var list []*tls.Certificate
	for _, name := range names {
		pair, err := tls.LoadX509KeyPair(name, strings.TrimSuffix(name, ".crt")+".key")
		if err != nil {
			return fmt.Errorf("the certificate %s can't be used: %w", name, err)
		}
		list = append(list, &pair)
	}
	h.list, h.looked = list, time.Now()
	return nil
}

// find chooses by the name that the browser asks for. A file that can't be read leaves what is held as it is.
func (h *certificates) find(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if time.Since(h.looked) > lookAgain {
		if err := h.read(); err != nil {
			h.looked = time.Now()
		}
	}
	for _, c := range h.list {
		if hello.SupportsCertificate(c) == nil {
			return c, nil
		}
	}
	return nil, fmt.Errorf("no certificate is held for %q", hello.ServerName)
}
