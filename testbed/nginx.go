package testbed

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Nginx starts an nginx with what stands in its http block, and waits until it listens at the addresses. Where it is not installed,
// the test is left out, unless the variable says that it is required.
func Nginx(t *testing.T, required, block string, at ...string) {
	t.Helper()
	program, err := exec.LookPath("nginx")
	if err != nil {
		if os.Getenv(required) == "required" {
			t.Fatal("nginx is not installed; `make tools` installs it")
		}
		t.Skip("nginx is not installed")
	}
	folder := t.TempDir()
	file := filepath.Join(folder, "nginx.conf")
	text := fmt.Sprintf("daemon off; pid %[1]s/pid; error_log %[1]s/errors; events {}\nhttp {\naccess_log off; "+
		"client_body_temp_path %[1]s/a; "+
		"proxy_temp_path %[1]s/b; fastcgi_temp_path %[1]s/c; uwsgi_temp_path %[1]s/d; scgi_temp_path %[1]s/e;\n%[2]s}\n", folder, block)
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	cmd := exec.Command(program, "-p", folder, "-c", file)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		cmd.Process.Signal(os.Interrupt)
		cmd.Wait() // how it ended does not matter
	})
	for _, address := range at {
		listens(t, address)
	}
}

// listens waits until somebody listens at an address.
func listens(t testing.TB, address string) {
	t.Helper()
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", address)
		if err == nil {
			c.Close()
		}
		return err == nil
	}, Patience, 10*time.Millisecond)
}
