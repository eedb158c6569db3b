package client

import (
	"context"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"innergate/api"
	"innergate/core/config"
)

// In what follows kind is applications or providers, as in paths.

// Exchange is the exchange sheet.
func (c *Client) Exchange(ctx context.Context, kind, slug string) (*api.ExchangeSheet, error) {
	return do[api.ExchangeSheet](ctx, c, http.MethodGet, at(kind, slug, "exchange"), nil)
}

// CompareSheet holds what the other side's form shows against our sheet.
func (c *Client) CompareSheet(ctx context.Context, kind, slug, text string) (*api.ComparedSheet, error) {
	return do[api.ComparedSheet](ctx, c, http.MethodPost, at(kind, slug, "exchange", "compare"), api.CompareSheet{Text: text})
}

// NoteSheet remembers that the sheet was handed out.
func (c *Client) NoteSheet(ctx context.Context, kind, slug string) error {
	return c.Do(ctx, http.MethodPost, at(kind, slug, "exchange", "handed-out"), nil, nil)
}

// OurMetadata is our metadata: for applications in general with an empty side, for one with idp and its slug, for a
// provider with sp and its slug.
func (c *Client) OurMetadata(ctx context.Context, side, slug string, signed bool) ([]byte, error) {
	path := "/metadata/idp"
	if side != "" {
		path = at("metadata", side, slug)
	}
	if signed {
		path += "?signed=1"
	}
	var out []byte
	return out, c.Do(ctx, http.MethodGet, path, nil, &out)
}

// Refresh looks at a partner's metadata address now.
func (c *Client) Refresh(ctx context.Context, kind, slug string) (*api.Refreshed, error) {
	return do[api.Refreshed](ctx, c, http.MethodPost, at(kind, slug, "refresh"), nil)
}

// Documents lists the versions of a partner's metadata.
func (c *Client) Documents(ctx context.Context, kind, slug string) (*api.List[api.Document], error) {
	return do[api.List[api.Document]](ctx, c, http.MethodGet, at(kind, slug, "documents"), nil)
}

// DocumentText is one version as it was received.
func (c *Client) DocumentText(ctx context.Context, kind, slug, id string) ([]byte, error) {
	var out []byte
	return out, c.Do(ctx, http.MethodGet, at(kind, slug, "documents", id), nil, &out)
}

// DocumentChanges tells what using a version now would change.
func (c *Client) DocumentChanges(ctx context.Context, kind, slug, id string) (*api.Refreshed, error) {
	return do[api.Refreshed](ctx, c, http.MethodGet, at(kind, slug, "documents", id, "changes"), nil)
}

// UseDocument applies or restores a version.
func (c *Client) UseDocument(ctx context.Context, kind, slug, id string) (*api.Refreshed, error) {
	return do[api.Refreshed](ctx, c, http.MethodPost, at(kind, slug, "documents", id, "use"), nil)
}

// DismissDocument decides against a version that waits.
func (c *Client) DismissDocument(ctx context.Context, kind, slug, id string) error {
	return c.Do(ctx, http.MethodPost, at(kind, slug, "documents", id, "dismiss"), nil, nil)
}

// Keys lists the gate's keys.
func (c *Client) Keys(ctx context.Context) (*api.List[api.Key], error) {
	return do[api.List[api.Key]](ctx, c, http.MethodGet, "/keys", nil)
}

// MakeKey makes the next key for a purpose.
func (c *Client) MakeKey(ctx context.Context, n api.NewKey) (*api.Key, error) {
	return do[api.Key](ctx, c, http.MethodPost, "/keys", n)
}

// ImportKey takes a key that was made elsewhere.
func (c *Client) ImportKey(ctx context.Context, in api.ImportKey) (*api.Key, error) {
	return do[api.Key](ctx, c, http.MethodPost, "/keys/import", in)
}

// KeyRequest is a certificate signing request.
func (c *Client) KeyRequest(ctx context.Context, id, commonName string) ([]byte, error) {
	var out []byte
	return out, c.Do(ctx, http.MethodGet, at("keys", id, "request")+"?commonName="+url.QueryEscape(commonName), nil, &out)
}

// KeyCertificate is a key's certificate as pem, der, base64 or chain.
func (c *Client) KeyCertificate(ctx context.Context, id, form string) ([]byte, error) {
	var out []byte
	return out, c.Do(ctx, http.MethodGet, at("keys", id, "certificate")+"?form="+url.QueryEscape(form), nil, &out)
}

// CertifyKey gives a key the certificate that an authority made.
func (c *Client) CertifyKey(ctx context.Context, id, text string) (*api.Key, error) {
	return do[api.Key](ctx, c, http.MethodPut, at("keys", id, "certificate"), api.CertificateText{Text: text})
}

// StepKey takes a step of a key's life: publish, retire or undo.
func (c *Client) StepKey(ctx context.Context, id, step string) (*api.Key, error) {
	return do[api.Key](ctx, c, http.MethodPost, at("keys", id, step), nil)
}

// SwitchKey makes the next key the active one, at once or at a time.
func (c *Client) SwitchKey(ctx context.Context, id string, in api.SwitchKey) (*api.Key, error) {
	return do[api.Key](ctx, c, http.MethodPost, at("keys", id, "switch"), in)
}

// DiscardKey deletes a next key that nobody has learnt of.
func (c *Client) DiscardKey(ctx context.Context, id string) error {
	return c.Do(ctx, http.MethodDelete, at("keys", id), nil, nil)
}

// ConfirmHolder notes that a partner has a key's certificate, or takes that back.
func (c *Client) ConfirmHolder(ctx context.Context, id, kind, slug string, has bool) error {
	method := http.MethodPut
	if !has {
		method = http.MethodDelete
	}
	return c.Do(ctx, method, at("keys", id, "holders", kind, slug), nil, nil)
}

// Rollover tells how far the replacement of a key is. Partner is empty, or applications/slug or providers/slug.
func (c *Client) Rollover(ctx context.Context, purpose, partner string) (*api.Rollover, error) {
	return do[api.Rollover](ctx, c, http.MethodGet, "/rollover?purpose="+url.QueryEscape(purpose)+"&for="+url.QueryEscape(partner), nil)
}

// Certificates lists the certificates of partners.
func (c *Client) Certificates(ctx context.Context, p Page) (*api.List[api.TrustedCertificate], error) {
	return do[api.List[api.TrustedCertificate]](ctx, c, http.MethodGet, "/certificates"+p.query(), nil)
}

// Sources lists sources of metadata.
func (c *Client) Sources(ctx context.Context) (*api.List[api.Source], error) {
	return do[api.List[api.Source]](ctx, c, http.MethodGet, "/sources", nil)
}

// Source shows one.
func (c *Client) Source(ctx context.Context, slug string) (*api.Source, error) {
	return do[api.Source](ctx, c, http.MethodGet, at("sources", slug), nil)
}

// AddSource adds one.
func (c *Client) AddSource(ctx context.Context, s config.Source) (*api.Source, error) {
	return do[api.Source](ctx, c, http.MethodPost, "/sources", s)
}

// RefreshSource begins to read a source.
func (c *Client) RefreshSource(ctx context.Context, slug string) (*api.Source, error) {
	return do[api.Source](ctx, c, http.MethodPost, at("sources", slug, "refresh"), nil)
}

// CancelSource stops a reading.
func (c *Client) CancelSource(ctx context.Context, slug string) error {
	return c.Do(ctx, http.MethodDelete, at("sources", slug, "refresh"), nil, nil)
}

const uploadPart = 2 << 20

// UploadSource uploads a file part by part, telling how far it is.
func (c *Client) UploadSource(ctx context.Context, slug string, r io.Reader, progress func(have int64)) error {
	part := make([]byte, uploadPart)
	for offset := int64(0); ; {
		n, err := io.ReadFull(r, part)
		if n > 0 || offset == 0 {
			if err := c.Do(ctx, http.MethodPut, at("sources", slug, "file")+"?offset="+strconv.FormatInt(offset, 10), part[:n],
				nil); err != nil {
				return err
			}
			if offset += int64(n); progress != nil {
				progress(offset)
			}
		}
		if err == io.EOF || err == io.ErrUnexpectedEOF {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// SourceEntities lists a page of a source's entities.
func (c *Client) SourceEntities(ctx context.Context, slug string, p Page) (*api.List[api.SourceEntity], error) {
	return do[api.List[api.SourceEntity]](ctx, c, http.MethodGet, at("sources", slug, "entities")+p.query(), nil)
}

// LookUp asks a metadata query service for one entity.
func (c *Client) LookUp(ctx context.Context, slug, entityID string) (*api.SourceEntity, error) {
	return do[api.SourceEntity](ctx, c, http.MethodPost, at("sources", slug, "look-up"), api.LookUp{EntityID: entityID})
}

// Adopt makes drafts of entities of a source.
func (c *Client) Adopt(ctx context.Context, slug string, in api.Adopt) (*api.List[api.Adopted], error) {
	return do[api.List[api.Adopted]](ctx, c, http.MethodPost, at("sources", slug, "adopt"), in)
}

// Templates lists templates.
func (c *Client) Templates(ctx context.Context) (*api.List[config.Template], error) {
	return do[api.List[config.Template]](ctx, c, http.MethodGet, "/templates", nil)
}

// Template shows one.
func (c *Client) Template(ctx context.Context, slug string) (*config.Template, error) {
	return do[config.Template](ctx, c, http.MethodGet, at("templates", slug), nil)
}

// NewTemplate saves a connection as a template.
func (c *Client) NewTemplate(ctx context.Context, in api.NewTemplate) (*config.Template, error) {
	return do[config.Template](ctx, c, http.MethodPost, "/templates", in)
}

// StartTemplate makes a draft from a template.
func (c *Client) StartTemplate(ctx context.Context, slug string, in api.StartTemplate) (*api.Reference, error) {
	return do[api.Reference](ctx, c, http.MethodPost, at("templates", slug, "start"), in)
}
