package partners

import (
	"cmp"
	"context"
	"errors"
	"fmt"

	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/oidc"
	"innergate/core/trace"
	"innergate/gate/fetch"
)

// AudienceOf is whom our assertion is for (RFC 7523, section 3).
func AudienceOf(c *config.OIDCProvider) string { return cmp.Or(c.Issuer, c.TokenEndpoint) }

// ClientAt is who we are at a provider, with the secret that counts now, or another one that is to be tried.
func (g *Room) ClientAt(ctx context.Context, p *Provider, secret string) (oidc.Client, error) {
	c := oidc.Client{ID: p.OIDC.ClientID, Method: p.OIDC.Method(), Secret: secret}
	switch c.Method {
	case oidc.AuthBasic, oidc.AuthPost:
		if c.Secret = cmp.Or(c.Secret, p.Secret); c.Secret != "" {
			return c, nil
		}
		if !p.sending.Given() {
			return c, explain.New(explain.RehearsalUnapproved).Of(p.Name)
		}
		held, err := g.TheirSecret(ctx, p.ID)
		if err != nil {
			return c, err
		}
		if held == "" {
			return c, explain.New(explain.OIDCClientSecretNone).Of(p.Name)
		}
		c.Secret = held
	case oidc.AuthPrivateKey:
		signer, err := g.keyring.TokenSigner(ctx, p.sending, keys.PurposeClient, "")
		if err != nil {
			return c, err
		}
		c.Signer = signer
	}
	return c, nil
}

// BackChannel sends a form to a provider and takes the answer, both into the trace with everything secret left out.
func (g *Room) BackChannel(
	ctx context.Context,
	rec *trace.Recorder,
	p *Provider,
	name, answerName, address string,
	request *oidc.BackChannel,
) (*oidc.Answer, error) {
	header := map[string]string{"Accept": "application/json"}
	sent := request.Shown
	if request.Authorization != "" {
		header["Authorization"] = request.Authorization
		sent = "Authorization: Basic (not shown)\n\n" + sent
	}
	rec.Message(trace.Message{From: trace.Gate, To: trace.Provider, Name: name, Binding: "POST", Address: address, Raw: sent})
	got, err := g.Fetch.Do(
		ctx,
		fetch.Want{
			URL:         address,
			Post:        []byte(request.Body),
			ContentType: "application/x-www-form-urlencoded",
			MaxBytes:    oidc.MaxDocument,
			Timeout:     BackTimeout,
			Header:      header,
			AnyStatus:   true,
		},
	)
	return answered(rec, p, answerName, "POST", address, got, err)
}

// AskWithToken asks one of a provider's addresses with an access token, and takes the answer; the token stays out of the
// trace.
func (g *Room) AskWithToken(
	ctx context.Context,
	rec *trace.Recorder,
	p *Provider,
	name, address, token string,
) (*oidc.Answer, error) {
	rec.Message(trace.Message{
		From:    trace.Gate,
		To:      trace.Provider,
		Name:    name + " request",
		Binding: "GET",
		Address: address,
		Raw:     "Authorization: Bearer (not shown)",
	})
	got, err := g.Fetch.Do(
		ctx,
		fetch.Want{
			URL:       address,
			MaxBytes:  oidc.MaxDocument,
			Timeout:   BackTimeout,
			Header:    map[string]string{"Accept": "application/json, application/jwt", "Authorization": "Bearer " + token},
			AnyStatus: true,
			Direct:    true,
		},
	)
	return answered(rec, p, name+" response", "GET", address, got, err)
}

// answered notes a provider's answer, or why none came.
func answered(
	rec *trace.Recorder,
	p *Provider,
	name, binding, address string,
	got *fetch.Got,
	err error,
) (*oidc.Answer, error) {
	if errors.Is(err, fetch.ErrTooLarge) {
		return nil, explain.New(explain.OIDCAnswerTooLarge, explain.Pair("octets", fmt.Sprint(oidc.MaxDocument)+" octets", "more"),
			explain.Fact("address", address)).Of(p.Name)
	}
	if err != nil {
		return nil, explain.New(explain.OIDCBackChannel, explain.Fact("reason", err.Error()), explain.Fact("address", address)).Of(p.Name)
	}
	answer := &oidc.Answer{Status: got.Status, ContentType: got.ContentType, Body: got.Body}
	raw, opened := answer.Shown()
	rec.Message(
		trace.Message{From: trace.Provider, To: trace.Gate, Name: name, Binding: binding, Address: address, Raw: raw, Opened: opened},
	)
	return answer, nil
}
