package scim

import "strings"

// claimNames are the usual names of claims for what an account has, so that a provider's mapping takes both what it pushes and what it
// says at sign-in (OpenID Connect Core 1.0, section 5.1).
var claimNames = map[string][]string{
	"preferred_username": {"userName"},
	"email":              {"emails[primary eq true].value", `emails[type eq "work"].value`, "emails.value"},
	"given_name":         {"name.givenName"},
	"family_name":        {"name.familyName"},
	"middle_name":        {"name.middleName"},
	"name":               {"displayName", "name.formatted"},
	"nickname":           {"nickName"},
	"locale":             {"locale", "preferredLanguage"},
	"zoneinfo":           {"timezone"},
	"phone_number":       {"phoneNumbers[primary eq true].value", `phoneNumbers[type eq "work"].value`, "phoneNumbers.value"},
	"title":              {"title"},
	"roles":              {"roles.value"},
	"department":         {EnterpriseSchema + ":department"},
	"organization":       {EnterpriseSchema + ":organization"},
	"employee_number":    {EnterpriseSchema + ":employeeNumber"},
	"external_id":        {"externalId"},
}

// firstOnly are the claims of which a person has one.
var firstOnly = map[string]bool{"email": true, "phone_number": true}

// Attributes are the values of an account by name, as a mapping takes them: under the paths of the attributes, and under the usual names
// of claims.
func (k *Kind) Attributes(r Resource) map[string][]string {
	out := map[string][]string{}
	k.spread(out, "", k.Core.Attributes, r)
	k.spread(out, "", common[1:2], r)
	for _, s := range k.Extensions {
		if inner, ok := r[s.ID].(map[string]any); ok {
			k.spread(out, s.ID+":", s.Attributes, inner)
		}
	}
	for claim, paths := range claimNames {
		for _, text := range paths {
			p, err := k.Path(text)
			if err != nil {
				continue
			}
			values := shownEach(p.Values(r))
			if len(values) > 1 && firstOnly[claim] {
				values = values[:1]
			}
			if len(values) > 0 {
				out[claim] = values
				break
			}
		}
	}
	return out
}

func (k *Kind) spread(out map[string][]string, before string, list []Attribute, r map[string]any) {
	for i := range list {
		a := &list[i]
		v, ok := r[a.Name]
		if !ok || a.Returned == "never" {
			continue
		}
		p := &Path{Name: a.Name, At: a}
		if a.Type != TypeComplex {
			out[before+a.Name] = shownEach(p.Values(r))
			continue
		}
		for j := range a.SubAttributes {
			part := &a.SubAttributes[j]
			at := &Path{Name: a.Name, At: a, Sub: part.Name, Part: part}
			if values := shownEach(at.Values(r)); len(values) > 0 {
				out[before+a.Name+"."+part.Name] = values
			}
		}
		items, _ := v.([]any)
		for _, one := range items {
			o, _ := one.(map[string]any)
			kind, _ := o["type"].(string)
			if value, ok := o["value"].(string); ok && kind != "" && !strings.ContainsAny(kind, `"\`) {
				name := before + a.Name + `[type eq "` + kind + `"].value`
				out[name] = append(out[name], value)
			}
		}
	}
}

func shownEach(values []any) []string {
	var out []string
	for _, v := range values {
		if text := Shown(v); text != "" {
			out = append(out, text)
		}
	}
	return out
}
