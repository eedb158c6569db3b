package files

import (
	"errors"
	"io"
	"runtime"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
	"golang.org/x/sync/errgroup"
)

// sideBySide is how many pieces are worked on at one time: half of the processors are for others, and each piece takes memory.
func sideBySide() int { return min(4, max(1, runtime.NumCPU()/2)) }

// eachPiece reads pieces, some at a time, and gives each to f in its order. It says whether all could
// be read.
func eachPiece(pieces []piece, f func(*yaml.Node)) bool {
	for some := range slices.Chunk(pieces, sideBySide()) {
		var work errgroup.Group
		nodes := make([]*yaml.Node, len(some))
		for i, p := range some {
			work.Go(func() error {
				list, err := documents(p.key + p.text)
				if err == nil && len(list) > 1 {
					err = errors.New("more than one document")
				}
				if err == nil && len(list) == 1 { // remarks alone are none
					moved(list[0], p.line)
					nodes[i] = list[0]
				}
				return err
			})
		}
		if work.Wait() != nil {
			return false
		}
		for _, n := range nodes {
			if n != nil && n.Tag != "!!null" {
				f(n)
			}
		}
	}
	return true
}

func documents(text string) (out []*yaml.Node, err error) {
	dec := yaml.NewDecoder(strings.NewReader(text))
	for {
		var doc yaml.Node
		err := dec.Decode(&doc)
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return out, err
		}
		if len(doc.Content) == 1 {
			out = append(out, doc.Content[0])
		}
	}
}

func moved(n *yaml.Node, by int) {
	n.Line += by
	for _, c := range n.Content {
		moved(c, by)
	}
}

// piece is a part of a text that can be read by itself, behind the key of its section; line is how many lines further down it
// stands than its own lines say.
type piece struct {
	key, text string
	line      int
}

// pieceSize is how many octets are read at once.
const pieceSize = 1 << 20

// split cuts a long text between the items of its lists, without copying it. In a list at the side of a file whatever belongs to
// an item is indented further than its dash, so a line that begins with that dash always begins an item.
func split(text string) []piece {
	if len(text) < 2*pieceSize || strings.Contains(text, "\n---") || strings.Contains(text, "\n...") {
		return nil
	}
	var out []piece
	key, dash := "", ""        // of the section
	from, first, at := 0, 0, 0 // where the piece begins, in octets and lines, and where this line does
	under := false             // whether the piece goes on with a section that has begun before
	n := 0
	flush := func() {
		part := text[from:at]
		if strings.TrimSpace(part) != "" && strings.TrimSpace(part) != strings.TrimSpace(key) {
			p := piece{text: part, line: first}
			if under {
				p.key, p.line = key, first-1
			}
			out = append(out, p)
		}
		from, first, under = at, n, false
	}
	for line := range strings.Lines(text) {
		switch {
		case line[0] != ' ' && line[0] != '#' && line[0] != '\n' && line[0] != '-' && line[0] != '\r':
			flush()
			key, dash = line, ""
		case key == "" || strings.TrimSpace(line) == "":
		case dash == "" && text[from:at] == key && strings.HasPrefix(strings.TrimLeft(line, " "), "- "):
			dash = line[:strings.Index(line, "- ")+2]
		case dash != "" && at-from > pieceSize && strings.HasPrefix(line, dash):
			flush()
			under = true
		}
		at += len(line)
		n++
	}
	flush()
	return out
}
