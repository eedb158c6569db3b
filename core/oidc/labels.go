package oidc

import "regexp"

// labels tell what a label of somebody's form means, as the fields of an exchange sheet are called. The first that fits
// counts.
var labels = []struct {
	field string
	words *regexp.Regexp
}{
	{"post-logout", regexp.MustCompile(`(?i)post.?log.?out|after sign(ing)?.?out|sign.?out redirect`)},
	{"back-channel", regexp.MustCompile(`(?i)back.?channel`)},
	{"end-session", regexp.MustCompile(`(?i)end.?session|log.?out (url|endpoint|address)`)},
	{"discovery", regexp.MustCompile(`(?i)discovery|well.?known|metadata (url|address)|configuration (url|endpoint)`)},
	{"jwks", regexp.MustCompile(`(?i)jwks|key set|signing keys|public keys?`)},
	{"userinfo", regexp.MustCompile(`(?i)user.?info|profile (url|endpoint)`)},
	{"introspection", regexp.MustCompile(`(?i)introspect`)},
	{"device", regexp.MustCompile(`(?i)device`)},
	{"token", regexp.MustCompile(`(?i)token (url|endpoint|uri|address)`)},
	{
		"authorization",
		regexp.MustCompile(`(?i)authori[sz](e|ation) (url|endpoint|uri)|auth(entication)? (url|endpoint)|sign.?in (url|address)`),
	},
	{"redirect", regexp.MustCompile(`(?i)redirect|callback|repl(y|ies)|return (url|address)`)},
	{"client-id", regexp.MustCompile(`(?i)(client|application|app|consumer)[ _-]?(id\b|identifier|key\b)`)},
	{"issuer", regexp.MustCompile(`(?i)issuer|authority|provider url|base url`)},
	{"scopes", regexp.MustCompile(`(?i)scopes?`)},
	{"method", regexp.MustCompile(`(?i)auth(entication)? method`)},
	{"algorithm", regexp.MustCompile(`(?i)algorithm|signed with`)},
}

// Meaning is the field of an exchange sheet that a label means, or nothing.
func Meaning(label string) string {
	for _, l := range labels {
		if l.words.MatchString(label) {
			return l.field
		}
	}
	return ""
}
