package management

import (
	"net/http"

	"innergate/api"
	"innergate/core/keys"
	"innergate/gate/ground"
)

// keyRoutes are for the keyring.
func keyRoutes() []route {
	const viewer, engineer, owner = ground.RoleViewer, ground.RoleEngineer, ground.RoleOwner
	post, put, del, get := http.MethodPost, http.MethodPut, http.MethodDelete, http.MethodGet
	step := func(path, summary string, do func(c *call) (*api.Key, error)) route {
		return route{
			Method:   post,
			Path:     "/keys/{id}/" + path,
			Summary:  summary,
			Role:     owner,
			Response: api.Key{},
			handle:   func(c *call) (any, error) { return do(c) },
		}
	}
	switching := step("switch", "Make the published next key the active one, at once or at a time", func(c *call) (*api.Key, error) {
		in, err := body[api.SwitchKey](c)
		if err != nil {
			return nil, err
		}
		return c.s.Gate.Keyring.SwitchKey(c.Context(), c.who, c.Params("id"), in)
	})
	switching.Request = api.SwitchKey{}
	return []route{
		{
			Method:   get,
			Path:     "/keys",
			Summary:  "Our keys, without their private parts",
			Role:     viewer,
			Response: api.List[api.Key]{},
			handle:   func(c *call) (any, error) { return c.s.Gate.Keyring.Keys(c.Context()) },
		},
		{
			Method:   post,
			Path:     "/keys",
			Summary:  "Make the next key for a purpose",
			Role:     owner,
			Request:  api.NewKey{},
			Response: api.Key{},
			Status:   201,
			handle: func(c *call) (any, error) {
				in, err := body[api.NewKey](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Keyring.MakeKey(c.Context(), c.who, in)
			},
		},
		{
			Method:   post,
			Path:     "/keys/import",
			Summary:  "Take a key that was made elsewhere as the next one: PEM, or PKCS #12 in base64",
			Role:     owner,
			Request:  api.ImportKey{},
			Response: api.Key{},
			Status:   201,
			handle: func(c *call) (any, error) {
				in, err := body[api.ImportKey](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Keyring.ImportKey(c.Context(), c.who, in)
			},
		},
		{
			Method:  get,
			Path:    "/keys/{id}/certificate",
			Summary: "A key's certificate: form pem, der, base64 or chain",
			Role:    viewer,
			Query:   []string{"form"},
			Media:   "application/octet-stream",
			handle: func(c *call) (any, error) {
				return c.s.Gate.Keyring.KeyCertificate(c.Context(), c.Params("id"), c.Query("form"))
			},
		},
		{
			Method:   put,
			Path:     "/keys/{id}/certificate",
			Summary:  "Give a key that is not published yet the certificate that an authority made for it",
			Role:     owner,
			Request:  api.CertificateText{},
			Response: api.Key{},
			handle: func(c *call) (any, error) {
				in, err := body[api.CertificateText](c)
				if err != nil {
					return nil, err
				}
				return c.s.Gate.Keyring.CertifyKey(c.Context(), c.who, c.Params("id"), in.Text)
			},
		},
		{
			Method:  get,
			Path:    "/keys/{id}/request",
			Summary: "A certificate signing request for a key, in PEM",
			Role:    owner,
			Query:   []string{"commonName"},
			Media:   "application/octet-stream",
			handle: func(c *call) (any, error) {
				return c.s.Gate.Keyring.KeyRequest(c.Context(), c.Params("id"), c.Query("commonName"))
			},
		},
		step("publish", "Put the next key into our metadata, beside the active one", func(c *call) (*api.Key, error) {
			return c.s.Gate.Keyring.PublishKey(c.Context(), c.who, c.Params("id"))
		}),
		switching,
		step("retire", "Take a retiring key out of use; this can't be taken back", func(c *call) (*api.Key, error) {
			return c.s.Gate.Keyring.RetireKey(c.Context(), c.who, c.Params("id"))
		}),
		step("undo", "Take back a key's last step", func(c *call) (*api.Key, error) {
			return c.s.Gate.Keyring.UndoKey(c.Context(), c.who, c.Params("id"))
		}),
		{
			Method:  del,
			Path:    "/keys/{id}",
			Summary: "Discard a next key that nobody has learnt of",
			Role:    owner,
			Status:  204,
			handle: func(c *call) (any, error) {
				return nil, c.s.Gate.Keyring.DiscardKey(c.Context(), c.who, c.Params("id"))
			},
		},
		{
			Method:  put,
			Path:    "/keys/{id}/holders/{side}/{slug}",
			Summary: "Confirm that a partner has a key's certificate",
			Role:    engineer,
			Status:  204,
			handle: func(c *call) (any, error) {
				return nil, c.s.Gate.Keyring.ConfirmHolder(c.Context(), c.who, c.Params("id"), c.Params("side")+"/"+c.Params("slug"), true)
			},
		},
		{
			Method:  del,
			Path:    "/keys/{id}/holders/{side}/{slug}",
			Summary: "Take such a confirmation back",
			Role:    engineer,
			Status:  204,
			handle: func(c *call) (any, error) {
				return nil, c.s.Gate.Keyring.ConfirmHolder(c.Context(), c.who, c.Params("id"), c.Params("side")+"/"+c.Params("slug"), false)
			},
		},
		{
			Method:   get,
			Path:     "/rollover",
			Summary:  "How far the replacement of a key is",
			Role:     viewer,
			Query:    []string{"purpose", "for"},
			Response: api.Rollover{},
			handle: func(c *call) (any, error) {
				return c.s.Gate.Exchange.Rollover(c.Context(), c.Query("purpose", keys.PurposeSigning), c.Query("for"))
			},
		},
		{
			Method:   get,
			Path:     "/certificates",
			Summary:  "The certificates of partners that are held, those that end first in front",
			Role:     viewer,
			Query:    paged(),
			Response: api.List[api.TrustedCertificate]{},
			handle: func(c *call) (any, error) {
				return c.s.Gate.Keyring.Certificates(c.Context(), page(c))
			},
		},
	}
}
