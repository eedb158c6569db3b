package gate

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/store"
)

func origin(address string) string {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return ""
	}
	return u.Scheme + "://" + u.Host
}

// source gets the text that was handed over: what was pasted, or what an address gives. A lone URL that was pasted is fetched.
func (g *Gate) source(ctx context.Context, in api.TakeIn) (text []byte, from string, err error) {
	pasted := strings.TrimSpace(in.Text)
	if in.URL == "" && len(pasted) < 2000 && !strings.ContainsAny(pasted, " \n<{") && (strings.HasPrefix(pasted, "https://") || strings.HasPrefix(pasted, "http://")) {
		in.URL = pasted
	}
	if in.URL != "" {
		text, err = g.Fetch.Get(ctx, in.URL)
		if err != nil {
			return nil, "", problem(http.StatusBadGateway, "fetch-failed", "The address can't be fetched", capitalise(err.Error())+".", "Open the address in a browser, save what it shows, and drop the file here instead.")
		}
		return text, in.URL, nil
	}
	if pasted == "" {
		return nil, "", badRequest("nothing-given", "Neither an address nor a text was given.", "Give a metadata address, a file, or paste the metadata.")
	}
	return []byte(in.Text), "text", nil
}

func capitalise(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

// read understands what was handed over and chooses the entity and role that fit where it is being added.
func (g *Gate) read(text []byte, kind saml.RoleKind, wanted string) (*api.Understood, *saml.Entity, *saml.Role) {
	doc := saml.ReadMetadata(text, g.Now())
	u := &api.Understood{Entities: []api.EntityChoice{}, Problems: append([]saml.Problem{}, doc.Problems...), Metadata: doc, Proposed: map[string]string{}}
	var entity *saml.Entity
	usable := 0
	for i := range doc.Entities {
		e := &doc.Entities[i]
		choice := api.EntityChoice{EntityID: e.EntityID, DisplayName: e.DisplayName, Roles: []string{}, Usable: e.Role(kind) != nil}
		for _, r := range e.Roles {
			choice.Roles = append(choice.Roles, string(r.Kind))
		}
		if len(u.Entities) < 200 {
			u.Entities = append(u.Entities, choice)
		}
		if choice.Usable {
			if usable++; entity == nil || e.EntityID == wanted {
				entity = e
			}
		}
	}
	words := map[saml.RoleKind]string{saml.RoleIDP: "identity provider", saml.RoleSP: "service provider"}
	switch {
	case entity == nil && len(doc.Entities) > 0:
		other := saml.RoleIDP
		if kind == saml.RoleIDP {
			other = saml.RoleSP
		}
		u.Problems = append(u.Problems, saml.Problem{Code: "metadata.wrong-role", Message: fmt.Sprintf("This is the metadata of an %s; here that of an %s is needed. Did you mean to add it on the other side?", words[other], words[kind]), Fatal: true})
		return u, nil, nil
	case entity == nil:
		return u, nil, nil
	case usable > 1 && wanted == "":
		u.Remark = fmt.Sprintf("The document holds %d entities that fit; choose one.", usable)
		return u, nil, nil
	case wanted != "" && entity.EntityID != wanted:
		u.Problems = append(u.Problems, saml.Problem{Code: "metadata.no-such-entity", Message: fmt.Sprintf("The document holds no fitting entity %s.", wanted), Fatal: true})
		return u, nil, nil
	}
	u.Chosen, u.Role = entity.EntityID, string(kind)
	if len(entity.Roles) > 1 {
		u.Remark = fmt.Sprintf("%s has both roles; its %s part is used here.", entity.EntityID, words[kind])
	}
	return u, entity, entity.Role(kind)
}

func pemOf(r *saml.Role) []config.Certificate {
	var out []config.Certificate
	for _, k := range r.Keys {
		c := config.Certificate{Use: k.Use, PEM: string(keys.EncodeCertificate(k.Certificate.Raw))}
		if !slices.Contains(out, c) {
			out = append(out, c)
		}
	}
	return out
}

// UnderstandApplication reads what an application's side handed over and shows what would become of the application, storing nothing. Slug is empty for a new one.
func (g *Gate) UnderstandApplication(ctx context.Context, slug string, in api.TakeIn) (*api.Understood, []byte, error) {
	text, _, err := g.source(ctx, in)
	if err != nil {
		return nil, nil, err
	}
	u, entity, role := g.read(text, saml.RoleSP, in.EntityID)
	if role == nil {
		return u, text, nil
	}
	a := config.Application{Kind: "saml", SAML: &config.SAMLApplication{}}
	if slug != "" {
		held, err := g.application(ctx, slug)
		if err != nil {
			return nil, nil, err
		}
		if a, err = decodeBody[config.Application](mustJSON(held.Application)); err != nil {
			return nil, nil, err
		}
	}
	before := flat(a)
	if a.Name == "" {
		if a.Name = entity.DisplayName; a.Name == "" {
			a.Name = hostOf(entity.EntityID)
			u.Proposed["name"] = a.Name
		}
		a.Slug, a.Description, a.Contact = config.Slug(a.Name), entity.Description, entity.Contact
	}
	s := a.SAML
	s.EntityID, s.ACS, s.Certificates, s.AttributeSets = entity.EntityID, role.Service(saml.ServiceACS), pemOf(role), role.AttributeSets
	if slug == "" || s.Sign == "" {
		s.RequireSignedRequests = role.AuthnRequestsSigned
		s.Sign = "assertion"
	}
	if a.StartURL == "" {
		if a.StartURL = proposeStart(s); a.StartURL != "" {
			u.Proposed["startUrl"] = a.StartURL
		}
	}
	if slug == "" || a.Subject.Source == "" || a.Subject == (config.Subject{Source: "profile", From: "preferred_username"}) {
		a.Subject = subjectFor(role.NameIDFormats)
	}
	if len(a.Mapping) == 0 {
		a.Mapping = outboundFor(role.RequestedAttributes)
	}
	if err := a.Validate(); err != nil {
		return nil, nil, invalid(err)
	}
	u.App, u.Changes = &a, changes(before, flat(a))
	return u, text, nil
}

// subjectFor chooses the subject rule that fits the NameID formats that an application lists.
func subjectFor(formats []string) config.Subject {
	has := func(f string) bool { return slices.Contains(formats, f) }
	switch {
	case has(saml.FormatPersistent):
		return config.Subject{Source: "pairwise", Format: saml.FormatPersistent}
	case has(saml.FormatEmail):
		return config.Subject{Source: "profile", From: "email", Format: saml.FormatEmail}
	case has(saml.FormatTransient) && len(formats) == 1:
		return config.Subject{Source: "transient", Format: saml.FormatTransient}
	}
	return config.Subject{Source: "profile", From: "preferred_username", Format: saml.FormatUnspecified}
}

// outboundFor proposes a mapping for the attributes that an application asks for, or the usual one.
func outboundFor(wanted []saml.RequestedAttribute) claims.Mapping {
	if len(wanted) == 0 {
		return claims.Outgoing()
	}
	var m claims.Mapping
	for _, w := range wanted {
		from := ""
		for _, rule := range claims.Standard() {
			if slices.Contains(rule.From, w.Name) || slices.Contains(rule.From, w.FriendlyName) || rule.Set == w.Name {
				from = rule.Set
			}
		}
		if from == "" {
			continue
		}
		m = append(m, claims.Rule{Set: w.Name, From: claims.Names{from}, FriendlyName: w.FriendlyName, NameFormat: w.NameFormat, Required: w.Required})
	}
	return m
}

func hostOf(id string) string {
	if u, err := url.Parse(id); err == nil && u.Hostname() != "" {
		return u.Hostname()
	}
	return id
}

// UnderstandProvider is UnderstandApplication for the other side.
func (g *Gate) UnderstandProvider(ctx context.Context, slug string, in api.TakeIn) (*api.Understood, []byte, error) {
	text, _, err := g.source(ctx, in)
	if err != nil {
		return nil, nil, err
	}
	u, entity, role := g.read(text, saml.RoleIDP, in.EntityID)
	if role == nil {
		return u, text, nil
	}
	p := config.Provider{Kind: "saml", SAML: &config.SAMLProvider{}}
	if slug != "" {
		held, err := g.provider(ctx, slug)
		if err != nil {
			return nil, nil, err
		}
		if p, err = decodeBody[config.Provider](mustJSON(held.Provider)); err != nil {
			return nil, nil, err
		}
	}
	before := flat(p)
	if p.Name == "" {
		if p.Name = entity.DisplayName; p.Name == "" {
			p.Name = hostOf(entity.EntityID)
			u.Proposed["name"] = p.Name
		}
		p.Slug, p.Description, p.Contact = config.Slug(p.Name), entity.Description, entity.Contact
	}
	p.SAML.EntityID, p.SAML.SSO, p.SAML.Certificates = entity.EntityID, role.Service(saml.ServiceSSO), pemOf(role)
	if len(p.Mapping) == 0 {
		p.Mapping = claims.Standard()
	}
	if p.SAML.NameIDFormat == "" && slices.Contains(role.NameIDFormats, saml.FormatPersistent) {
		p.SAML.NameIDFormat = saml.FormatPersistent
	}
	if err := p.Validate(); err != nil {
		return nil, nil, invalid(err)
	}
	u.Provider, u.Changes = &p, changes(before, flat(p))
	return u, text, nil
}

// refusal turns a document of which nothing can be used into an error.
func refusal(u *api.Understood) error {
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
	return problem(http.StatusUnprocessableEntity, code, "The document can't be used", detail, "Nothing was changed.")
}

// TakeApplication reads and stores what an application's side handed over.
func (g *Gate) TakeApplication(ctx context.Context, who Actor, slug string, in api.TakeIn) (*api.Application, error) {
	u, text, err := g.UnderstandApplication(ctx, slug, in)
	if err != nil {
		return nil, err
	}
	if u.App == nil {
		return nil, refusal(u)
	}
	v, err := g.SaveApplication(ctx, who, slug, *u.App, 0)
	if err != nil {
		return nil, err
	}
	return v, g.keepDocument(ctx, "application", v.ID, in.URL, text)
}

// TakeProvider reads and stores what a provider's side handed over.
func (g *Gate) TakeProvider(ctx context.Context, who Actor, slug string, in api.TakeIn) (*api.Provider, error) {
	u, text, err := g.UnderstandProvider(ctx, slug, in)
	if err != nil {
		return nil, err
	}
	if u.Provider == nil {
		return nil, refusal(u)
	}
	v, err := g.SaveProvider(ctx, who, slug, *u.Provider, 0)
	if err != nil {
		return nil, err
	}
	return v, g.keepDocument(ctx, "provider", v.ID, in.URL, text)
}

// keepDocument keeps a version of what a partner handed over, unless it is the newest one already.
func (g *Gate) keepDocument(ctx context.Context, kind, id, from string, text []byte) error {
	sum := sha256.Sum256(text)
	d := store.PartnerDocument{ID: store.NewID(), OwnerKind: kind, OwnerID: id, Source: from, SHA256: hex.EncodeToString(sum[:]), Document: text, CreatedAt: g.Now().UTC()}
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		var last store.PartnerDocument
		if err := tx.Where("owner_id = ?", id).Order("id DESC").Limit(1).Find(&last).Error; err != nil {
			return err
		}
		if last.SHA256 == d.SHA256 {
			return nil
		}
		return tx.Create(&d).Error
	})
}

// line is one field of a configuration with its value in words.
type line struct{ field, value string }

// flat lays out the fields that a partner's document can change.
func flat(v any) []line {
	var out []line
	add := func(field, value string) { out = append(out, line{field, value}) }
	certs := func(list []config.Certificate) {
		for _, c := range list {
			if cert, err := c.Parse(); err == nil {
				use := c.Use
				if use == "" {
					use = "any use"
				}
				add("certificate for "+use, keys.Fingerprint(cert.Raw))
			}
		}
	}
	endpoints := func(name string, list []saml.Endpoint) {
		for _, e := range list {
			add(name+" by "+saml.BindingName(e.Binding), e.Location)
		}
	}
	switch c := v.(type) {
	case config.Application:
		add("name", c.Name)
		add("entity ID", c.SAML.EntityID)
		endpoints("ACS URL", c.SAML.ACS)
		certs(c.SAML.Certificates)
		add("start address", c.StartURL)
		if c.Subject.Source != "" {
			add("subject", strings.TrimSpace(c.Subject.Source+" "+c.Subject.From)+", "+saml.FormatName(c.Subject.Format))
		}
		if c.SAML.RequireSignedRequests {
			add("signed requests", "demanded")
		}
		for _, r := range c.Mapping {
			add("sends "+r.Set, strings.Join(r.From, ", "))
		}
	case config.Provider:
		add("name", c.Name)
		add("entity ID", c.SAML.EntityID)
		endpoints("SSO URL", c.SAML.SSO)
		certs(c.SAML.Certificates)
		if c.SAML.NameIDFormat != "" {
			add("NameID format asked for", saml.FormatName(c.SAML.NameIDFormat))
		}
	}
	return slices.DeleteFunc(out, func(l line) bool { return l.value == "" })
}

// changes compares two layouts: what is gone, what is new, and what has another value where a field stands once on both sides.
func changes(before, after []line) []api.Change {
	out := []api.Change{}
	once := func(list []line, field string) (string, bool) {
		value, n := "", 0
		for _, l := range list {
			if l.field == field {
				value, n = l.value, n+1
			}
		}
		return value, n == 1
	}
	for _, l := range before {
		if slices.Contains(after, l) {
			continue
		}
		if now, ok := once(after, l.field); ok {
			if _, was := once(before, l.field); was {
				out = append(out, api.Change{Field: l.field, Before: l.value, After: now})
				continue
			}
		}
		out = append(out, api.Change{Field: l.field, Before: l.value})
	}
	for _, l := range after {
		if slices.Contains(before, l) {
			continue
		}
		_, was := once(before, l.field)
		_, is := once(after, l.field)
		if !was || !is {
			out = append(out, api.Change{Field: l.field, After: l.value})
		}
	}
	return out
}
