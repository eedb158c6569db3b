// Package pasted recognises what people paste: messages of SAML 2.0 and OpenID Connect in any transport form,
// samples of attributes, and references of traces.
package pasted

import (
	"bytes"
	"compress/flate"
	"errors"
	"io"
	"net/url"
	"regexp"
	"strings"

	"innergate/core/oidc"
	"innergate/core/saml"
	"innergate/core/xmlsig"
)

// RawSAML undoes a binding's own encoding and changes nothing else, so that signatures still hold.
func RawSAML(text string) ([]byte, error) {
	text = strings.TrimSpace(text)
	if len(text) > 2<<20 {
		return nil, errors.New("the message is larger than 2 MiB")
	}
	if strings.HasPrefix(text, "<") {
		return []byte(text), nil
	}
	if _, after, found := strings.Cut(text, "SAMLResponse="); found {
		text, _, _ = strings.Cut(after, "&")
	}
	if strings.Contains(text, "%") {
		if plain, err := url.QueryUnescape(text); err == nil {
			text = plain
		}
	}
	raw, err := xmlsig.DecodeBase64(text)
	if err != nil || len(raw) == 0 {
		return nil, errors.New("this is neither XML, nor base64, nor an address or form with a SAMLResponse")
	}
	if bytes.HasPrefix(bytes.TrimSpace(raw), []byte("<")) {
		return raw, nil
	}
	inflated, err := io.ReadAll(io.LimitReader(flate.NewReader(bytes.NewReader(raw)), saml.MaxMessage))
	if err != nil {
		return nil, errors.New("this is base64, but neither XML nor deflated XML")
	}
	return inflated, nil
}

// What a message can be that is judged without a browser.
const (
	JudgedResponse = "SAML response"
	JudgedToken    = "ID token"
	JudgedRequest  = "AuthnRequest"
	JudgedAsking   = "authentication request"
	JudgedAnswer   = "authentication response"
)

var tokenForm = regexp.MustCompile(`^[A-Za-z0-9_-]{10,}\.[A-Za-z0-9_-]{10,}\.[A-Za-z0-9_-]*$`)

// KindOfMessage says what was pasted, by its form alone.
func KindOfMessage(text string) string {
	text = strings.TrimSpace(text)
	query := text
	if _, after, ok := strings.Cut(text, "?"); ok {
		query = after
	}
	query, _, _ = strings.Cut(query, "#")
	has := func(name string) bool {
		return strings.HasPrefix(query, name+"=") || strings.Contains(query, "&"+name+"=")
	}
	switch {
	case strings.HasPrefix(text, "<"):
		if strings.Contains(text[:min(len(text), 600)], "AuthnRequest") {
			return JudgedRequest
		}
	case tokenForm.MatchString(text):
		return JudgedToken
	case has(saml.ParamRequest):
		return JudgedRequest
	case has(saml.ParamResponse):
	case has("client_id") && has("redirect_uri"):
		return JudgedAsking
	case has("state") && (has("code") || has("error")):
		return JudgedAnswer
	}
	return JudgedResponse
}

// ReceivedRequest undoes the binding of a pasted request. One that stands alone, as XML or base64, is taken as posted.
func ReceivedRequest(text, location string) (*saml.Received, error) {
	text = strings.TrimSpace(text)
	if strings.HasPrefix(text, "<") {
		return &saml.Received{Binding: saml.BindingPost, Param: saml.ParamRequest, XML: []byte(text), Location: location}, nil
	}
	query := text
	if _, after, ok := strings.Cut(text, "?"); ok {
		query = after
	}
	query, _, _ = strings.Cut(query, "#")
	received, err := saml.DecodeRedirect(query, location)
	if err == nil {
		return received, nil
	}
	values, parse := url.ParseQuery(query)
	if parse != nil || values.Get(saml.ParamRequest) == "" {
		return nil, err
	}
	posted, post := saml.DecodePost(saml.ParamRequest, values.Get(saml.ParamRequest), values.Get("RelayState"), location)
	if post != nil {
		return nil, err
	}
	return posted, nil
}

// PastedParameters reads parameters out of a pasted address, query or form.
func PastedParameters(text string) (oidc.Parameters, error) {
	text = strings.TrimSpace(text)
	if _, after, ok := strings.Cut(text, "?"); ok {
		text = after
	}
	text, _, _ = strings.Cut(text, "#")
	return oidc.ReadParameters(text)
}
