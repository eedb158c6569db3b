package config

// Missing lists what must be known before an application can be opened.
func (a *Application) Missing() []string {
	var out []string
	switch a.Kind {
	case KindOIDC:
		out = a.missingOIDC()
	case KindGuarded:
		out = a.missingGuarded()
	case KindLink:
		if a.StartURL == "" {
			out = append(out, "the address that the link leads to is missing")
		}
		return out
	default:
		out = a.missingSAML()
	}
	if len(a.Providers) == 0 {
		out = append(out, "no provider is chosen for it")
	}
	return out
}

func (a *Application) missingSAML() []string {
	var out []string
	if a.SAML == nil || a.SAML.EntityID == "" {
		out = append(out, "the application's entity ID is missing")
	}
	if a.SAML == nil || len(a.SAML.ACS) == 0 {
		out = append(out, "the application's ACS URL is missing")
	}
	if a.SAML != nil && a.SAML.RequireSignedRequests && len(Parsed(a.SAML.Certificates, "signing")) == 0 {
		out = append(out, "signed requests are demanded, and no certificate to check them with is held")
	}
	return out
}
