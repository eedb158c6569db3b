package exchange

import (
	"context"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/claims"
	"innergate/core/difference"
	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/oidc"
	"innergate/core/saml"
	"innergate/core/sheet"
	"innergate/gate/ground"
	"innergate/gate/keyring"
	"innergate/store"
)

// ApplicationSheet is what an application's engineer needs from us.
func (g *Room) ApplicationSheet(ctx context.Context, slug string) (*api.ExchangeSheet, error) {
	a, err := g.partners.Application(ctx, slug)
	if err != nil {
		return nil, err
	}
	if a.OIDC != nil {
		return g.clientSheet(ctx, a)
	}
	if a.Guarded != nil {
		return g.guardedSheet(ctx, a)
	}
	if a.SAML == nil {
		return nil, ground.Conflict("no-other-side", a.Name+" is a plain link: there is nothing to exchange with its engineer.", "")
	}
	base := g.PublicURL + "/saml/idp/" + a.Slug
	s := &api.ExchangeSheet{
		Title:    "For the engineer of " + a.Name,
		Role:     "We are the identity provider (IdP); " + a.Name + " is the service provider (SP).",
		Metadata: base + "/metadata",
	}
	s.Values = []api.Value{
		{
			Name:  "IdP entity ID",
			Hint:  "also called issuer, identity provider identifier",
			Value: string(g.partners.IDPEntity(a)),
			Kind:  "url",
			Field: "entity",
		},
		{
			Name:  "SingleSignOnService (HTTP-Redirect and HTTP-POST)",
			Hint:  "also called SSO URL, login URL, sign-in page address",
			Value: g.partners.SSOAddress(a),
			Kind:  "url",
			Field: "sso",
		},
		{
			Name: "Metadata",
			Hint: "everything on this page as one file; a partner that fetches it again by itself takes part in key changes without " +
				"a hand's turn",
			Value: s.Metadata,
			Kind:  "url",
		},
		{
			Name:  "Start address",
			Hint:  "begins a sign-in as the tile does; for links on other pages",
			Value: g.StartLocation(a.Slug),
			Kind:  "url",
		},
	}
	if a.SAML.DefaultRelayState != "" {
		s.Values = append(
			s.Values,
			api.Value{
				Name:  "Default RelayState",
				Hint:  "what comes with a sign-in that begins here, where no deep link is asked for",
				Value: a.SAML.DefaultRelayState,
				Kind:  "text",
			},
		)
	}
	s.Values = append(
		s.Values,
		api.Value{
			Name:  "SingleLogoutService (HTTP-Redirect, HTTP-POST and SOAP)",
			Hint:  "takes a LogoutRequest; also called SLO URL. Not for a field that wants a plain address",
			Value: g.partners.SLOAddress(a),
			Kind:  "url",
			Field: "slo",
		},
		api.Value{
			Name:  "Sign-out address",
			Hint:  "a plain address to which people are sent when they have signed out, without any protocol",
			Value: g.PublicURL + "/sign-out",
			Kind:  "url",
		},
		api.Value{
			Name:  "ArtifactResolutionService (SOAP)",
			Hint:  "only for applications that take their answers by artifact",
			Value: g.PublicURL + "/saml/idp/artifact",
			Kind:  "url",
			Field: "artifact",
		},
		api.Value{
			Name:  "NameID format",
			Hint:  "the form of the identifier that we send",
			Value: servedFormats(a)[0],
			Kind:  "text",
			Field: "format",
		},
	)
	ring, err := g.keyring.Ring(ctx, keys.PurposeSigning, a.Approval().Owner())
	if err != nil {
		return nil, err
	}
	s.Values = append(s.Values, applicationNotes(a, ring)...)
	if err := g.sheetCertificates(ctx, s, "application", a.Slug); err != nil {
		return nil, err
	}
	profile := sampleOf(g.partners.WholeProviders(ctx, a.Providers))
	var requested []saml.RequestedAttribute
	for _, r := range a.Whole {
		s.Attributes = append(
			s.Attributes,
			api.SheetAttribute{
				Name:         r.Set,
				FriendlyName: r.FriendlyName,
				NameFormat:   r.NameFormat,
				Required:     r.Required,
				Meaning:      sheet.MeaningOf(r),
				Sample:       r.SampleOf(profile),
			},
		)
		requested = append(
			requested,
			saml.RequestedAttribute{Name: r.Set, NameFormat: r.NameFormat, FriendlyName: r.FriendlyName, Required: r.Required},
		)
	}
	s.Requested = saml.RequestedAttributesXML(requested)
	s.Steps = stepsFor(s, a.Steps)
	return s, g.finishSheet(ctx, s, "We send", "application", a.ID, a.Slug)
}

// ProviderSheet is what a provider's engineer needs from us.
func (g *Room) ProviderSheet(ctx context.Context, slug string) (*api.ExchangeSheet, error) {
	p, err := g.partners.Provider(ctx, slug)
	if err != nil {
		return nil, err
	}
	if p.OIDC != nil {
		return g.openidSheet(ctx, p)
	}
	if p.LDAP != nil {
		return g.ldapSheet(ctx, p)
	}
	if p.Kerberos != nil {
		return g.kerberosSheet(ctx, p)
	}
	if p.Directory != nil {
		return nil, ground.Conflict(
			"no-other-side", p.Name+" is the gate's own directory: there is no other side to exchange anything with.",
			"",
		)
	}
	s := &api.ExchangeSheet{
		Title:    "For the engineer of " + p.Name,
		Role:     "We are the service provider (SP); " + p.Name + " is the identity provider (IdP).",
		Metadata: g.PublicURL + "/saml/sp/" + p.Slug + "/metadata",
	}
	s.Values = []api.Value{
		{
			Name:  "SP entity ID",
			Hint:  "also called audience, relying party identifier, realm",
			Value: string(g.partners.SPEntity(p)),
			Kind:  "url",
			Field: "entity",
		},
		{
			Name:  "AssertionConsumerService (HTTP-POST)",
			Hint:  "also called ACS URL, return address, assertion endpoint, recipient",
			Value: g.ACSLocation(p.Slug),
			Kind:  "url",
			Field: "acs",
		},
		{
			Name: "Metadata",
			Hint: "everything on this page as one file; a partner that fetches it again by itself takes part in key changes without " +
				"a hand's turn",
			Value: s.Metadata,
			Kind:  "url",
		},
	}
	s.Values = append(
		s.Values,
		api.Value{
			Name:  "SingleLogoutService (HTTP-Redirect, HTTP-POST and SOAP)",
			Hint:  "takes a LogoutRequest when somebody signs out at the provider; also called SLO URL, single logout address",
			Value: g.SLOLocation(p.Slug),
			Kind:  "url",
			Field: "slo",
		},
	)
	if p.SAML.NameIDFormat != "" {
		s.Values = append(
			s.Values,
			api.Value{
				Name:  "NameID format",
				Hint:  "the form of the identifier that we ask for",
				Value: p.SAML.NameIDFormat,
				Kind:  "text",
				Field: "format",
			},
		)
	}
	if p.SAML.AllowUnsolicited {
		s.Values = append(
			s.Values,
			api.Value{
				Name:  "RelayState",
				Hint:  "for sign-ins that begin at the provider: the start address of the application that is wanted",
				Value: g.PublicURL + "/start/…",
				Kind:  "text",
			},
		)
	}
	s.Values = append(
		s.Values,
		api.Value{
			Name:  "Sign-out address",
			Hint:  "a plain address to which people are sent when they have signed out, without any protocol",
			Value: g.PublicURL + "/sign-out",
			Kind:  "url",
		},
	)
	ring, err := g.keyring.Ring(ctx, keys.PurposeSigning, p.Approval().Owner())
	if err != nil {
		return nil, err
	}
	s.Values = append(s.Values, providerNotes(p, ring)...)
	if err := g.sheetCertificates(ctx, s, "provider", p.Slug); err != nil {
		return nil, err
	}
	var requested []saml.RequestedAttribute
	profile := claims.Sample()
	for _, r := range p.Whole {
		if len(r.From) == 0 {
			continue
		}
		name, meaning := r.From[0], claims.InWords(r.Set)
		if len(r.From) > 1 {
			meaning += ", or as " + strings.Join(r.From[1:], ", ")
		}
		s.Attributes = append(
			s.Attributes,
			api.SheetAttribute{
				Name:         name,
				FriendlyName: r.Set,
				NameFormat:   sheet.NameFormatOf(name),
				Required:     r.Required,
				Meaning:      meaning,
				Sample:       profile.First(r.Set),
			},
		)
		if name != "NameID" {
			requested = append(
				requested,
				saml.RequestedAttribute{Name: name, NameFormat: sheet.NameFormatOf(name), FriendlyName: r.Set, Required: r.Required},
			)
		}
	}
	s.Requested = saml.RequestedAttributesXML(requested)
	s.Steps = stepsFor(s, p.Steps)
	return s, g.finishSheet(ctx, s, "We want", "provider", p.ID, p.Slug)
}

// sheetCertificates adds our certificates: the one that signs now, the one that comes next, and the one to encrypt for.
func (g *Room) sheetCertificates(ctx context.Context, s *api.ExchangeSheet, side, slug string) error {
	_, approval, signing, err := g.ourEntity(ctx, side, slug)
	if err != nil {
		return err
	}
	add := func(name, hint string, cert *x509.Certificate, field string) {
		s.Values = append(
			s.Values,
			api.Value{
				Name:  name,
				Hint:  hint,
				Value: strings.TrimSpace(string(keys.EncodeCertificate(cert.Raw))),
				Kind:  "certificate",
				Field: field,
			},
			api.Value{
				Name:  name + ", fingerprint (SHA-256)",
				Hint:  "also called thumbprint; ends " + cert.NotAfter.UTC().Format("2006-01-02"),
				Value: keys.Fingerprint(cert.Raw),
				Kind:  "fingerprint",
			},
			api.Value{
				Name:  name + ", fingerprint (SHA-1)",
				Hint:  "only where a form still asks for it",
				Value: keys.FingerprintSHA1(cert.Raw),
				Kind:  "fingerprint",
			},
		)
	}
	rings := []struct {
		name, hint string
		ring       *keyring.Ring
	}{{"Signing certificate", "X.509, PEM; also called public key, verification certificate", signing}}
	if side == "provider" {
		encryption, err := g.keyring.Ring(ctx, keys.PurposeEncryption, approval.Owner())
		if err != nil {
			return err
		}
		rings = append(rings, struct {
			name, hint string
			ring       *keyring.Ring
		}{"Encryption certificate", "X.509, PEM; for providers that encrypt assertions", encryption})
	}
	for _, r := range rings {
		add(r.name, r.hint, r.ring.Certs[0], "certificate")
		for _, id := range r.ring.Holders {
			for i := range r.ring.IDs {
				if r.ring.IDs[i] == id {
					add(
						r.name+" (next)", "the one that will replace it: hold both until we have changed over",
						r.ring.Certs[i], "certificate",
					)
				}
			}
		}
		for i := range r.ring.IDs {
			if id := r.ring.IDs[i]; i == 0 || len(r.ring.Holders) > 0 && slices.Contains(r.ring.Holders, id) {
				name := map[bool]string{true: "", false: ", next"}[i == 0]
				for _, form := range []string{"pem", "der"} {
					s.Downloads = append(
						s.Downloads,
						api.Download{
							Name: r.name + name + ", " + strings.ToUpper(form),
							Hint: map[string]string{"pem": "text", "der": "binary, as .cer"}[form],
							URL:  g.PublicURL + "/api/v1/keys/" + id + "/certificate?form=" + form,
							File: g.Host() + "-" + strings.ToLower(
								strings.Fields(r.name)[0],
							) + map[string]string{"pem": ".pem", "der": ".cer"}[form],
						},
					)
				}
			}
		}
	}
	return nil
}

// finishSheet adds downloads, what was handed out before, and the sheet as Markdown, to go into a mail or a ticket.
func (g *Room) finishSheet(ctx context.Context, s *api.ExchangeSheet, attributes, kind, id, slug string) error {
	if s.Attributes == nil {
		s.Attributes = []api.SheetAttribute{}
	}
	role := map[string]string{"application": "idp", "provider": "sp"}[kind]
	s.Downloads = append([]api.Download{
		{Name: "Metadata", Hint: "XML", URL: s.Metadata, File: "inner-gate-" + role + "-" + slug + ".xml"},
		{
			Name: "Metadata, signed",
			Hint: "XML, with our signature",
			URL:  s.Metadata + "?signed=1",
			File: "inner-gate-" + role + "-" + slug + "-signed.xml",
		},
	}, s.Downloads...)
	s.Markdown = sheetText(s, attributes)
	entity, _, _, err := g.ourEntity(ctx, kind, slug)
	if err != nil {
		return err
	}
	s.HandedOut, err = g.handOuts(ctx, kind, id, sheet.HandedOut(entity))
	return err
}

// sheetText writes a sheet as Markdown.
func sheetText(s *api.ExchangeSheet, attributes string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "# %s\n\n%s\n\n", s.Title, s.Role)
	if len(s.Steps) > 0 {
		b.WriteString("## Steps\n\n")
		for i, step := range s.Steps {
			fmt.Fprintf(&b, "%d. %s\n", i+1, step)
		}
		b.WriteString("\n## Values\n\n")
	}
	for _, v := range s.Values {
		if v.Kind == "note" {
			fmt.Fprintf(&b, "**%s**: %s\n\n", v.Name, v.Value)
			continue
		}
		fmt.Fprintf(&b, "**%s** (%s)\n\n```\n%s\n```\n\n", v.Name, v.Hint, v.Value)
	}
	if len(s.Attributes) > 0 {
		cell := func(text string) string { return strings.ReplaceAll(text, "|", `\|`) }
		fmt.Fprintf(
			&b,
			"## %s\n\n| attribute | name format | mandatory | meaning | sample |\n| --- | --- | --- | --- | --- |\n",
			attributes,
		)
		for _, a := range s.Attributes {
			fmt.Fprintf(
				&b, "| `%s` | %s | %s | %s | %s |\n", cell(a.Name), a.NameFormat,
				map[bool]string{true: "yes", false: "no"}[a.Required], cell(a.Meaning), cell(a.Sample),
			)
		}
		if s.Requested != "" {
			fmt.Fprintf(&b, "\nThe same as metadata elements:\n\n```xml\n%s```\n", s.Requested)
		}
	}
	return b.String()
}

// sheet is the sheet of either side.
func (g *Room) sheet(ctx context.Context, kind, slug string) (*api.ExchangeSheet, error) {
	if kind == "application" {
		return g.ApplicationSheet(ctx, slug)
	}
	return g.ProviderSheet(ctx, slug)
}

// NoteSheet remembers that the sheet was handed out: copied, printed or downloaded.
func (g *Room) NoteSheet(ctx context.Context, who ground.Actor, kind, slug string) error {
	list, owner, err := g.SheetFacts(ctx, kind, slug)
	if err != nil {
		return err
	}
	facts, err := json.Marshal(list)
	if err != nil {
		return err
	}
	return g.noteHandOut(ctx, kind, owner, "sheet", string(facts), who.Name, nil)
}

const handOutEvery = time.Minute

// noteHandOut remembers what was handed out. The same content to the same side is one line that is counted, at most
// once a minute.
func (g *Room) noteHandOut(ctx context.Context, kind, owner, what, facts, by string, holders []string) error {
	sum := sha256.Sum256([]byte(what + facts))
	hash, now := hex.EncodeToString(sum[:]), g.Now().UTC()
	old, err := store.One[store.HandOut](g.Store.Read(ctx), "owner_kind = ? AND owner_id = ? AND hash = ?", kind, owner, hash)
	if err != nil {
		return err
	}
	if old.ID != "" && now.Sub(old.LastAt) < handOutEvery && what == "metadata" && g.allHeld(ctx, kind, owner, holders) {
		return nil
	}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		if old.ID != "" {
			if err := tx.Model(&store.HandOut{}).Where("id = ?", old.ID).Updates(map[string]any{"last_at": now,
				"count": gorm.Expr("count + 1"), "by": by}).Error; err != nil {
				return err
			}
		} else if err := tx.Create(&store.HandOut{ID: store.NewID(), OwnerKind: kind, OwnerID: owner, What: what, Hash: hash, Body: facts,
			By: by, FirstAt: now, LastAt: now, Count: 1}).Error; err != nil {
			return err
		}
		for _, key := range holders {
			if err := keyring.Holder(tx, key, kind, owner, "fetched", by, now); err != nil {
				return err
			}
		}
		// What was handed out keeps its last hundred contents.
		return tx.Exec(
			"DELETE FROM hand_outs WHERE owner_kind = ? AND owner_id = ? AND id NOT IN (SELECT id FROM hand_outs WHERE owner_kind = ? "+
				"AND owner_id = ? ORDER BY last_at DESC LIMIT 100)",
			kind,
			owner,
			kind,
			owner,
		).Error
	})
	return err
}

func (g *Room) allHeld(ctx context.Context, kind, owner string, holders []string) bool {
	if len(holders) == 0 {
		return true
	}
	var n int64
	err := g.Store.Read(ctx).
		Model(&store.KeyHolder{}).
		Where("owner_kind = ? AND owner_id = ? AND key_id IN ?", kind, owner, holders).
		Count(&n).
		Error
	return err == nil && int(n) == len(holders)
}

// handOuts lists what a partner's side was given, the newest first, with what of it no longer holds.
func (g *Room) handOuts(ctx context.Context, kind, id string, now []sheet.Fact) ([]api.HandedOut, error) {
	var rows []store.HandOut
	if err := g.Store.Read(ctx).Where("owner_kind = ? AND owner_id = ?", kind,
		id).Order("last_at DESC").Limit(20).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := []api.HandedOut{}
	for _, row := range rows {
		var facts []sheet.Fact
		if err := json.Unmarshal([]byte(row.Body), &facts); err != nil {
			return nil, err
		}
		var before, after []difference.Line
		for _, f := range facts {
			before = append(before, difference.Line{Field: f.Name, Value: f.Value})
		}
		for _, f := range now {
			after = append(after, difference.Line{Field: f.Name, Value: f.Value})
		}
		differences := ground.Changes(before, after)
		out = append(
			out,
			api.HandedOut{
				What:        row.What,
				By:          row.By,
				First:       row.FirstAt,
				Last:        row.LastAt,
				Count:       row.Count,
				Current:     len(differences) == 0,
				Differences: differences,
			},
		)
	}
	return out, nil
}

// CompareSheet holds what the other side's form or file shows against our sheet, value by value.
func (g *Room) CompareSheet(ctx context.Context, kind, slug, text string) (*api.ComparedSheet, error) {
	s, err := g.sheet(ctx, kind, slug)
	if err != nil {
		return nil, err
	}
	values := s.Values
	theirs, meaning := saml.ReadLabelled(text), func(t saml.Labelled) string { return saml.Meaning(t.Label) }
	if a, err := g.partners.Application(ctx, slug); kind == "application" && err == nil && a.SAML != nil {
		values = append(slices.Clone(values), registered(a)...)
		meaning = func(t saml.Labelled) string { return ownMeaning(values, t) }
	}
	if slices.ContainsFunc(s.Values, func(v api.Value) bool { return v.Field == "redirect" || v.Field == "issuer" }) {
		meaning = func(t saml.Labelled) string { return oidc.Meaning(t.Label) }
	}
	if doc := saml.ReadMetadata([]byte(text), g.Now()); doc.Usable() && strings.Contains(text, "Descriptor") {
		theirs = nil
		for _, f := range sheet.HandedOut(&doc.Entities[0]) {
			theirs = append(theirs, saml.Labelled{Label: f.Name, Value: f.Value})
		}
	}
	if len(theirs) == 0 {
		for l := range strings.Lines(text) {
			if l = strings.TrimSpace(l); l != "" && len(theirs) < 50 {
				theirs = append(theirs, saml.Labelled{Value: l})
			}
		}
	}
	if len(theirs) == 0 {
		return nil, ground.BadRequest(
			"nothing-given", "There is nothing to compare.",
			"Paste what the other side's form shows: labels and values, or the values alone.",
		)
	}
	out := &api.ComparedSheet{Values: []api.ComparedValue{}, Absent: []string{}, Equal: true}
	used := map[string]bool{}
	for _, t := range theirs {
		ours := nearestValue(values, t, meaning)
		if ours == nil {
			continue
		}
		value, held := t.Value, ours.Value
		if cert, err := keys.ParseCertificate([]byte(t.Value)); err == nil && ours.Kind == "certificate" {
			value = keys.Fingerprint(cert.Raw)
			if own, err := keys.ParseCertificate([]byte(ours.Value)); err == nil {
				held = keys.Fingerprint(own.Raw)
			}
		} else if ours.Kind == "fingerprint" {
			value = sheet.Spelled(value)
		}
		c := api.ComparedValue{Label: t.Label, Name: ours.Name, Ours: held, Theirs: value, Difference: explain.Compare(held, value)}
		out.Equal = out.Equal && c.Difference.Equal
		out.Values = append(out.Values, c)
		used[ours.Name] = true
	}
	for _, v := range s.Values {
		if (slices.Contains([]string{"entity", "sso", "acs", "issuer", "client-id", "redirect"}, v.Field) ||
			v.Field == "certificate" && !strings.Contains(v.Name, "Encryption")) &&
			!used[v.Name] &&
			!(v.Field == "certificate" && used[v.Name+", fingerprint (SHA-256)"]) {
			out.Absent = append(out.Absent, v.Name)
		}
	}
	if len(out.Values) == 0 {
		return nil, ground.Problem(
			http.StatusUnprocessableEntity, "nothing-recognised", "Nothing was recognised",
			"No value in the text looks like one of ours.",
			"Paste the values with their labels, such as \"Entity ID: https://…\".",
		)
	}
	return out, nil
}

// nearestValue finds which value of ours one of theirs should be: by what its label means, by its kind, else by
// likeness.
func nearestValue(values []api.Value, t saml.Labelled, meaning func(saml.Labelled) string) *api.Value {
	pick := func(fits func(v *api.Value) bool) *api.Value {
		var best *api.Value
		score := -1
		for i := range values {
			if !fits(&values[i]) {
				continue
			}
			d := explain.Compare(values[i].Value, t.Value)
			n := len(d.Head) + len(d.Tail)
			if d.Equal {
				n = 1 << 20
			}
			if n > score {
				best, score = &values[i], n
			}
		}
		return best
	}
	if fp := sheet.Spelled(t.Value); fp != t.Value || strings.Count(fp, ":") >= 19 && len(fp) < 100 {
		return pick(func(v *api.Value) bool { return v.Kind == "fingerprint" && len(v.Value) == len(fp) })
	}
	if _, err := keys.ParseCertificate([]byte(t.Value)); err == nil {
		return pick(func(v *api.Value) bool { return v.Kind == "certificate" })
	}
	if field := meaning(t); field != "" {
		if v := pick(func(v *api.Value) bool { return v.Field == field && v.Kind != "certificate" }); v != nil {
			return v
		}
	}
	if !strings.Contains(t.Value, "://") && !strings.HasPrefix(t.Value, "urn:") {
		return nil
	}
	return pick(func(v *api.Value) bool {
		return v.Kind == "url" || strings.HasPrefix(v.Value, "urn:") && strings.HasPrefix(t.Value, "urn:")
	})
}

// stepsFor fills our values into the steps for the other side.
func stepsFor(s *api.ExchangeSheet, steps []string) []string {
	values := []string{"{{our.metadata}}", s.Metadata}
	for _, v := range s.Values {
		switch v.Field {
		case "entity":
			values = append(values, "{{our.entity-id}}", v.Value)
		case "issuer", "redirect":
			values = append(values, "{{our."+v.Field+"}}", v.Value)
		case "sso", "acs":
			values = append(values, "{{our."+v.Field+"}}", v.Value)
		}
	}
	out := []string{}
	for _, step := range steps {
		out = append(out, strings.NewReplacer(values...).Replace(step))
	}
	return out
}
