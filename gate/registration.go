package gate

import (
	"context"
	"errors"
	"net/http"
	"slices"
	"strings"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/jose"
	"innergate/core/oidc"
	"innergate/store"
)

const settingRegistration = "client-registration"

// RegistrationOn says whether clients may register themselves. It is off until an owner switches it on.
func (g *Gate) RegistrationOn(ctx context.Context) (bool, error) {
	var s store.Setting
	err := g.Store.Read(ctx).Where("name = ?", settingRegistration).Limit(1).Find(&s).Error
	return s.Value == "on", store.Clear(err)
}

// SetRegistration switches it.
func (g *Gate) SetRegistration(ctx context.Context, who Actor, on bool) error {
	before, err := g.RegistrationOn(ctx)
	if err != nil {
		return err
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error { return g.writeRegistration(tx, who, before, on) })
}

func (g *Gate) writeRegistration(tx *gorm.DB, who Actor, before, on bool) error {
	value := map[bool]string{true: "on", false: "off"}[on]
	return g.storeSetting(tx, who, settingRegistration, "client registration", value, mustJSON(config.Registration{On: before}), mustJSON(config.Registration{On: on}))
}

// Register takes a client's own metadata (RFC 7591). It needs an API token of an engineer, and makes a draft: nobody signs in to it until somebody has opened it.
func (g *Gate) Register(ctx context.Context, bearer string, body []byte, from string) *OAuthAnswer {
	if on, err := g.RegistrationOn(ctx); err != nil || !on {
		return &OAuthAnswer{Status: http.StatusNotFound, Body: map[string]string{"error": "not_found", "error_description": "Clients can't register themselves here."}}
	}
	who, err := g.TokenActor(ctx, bearer, from)
	if err != nil || !Allows(who.Role, RoleEngineer) {
		return bearerError(http.StatusUnauthorized, "invalid_token", "Registering a client needs an API token of an engineer.")
	}
	a, err := ClientMetadata(body)
	if err != nil {
		return g.registrationRefused(ctx, err)
	}
	a.Slug = a.Slug + "-" + strings.ToLower(store.NewID()[20:])
	saved, err := g.SaveApplication(ctx, *who, "", *a, 0)
	if err != nil {
		return g.registrationRefused(ctx, err)
	}
	o := saved.OIDC
	out := map[string]any{"client_id": o.ClientID, "client_id_issued_at": saved.Created.Unix(), "client_name": saved.Name, "redirect_uris": o.RedirectURIs, "token_endpoint_auth_method": o.Authentication,
		"grant_types": grantTypes(o), "response_types": []string{"code"}, "scope": scopesText(o.Scopes), "id_token_signed_response_alg": o.Algorithm}
	if o.HasSecret() {
		secret, err := g.NewSecret(ctx, *who, saved.Slug, api.NewSecret{})
		if err != nil {
			return g.registrationRefused(ctx, err)
		}
		out["client_secret"], out["client_secret_expires_at"] = secret.Secret, 0
	}
	return &OAuthAnswer{Status: http.StatusCreated, Body: out}
}

func grantTypes(o *config.OIDCApplication) []string {
	out := []string{oidc.GrantCode}
	if o.Refresh || slices.Contains(o.Scopes, "offline_access") {
		out = append(out, oidc.GrantRefresh)
	}
	if o.DeviceGrant {
		out = append(out, oidc.GrantDevice)
	}
	return out
}

func (g *Gate) registrationRefused(ctx context.Context, err error) *OAuthAnswer {
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
		return &OAuthAnswer{Status: http.StatusInternalServerError, Body: map[string]string{"error": "server_error"}}
	}
	return &OAuthAnswer{Status: http.StatusBadRequest, Body: map[string]string{"error": code, "error_description": oidc.Printable(text)}}
}

// ClientMetadata reads a client's own metadata (RFC 7591, section 2; OpenID Connect Dynamic Client Registration 1.0, section 2) as an application in draft. What widens
// access, such as the device grant, is left for an engineer to switch on.
func ClientMetadata(data []byte) (*config.Application, error) {
	bad := func(why string) (*config.Application, error) {
		return nil, explain.New("oidc.registration", explain.Fact("metadata", why))
	}
	o, err := jose.ReadObject(data)
	if err != nil {
		return bad(err.Error())
	}
	a := &config.Application{Kind: config.KindOIDC, OIDC: &config.OIDCApplication{}, Mapping: claims.OutgoingOIDC()}
	s := a.OIDC
	var sector, subject, scope, appType, signed string
	for name, to := range map[string]*string{"client_name": &a.Name, "client_uri": &s.HomePage, "policy_uri": &s.Privacy, "tos_uri": &s.Terms, "jwks_uri": &s.KeysURL, "token_endpoint_auth_method": &s.Authentication,
		"id_token_signed_response_alg": &s.Algorithm, "initiate_login_uri": &s.InitiateLogin, "backchannel_logout_uri": &s.BackChannelLogout, "frontchannel_logout_uri": &s.FrontChannelLogout,
		"sector_identifier_uri": &sector, "subject_type": &subject, "scope": &scope, "application_type": &appType, "userinfo_signed_response_alg": &signed} {
		value, ok := o.Text(name)
		if !ok || len(value) > 2000 {
			return bad(name + " is not a string of at most 2000 characters")
		}
		*to = value
	}
	var responses, grants []string
	for name, to := range map[string]*[]string{"redirect_uris": &s.RedirectURIs, "post_logout_redirect_uris": &s.PostLogoutURIs, "response_types": &responses, "grant_types": &grants} {
		value, ok := o.Texts(name)
		if !ok {
			return bad(name + " is not a list of strings")
		}
		*to = value
	}
	if len(responses) > 0 && (len(responses) > 1 || responses[0] != "code") {
		return bad("response_types holds something else than code")
	}
	if len(s.RedirectURIs) == 0 {
		return bad("redirect_uris is missing")
	}
	if keys, ok := o["jwks"].(map[string]any); ok {
		text, err := jose.Write(keys)
		if err != nil {
			return bad("jwks can't be read")
		}
		s.Keys = string(text)
	}
	s.Native, s.SectorIdentifier, s.SignedUserInfo, s.Refresh = appType == "native", sector, signed != "", slices.Contains(grants, oidc.GrantRefresh)
	for _, want := range strings.Fields(scope) {
		if slices.Contains(config.Scopes, want) {
			s.Scopes = append(s.Scopes, want)
		}
	}
	switch subject {
	case "", "pairwise":
		a.Subject.Source = "pairwise"
	case "public":
		a.Subject.Source = "public"
	default:
		return bad("subject_type is neither public nor pairwise")
	}
	if a.Name == "" {
		a.Name = hostOf(s.RedirectURIs[0])
	}
	a.Name = clipText(a.Name, 200)
	if a.Slug = config.Slug(a.Name); a.Slug == "" {
		a.Slug = "client"
	}
	if len(a.Slug) > 50 {
		a.Slug = strings.Trim(a.Slug[:50], "-")
	}
	return a, nil
}
