package exchange

import (
	"context"
	"errors"
	"net/http"
	"strings"

	"innergate/api"
	"innergate/core/explain"
	"innergate/core/oidc"
	"innergate/core/sheet"
	"innergate/core/takein"
	"innergate/gate/grants"
	"innergate/gate/ground"
	"innergate/store"
)

// Register takes a client's own metadata (RFC 7591). It needs an API token of an engineer, and makes a draft: nobody
// signs in to it until somebody has opened it.
func (g *Room) Register(ctx context.Context, bearer string, body []byte, from string) *grants.OAuthAnswer {
	if on, err := g.grants.RegistrationOn(ctx); err != nil || !on {
		return &grants.OAuthAnswer{
			Status: http.StatusNotFound,
			Body:   map[string]string{"error": "not_found", "error_description": "Clients can't register themselves here."},
		}
	}
	who, err := g.console.TokenActor(ctx, bearer, from)
	if err != nil || !ground.Allows(who.Role, ground.RoleEngineer) {
		return grants.BearerError(http.StatusUnauthorized, "invalid_token", "Registering a client needs an API token of an engineer.")
	}
	a, err := takein.ClientMetadata(body)
	if err != nil {
		return g.registrationRefused(ctx, err)
	}
	a.Slug = a.Slug + "-" + strings.ToLower(store.NewID()[20:])
	saved, err := g.configuration.SaveApplication(ctx, *who, "", *a, 0)
	if err != nil {
		return g.registrationRefused(ctx, err)
	}
	o := saved.OIDC
	out := map[string]any{
		"client_id":                  o.ClientID,
		"client_id_issued_at":        saved.Created.Unix(),
		"client_name":                saved.Name,
		"redirect_uris":              o.RedirectURIs,
		"token_endpoint_auth_method": o.Authentication,
		"grant_types": takein.GrantTypes(
			o,
		),
		"response_types":               []string{"code"},
		"scope":                        sheet.ScopesText(o.Scopes),
		"id_token_signed_response_alg": o.Algorithm,
	}
	if o.HasSecret() {
		secret, err := g.partners.NewSecret(ctx, *who, saved.Slug, api.NewSecret{})
		if err != nil {
			return g.registrationRefused(ctx, err)
		}
		out["client_secret"], out["client_secret_expires_at"] = secret.Secret, 0
	}
	return &grants.OAuthAnswer{Status: http.StatusCreated, Body: out}
}

func (g *Room) registrationRefused(ctx context.Context, err error) *grants.OAuthAnswer {
	code, text := "invalid_client_metadata", ""
	var p *api.Problem
	var f *explain.Failure
	switch {
	case errors.As(err, &p):
		text = p.Detail
		if len(p.Fields) > 0 {
			text = p.Fields[0].Field + ": " + p.Fields[0].Message
			if strings.HasPrefix(p.Fields[0].Field, "oidc.redirectUris") {
				code = "invalid_redirect_uri"
			}
		}
	case errors.As(err, &f):
		text = f.Explain().Cause
	default:
		g.Log.ErrorContext(ctx, "a client could not be registered", "error", err)
		return &grants.OAuthAnswer{Status: http.StatusInternalServerError, Body: map[string]string{"error": "server_error"}}
	}
	return &grants.OAuthAnswer{
		Status: http.StatusBadRequest,
		Body:   map[string]string{"error": code, "error_description": oidc.Printable(text)},
	}
}
