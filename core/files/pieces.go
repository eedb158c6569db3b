package files

import (
	"errors"
	"io"
	"runtime"
	"strings"

	"go.yaml.in/yaml/v3"
	"golang.org/x/sync/errgroup"
)

// parse reads all documents of a text. A long one is read in pieces side by side; where a piece can't be read, the
// whole is read in its order, so that what is wrong is found where it stands.
func parse(text string) ([]*yaml.Node, error) {
	if pieces := split(text); len(pieces) > 1 {
		var work errgroup.Group
		work.SetLimit(runtime.GOMAXPROCS(0))
		nodes := make([]*yaml.Node, len(pieces))
		for i, p := range pieces {
			work.Go(func() error {
				list, err := documents(p.text)
				if err == nil && len(list) != 1 {
					err = errors.New("more than one document")
				}
				if err == nil {
					moved(list[0], p.line)
					nodes[i] = list[0]
				}
				return err
			})
		}
		if work.Wait() == nil {
			return nodes, nil
		}
	}
	return documents(text)
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

// piece is a part of a text that can be read by itself; line is how many lines further down it stands than its own
// lines say.
type piece struct {
	text string
	line int
}

// pieceSize is how many octets are read at once.
const pieceSize = 1 << 20

// split cuts a long text between the items of its lists. In a list at the side of a file whatever belongs to an item is
// indented further than its dash, so a line that begins with that dash always begins an item.
func split(text string) []piece {
	if len(text) < 2*pieceSize || strings.Contains(text, "\n---") || strings.Contains(text, "\n...") {
		return nil
	}
	var out []piece
	var b strings.Builder
	key, dash, first, n := "", "", 0, 0
	flush := func() {
		if strings.TrimSpace(b.String()) != "" && strings.TrimSpace(b.String()) != strings.TrimSpace(key) {
			out = append(out, piece{b.String(), first})
		}
		b.Reset()
	}
	for line := range strings.Lines(text) {
		switch {
		case line[0] != ' ' && line[0] != '#' && line[0] != '\n' && line[0] != '-' && line[0] != '\r':
			flush()
			key, dash, first = line, "", n
		case key == "" || strings.TrimSpace(line) == "":
		case dash == "" && b.String() == key && strings.HasPrefix(strings.TrimLeft(line, " "), "- "):
			dash = line[:strings.Index(line, "- ")+2]
		case dash != "" && b.Len() > pieceSize && strings.HasPrefix(line, dash):
			flush()
			b.WriteString(key)
			first = n - 1
		}
		b.WriteString(line)
		n++
	}
	flush()
	return out
}
