package management

import (
	"bytes"
	"embed"
	"encoding/json"
	"fmt"
	"html/template"
	"strings"
	"time"

	"innergate/api"
	"innergate/core/trace"
)

//go:embed documents
var documentFiles embed.FS

// bundleTemplate makes a page that is read without the gate: everything is in the file, and nothing is fetched.
var bundleTemplate = template.Must(template.New("bundle.html").Funcs(template.FuncMap{
	"time": func(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05 MST") },
	"ms":   func(micros int64) string { return fmt.Sprintf("%.1f ms", float64(micros)/1000) },
	"list": func(v []string) string { return strings.Join(v, ", ") },
	"pretty": func(v any) (string, error) {
		b, err := json.MarshalIndent(v, "", "  ")
		return string(b), err
	},
	"kind": func(e trace.Entry) string {
		switch {
		case e.Message != nil:
			return "message"
		case e.Check != nil:
			return "check"
		case e.Value != nil:
			return "value"
		case e.Decision != nil:
			return "decision"
		}
		return "failure"
	},
}).ParseFS(documentFiles, "documents/bundle.html"))

// bundlePage is a bundle as one HTML file.
func bundlePage(b *api.Bundle) ([]byte, error) {
	var out bytes.Buffer
	err := bundleTemplate.Execute(&out, b)
	return out.Bytes(), err
}
