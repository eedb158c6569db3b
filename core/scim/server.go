package scim

// Abilities are what a service provider says that it can do (RFC 7643, section 5).
type Abilities struct {
	Patch, Bulk, Filter, ChangePassword, Sort, ETag, Cursor bool
	// MaxResults is the most resources of a page; 0 where it does not say.
	MaxResults int
	// Ways are the ways to prove oneself that it names.
	Ways []string
}

// ReadAbilities reads a ServiceProviderConfig. What is missing counts as not possible.
func ReadAbilities(r Resource) Abilities {
	supported := func(name string) bool {
		o, _ := Field(r, name).(map[string]any)
		yes, _ := Field(o, "supported").(bool)
		return yes
	}
	a := Abilities{Patch: supported("patch"), Bulk: supported("bulk"), Filter: supported("filter"), Sort: supported("sort"),
		ChangePassword: supported("changePassword"), ETag: supported("etag")}
	if o, ok := Field(r, "filter").(map[string]any); ok {
		if n, ok := Field(o, "maxResults").(float64); ok && n > 0 && n <= 1e6 {
			a.MaxResults = int(n)
		}
	}
	if o, ok := Field(r, "pagination").(map[string]any); ok { // RFC 9865, section 4
		a.Cursor, _ = Field(o, "cursor").(bool)
	}
	list, _ := Field(r, "authenticationSchemes").([]any)
	for _, one := range list {
		o, _ := one.(map[string]any)
		if kind, ok := Field(o, "type").(string); ok && len(a.Ways) < 20 {
			a.Ways = append(a.Ways, kind)
		}
	}
	return a
}

// Page is a part of a list of resources (RFC 7644, section 3.4.2; RFC 9865).
type Page struct {
	Total, Start int
	Next         string // the cursor of the next page, where the list has cursors
	Items        []Resource
}

// ReadPage reads a part of a list.
func ReadPage(data []byte) (*Page, *Error) {
	r, err := Read(data)
	if err != nil {
		return nil, err
	}
	total, ok := Field(r, "totalResults").(float64)
	if !ok || total < 0 {
		return nil, bad(InvalidSyntax, "The answer is no list: it does not say how many resources there are.")
	}
	p := &Page{Total: int(total), Start: 1}
	if n, ok := Field(r, "startIndex").(float64); ok {
		p.Start = int(n)
	}
	p.Next, _ = Field(r, "nextCursor").(string)
	list, _ := Field(r, "Resources").([]any)
	for _, one := range list {
		o, ok := one.(map[string]any)
		if !ok {
			return nil, bad(InvalidSyntax, "A resource of the list is no object.")
		}
		p.Items = append(p.Items, o)
	}
	return p, nil
}

// Whole brings a resource that a service provider sent into the type's form, with what it alone sets: its identifier and version.
// Nothing of it is believed before the caller has looked whose it is.
func (k *Kind) Whole(in Resource) (Resource, *Error) {
	out, _, err := k.Take(in)
	if err != nil {
		return nil, err
	}
	if id, ok := Field(in, "id").(string); ok {
		out["id"] = id
	}
	if meta, ok := Field(in, "meta").(map[string]any); ok {
		out["meta"] = meta
	}
	return out, nil
}

// Only leaves of a resource the attributes that are asked for, or takes those away that are not wanted (RFC 7644, section 3.9). What is
// always returned stays.
func (k *Kind) Only(r Resource, attributes, excluded []string) (Resource, *Error) {
	if len(attributes) == 0 && len(excluded) == 0 {
		return r, nil
	}
	if len(attributes) > 0 {
		out := Resource{}
		for _, name := range []string{"schemas", "id"} {
			if v, ok := r[name]; ok {
				out[name] = v
			}
		}
		for _, text := range attributes {
			p, err := k.Path(text)
			if err != nil {
				continue // what is not known is not returned
			}
			p.copy(r, out)
		}
		return out, nil
	}
	out := r.Clone()
	for _, text := range excluded {
		p, err := k.Path(text)
		if err != nil || p.Name == "id" || p.At != nil && p.At.Returned == "always" {
			continue
		}
		p.Remove(out)
	}
	return out, nil
}

// copy takes what is at a path from one resource into another.
func (p *Path) copy(from, to Resource) {
	o := home(from, p, false)
	if o == nil {
		return
	}
	if p.Name == "" {
		to[p.Schema] = o
		return
	}
	v, ok := o[p.Name]
	if !ok {
		return
	}
	into := home(to, p, true)
	if p.Sub == "" {
		into[p.Name] = v
		return
	}
	if one, ok := v.(map[string]any); ok {
		held, _ := into[p.Name].(map[string]any)
		if held == nil {
			held = map[string]any{}
		}
		if part, ok := one[p.Sub]; ok {
			held[p.Sub] = part
			into[p.Name] = held
		}
		return
	}
	list, _ := v.([]any)
	held, _ := into[p.Name].([]any)
	for i, one := range list {
		inner, _ := one.(map[string]any)
		if len(held) <= i {
			held = append(held, map[string]any{})
		}
		if part, ok := inner[p.Sub]; ok {
			held[i].(map[string]any)[p.Sub] = part
		}
	}
	into[p.Name] = held
}
