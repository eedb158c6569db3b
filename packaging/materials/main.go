// Materials writes the bill of materials of a built program (CycloneDX, JSON): the Go modules that are linked into it, as it says
// itself, and the packages that the console is bundled from. It is the same for the same program.
//
//	go run ./packaging/materials PROGRAM VERSION > materials.cdx.json
package main

import (
	"cmp"
	"debug/buildinfo"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	cdx "github.com/CycloneDX/cyclonedx-go"
)

func main() {
	if len(os.Args) != 3 {
		fmt.Fprintln(os.Stderr, "materials PROGRAM VERSION")
		os.Exit(2)
	}
	if err := write(os.Stdout, os.Args[1], "web/package-lock.json", os.Args[2]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func write(w io.Writer, program, lock, version string) error {
	modules, err := modulesOf(program)
	if err != nil {
		return err
	}
	packages, err := packagesOf(lock)
	if err != nil {
		return err
	}
	all := append(modules, packages...)
	slices.SortFunc(all, func(a, b cdx.Component) int { return cmp.Compare(a.BOMRef, b.BOMRef) })
	bom := cdx.NewBOM()
	bom.Metadata = &cdx.Metadata{Component: &cdx.Component{
		Type: cdx.ComponentTypeApplication, Name: "innergate", Version: version, BOMRef: "innergate",
	}}
	bom.Components = &all
	return cdx.NewBOMEncoder(w, cdx.BOMFileFormatJSON).SetPretty(true).Encode(bom)
}

// modulesOf are the modules that are linked into a program, and the language itself.
func modulesOf(program string) ([]cdx.Component, error) {
	info, err := buildinfo.ReadFile(program)
	if err != nil {
		return nil, err
	}
	language := strings.TrimPrefix(info.GoVersion, "go")
	out := []cdx.Component{{Type: cdx.ComponentTypePlatform, Name: "go", Version: language, BOMRef: "pkg:generic/go@" + language}}
	for _, m := range info.Deps {
		if m.Replace != nil {
			m = m.Replace
		}
		purl := "pkg:golang/" + m.Path + "@" + m.Version
		out = append(out, cdx.Component{Type: cdx.ComponentTypeLibrary, Name: m.Path, Version: m.Version, BOMRef: purl, PackageURL: purl})
	}
	return out, nil
}

// packagesOf are the packages that a browser gets, with the sums under which they were fetched.
func packagesOf(lock string) ([]cdx.Component, error) {
	data, err := os.ReadFile(lock)
	if err != nil {
		return nil, err
	}
	var held struct {
		Packages map[string]struct {
			Version, Integrity string
			Dev                bool
		}
	}
	if err := json.Unmarshal(data, &held); err != nil {
		return nil, fmt.Errorf("%s: %w", lock, err)
	}
	var out []cdx.Component
	for path, p := range held.Packages {
		at := strings.LastIndex(path, "node_modules/")
		if at < 0 || p.Dev {
			continue
		}
		name := path[at+len("node_modules/"):]
		purl := "pkg:npm/" + strings.Replace(name, "@", "%40", 1) + "@" + p.Version
		c := cdx.Component{Type: cdx.ComponentTypeLibrary, Name: name, Version: p.Version, BOMRef: purl + "#" + path, PackageURL: purl}
		if sum, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(p.Integrity, "sha512-")); err == nil && len(sum) == 64 {
			c.Hashes = &[]cdx.Hash{{Algorithm: cdx.HashAlgoSHA512, Value: hex.EncodeToString(sum)}}
		}
		out = append(out, c)
	}
	return out, nil
}
