package saml_test

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/saml"
)

func TestResponsesAreFoundInABrowsersArchive(t *testing.T) {
	entry := func(address, text string, params ...[2]string) string {
		var list []map[string]string
		for _, p := range params {
			list = append(list, map[string]string{"name": p[0], "value": p[1]})
		}
		b, err := json.Marshal(map[string]any{
			"startedDateTime": "2026-11-23T09:00:00Z",
			"request": map[string]any{
				"method":   "POST",
				"url":      address,
				"postData": map[string]any{"text": text, "params": list},
			},
		})
		require.NoError(t, err)
		return string(b)
	}
	archive := func(entries ...string) string {
		return `{"log":{"version":"1.2","creator":{"name":"a browser","list":[1,{"entries":[]}]},"entries":[` + strings.Join(
			entries, ",",
		) + `]}}`
	}
	for name, c := range map[string]struct {
		text, value string
		count       int
	}{
		"in the parameters": {archive(entry("https://gate.example/acs", "", [2]string{"RelayState", "x"},
			[2]string{"SAMLResponse", "PHNhbWw+"})), "PHNhbWw+", 1},
		"in the parameters, escaped": {archive(entry("https://gate.example/acs", "", [2]string{"SAMLResponse", "PHNhbWw%2B"})),
			"PHNhbWw+", 1},
		"in the text": {archive(entry("https://gate.example/acs", "SAMLResponse=PHNhbWw%2B&RelayState=x")), "PHNhbWw+",
			1},
		"in an address": {archive(entry("https://gate.example/slo?SAMLResponse=PHNhbWw%2B", "")), "PHNhbWw+", 1},
		"the newest of several": {archive(entry("https://a.example/", "SAMLResponse=b2xk"), entry("https://a.example/", ""),
			entry("https://a.example/", "SAMLResponse=bmV3")), "bmV3", 2},
		"beside something of no use": {archive(`{"request":7}`, entry("https://a.example/", "SAMLResponse=bmV3")), "bmV3", 1},
		"entries before other keys too": {strings.Replace(archive(entry("https://a.example/", "SAMLResponse=bmV3")), `"version":"1.2"`,
			`"pages":[],"version":"1.2"`, 1), "bmV3", 1},
	} {
		value, count, err := saml.FromArchive(strings.NewReader(c.text))
		require.NoError(t, err, name)
		assert.Equal(t, c.value, value, name)
		assert.Equal(t, c.count, count, name)
	}
	for text, says := range map[string]string{"<html>": "no browser's archive", "[]": "no browser's archive", `{"a":1}`: `no "log"`,
		`{"log":{}}`: `no "entries"`, `{"log":{"entries":{}}}`: "no list", archive(): "holds no SAMLResponse",
		`{"log":{"entries":[{`: "can't be read", archive(entry("https://a.example/", "")): "record the whole sign-in"} {
		_, _, err := saml.FromArchive(strings.NewReader(text))
		assert.ErrorContains(t, err, says, text)
	}
}

// TestALargeArchiveIsReadAsAStream reads 64 MB of requests, of which the last one matters, without holding them.
func TestALargeArchiveIsReadAsAStream(t *testing.T) {
	r, w := io.Pipe()
	go func() {
		fmt.Fprint(w, `{"log":{"entries":[`)
		filler := `{"request":{"url":"https://a.example/"},"response":{"content":{"text":"` + strings.Repeat("x", 1<<20) + `"}}},`
		for range 64 {
			if _, err := io.WriteString(w, filler); err != nil {
				return
			}
		}
		fmt.Fprint(w, `{"request":{"url":"https://a.example/","postData":{"text":"SAMLResponse=bmV3"}}}]}}`)
		w.Close()
	}()
	value, count, err := saml.FromArchive(r)
	require.NoError(t, err)
	assert.Equal(t, "bmV3", value)
	assert.Equal(t, 1, count)
}
