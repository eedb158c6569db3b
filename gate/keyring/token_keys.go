package keyring

import (
	"context"
	"crypto"
	"fmt"

	"innergate/core/jose"
	"innergate/core/keys"
)

// TokenUsers counts who uses the keys for tokens.
var TokenUsers = map[string]string{
	keys.PurposeTokenRSA: "applications WHERE kind = 'oidc' AND coalesce(json_extract(body, '$.oidc.algorithm'), 'RS256') IN " +
		"('RS256', 'PS256')",
	keys.PurposeTokenEC: "applications WHERE kind = 'oidc' AND json_extract(body, '$.oidc.algorithm') = 'ES256'",
	keys.PurposeTokenEd: "applications WHERE kind = 'oidc' AND json_extract(body, '$.oidc.algorithm') = 'EdDSA'",
	keys.PurposeClient:  "providers WHERE kind IN ('oidc', 'oauth2') AND json_extract(body, '$.oidc.authentication') = 'private_key_jwt'",
}

// PurposeOf is the purpose of the key that signs with an algorithm.
func PurposeOf(alg string) string {
	switch alg {
	case jose.ES256:
		return keys.PurposeTokenEC
	case jose.EdDSA:
		return keys.PurposeTokenEd
	}
	return keys.PurposeTokenRSA
}

// TokenSigner signs tokens with the active key of a purpose; without an algorithm it takes the one that the key is made
// for.
func (g *Room) TokenSigner(ctx context.Context, a Approval, purpose, alg string) (*jose.Signer, error) {
	if err := a.check(); err != nil {
		return nil, err
	}
	owner := ""
	if purpose == keys.PurposeClient {
		owner = a.owner // each provider has a key of its own; applications check tokens with the same ones
	}
	r, err := g.Ring(ctx, purpose, owner)
	if err != nil {
		return nil, err
	}
	g.usedCerts.Store(usedCertificate{r.IDs[0], r.Certs[0]}, g.Now().UTC())
	if s, ok := r.tokens.Load(alg); ok {
		return s.(*jose.Signer), nil
	}
	private := r.Signers[0]
	chosen := alg
	if chosen == "" {
		chosen = usualAlgorithm(private.Public())
	}
	id, err := jose.Thumbprint(private.Public())
	if err != nil {
		return nil, err
	}
	s, err := jose.NewSigner(id, chosen, private)
	if err != nil {
		return nil, fmt.Errorf("the key for %s can't be used: %w", purpose, err)
	}
	r.tokens.Store(alg, s)
	return s, nil
}

func usualAlgorithm(public crypto.PublicKey) string {
	for _, alg := range []string{jose.ES256, jose.EdDSA, jose.RS256} {
		if jose.Fits(alg, public) {
			return alg
		}
	}
	return jose.RS256
}

// WriteKeySet writes a JWK Set of our published keys (RFC 7517).
func (g *Room) WriteKeySet(ctx context.Context, owner string, purposes ...string) ([]byte, error) {
	published, err := g.publishedKeys(ctx, owner, purposes...)
	if err != nil {
		return nil, err
	}
	return jose.WriteKeySet(published)
}

func (g *Room) publishedKeys(ctx context.Context, owner string, purposes ...string) ([]jose.Published, error) {
	var out []jose.Published
	for _, purpose := range purposes {
		r, err := g.Ring(ctx, purpose, owner)
		if err != nil {
			return nil, err
		}
		for _, s := range r.Signers {
			id, err := jose.Thumbprint(s.Public())
			if err != nil {
				return nil, err
			}
			// An RSA key signs with two algorithms, so none is named for it.
			k := jose.Published{ID: id, Public: s.Public()}
			if purpose != keys.PurposeTokenRSA {
				k.Algorithm = usualAlgorithm(s.Public())
			}
			out = append(out, k)
		}
	}
	return out, nil
}

// OurKeys are our published keys to check our own tokens with, such as an ID token that comes back as a hint.
func (g *Room) OurKeys(ctx context.Context) (jose.KeySet, error) {
	published, err := g.publishedKeys(ctx, "", keys.PurposeTokenRSA, keys.PurposeTokenEC, keys.PurposeTokenEd)
	if err != nil {
		return jose.KeySet{}, err
	}
	var set jose.KeySet
	for _, k := range published {
		set.Keys = append(set.Keys, jose.One(k.ID, k.Algorithm, k.Public).Keys...)
	}
	return set, nil
}
