package soak

import (
	"fmt"
	"maps"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/client"
	"innergate/demo"
	"innergate/testbed"
)

// program is the build that can be a node.
func program(t *testing.T) string {
	t.Helper()
	path, err := filepath.Abs("../bin/innergate-nodes")
	require.NoError(t, err)
	if _, err := os.Stat(path); err != nil {
		if os.Getenv("INNERGATE_NODES") == "required" {
			t.Fatal("bin/innergate-nodes is not there")
		}
		t.Skip("bin/innergate-nodes is not there; run make build-nodes")
	}
	return path
}

// node is one of some, in a process of its own.
type node struct {
	folder, listen, address string
	errands, guard          string
	place                   *place // where it runs
	cmd                     *exec.Cmd
	log                     *os.File
	down                    atomic.Bool // by the test's own doing
	ended                   chan struct{}
}

func run(t *testing.T, input string, args ...string) (string, error) {
	t.Helper()
	c := exec.Command(program(t), args...)
	c.Stdin = strings.NewReader(input)
	out, err := c.CombinedOutput()
	return string(out), err
}

func (n *node) start(t *testing.T, public string) {
	t.Helper()
	var err error
	n.log, err = os.OpenFile(filepath.Join(n.folder, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(t, err)
	n.cmd = n.place.command(program(t), "serve", "--trusted-proxies", "127.0.0.0/8,10.0.0.0/8", "--listen", n.listen,
		"--public-url", public, "--data", n.folder, "--guard-listen", n.guard, "--in-flight", "100000",
		"--allow-private-addresses")
	n.cmd.Stderr, n.cmd.Stdout = n.log, n.log
	require.NoError(t, n.cmd.Start())
	ended := make(chan struct{})
	n.ended = ended
	go func() {
		defer close(ended)
		_ = n.cmd.Wait() // how it ended is in its log
	}()
	for began := time.Now(); !ready(n.listen); time.Sleep(20 * time.Millisecond) {
		select {
		case <-ended:
			began = time.Time{}
		default:
		}
		if time.Since(began) > time.Minute {
			text, _ := os.ReadFile(n.log.Name())
			t.Fatalf("it is not ready (%v):\n%s", n.cmd.ProcessState, text) // without a state, it never was
		}
	}
	n.down.Store(false)
}

func ready(listen string) bool {
	c := &http.Client{Timeout: 3 * time.Second}
	answer, err := c.Get("http://" + listen + "/readyz")
	if err != nil {
		return false
	}
	answer.Body.Close()
	return answer.StatusCode == http.StatusOK
}

func (n *node) kill(t *testing.T) {
	t.Helper()
	n.down.Store(true)
	require.NoError(t, n.cmd.Process.Kill())
	<-n.ended
}

// balance starts an nginx that sends each request to the next node, whoever asks, and knows of them only what it sees itself.
func balance(t *testing.T, all []*node, fronts map[string]func(*node) string) {
	t.Helper()
	var text strings.Builder
	for at, of := range fronts {
		name := strings.ReplaceAll(at, ":", "_")
		fmt.Fprintf(&text, "upstream %s {\n", name)
		for _, n := range all {
			fmt.Fprintf(&text, "server %s max_fails=1 fail_timeout=2s;\n", of(n))
		}
		fmt.Fprintf(&text, "}\nserver {\nlisten %s;\nlocation / {\nproxy_pass http://%s; proxy_set_header Host $http_host; "+
			"proxy_set_header X-Forwarded-For $remote_addr; "+
			"proxy_connect_timeout 500ms; proxy_read_timeout 3s; proxy_buffer_size 32k; proxy_buffers 8 32k;\n}\n}\n", at, name)
	}
	testbed.Nginx(t, "INNERGATE_NODES", text.String(), slices.Collect(maps.Keys(fronts))...)
}

// place is where a node runs: on the machine itself, or in a network of its own, which can be cut off.
type place struct{ name, address string }

func (p *place) command(program string, args ...string) *exec.Cmd {
	if p.name == "" {
		return exec.Command(program, args...)
	}
	return exec.Command("ip", append([]string{"netns", "exec", p.name, program}, args...)...)
}

// port is one at which a node may listen there.
func (p *place) port(t *testing.T) string {
	t.Helper()
	free := testbed.FreeAddress(t)
	if p.name == "" {
		return free
	}
	_, port, err := net.SplitHostPort(free)
	require.NoError(t, err)
	return net.JoinHostPort(p.address, port)
}

// cut takes the place's network away, or gives it back.
func (p *place) cut(t *testing.T, away bool) {
	t.Helper()
	how := "up"
	if away {
		how = "down"
	}
	ip(t, "link", "set", p.name, how)
}

func ip(t *testing.T, args ...string) {
	t.Helper()
	out, err := exec.Command("ip", args...).CombinedOutput()
	require.NoError(t, err, "ip %v: %s", args, out)
}

// here are three places on the machine itself.
func here() []*place { return []*place{{}, {}, {}} }

// places are three, in networks of their own where this machine lets us make them.
func places(t *testing.T) []*place {
	t.Helper()
	all := here()
	id := fmt.Sprintf("ig%d", os.Getpid()%100_000)
	if err := exec.Command("ip", "netns", "add", id+"t").Run(); err != nil {
		t.Log("this machine lets nobody make networks: no node will be cut off")
		return all
	}
	ip(t, "netns", "del", id+"t")
	net := fmt.Sprintf("10.%d.%d", 64+os.Getpid()%64, os.Getpid()/64%250)
	ip(t, "link", "add", id, "type", "bridge")
	t.Cleanup(func() { ip(t, "link", "del", id) })
	ip(t, "addr", "add", net+".254/24", "dev", id)
	ip(t, "link", "set", id, "up")
	for i, p := range all {
		p.name, p.address = fmt.Sprintf("%sn%d", id, i), fmt.Sprintf("%s.%d", net, i+1)
		ip(t, "netns", "add", p.name)
		t.Cleanup(func() { ip(t, "netns", "del", p.name) })
		ip(t, "link", "add", p.name, "type", "veth", "peer", "name", "inner", "netns", p.name)
		ip(t, "link", "set", p.name, "master", id, "up")
		ip(t, "-n", p.name, "addr", "add", p.address+"/24", "dev", "inner")
		ip(t, "-n", p.name, "link", "set", "inner", "up")
		ip(t, "-n", p.name, "link", "set", "lo", "up")
	}
	return all
}

// three are the demo's records on three nodes, brought there by the first, behind a balancer that knows no sessions.
func three(t *testing.T, in []*place) (*demo.World, []*node) {
	t.Helper()
	program(t)
	w := testbed.World(t, demo.Options{})
	folder := w.Detach()
	var all []*node
	for _, p := range in {
		all = append(all, &node{folder: t.TempDir(), place: p, listen: p.port(t), address: p.port(t), errands: p.port(t), guard: p.port(t)})
	}
	all[0].folder = folder
	for i, n := range all {
		if i == 0 {
			said, err := run(t, "", "node", "begin", "--address", n.address, "--errands", n.errands, "--data", folder)
			require.NoError(t, err, said)
		} else {
			key, err := client.New(w.URL, w.Token).InviteNode(t.Context())
			require.NoError(t, err)
			said, err := run(t, "", "node", "join", key.Key, "--address", n.address, "--data", n.folder)
			require.Error(t, err)
			assert.Contains(t, said, "the key is no argument")
			own := t.TempDir()
			require.NoError(t, os.WriteFile(filepath.Join(own, "innergate.db"), []byte("records of its own"), 0o600))
			said, err = run(t, key.Key, "node", "join", "--address", n.address, "--data", own)
			require.Error(t, err, "they would be mixed with those of the others")
			assert.Contains(t, said, "records of its own")
			said, err = run(t, key.Key, "node", "join", "--address", n.address, "--errands", n.errands, "--data", n.folder)
			require.NoError(t, err, said)
			said, err = run(t, key.Key, "node", "join", "--address", n.address, "--data", t.TempDir())
			require.Error(t, err, "a key is good once")
			assert.Contains(t, said, "never given out")
			master, err := os.ReadFile(filepath.Join(folder, "master.key"))
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(filepath.Join(n.folder, "master.key"), master, 0o600))
		}
		n.start(t, w.URL)
		if i == 0 {
			balance(t, all, map[string]func(*node) string{
				strings.TrimPrefix(w.URL, "http://"):       func(n *node) string { return n.listen },
				strings.TrimPrefix(w.BerthsURL, "http://"): func(n *node) string { return n.guard },
			})
		}
		t.Cleanup(func() {
			n.cmd.Process.Kill() // it may have ended
			<-n.ended
			n.log.Close()
			if text, err := os.ReadFile(n.log.Name()); err == nil && t.Failed() {
				t.Logf("%s said:\n%s", n.address, text[max(0, len(text)-5000):])
			}
		})
	}
	return w, all
}
