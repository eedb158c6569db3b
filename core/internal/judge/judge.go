// Package judge helps tests to hold our XML against independent programs, and makes documents to do it with.
package judge

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"strings"
	"testing"
)

// Find returns the path of a judging program. Where it is not installed the test is skipped, or fails if
// INNERGATE_JUDGES is "required".
func Find(t testing.TB, name string) string {
	t.Helper()
	path, err := exec.LookPath(name)
	if err == nil {
		return path
	}
	if os.Getenv("INNERGATE_JUDGES") == "required" {
		t.Fatalf("%s is not installed; `make test` installs it", name)
	}
	t.Skipf("%s is not installed", name)
	return ""
}

// WithoutComments takes the comments out of a document that holds no CDATA sections.
func WithoutComments(doc string) string {
	for {
		from := strings.Index(doc, "<!--")
		if from < 0 {
			return doc
		}
		doc = doc[:from] + doc[from+strings.Index(doc[from:], "-->")+3:]
	}
}

// Documents makes n documents, always the same ones, that mix namespaces, attributes, references, comments and odd
// white space.
func Documents(n int) []string {
	out := make([]string, n)
	for i := range out {
		g := generator{rand: rand.New(rand.NewPCG(7, uint64(i)))}
		g.element(0, map[string]bool{"": true})
		out[i] = g.b.String()
	}
	return out
}

type generator struct {
	rand *rand.Rand
	b    strings.Builder
}

var (
	prefixes = []string{"", "a", "b", "c"}
	spaces   = []string{
		"urn:one",
		"urn:two",
		"http://three.example/x?y=1",
	} // libxml2 leaves & in a namespace unescaped, against the standard
	texts = []string{
		"ferry",
		"&lt;tag&gt;",
		"a&amp;b",
		" \n\t",
		"Zoë",
		"&#x20AC;",
		"&#13;",
		"\"quoted\"",
		"日本",
		"<!-- hidden -->",
		"<![CDATA[<raw> & ]]>",
		"<?hint  some data?>",
	}
	values = []string{"1", "a &lt; b", "tab&#9;", "line&#10;", "'", "&quot;", "é", "  two  "}
)

func (g *generator) pick(list []string) string { return list[g.rand.IntN(len(list))] }

func (g *generator) element(depth int, bound map[string]bool) {
	inner := map[string]bool{}
	for k := range bound {
		inner[k] = true
	}
	var decls strings.Builder
	declared := map[string]string{}
	for range g.rand.IntN(3) {
		p := g.pick(prefixes)
		if _, twice := declared[p]; twice {
			continue
		}
		declared[p] = g.pick(spaces)
		if p == "" {
			if depth > 0 && g.rand.IntN(4) == 0 {
				declared[p] = ""
			}
			fmt.Fprintf(&decls, ` xmlns="%s"`, declared[p])
		} else {
			fmt.Fprintf(&decls, ` xmlns:%s="%s"`, p, declared[p])
		}
		inner[p] = true
	}
	var usable []string
	for _, p := range prefixes {
		if inner[p] {
			usable = append(usable, p)
		}
	}
	name := qualified(g.pick(usable), fmt.Sprintf("e%d", g.rand.IntN(4)))
	g.b.WriteString("<" + name + decls.String())
	for i := range g.rand.IntN(4) {
		// The local names differ, so that two prefixes of one namespace can't collide.
		fmt.Fprintf(&g.b, ` %s="%s"`, qualified(g.pick(usable), fmt.Sprintf("%c%d", 'z'-rune(g.rand.IntN(20)), i)), g.pick(values))
	}
	if depth > 4 || g.rand.IntN(6) == 0 {
		g.b.WriteString("/>")
		return
	}
	g.b.WriteString(">")
	for range g.rand.IntN(5) {
		if g.rand.IntN(2) == 0 {
			g.b.WriteString(g.pick(texts))
		} else {
			g.element(depth+1, inner)
		}
	}
	g.b.WriteString("</" + name + ">")
}

func qualified(prefix, local string) string {
	if prefix == "" {
		return local
	}
	return prefix + ":" + local
}
