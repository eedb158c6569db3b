package signin

import (
	"cmp"
	"context"
	"net/url"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/core/address"
	"innergate/core/bridge"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/oidc"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/gate/grants"
	"innergate/gate/ground"
	"innergate/gate/issued"
	"innergate/gate/partners"
	"innergate/store"
)

// oidcApplication answers applications that speak OpenID Connect: we are the OpenID provider.
type oidcApplication struct{ *Room }

const (
	codeLife = time.Minute
)

func (g oidcApplication) Start(_ context.Context, s *SignIn, to string) (*Next, error) {
	if s.App.OIDC.InitiateLogin != "" {
		// OpenID Connect Core 1.0, section 4
		u, err := url.Parse(s.App.OIDC.InitiateLogin)
		if err != nil {
			return nil, err
		}
		query := u.Query()
		query.Set("iss", g.partners.Issuer())
		if to != "" {
			if address.Origin(to) != address.Origin(s.App.OIDC.InitiateLogin) {
				return nil, explain.New(explain.RelayRefused, explain.Pair("deep link", address.Origin(s.App.OIDC.InitiateLogin)+"/", to))
			}
			query.Set("target_link_uri", to)
		}
		u.RawQuery = query.Encode()
		return &Next{To: Redirect(u.String())}, nil
	}
	if s.App.StartURL == "" {
		return nil, explain.New(explain.StartSPOnly)
	}
	return &Next{To: Redirect(s.App.StartURL)}, nil
}

// reply sends an answer to the redirect URI, in the form that was asked for.
func (g oidcApplication) reply(s *SignIn, r oidc.Reply) (*Next, error) {
	q := s.State.Asked
	r.Issuer = g.partners.Issuer()
	binding := "query"
	if q.FormPost {
		binding = "form_post"
	}
	shown := url.Values{}
	for _, f := range r.Fields(q) {
		shown.Set(f[0], f[1])
	}
	s.Rec.Message(trace.Message{
		From:       trace.Gate,
		To:         trace.Application,
		Name:       "Authentication response",
		Binding:    binding,
		Address:    q.RedirectURI,
		Raw:        oidc.Redacted(shown),
		RelayState: q.State,
	})
	if q.FormPost {
		return &Next{To: &Form{Action: q.RedirectURI, Fields: r.Fields(q)}}, nil
	}
	location, err := r.Location(q)
	return &Next{To: Redirect(location)}, err
}

func (g oidcApplication) Refuse(_ context.Context, s *SignIn, f *explain.Failure) *Next {
	e := f.Explain()
	if s.State.Asked == nil || s.Rec.Step() == trace.Ask && e.OAuth == "" {
		return nil
	}
	if s.State.Asked.RedirectURI == "" || !s.App.Approval().Given() {
		return nil // for another device, for the console, or to an address that nobody approved
	}
	next, err := g.reply(s, oidc.Reply{Error: e.OAuthCode(), Description: e.Person + " (reference " + s.Reference + ")"})
	if err != nil {
		return nil
	}
	return next
}

// grantBody is what the tokens behind a code will say.
func (g oidcApplication) grantBody(s *SignIn, who bridge.Identity, subject saml.NameID) grants.GrantBody {
	q := s.State.Asked
	body := grants.GrantBody{
		Subject:         subject.Value,
		TraceID:         s.ID,
		ProviderSession: who.Session,
		Scopes:          q.Scopes,
		RedirectURI:     q.RedirectURI,
		Challenge:       q.Challenge,
		Nonce:           q.Nonce,
		AuthTime:        who.AuthnInstant,
		ACR:             who.Told(s.State.Wish.Context),
		AMR:             who.AMR,
		Shown:           s.Person.Shown,
		IDTokenClaims:   wantedNames(q.IDTokenClaims),
		UserInfoClaims:  wantedNames(q.UserInfoClaims),
		ProviderHint:    who.Hint,
	}
	if s.Person.ID == "" {
		body.Profile = s.Outbound() // of a rehearsal, which makes nobody, or of somebody who is passed through
	}
	body.Session = s.Person.Session
	if s.App.ID == partners.ConsoleID {
		body.Came = s.Person.Came
	}
	return body
}

// grant is what stands behind a code, and the code where one is given out.
func (g oidcApplication) grant(
	s *SignIn,
	o *config.OIDCApplication,
	who bridge.Identity,
	subject saml.NameID,
	now time.Time,
) (*store.Grant, error) {
	grant := &store.Grant{
		ID:              store.NewID(),
		ApplicationID:   s.App.ID,
		ProviderID:      s.Provider.ID,
		ProviderSubject: who.Subject,
		ProviderSession: who.Session,
		PersonID:        s.Person.ID,
		Subject:         subject.Value,
		TraceID:         s.ID,
		Rehearsal:       s.Rehearsal != nil,
		CreatedAt:       now,
	}
	grant.ExpiresAt = now.Add(time.Duration(cmp.Or(o.SessionHours, 12)) * time.Hour)
	if end := s.SessionEnd(who, now); !end.IsZero() && end.Before(grant.ExpiresAt) {
		grant.ExpiresAt = end.UTC()
	}
	grant.SessionID = s.SessionID
	if slices.Contains(s.State.Asked.Scopes, "offline_access") {
		grant.Offline, grant.ExpiresAt = true, now.AddDate(0, 0, cmp.Or(o.OfflineDays, 60))
	}
	if len(s.State.Device) == 0 && !s.State.Console {
		s.Answer.Secret = keys.NewSecret()
		grant.CodeHash, grant.CodeEnds = keys.HashSecret(s.Answer.Secret), now.Add(codeLife)
	}
	var err error
	grant.Sealed, err = g.grants.SealGrant(grant.ID, g.grantBody(s, who, subject))
	return grant, err
}

// Settle writes the grant, and what of the device, of the console and of the person's consent hangs on it.
func (g oidcApplication) Settle(tx *gorm.DB, s *SignIn, to partners.Approved, who bridge.Identity, subject saml.NameID) error {
	now := g.Now().UTC()
	grant, err := g.grant(s, to.Application().OIDC, who, subject, now)
	if err != nil {
		return err
	}
	if s.State.Console {
		by := ground.Actor{ID: "person/" + s.Person.ID, Name: s.Person.Shown + " (" + s.Provider.Name + ")", From: s.Row.Address}
		if s.Answer.Console, err = g.Consoles.OpenFor(tx, grant, by, now); err != nil {
			return err
		}
	}
	if err := keepConsent(tx, s, g.Room); err != nil {
		return err
	}
	if err := g.grantDevice(tx, s, grant); err != nil {
		return err
	}
	return issued.InsertGrant(tx, grant)
}

// Issue gives a code out, behind which stands what the tokens will say.
func (g oidcApplication) Issue(
	ctx context.Context,
	s *SignIn,
	to partners.Approved,
	who bridge.Identity,
	subject saml.NameID,
	out []claims.Output,
) (*Next, error) {
	grants.MarkWithheld(to.Application().OIDC, g.grantBody(s, who, subject), out, s.Rec)
	if unregistered := s.State.Asked.Unregistered; len(unregistered) > 0 {
		g.partners.See(ctx, s.App.ID, store.SeenScopeUnknown, strings.Join(unregistered, " "), s.Reference)
	}
	if s.State.Console {
		next := &Next{To: Redirect(g.PublicURL + "/console/")}
		next.Console = s.Answer.Console
		return next, nil
	}
	if len(s.State.Device) > 0 {
		return &Next{To: Done("You are signed in on your device. You may close this page.")}, nil
	}
	return g.reply(s, oidc.Reply{Code: s.Answer.Secret})
}

func wantedNames(wanted map[string]oidc.Wanted) []string {
	var out []string
	for name := range wanted {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}
