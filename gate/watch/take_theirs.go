package watch

import (
	"context"
	"crypto/x509"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"innergate/api"
	"innergate/core/address"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/difference"
	"innergate/core/keys"
	"innergate/core/oidc"
	"innergate/core/saml"
	"innergate/core/takein"
	"innergate/core/words"
	"innergate/gate/ground"
)

// Source gets the text that was handed over: what was pasted, or what an address gives. A lone URL that was pasted is
// fetched.
func (g *Room) Source(ctx context.Context, in api.TakeIn) (text []byte, from string, err error) {
	pasted := strings.TrimSpace(in.Text)
	if in.URL == "" && len(pasted) < 2000 && !strings.ContainsAny(pasted, " \n<{") &&
		(strings.HasPrefix(pasted, "https://") || strings.HasPrefix(pasted, "http://")) {
		in.URL = pasted
	}
	if in.URL != "" {
		text, err = g.Fetch.Get(ctx, in.URL)
		if err != nil || oidc.Looks(text) == "an HTML page" {
			// An issuer is an address below which its discovery document lies; at the address itself there may be
			// anything.
			if got, second := g.Fetch.Get(ctx, oidc.DiscoveryURL(in.URL)); second == nil && takein.LooksJSON(got) {
				return got, oidc.DiscoveryURL(in.URL), nil
			}
		}
		if err != nil {
			return nil, "", ground.Problem(
				http.StatusBadGateway, "fetch-failed", "The address can't be fetched",
				words.Capitalise(err.Error())+".",
				"Open the address in a browser, save what it shows, and drop the file here instead.",
			)
		}
		return text, in.URL, nil
	}
	if pasted == "" {
		return nil, "", ground.BadRequest(
			"nothing-given", "Neither an address nor a text was given.",
			"Give a metadata address, a file, or paste the metadata.",
		)
	}
	return []byte(in.Text), "text", nil
}

// read understands what was handed over and chooses the entity and role that fit where it is being added. Pinned, if
// set, is whose signature counts.
func (g *Room) read(text []byte, kind saml.RoleKind, in api.TakeIn, pinned *x509.Certificate) (*api.Understood, *saml.Entity, *saml.Role) {
	doc := saml.Read(text, saml.ReadOptions{Now: g.Now(), Ours: g.partners.OurIDs(), EntityID: in.EntityID, Whole: pinned != nil})
	u := &api.Understood{
		Entities:      []api.EntityChoice{},
		Problems:      append([]saml.Problem{}, doc.Problems...),
		Metadata:      doc,
		Proposed:      map[string]string{},
		NeedsEntityID: doc.NeedsEntityID,
		Signed:        doc.Signed,
	}
	if pinned != nil {
		if err := saml.VerifyMetadata(text, []*x509.Certificate{pinned}); err != nil {
			u.Problems = append(
				u.Problems,
				saml.Problem{
					Code: "metadata.signature",
					Message: fmt.Sprintf(
						"The metadata must be signed by the pinned certificate (%s), and is not: %s.",
						keys.Fingerprint(pinned.Raw), err,
					),
					Fatal: true,
				},
			)
			return u, nil, nil
		}
		u.SignedBy = keys.Fingerprint(pinned.Raw)
	}
	var entity *saml.Entity
	usable := 0
	for i := range doc.Entities {
		e := &doc.Entities[i]
		choice := api.EntityChoice{
			EntityID:    e.EntityID,
			DisplayName: e.DisplayName,
			Roles:       []string{},
			Usable:      e.Role(kind) != nil && !slices.Contains(g.partners.OurIDs(), e.EntityID),
		}
		for _, r := range e.Roles {
			choice.Roles = append(choice.Roles, string(r.Kind))
		}
		if len(u.Entities) < 200 {
			u.Entities = append(u.Entities, choice)
		}
		if choice.Usable {
			if usable++; entity == nil || e.EntityID == in.EntityID {
				entity = e
			}
		}
	}
	// A page shows the entities; the whole document is shown only where there are few.
	if len(doc.Entities) > 20 {
		u.Metadata = nil
	}
	words := map[saml.RoleKind]string{saml.RoleIDP: "identity provider", saml.RoleSP: "service provider"}
	article := map[saml.RoleKind]string{saml.RoleIDP: "an ", saml.RoleSP: "a "}
	switch {
	case entity == nil && len(doc.Entities) == 1 && slices.Contains(g.partners.OurIDs(), doc.Entities[0].EntityID):
		u.Problems[slices.IndexFunc(u.Problems, func(p saml.Problem) bool { return p.Code == "metadata.our-entity-id" })].Fatal = true
		return u, nil, nil
	case entity == nil && len(doc.Entities) > 0 && doc.Usable():
		other := saml.RoleIDP
		if kind == saml.RoleIDP {
			other = saml.RoleSP
		}
		u.Problems = append(
			u.Problems,
			saml.Problem{
				Code: "metadata.wrong-role",
				Message: fmt.Sprintf(
					"This is the metadata of %s; here that of %s is needed. Did you mean to add it on the other side?",
					article[other]+words[other], article[kind]+words[kind],
				),
				Fatal: true,
			},
		)
		return u, nil, nil
	case entity == nil:
		return u, nil, nil
	case usable > 1 && in.EntityID == "":
		u.Remark = fmt.Sprintf("The document holds %d entities that fit; choose one.", usable)
		return u, nil, nil
	case in.EntityID != "" && entity.EntityID != in.EntityID:
		u.Problems = append(
			u.Problems,
			saml.Problem{
				Code:    "metadata.no-such-entity",
				Message: fmt.Sprintf("The document holds no fitting entity %s.", in.EntityID),
				Fatal:   true,
			},
		)
		return u, nil, nil
	case entity.EntityID == "":
		u.Remark = "The entity ID is missing; enter it by hand."
		return u, nil, nil
	}
	u.Chosen, u.Role = entity.EntityID, string(kind)
	if len(entity.Roles) > 1 {
		u.Remark = fmt.Sprintf("%s has both roles; its %s part is used here.", entity.EntityID, words[kind])
	}
	return u, entity, entity.Role(kind)
}

// beside relates a certificate that came beside the metadata to the one in it. A newer one is trusted as well; a
// conflicting one is told of and left out.
func beside(u *api.Understood, role *saml.Role, text string) error {
	if strings.TrimSpace(text) == "" {
		return nil
	}
	cert, err := keys.ParseCertificate([]byte(text))
	if err != nil {
		return ground.Problem(
			http.StatusUnprocessableEntity, "certificate", "The certificate can't be read",
			words.Capitalise(err.Error())+".", "Nothing was changed.",
		)
	}
	held := role.Certificates("signing")
	newest := time.Time{}
	u.Beside = ""
	for _, h := range held {
		if keys.SameKey(h.PublicKey, cert.PublicKey) {
			u.Beside = "same"
		}
		if h.NotBefore.After(newest) {
			newest = h.NotBefore
		}
	}
	say := func(code, format string, args ...any) {
		u.Problems = append(u.Problems, saml.Problem{Code: "metadata." + code, Message: fmt.Sprintf(format, args...)})
	}
	switch {
	case u.Beside == "same":
		say("certificate-same", "The certificate file carries the same key as the metadata.")
	case len(held) == 0:
		u.Beside = "newer"
		role.Keys = append(role.Keys, saml.KeyDescriptor{Use: "signing", Certificate: cert})
		say("certificate-added", "The metadata carries no certificate for signing; the one in the file is used.")
	case cert.NotBefore.After(newest):
		u.Beside = "newer"
		role.Keys = append(role.Keys, saml.KeyDescriptor{Use: "signing", Certificate: cert})
		say(
			"certificate-newer", "The certificate file (%s, from %s) is newer than the metadata; both are trusted.",
			keys.Fingerprint(cert.Raw), cert.NotBefore.UTC().Format("2006-01-02"),
		)
	default:
		u.Beside = "conflicting"
		say(
			"certificate-conflicting",
			"The certificate file (%s) carries another key than the metadata, and is no newer. The metadata's is used; ask the other "+
				"side which one signs.",
			keys.Fingerprint(cert.Raw),
		)
	}
	return nil
}

// UnderstandApplication reads what an application's side handed over and shows what would become of the application,
// storing nothing. Slug is empty for a new one.
func (g *Room) UnderstandApplication(ctx context.Context, slug string, in api.TakeIn) (*api.Understood, []byte, error) {
	text, from, err := g.Source(ctx, in)
	if err != nil {
		return nil, nil, err
	}
	a := config.Application{Kind: "saml", SAML: &config.SAMLApplication{}}
	if slug != "" {
		held, err := g.partners.Application(ctx, slug)
		if err != nil {
			return nil, nil, err
		}
		if a, err = ground.DecodeBody[config.Application](ground.MustJSON(held.Application)); err != nil {
			return nil, nil, err
		}
	}
	if slug != "" && a.SAML == nil && a.OIDC == nil {
		return nil, nil, ground.BadRequest(
			"no-document", a.Name+" speaks no protocol, so there is no document of it to take.",
			"Enter its addresses field by field.",
		)
	}
	if a.OIDC != nil || takein.LooksJSON(text) {
		if slug == "" {
			a = config.Application{}
		}
		u, err := g.understandClient(a, text)
		return u, text, err
	}
	before := difference.Flat(a)
	if cert := takein.LoneCertificate(text); cert != nil && slug != "" {
		u := certificateOnly()
		a.SAML.Certificates, _ = takein.AddCertificate(a.SAML.Certificates, cert, "signing")
		if err := a.Validate(); err != nil {
			return nil, nil, ground.Invalid(err)
		}
		u.App, u.Changes = &a, ground.Changes(before, difference.Flat(a))
		return u, text, nil
	}
	u, entity, role := g.read(text, saml.RoleSP, in, a.SAML.Metadata.Pinned())
	if role == nil {
		return u, text, nil
	}
	if err := beside(u, role, in.Certificate); err != nil {
		return nil, nil, err
	}
	if a.Name == "" {
		if a.Name = entity.DisplayName; a.Name == "" {
			a.Name = address.Host(entity.EntityID)
			u.Proposed["name"] = a.Name
		}
		a.Name = words.Clip(a.Name, 200)
		a.Slug, a.Description, a.Contact = config.Slug(a.Name), words.Clip(entity.Description, 1000), words.Clip(entity.Contact, 400)
	}
	s := a.SAML
	takein.GiveApplication(&a, entity, role)
	a.SAML.Metadata = takein.Watched(a.SAML.Metadata, from)
	if slug == "" || s.Sign == "" {
		s.RequireSignedRequests = role.AuthnRequestsSigned
		s.Sign = "assertion"
	}
	if a.StartURL == "" {
		if a.StartURL = takein.ProposeStart(s); a.StartURL != "" {
			a.GuessedStart = a.StartURL
			u.Proposed["startUrl"] = a.StartURL
		}
	}
	if slug == "" || a.Subject.Source == "" || a.Subject == (config.Subject{Source: "profile", From: "preferred_username"}) {
		a.Subject = takein.SubjectFor(role.NameIDFormats)
	}
	if len(a.Mapping) == 0 {
		a.Mapping = takein.OutboundFor(role.RequestedAttributes)
	}
	if err := a.Validate(); err != nil {
		return nil, nil, ground.Invalid(err)
	}
	u.App, u.Changes = &a, ground.Changes(before, difference.Flat(a))
	return u, text, nil
}

// certificateOnly is what is understood of a certificate alone.
func certificateOnly() *api.Understood {
	return &api.Understood{
		Entities: []api.EntityChoice{},
		Proposed: map[string]string{},
		Problems: []saml.Problem{
			{Code: "metadata.certificate", Message: "This is a certificate alone. It will be trusted beside those that are held."},
		},
	}
}

// UnderstandProvider is UnderstandApplication for the other side.
func (g *Room) UnderstandProvider(ctx context.Context, slug string, in api.TakeIn) (*api.Understood, []byte, error) {
	text, from, err := g.Source(ctx, in)
	if err != nil {
		return nil, nil, err
	}
	p := config.Provider{Kind: "saml", SAML: &config.SAMLProvider{}}
	if slug != "" {
		held, err := g.partners.Provider(ctx, slug)
		if err != nil {
			return nil, nil, err
		}
		if p, err = ground.DecodeBody[config.Provider](ground.MustJSON(held.Provider)); err != nil {
			return nil, nil, err
		}
	}
	if p.Directory != nil {
		return nil, nil, ground.Conflict(
			"no-other-side", p.Name+" is the gate's own directory: there is nothing to take from another side.", "",
		)
	}
	if p.OIDC != nil || takein.LooksJSON(text) {
		if slug == "" {
			p = config.Provider{}
		}
		issuer, _ := strings.CutSuffix(from, wellKnown)
		if issuer == from {
			issuer = ""
		}
		u, err := g.understandOpenID(p, text, issuer)
		return u, text, err
	}
	if p.LDAP != nil || looksLDAP(text) {
		u, err := g.understandLDAP(ctx, p, text)
		return u, text, err
	}
	if p.Kerberos != nil || slug == "" && looksKerberos(text) {
		u, err := g.understandKerberos(p, text)
		return u, text, err
	}
	before := difference.Flat(p)
	if cert := takein.LoneCertificate(text); cert != nil && slug != "" {
		u := certificateOnly()
		p.SAML.Certificates, _ = takein.AddCertificate(p.SAML.Certificates, cert, "signing")
		if err := p.Validate(); err != nil {
			return nil, nil, ground.Invalid(err)
		}
		u.Provider, u.Changes = &p, ground.Changes(before, difference.Flat(p))
		return u, text, nil
	}
	u, entity, role := g.read(text, saml.RoleIDP, in, p.SAML.Metadata.Pinned())
	if role == nil {
		return u, text, nil
	}
	if err := beside(u, role, in.Certificate); err != nil {
		return nil, nil, err
	}
	if p.Name == "" {
		if p.Name = entity.DisplayName; p.Name == "" {
			p.Name = address.Host(entity.EntityID)
			u.Proposed["name"] = p.Name
		}
		p.Name = words.Clip(p.Name, 200)
		p.Slug, p.Description, p.Contact = config.Slug(p.Name), words.Clip(entity.Description, 1000), words.Clip(entity.Contact, 400)
	}
	takein.GiveProvider(&p, entity, role)
	p.SAML.Metadata = takein.Watched(p.SAML.Metadata, from)
	if len(p.Mapping) == 0 {
		p.Mapping = claims.Standard()
	}
	if p.SAML.NameIDFormat == "" && slices.Contains(role.NameIDFormats, saml.FormatPersistent) {
		p.SAML.NameIDFormat = saml.FormatPersistent
	}
	if err := p.Validate(); err != nil {
		return nil, nil, ground.Invalid(err)
	}
	u.Provider, u.Changes = &p, ground.Changes(before, difference.Flat(p))
	return u, text, nil
}

// Refusal turns a document of which nothing can be used into an error.
func Refusal(u *api.Understood) error {
	detail := u.Remark
	code := "choose-entity"
	for _, p := range u.Problems {
		if p.Fatal || detail == "" {
			detail, code = p.Message, p.Code
		}
		if p.Fatal {
			break
		}
	}
	if detail == "" {
		detail, code = "Nothing in the document can be used here.", "metadata.unusable"
	}
	return ground.Problem(http.StatusUnprocessableEntity, code, "The document can't be used", detail, "Nothing was changed.")
}

// TakeApplication reads and stores what an application's side handed over.
func (g *Room) TakeApplication(ctx context.Context, who ground.Actor, slug string, in api.TakeIn) (*api.Application, error) {
	u, text, err := g.UnderstandApplication(ctx, slug, in)
	if err != nil {
		return nil, err
	}
	if u.App == nil {
		return nil, Refusal(u)
	}
	v, err := g.configuration.SaveApplication(ctx, who, slug, *u.App, 0)
	if err != nil {
		return nil, err
	}
	return v, g.KeepTaken(ctx, who, "application", v.ID, in, u, text)
}

// TakeProvider reads and stores what a provider's side handed over.
func (g *Room) TakeProvider(ctx context.Context, who ground.Actor, slug string, in api.TakeIn) (*api.Provider, error) {
	u, text, err := g.UnderstandProvider(ctx, slug, in)
	if err != nil {
		return nil, err
	}
	if u.Provider == nil {
		return nil, Refusal(u)
	}
	v, err := g.configuration.SaveProvider(ctx, who, slug, *u.Provider, 0)
	if err != nil {
		return nil, err
	}
	return v, g.KeepTaken(ctx, who, "provider", v.ID, in, u, text)
}
