package server

import (
	"fmt"
	"io/fs"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"

	"github.com/goccy/go-yaml"
	"golang.org/x/text/language"

	"innergate/core/explain"
)

// Tongue is a language for the pages for people that is not the gate's own: a file with its texts, found by the English
// ones.
type Tongue struct {
	// Name is what the language calls itself.
	Name  string            `json:"name" yaml:"name"`
	Texts map[string]string `json:"texts" yaml:"texts"`
}

// places are where values stand in a text: %s, %d, and a sign of percent that stands for itself.
var places = regexp.MustCompile(`%.?`)

const mostTongue = 512 << 10

// tongues are the languages that were added, by their tags. What one gate of a process reads is the same for all.
var tongues sync.Map // tag → map of texts

// Texts are all the texts that people may see, in English.
func Texts() []string {
	all := map[string]bool{}
	for _, held := range []map[string]string{german, germanSheet, germanHandover} {
		for t := range held {
			all[t] = true
		}
	}
	for _, e := range explain.All() {
		all[e.Person] = true
	}
	return slices.Sorted(maps.Keys(all))
}

// ReadTongue reads the file of a language, and says what of it can't be used, text by text. What it does not hold is said
// in English.
func ReadTongue(tag string, data []byte) (*Tongue, []string, error) {
	if _, err := language.Parse(tag); err != nil {
		return nil, nil, fmt.Errorf("%q is no language; the file is named for one, such as fr.yaml", tag)
	}
	if slices.Contains(explain.Languages, tag) {
		return nil, nil, fmt.Errorf("the gate has %q itself; a file is for a language that it does not have", tag)
	}
	if len(data) > mostTongue {
		return nil, nil, fmt.Errorf("the file has %d bytes; 512 KiB are the most", len(data))
	}
	var read Tongue
	if err := yaml.UnmarshalWithOptions(data, &read, yaml.Strict()); err != nil {
		return nil, nil, fmt.Errorf("the file can't be read: %s", yaml.FormatError(err, false, false))
	}
	known := map[string]bool{}
	for _, t := range Texts() {
		known[t] = true
	}
	var remarks []string
	for _, english := range slices.Sorted(maps.Keys(read.Texts)) {
		other := read.Texts[english]
		switch {
		case !known[english]:
			remarks = append(remarks, fmt.Sprintf("nobody says %q; it is not used", english))
		case strings.TrimSpace(other) == "":
			remarks = append(remarks, fmt.Sprintf("%q has no translation; it is said in English", english))
		case !slices.Equal(places.FindAllString(english, -1), places.FindAllString(other, -1)):
			remarks = append(remarks, fmt.Sprintf("%q needs the same places for values in the same order; it is said in English", english))
		default:
			continue
		}
		delete(read.Texts, english)
	}
	return &read, remarks, nil
}

// addTongues reads the files of languages in a folder. One that can't be read is told and left out.
func (s *Server) addTongues(folder fs.FS) {
	s.offered = append(s.offered, explain.Languages...)
	if folder != nil {
		names, _ := fs.Glob(folder, "*.yaml") // the pattern is ours
		for _, name := range names {
			tag := strings.TrimSuffix(path.Base(name), ".yaml")
			data, err := fs.ReadFile(folder, name)
			var t *Tongue
			var remarks []string
			if err == nil {
				t, remarks, err = ReadTongue(tag, data)
			}
			if err != nil {
				s.Log.Error("a language is left out", "file", name, "error", err)
				continue
			}
			for _, r := range remarks {
				s.Log.Warn("a text of a language is left out", "file", name, "remark", r)
			}
			tongues.Store(tag, t.Texts)
			if !slices.Contains(s.offered, tag) {
				s.offered = append(s.offered, tag)
			}
		}
	}
	tags := make([]language.Tag, len(s.offered))
	for i, o := range s.offered {
		tags[i] = language.Make(o)
	}
	s.matcher = language.NewMatcher(tags)
}

// inTongue is a text in a language that was added.
func inTongue(lang, text string) (string, bool) {
	held, ok := tongues.Load(lang)
	if !ok {
		return "", false
	}
	t, ok := held.(map[string]string)[text]
	return t, ok
}
