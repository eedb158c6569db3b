package xmltree

import "slices"

// indexed is from how many declarations on a prefix is looked up by an index: below that, going through them is faster.
const indexed = 12

// scope holds the declarations in force while a document is read, the innermost last. However many there are, a prefix
// is found in the same time, since who sends a document chooses how often it is asked.
type scope struct {
	outside *layer // what is in force around a fragment
	held    []binding
	index   map[string]int // the innermost binding of each prefix in held, once there are many
}

type binding struct {
	Declaration
	shadowed int // what index said of the prefix before, or -1
}

func (s *scope) push(d Declaration) {
	b := binding{d, -1}
	if s.index != nil {
		if at, ok := s.index[d.Prefix]; ok {
			b.shadowed = at
		}
		s.index[d.Prefix] = len(s.held)
	}
	s.held = append(s.held, b)
	if s.index == nil && len(s.held) > indexed {
		s.build()
	}
}

func (s *scope) build() {
	s.index = make(map[string]int, 2*len(s.held))
	for i := range s.held {
		s.held[i].shadowed = -1
		if at, ok := s.index[s.held[i].Prefix]; ok {
			s.held[i].shadowed = at
		}
		s.index[s.held[i].Prefix] = i
	}
}

// cut drops what was pushed since there were n.
func (s *scope) cut(n int) {
	if s.index != nil {
		for i := len(s.held) - 1; i >= n; i-- {
			if b := s.held[i]; b.shadowed >= 0 {
				s.index[b.Prefix] = b.shadowed
			} else {
				delete(s.index, b.Prefix)
			}
		}
	}
	s.held = s.held[:n]
}

func (s *scope) find(prefix string) (string, bool) {
	if s.index != nil {
		if at, ok := s.index[prefix]; ok {
			return s.held[at].Space, true
		}
		return s.outside.find(prefix)
	}
	for i := len(s.held) - 1; i >= 0; i-- {
		if s.held[i].Prefix == prefix {
			return s.held[i].Space, true
		}
	}
	return s.outside.find(prefix)
}

func (s *scope) len() int { return len(s.held) + s.outside.len() }

// layer is what one element around a fragment declares, and what is in force around that. It is never changed, so that
// all fragments below the element share it.
type layer struct {
	outer *layer
	own   []Declaration
	index map[string]string
	count int
}

// newLayer puts declarations, each prefix once, inside of outer.
func newLayer(outer *layer, own []Declaration) *layer {
	if len(own) == 0 {
		return outer
	}
	l := &layer{outer: outer, own: own, count: len(own) + outer.len()}
	if len(own) > indexed {
		l.index = make(map[string]string, len(own))
		for _, d := range own {
			l.index[d.Prefix] = d.Space
		}
	}
	return l
}

func (l *layer) len() int {
	if l == nil {
		return 0
	}
	return l.count
}

func (l *layer) find(prefix string) (string, bool) {
	for ; l != nil; l = l.outer {
		if l.index != nil {
			if space, ok := l.index[prefix]; ok {
				return space, true
			}
			continue
		}
		if i := slices.IndexFunc(l.own, func(d Declaration) bool { return d.Prefix == prefix }); i >= 0 {
			return l.own[i].Space, true
		}
	}
	return "", false
}
