package checkup

import (
	"strings"

	"innergate/core/explain"
	"innergate/core/trace"
)

// Habit is something that a partner was seen doing, in one or several ways, with the traces in which it stands.
type Habit struct {
	Kind       string
	Details    []string
	References []string
}

// habit is what a finding says of one kind of habit.
type habit struct {
	code, severity, title, detail, remedy string
	application, provider                 string // the stations
}

// habits are told of by kind.
var habits = map[string]habit{
	"relay-lost": {
		code: "seen.relay-lost", severity: Remark, provider: ProviderTrust,
		title:  "RelayState gets lost",
		detail: "The provider answers without the RelayState that we sent. Sign-ins are found by the browser's cookie all the same.",
		remedy: "Have the other side return RelayState as it came (SAML Bindings, section 3.4.3).",
	},
	"context-unmet": {
		code: "seen.context-unmet", severity: Broken, application: ApplicationTrust, provider: ProviderTrust,
		title:  "A strength of sign-in is demanded that nobody proves",
		detail: "Sign-ins fail, since the application demands a context that its provider does not say.",
		remedy: "Say on the provider what its values stand for (contexts), or take the application's demand as a preference, or ignore it.",
	},
	"token-refused": {
		code: "seen.token-refused", severity: Attention, application: ApplicationTrust,
		title:  "Its token requests are refused",
		detail: "People sign in, and the application does not get its tokens.",
		remedy: "Open the trace: it says what was wrong with the request.",
	},
	"code-unfetched": {
		code: "seen.code-unfetched", severity: Attention, application: ApplicationTrust,
		title:  "It does not fetch its tokens",
		detail: "Codes were given out, and no token request came within a minute.",
		remedy: "See whether the application's server reaches our token endpoint, and what its own log says.",
	},
	"logout-unsigned": {
		code: "seen.logout-unsigned", severity: Attention, application: ApplicationTrust, provider: ProviderTrust,
		title:  "Its logout messages are not signed",
		detail: "They are refused: signing out ends the sessions of others with it.",
		remedy: "Have the other side sign them and take its certificate, or take unsigned ones from the browser whose session it is.",
	},
	"value-dropped": {
		code: "seen.value-dropped", severity: Remark, provider: Matching,
		title:  "It says what it may not speak for",
		detail: "Values were dropped before anybody could get them.",
		remedy: "If they are right, name their domains, scopes or groups under what the provider may speak for.",
	},
	"ticket-refused": {
		code: "seen.ticket-refused", severity: Attention, provider: ProviderTrust,
		title:  "Tickets of its people are not taken",
		detail: "They go on by another way, if there is one.",
		remedy: "The code says why, and the trace what was expected: clocks, the keytab, or the service's name as a rule.",
	},
	"scope-unknown": {
		code: "seen.scope-unknown", severity: Remark, application: ApplicationTrust,
		title:  "It asks for scopes that it does not have",
		detail: "They are passed over, as the standard wants it; the application does not get what it hopes for.",
		remedy: "Add the scopes to the application, or have it ask for those that it has.",
	},
}

// Habits turns what a partner was seen doing into findings.
func Habits(kind string, list []Habit) []Finding {
	var out []Finding
	for _, h := range list {
		about, known := habits[h.Kind]
		station := about.application
		if kind == "provider" {
			station = about.provider
		}
		if !known || station == "" {
			continue
		}
		var evidence []trace.Evidence
		for i, d := range h.Details {
			if i == 5 {
				break
			}
			label := "seen"
			if h.References[i] != "" {
				label = "seen in " + h.References[i]
			}
			evidence = append(evidence, explain.Fact(label, strings.TrimSpace(d)))
		}
		out = append(out, Finding{Code: about.code, Severity: about.severity, Station: station, Title: about.title, Detail: about.detail,
			Remedy: about.remedy, Evidence: evidence})
	}
	return out
}
