package saml

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"strings"
)

// maxArchiveEntry is the most octets of one request in a browser's archive that is looked at.
const maxArchiveEntry = 8 << 20

// FromArchive finds the newest SAMLResponse in a browser's archive of requests (HAR 1.2): in a posted form or in an
// address. It reads the archive as a stream, one request at a time, so that its size does not matter, and returns the
// value as the browser sent it, with how many there were.
func FromArchive(r io.Reader) (value string, count int, err error) {
	d := json.NewDecoder(r)
	if err := descend(d, "log", "entries"); err != nil {
		return "", 0, err
	}
	if t, err := d.Token(); err != nil || t != json.Delim('[') {
		return "", 0, errors.New("the archive's entries are no list")
	}
	for d.More() {
		var raw json.RawMessage
		if err := d.Decode(&raw); err != nil {
			return "", count, fmt.Errorf("request %d of the archive can't be read: %w", count+1, err)
		}
		if len(raw) > maxArchiveEntry {
			continue
		}
		var e struct {
			Request struct {
				URL      string
				PostData struct {
					Text   string
					Params []struct{ Name, Value string }
				}
			}
		}
		if json.Unmarshal(raw, &e) != nil {
			continue
		}
		found := ""
		for _, p := range e.Request.PostData.Params {
			if p.Name == ParamResponse {
				found = p.Value
			}
		}
		if form, err := url.ParseQuery(e.Request.PostData.Text); err == nil && found == "" {
			found = form.Get(ParamResponse)
		}
		if u, err := url.Parse(e.Request.URL); err == nil && found == "" {
			found = u.Query().Get(ParamResponse)
		}
		if found != "" {
			value = found
			count++
		}
	}
	if value == "" {
		return "", 0, errors.New("the archive holds no SAMLResponse; record the whole sign-in, with the page that posts to the gate")
	}
	if strings.Contains(value, "%") {
		if plain, err := url.QueryUnescape(value); err == nil {
			value = plain
		}
	}
	return value, count, nil
}

// descend goes to the value below these keys, passing over everything else.
func descend(d *json.Decoder, keys ...string) error {
	for _, key := range keys {
		if t, err := d.Token(); err != nil || t != json.Delim('{') {
			return errors.New("this is no browser's archive of requests (HAR)")
		}
		for {
			if !d.More() {
				return fmt.Errorf("the archive has no %q", key)
			}
			name, err := d.Token()
			if err != nil {
				return fmt.Errorf("the archive can't be read: %w", err)
			}
			if name == key {
				break
			}
			var other json.RawMessage
			if err := d.Decode(&other); err != nil {
				return fmt.Errorf("the archive can't be read: %w", err)
			}
		}
	}
	return nil
}
