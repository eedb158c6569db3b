package terminal

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/goccy/go-yaml"

	"innergate/core/alike"
	"innergate/core/keys"
	"innergate/core/saml"
)

// ManyFiles is how many configuration files one command reads at most.
const ManyFiles = 1000

// NoSuchFile says which path was tried, and which files have a name like it.
func NoSuchFile(path string) error {
	full, err := filepath.Abs(path)
	if err != nil {
		full = path
	}
	entries, err := os.ReadDir(filepath.Dir(full))
	if err != nil {
		return fmt.Errorf("there is no file %s: its folder is not there either", full)
	}
	var names []string
	for _, e := range entries {
		names = append(names, e.Name())
	}
	if near := alike.Nearest(filepath.Base(full), names); near != "" {
		return fmt.Errorf("there is no file %s; there is %s beside it", full, near)
	}
	var alike []string
	for _, n := range names {
		if ext := filepath.Ext(n); ext == ".yaml" || ext == ".yml" {
			alike = append(alike, n)
		}
	}
	if len(alike) > 0 {
		return fmt.Errorf("there is no file %s; beside it are %s", full, strings.Join(alike[:min(len(alike), 8)], ", "))
	}
	return fmt.Errorf("there is no file %s", full)
}

// Input reads a file, or standard input for "-".
func (p *Program) Input(name string, limit int64) ([]byte, error) {
	if name == "-" {
		return io.ReadAll(io.LimitReader(p.In, limit))
	}
	f, err := os.Open(name)
	if err != nil {
		var path *fs.PathError
		if errors.As(err, &path) {
			err = path.Err
		}
		return nil, fmt.Errorf("the file %s can't be read: %w", name, err)
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, limit))
}

// Limits on what a mapping is tried with, in bytes.
const (
	MaxRules = 1 << 20
	MaxInput = 16 << 20
)

// Strictly reads a file of YAML or JSON. What is not known in it is an error, so that a misspelt word is not passed
// over.
func (p *Program) Strictly(name string, limit int64, into any) error {
	data, err := p.Input(name, limit+1)
	if err != nil {
		return err
	}
	if int64(len(data)) > limit {
		return fmt.Errorf("the file %s is larger than %d MiB", name, limit>>20)
	}
	if !json.Valid(data) {
		doc, err := yaml.YAMLToJSON(data)
		if err != nil {
			return fmt.Errorf("the file %s is neither YAML nor JSON: %s", name, yaml.FormatError(err, false, false))
		}
		data = doc
	}
	dec := json.NewDecoder(bytes.NewReader(data))
	dec.DisallowUnknownFields()
	var wrong *json.UnmarshalTypeError
	switch err := dec.Decode(into); {
	case errors.As(err, &wrong):
		return fmt.Errorf(
			"the file %s has another form: %s is a %s where a %s belongs", name, cmp.Or(wrong.Field, "it"),
			inFiles(wrong.Value), inFiles(wrong.Type.Kind().String()),
		)
	case err != nil:
		return fmt.Errorf("the file %s has another form: %s", name, strings.TrimPrefix(err.Error(), "json: "))
	}
	return nil
}

// inFiles is a kind of value by the name that people have for it in a file.
func inFiles(kind string) string {
	switch kind {
	case "slice", "array":
		return "list"
	case "struct", "map", "object":
		return "table of names"
	case "string":
		return "text"
	case "bool":
		return "yes or no"
	}
	return kind
}

// Pinned reads a certificate from a file, to trust what it signed.
func (p *Program) Pinned(file string) (*saml.Certificate, error) {
	pem, err := p.Input(file, 1<<20)
	if err != nil {
		return nil, err
	}
	return keys.ParseCertificate(pem)
}
