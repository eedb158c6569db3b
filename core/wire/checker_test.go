package wire_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/wire"
)

const (
	head = "POST /oidc/token HTTP/1.1\r\nHost: gate.saltmere.example\r\n"
	next = "GET /healthz HTTP/1.1\r\nHost: gate.saltmere.example\r\n\r\n"
)

// feed hands a connection over in parts.
func feed(c *wire.Checker, text string, part int) error {
	for len(text) > 0 {
		n := min(part, len(text))
		if err := c.Feed([]byte(text[:n])); err != nil {
			return err
		}
		text = text[n:]
	}
	return nil
}

func both(t *testing.T, text string, upgrades bool) error {
	t.Helper()
	once := feed(&wire.Checker{Head: 4096, Upgrades: upgrades}, text, len(text))
	slow := feed(&wire.Checker{Head: 4096, Upgrades: upgrades}, text, 1)
	require.Equal(t, once == nil, slow == nil, "%q", text)
	return once
}

// TestRequestsThatAreReadInOneWay pass, one behind the other.
func TestRequestsThatAreReadInOneWay(t *testing.T) {
	t.Parallel()
	for name, text := range map[string]string{
		"a length":        head + "Content-Length: 3\r\n\r\na=b",
		"no body":         next,
		"chunks":          head + "Transfer-Encoding: chunked\r\n\r\n1\r\nx\r\nA;name=value\r\n0123456789\r\n0\r\nX-Sum: 1\r\n\r\n",
		"HTTP/1.0":        "GET / HTTP/1.0\r\n\r\n",
		"an empty line":   "\r\n" + next,
		"an empty header": head + "X-Empty:\r\n\r\n",
	} {
		assert.NoError(t, both(t, text+next, false), name)
		assert.Error(t, both(t, text+"GET /x\r\n", false), "%s: what comes behind it is looked at", name)
	}
	upgrade := "GET /radio HTTP/1.1\r\nHost: a\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n\r\n"
	assert.NoError(t, both(t, upgrade+"\x81\x05hello\n\n", true))
	assert.Error(t, both(t, upgrade+"\x81\x05hello\n\n", false))
	assert.Error(t, both(t, strings.Replace(upgrade, "websocket", "h2c", 1)+"\x00\x00\n", true))
}

// TestRequestsThatAreReadInTwoWays are refused: each is cut in another place by one of two programs in use.
func TestRequestsThatAreReadInTwoWays(t *testing.T) {
	t.Parallel()
	for name, text := range map[string]string{
		"both lengths":                    head + "Content-Length: 4\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n",
		"two lengths that differ":         head + "Content-Length: 3\r\nContent-Length: 50\r\n\r\na=b",
		"two lengths that are the same":   head + "Content-Length: 3\r\nContent-Length: 3\r\n\r\na=b",
		"a signed length":                 head + "Content-Length: +3\r\n\r\na=b",
		"a list of lengths":               head + "Content-Length: 3, 3\r\n\r\na=b",
		"a length in hex":                 head + "Content-Length: 0x3\r\n\r\na=b",
		"a length beyond all":             head + "Content-Length: 99999999999999999999\r\n\r\n",
		"another coding":                  head + "Transfer-Encoding: xchunked\r\n\r\n0\r\n\r\n",
		"two codings":                     head + "Transfer-Encoding: chunked, identity\r\n\r\n0\r\n\r\n",
		"chunked twice":                   head + "Transfer-Encoding: chunked\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n",
		"a space before the colon":        head + "Transfer-Encoding : chunked\r\nContent-Length: 5\r\n\r\n0\r\n\r\n",
		"a folded header":                 head + "Transfer-Encoding:\r\n chunked\r\nContent-Length: 5\r\n\r\n0\r\n\r\n",
		"a vertical tab":                  head + "Transfer-Encoding: \x0bchunked\r\n\r\n0\r\n\r\n",
		"lines without CR":                "POST / HTTP/1.1\nHost: a\nContent-Length: 3\n\na=b",
		"one line without CR":             head + "X: a\nContent-Length: 3\r\n\r\na=b",
		"a CR alone":                      head + "X: a\rContent-Length: 3\r\n\r\na=b",
		"a last chunk without CR":         head + "Transfer-Encoding: chunked\r\n\r\n0\n\n",
		"a chunk's extension with LF":     head + "Transfer-Encoding: chunked\r\n\r\n1;a\nb\r\nx\r\n0\r\n\r\n",
		"a chunk's size with 0x":          head + "Transfer-Encoding: chunked\r\n\r\n0x1\r\nx\r\n0\r\n\r\n",
		"a chunk that is longer":          head + "Transfer-Encoding: chunked\r\n\r\n1\r\nxy\r\n0\r\n\r\n",
		"a length behind the body":        head + "Transfer-Encoding: chunked\r\n\r\n0\r\nContent-Length: 99\r\n\r\n",
		"two hosts":                       "GET / HTTP/1.1\r\nHost: a\r\nHost: b\r\n\r\n",
		"no host":                         "GET / HTTP/1.1\r\n\r\n",
		"NUL in a header":                 "GET / HTTP/1.1\r\nHost: a\r\nX: a\x00b\r\n\r\n",
		"chunks in HTTP/1.0":              "POST / HTTP/1.0\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n",
		"HTTP/2 without being asked":      "PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n",
		"a request line of two words":     "GET /\r\n\r\n",
		"a request line with a tab":       "GET\t/ HTTP/1.1\r\nHost: a\r\n\r\n",
		"a head of more than its measure": "GET / HTTP/1.1\r\nHost: a\r\nX: " + strings.Repeat("x", 5000) + "\r\n\r\n",
		"a head of many lines":            "GET / HTTP/1.1\r\nHost: a\r\n" + strings.Repeat("X: xxxxxxxxxx\r\n", 500) + "\r\n",
	} {
		assert.Error(t, both(t, text+next, false), name)
	}
}

// FuzzChecker looks for octets that are judged in another way when they come in other parts.
func FuzzChecker(f *testing.F) {
	f.Add(head+"Content-Length: 3\r\n\r\na=b"+next, 7)
	f.Add(head+"Transfer-Encoding: chunked\r\n\r\n1\r\nx\r\n0\r\n\r\n"+next, 3)
	f.Fuzz(func(t *testing.T, text string, part int) {
		once := feed(&wire.Checker{Head: 4096}, text, max(1, len(text)))
		parts := feed(&wire.Checker{Head: 4096}, text, 1+part&15)
		if (once == nil) != (parts == nil) {
			t.Fatalf("%q: %v, %v", text, once, parts)
		}
	})
}
