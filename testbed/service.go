package testbed

import (
	"bufio"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Service is the binary that `make build` made, as a process of its own.
type Service struct {
	Cmd    *exec.Cmd
	URL    string
	Folder string
	Guard  string   // where the guard listens
	More   []string // what it is started with besides
}

func binary(t testing.TB) string {
	path, err := filepath.Abs("../bin/innergate")
	require.NoError(t, err)
	if _, err := os.Stat(path); err != nil {
		t.Skip("bin/innergate is not there; run make build")
	}
	return path
}

// Start starts it, and says how long it took until it was ready.
func (s *Service) Start(t testing.TB, listen string) time.Duration {
	begin := time.Now()
	s.Cmd = exec.Command(
		binary(t), append([]string{"serve", "--listen", listen, "--public-url", s.URL, "--data", s.Folder, "--in-flight", "1000000",
			"--log-level", "warn", "--guard-listen", s.Guard}, s.More...)...,
	)
	s.Cmd.Stderr = os.Stderr // what it warns of belongs to what is seen
	require.NoError(t, s.Cmd.Start())
	for {
		if answer, err := http.Get(s.URL + "/readyz"); err == nil {
			answer.Body.Close()
			if answer.StatusCode == http.StatusOK {
				return time.Since(begin)
			}
		}
		if time.Since(begin) > 20*time.Second {
			t.Fatal("the service did not start")
		}
		time.Sleep(2 * time.Millisecond)
	}
}

// Stop ends it as an operator does.
func (s *Service) Stop(t testing.TB) {
	require.NoError(t, s.Cmd.Process.Signal(os.Interrupt))
	require.NoError(t, s.Cmd.Wait())
}

// Processor is the process's user and system time so far (proc(5), stat), in clock ticks of 10 ms.
func (s *Service) Processor(t testing.TB) time.Duration {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", s.Cmd.Process.Pid))
	require.NoError(t, err)
	fields := strings.Fields(string(stat[strings.LastIndexByte(string(stat), ')')+2:]))
	user, err := strconv.Atoi(fields[11])
	require.NoError(t, err)
	system, err := strconv.Atoi(fields[12])
	require.NoError(t, err)
	return time.Duration(user+system) * 10 * time.Millisecond
}

// Resident is the process's resident memory in MiB.
func (s *Service) Resident(t testing.TB) float64 {
	f, err := os.Open(fmt.Sprintf("/proc/%d/status", s.Cmd.Process.Pid))
	require.NoError(t, err)
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		if rest, ok := strings.CutPrefix(lines.Text(), "VmRSS:"); ok {
			kb, err := strconv.Atoi(strings.Fields(rest)[0])
			require.NoError(t, err)
			return float64(kb) / 1024
		}
	}
	t.Fatal("no resident memory is told")
	return 0
}

// Kill ends it at once, wherever it is.
func (s *Service) Kill(t testing.TB) {
	require.NoError(t, s.Cmd.Process.Kill())
	_ = s.Cmd.Wait() // it says that it was killed
}

// FreeAddress is one of this machine's at which nobody listens.
func FreeAddress(t testing.TB) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	require.NoError(t, l.Close())
	return l.Addr().String()
}
