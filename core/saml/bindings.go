package saml

import (
	"bytes"
	"compress/flate"
	"crypto"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net/url"
	"strings"
	"sync"

	"innergate/core/explain"
	"innergate/core/xmlsig"
)

// MaxMessage bounds a protocol message, before and after inflating, in bytes.
const MaxMessage = 1 << 20

// Parameter names of the two kinds of messages (SAML Bindings, sections 3.4 and 3.5).
const (
	ParamRequest  = "SAMLRequest"
	ParamResponse = "SAMLResponse"
)

// Received is a message with its binding's own encoding undone. Nothing in it has been checked.
type Received struct {
	Binding    string // a binding's URI
	Param      string // ParamRequest or ParamResponse
	XML        []byte
	RelayState string
	// Location is the address at which the message arrived, for the comparison with Destination.
	Location string

	// With HTTP-Redirect: the signature over the query.
	signatureAlgorithm xmlsig.Algorithm
	signature          []byte
	signedText         string
}

// DecodeError says why a message's transport form can't be undone.
type DecodeError struct {
	Reason string
	// Size is set where the message is too large: what it has, in words.
	Size string
}

func (e *DecodeError) Error() string { return e.Reason }

// TooLarge says that a message has too many bytes.
func TooLarge(bytes int) *DecodeError {
	// Rounded up, so that what is a little too large never looks like the limit itself.
	return &DecodeError{Reason: "the message is too large", Size: fmt.Sprintf("%d KiB", (bytes+1023)/1024)}
}

// Failure explains what a message could not be read for.
func (e *DecodeError) Failure() *explain.Failure {
	if e.Size != "" {
		return explain.New(explain.SAMLTooLarge, explain.Pair("size", fmt.Sprintf("%d KiB", MaxMessage/1024), e.Size))
	}
	return explain.New(explain.SAMLUnreadable, explain.Fact("reason", e.Reason))
}

func decodeError(format string, args ...any) error {
	return &DecodeError{Reason: fmt.Sprintf(format, args...)}
}

// DecodeRedirect undoes the HTTP-Redirect binding (SAML Bindings, section 3.4.4.1) from a raw, still encoded query. The
// text that was signed is rebuilt from the raw values in the order that the standard gives.
func DecodeRedirect(rawQuery, location string) (*Received, error) {
	raw := map[string]string{}
	for pair := range strings.SplitSeq(rawQuery, "&") {
		name, value, _ := strings.Cut(pair, "=")
		plain, err := url.QueryUnescape(name)
		if err != nil {
			continue
		}
		switch plain {
		case ParamRequest, ParamResponse, "RelayState", "SigAlg", "Signature", "SAMLEncoding":
			if _, twice := raw[plain]; twice {
				return nil, decodeError("the parameter %s stands twice in the query", plain)
			}
			if plain != name {
				return nil, decodeError("the parameter %s is written with escapes", plain)
			}
			raw[plain] = value
		}
	}
	r := &Received{Binding: BindingRedirect, Location: location}
	request, isRequest := raw[ParamRequest]
	response, isResponse := raw[ParamResponse]
	switch {
	case isRequest && isResponse:
		return nil, decodeError("the query holds a SAMLRequest and a SAMLResponse")
	case isRequest:
		r.Param = ParamRequest
	case isResponse:
		r.Param, request = ParamResponse, response
	default:
		return nil, decodeError("the query holds neither a SAMLRequest nor a SAMLResponse")
	}
	values := map[string]string{}
	for name, v := range raw {
		plain, err := url.QueryUnescape(v)
		if err != nil {
			return nil, decodeError("the parameter %s has a broken escape", name)
		}
		values[name] = plain
	}
	if e, ok := values["SAMLEncoding"]; ok && e != "urn:oasis:names:tc:SAML:2.0:bindings:URL-Encoding:DEFLATE" {
		return nil, decodeError("the encoding %q is not known", e)
	}
	packed, err := xmlsig.DecodeBase64(values[r.Param])
	if err != nil {
		return nil, decodeError("%s is not base64", r.Param)
	}
	if r.XML, err = inflate(packed); err != nil {
		return nil, err
	}
	r.RelayState = values["RelayState"]
	alg, hasAlg := values["SigAlg"]
	sig, hasSig := values["Signature"]
	if hasAlg != hasSig {
		return nil, decodeError("of SigAlg and Signature only one is there")
	}
	if hasSig {
		if r.signature, err = xmlsig.DecodeBase64(sig); err != nil {
			return nil, decodeError("Signature is not base64")
		}
		r.signatureAlgorithm = xmlsig.Algorithm(alg)
		var b strings.Builder
		b.WriteString(r.Param + "=" + request)
		if relay, ok := raw["RelayState"]; ok {
			b.WriteString("&RelayState=" + relay)
		}
		b.WriteString("&SigAlg=" + raw["SigAlg"])
		r.signedText = b.String()
	}
	return r, nil
}

func inflate(packed []byte) ([]byte, error) {
	z := flate.NewReader(bytes.NewReader(packed))
	out, err := io.ReadAll(io.LimitReader(z, MaxMessage+1))
	switch {
	case len(out) > MaxMessage:
		size := fmt.Sprintf("more than %d KiB, after inflating", MaxMessage/1024)
		return nil, &DecodeError{Reason: "the message is too large", Size: size}
	case errors.Is(err, io.ErrUnexpectedEOF):
		return nil, decodeError("the message was cut off")
	case err != nil:
		return nil, decodeError("the message is not DEFLATE-compressed")
	}
	return out, nil
}

// DecodePost undoes the HTTP-POST binding (SAML Bindings, section 3.5.4) for a form's value.
func DecodePost(param, value, relayState, location string) (*Received, error) {
	if base64.StdEncoding.DecodedLen(len(value)) > MaxMessage+4096 {
		return nil, TooLarge(base64.StdEncoding.DecodedLen(len(value)))
	}
	doc, err := xmlsig.DecodeBase64(value)
	if err != nil {
		return nil, decodeError("%s is not base64", param)
	}
	if len(doc) > MaxMessage {
		return nil, TooLarge(len(doc))
	}
	return &Received{Binding: BindingPost, Param: param, XML: doc, RelayState: relayState, Location: location}, nil
}

// SignatureInWords describes a signature over the query, or returns "" where there is none.
func (r *Received) SignatureInWords() string {
	if r.signature == nil {
		return ""
	}
	return r.signatureAlgorithm.Name() + " over the query"
}

var deflaters = sync.Pool{New: func() any {
	w, _ := flate.NewWriter(io.Discard, flate.DefaultCompression)
	return w
}}

// EncodeRedirect makes the address to which a browser is sent (SAML Bindings, section 3.4.4.1). With a signer the query
// is signed.
func EncodeRedirect(location, param string, doc []byte, relayState string, signer *xmlsig.Signer) (string, error) {
	var packed bytes.Buffer
	w := deflaters.Get().(*flate.Writer)
	defer deflaters.Put(w)
	w.Reset(&packed)
	if _, err := w.Write(doc); err != nil {
		return "", err
	}
	if err := w.Close(); err != nil {
		return "", err
	}
	query := param + "=" + url.QueryEscape(base64.StdEncoding.EncodeToString(packed.Bytes()))
	if relayState != "" {
		query += "&RelayState=" + url.QueryEscape(relayState)
	}
	if signer != nil {
		alg := signer.Algorithm
		if alg == "" {
			alg = xmlsig.DefaultAlgorithm(signer.Key.Public())
		}
		query += "&SigAlg=" + url.QueryEscape(string(alg))
		sig, err := xmlsig.SignRaw(signer.Key, alg, []byte(query))
		if err != nil {
			return "", err
		}
		query += "&Signature=" + url.QueryEscape(base64.StdEncoding.EncodeToString(sig))
	}
	separator := "?"
	if strings.Contains(location, "?") {
		separator = "&"
	}
	return location + separator + query, nil
}

// EncodePost encodes a document for a form field.
func EncodePost(doc []byte) string { return base64.StdEncoding.EncodeToString(doc) }

// queryVerified reports whether one of the keys made the query's signature.
func (r *Received) queryVerified(keys []crypto.PublicKey) (int, bool) {
	for i, k := range keys {
		if xmlsig.CheckKey(k) == nil && xmlsig.VerifyRaw(k, r.signatureAlgorithm, []byte(r.signedText), r.signature) {
			return i, true
		}
	}
	return 0, false
}
