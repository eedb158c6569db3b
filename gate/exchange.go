package gate

import (
	"context"
	"fmt"
	"strings"

	"innergate/api"
	"innergate/core/claims"
	"innergate/core/keys"
)

// ApplicationSheet is what an application's engineer needs from us.
func (g *Gate) ApplicationSheet(ctx context.Context, slug string) (*api.ExchangeSheet, error) {
	a, err := g.application(ctx, slug)
	if err != nil {
		return nil, err
	}
	der, err := g.OurCertificate(ctx)
	if err != nil {
		return nil, err
	}
	s := &api.ExchangeSheet{Title: "For the engineer of " + a.Name, Role: "We are the identity provider (IdP); " + a.Name + " is the service provider (SP).", Metadata: g.PublicURL + "/saml/idp/metadata"}
	s.Values = []api.Value{
		{Name: "IdP entity ID", Hint: "also called issuer, identity provider identifier", Value: string(g.IDPEntityID()), Kind: "url"},
		{Name: "SingleSignOnService (HTTP-Redirect and HTTP-POST)", Hint: "also called SSO URL, login URL, sign-in page address", Value: g.SSOLocation(), Kind: "url"},
		{Name: "Metadata", Hint: "everything on this page as one file", Value: s.Metadata, Kind: "url"},
		{Name: "Start address", Hint: "begins a sign-in as the tile does; for links on other pages", Value: g.StartLocation(a.Slug), Kind: "url"},
	}
	s.Values = append(s.Values, certificateValues(der)...)
	for _, r := range a.Mapping {
		meaning := claims.InWords(strings.Join(r.From, ", "))
		if r.Value != "" {
			meaning = fmt.Sprintf("always %q", r.Value)
		}
		s.Attributes = append(s.Attributes, api.SheetAttribute{Name: r.Set, FriendlyName: r.FriendlyName, NameFormat: r.NameFormat, Required: r.Required, Meaning: meaning})
	}
	finishSheet(s, "We send")
	return s, nil
}

// ProviderSheet is what a provider's engineer needs from us.
func (g *Gate) ProviderSheet(ctx context.Context, slug string) (*api.ExchangeSheet, error) {
	p, err := g.provider(ctx, slug)
	if err != nil {
		return nil, err
	}
	der, err := g.OurCertificate(ctx)
	if err != nil {
		return nil, err
	}
	s := &api.ExchangeSheet{Title: "For the engineer of " + p.Name, Role: "We are the service provider (SP); " + p.Name + " is the identity provider (IdP).", Metadata: g.PublicURL + "/saml/sp/" + p.Slug + "/metadata"}
	s.Values = []api.Value{
		{Name: "SP entity ID", Hint: "also called audience, relying party identifier, realm", Value: string(g.SPEntityID()), Kind: "url"},
		{Name: "AssertionConsumerService (HTTP-POST)", Hint: "also called ACS URL, reply address, assertion endpoint, recipient", Value: g.ACSLocation(p.Slug), Kind: "url"},
		{Name: "Metadata", Hint: "everything on this page as one file", Value: s.Metadata, Kind: "url"},
	}
	if p.SAML.NameIDFormat != "" {
		s.Values = append(s.Values, api.Value{Name: "NameID format", Hint: "the form of the identifier that we ask for", Value: p.SAML.NameIDFormat, Kind: "text"})
	}
	if p.SAML.AllowUnsolicited {
		s.Values = append(s.Values, api.Value{Name: "RelayState", Hint: "for sign-ins that begin at the provider: the start address of the application that is wanted", Value: g.PublicURL + "/start/…", Kind: "text"})
	}
	s.Values = append(s.Values, certificateValues(der)...)
	for _, r := range p.Mapping {
		for i, name := range r.From {
			if i > 0 {
				break
			}
			meaning := claims.InWords(r.Set)
			if len(r.From) > 1 {
				meaning += ", or as " + strings.Join(r.From[1:], ", ")
			}
			s.Attributes = append(s.Attributes, api.SheetAttribute{Name: name, NameFormat: nameFormatOf(name), Required: r.Required, Meaning: meaning})
		}
	}
	finishSheet(s, "We want")
	return s, nil
}

func certificateValues(der []byte) []api.Value {
	return []api.Value{
		{Name: "Signing certificate", Hint: "X.509, PEM; also called public key, verification certificate", Value: strings.TrimSpace(string(keys.EncodeCertificate(der))), Kind: "certificate"},
		{Name: "Fingerprint (SHA-256)", Hint: "also called thumbprint", Value: keys.Fingerprint(der), Kind: "fingerprint"},
		{Name: "Fingerprint (SHA-1)", Hint: "only where a form still asks for it", Value: keys.FingerprintSHA1(der), Kind: "fingerprint"},
	}
}

// finishSheet writes the sheet as Markdown, to go into a mail or a ticket.
func finishSheet(s *api.ExchangeSheet, attributes string) {
	if s.Attributes == nil {
		s.Attributes = []api.SheetAttribute{}
	}
	var b strings.Builder
	fmt.Fprintf(&b, "# %s\n\n%s\n\n", s.Title, s.Role)
	for _, v := range s.Values {
		fmt.Fprintf(&b, "**%s** (%s)\n\n```\n%s\n```\n\n", v.Name, v.Hint, v.Value)
	}
	if len(s.Attributes) > 0 {
		fmt.Fprintf(&b, "## %s\n\n| attribute | name format | meaning |\n| --- | --- | --- |\n", attributes)
		for _, a := range s.Attributes {
			fmt.Fprintf(&b, "| `%s` | %s | %s |\n", strings.ReplaceAll(a.Name, "|", `\|`), a.NameFormat, strings.ReplaceAll(a.Meaning, "|", `\|`))
		}
	}
	s.Markdown = b.String()
}
