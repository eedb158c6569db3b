package rehearsal

import (
	"bytes"
	"compress/flate"
	"encoding/base64"
	"encoding/json"
	"io"
	"net/url"
	"strings"
	"time"

	"innergate/api"
	"innergate/core/saml"
	"innergate/core/xmlsig"
	"innergate/core/xmltree"
	"innergate/gate/ground"
)

// DecodeAnything makes a message readable: XML, base64, deflated base64, a URL or form body with SAML parameters, or a
// JWT. It verifies nothing, and says so.
func DecodeAnything(text string) (*api.Decoded, error) {
	text = strings.TrimSpace(text)
	const unverified = "Nothing here was verified: no signature, no time, no address."
	switch {
	case text == "":
		return nil, ground.BadRequest(
			"nothing-given", "There is nothing to decode.",
			"Give a SAML message in any form, a whole address, or a JWT.",
		)
	case len(text) > 2<<20:
		return nil, ground.BadRequest("too-large", "The text is larger than 2 MiB.", "")
	case strings.HasPrefix(text, "<"):
		d, err := decodedXML([]byte(text), "as it is")
		if err != nil {
			return nil, ground.BadRequest("not-xml", "This begins like XML, but is not well formed: "+err.Error()+".", "")
		}
		d.Notes = append(d.Notes, unverified)
		return d, nil
	case strings.Contains(text, "SAMLRequest=") || strings.Contains(text, "SAMLResponse="):
		d, err := decodedQuery(text)
		if err != nil {
			return nil, ground.BadRequest("not-saml", "The address holds SAML parameters that can't be decoded: "+err.Error()+".", "")
		}
		d.Notes = append(d.Notes, unverified)
		return d, nil
	}
	if d := decodedJWT(text); d != nil {
		d.Notes = append(d.Notes, unverified)
		return d, nil
	}
	plain := text
	if u, err := url.QueryUnescape(text); err == nil && strings.Contains(text, "%") {
		plain = u
	}
	raw, err := xmlsig.DecodeBase64(plain)
	if err != nil {
		raw, err = base64.RawURLEncoding.DecodeString(strings.TrimRight(plain, "="))
	}
	if err != nil {
		return nil, ground.BadRequest(
			"not-decodable", "This is neither XML, nor base64, nor an address with SAML parameters, nor a JWT.",
			"Copy the whole value of SAMLRequest or SAMLResponse, or the whole address.",
		)
	}
	d, err := decodedXML(raw, "base64 (HTTP-POST)")
	if err != nil {
		inflated, ierr := io.ReadAll(io.LimitReader(flate.NewReader(bytes.NewReader(raw)), saml.MaxMessage))
		if ierr != nil {
			return nil, ground.BadRequest(
				"not-decodable", "This is base64, but neither XML nor deflated XML.",
				"Copy the whole value; perhaps its end was cut off.",
			)
		}
		if d, err = decodedXML(inflated, "deflated base64 (HTTP-Redirect)"); err != nil {
			return nil, ground.BadRequest("not-xml", "This inflates to something that is not XML: "+err.Error()+".", "")
		}
	}
	d.Notes = append(d.Notes, unverified)
	return d, nil
}

func decodedXML(doc []byte, form string) (*api.Decoded, error) {
	root, err := xmltree.Parse(doc, xmltree.Limits{Bytes: 4 << 20})
	if err != nil {
		return nil, err
	}
	d := &api.Decoded{Kind: "saml", Binding: form, Message: root.Local, Text: root.Indented()}
	if root.Space != saml.NSProtocol && root.Space != saml.NSAssertion && root.Space != saml.NSMetadata {
		d.Kind = "xml"
	}
	var signed []string
	root.Walk(func(e *xmltree.Element) bool {
		if e.Is(xmlsig.NS, "Signature") && e.Parent != nil {
			signed = append(signed, e.Parent.Local)
		}
		if e.Is(xmlsig.NSEnc, "EncryptedData") && e.Parent != nil {
			d.Notes = append(d.Notes, e.Parent.Local+" is encrypted; only the one it is meant for can open it.")
		}
		return true
	})
	if len(signed) > 0 {
		d.Signed = "a signature stands in " + strings.Join(signed, " and ")
	}
	return d, nil
}

func decodedQuery(text string) (*api.Decoded, error) {
	query := text
	if i := strings.IndexByte(text, '?'); i >= 0 {
		query = text[i+1:]
	}
	if i := strings.IndexByte(query, '#'); i >= 0 {
		query = query[:i]
	}
	received, err := saml.DecodeRedirect(query, "")
	form := "HTTP-Redirect"
	if err != nil {
		values, perr := url.ParseQuery(query)
		if perr != nil {
			return nil, err
		}
		param := saml.ParamResponse
		if values.Has(saml.ParamRequest) {
			param = saml.ParamRequest
		}
		posted, perr := saml.DecodePost(param, values.Get(param), values.Get("RelayState"), "")
		if perr != nil {
			return nil, err
		}
		received, form = posted, "HTTP-POST"
	}
	d, err := decodedXML(received.XML, form)
	if err != nil {
		return nil, err
	}
	d.RelayState = received.RelayState
	if words := received.SignatureInWords(); words != "" {
		d.Signed = words
	}
	return d, nil
}

// decodedJWT reads a token's header and claims, or returns nil where the text is none.
func decodedJWT(text string) *api.Decoded {
	parts := strings.Split(strings.TrimPrefix(text, "Bearer "), ".")
	if len(parts) != 3 && len(parts) != 5 {
		return nil
	}
	part := func(s string) map[string]any {
		raw, err := base64.RawURLEncoding.DecodeString(strings.TrimRight(s, "="))
		if err != nil {
			return nil
		}
		var m map[string]any
		if json.Unmarshal(raw, &m) != nil {
			return nil
		}
		return m
	}
	header := part(parts[0])
	if header == nil {
		return nil
	}
	d := &api.Decoded{Kind: "jwt", Message: "JWT", Parameters: map[string]string{}}
	if alg, ok := header["alg"].(string); ok {
		d.Signed = alg
	}
	shown := map[string]any{"header": header}
	if len(parts) == 5 {
		d.Notes = append(d.Notes, "The token is encrypted; only its header can be read.")
	} else if claims := part(parts[1]); claims != nil {
		shown["claims"] = claims
		for _, name := range []string{"iat", "nbf", "exp", "auth_time"} {
			if v, ok := claims[name].(float64); ok {
				d.Parameters[name] = time.Unix(int64(v), 0).UTC().Format(time.RFC3339)
			}
		}
	} else {
		return nil
	}
	out, err := json.MarshalIndent(shown, "", "  ")
	if err != nil {
		return nil
	}
	d.Text = string(out) + "\n"
	return d
}
