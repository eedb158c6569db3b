package checkup

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"innergate/core/address"
	"innergate/core/config"
	"innergate/core/explain"
)

// accountLines are how an application's accounts are kept, in two lines.
func accountLines(a *config.Accounts) []string {
	on := "worked out, not sent"
	if a.On {
		on = "kept in step"
	}
	who := map[string]string{config.WhoAssigned: "who is assigned", config.WhoEverybody: "everybody", config.WhoCircle: "a circle"}[a.Who]
	return []string{on, who}
}

// accounts finds what is set for an application's accounts and is of no good.
func (c *collector) accounts(a *config.Application) {
	if a.Accounts == nil {
		return
	}
	if text := SubjectDiffers(a); text != "" {
		c.add(Finding{
			Code: "accounts.subject-differs", Severity: Remark, Station: Accounts, Title: "Sign-in and account would not meet",
			Detail: text,
			Remedy: "Let both take the same value: change the subject, or the rule for userName or externalId. Where the application " +
				"tells " +
				"people by another value of the sign-in, leave it.",
		})
	}
	if address.Plain(a.Accounts.Address) {
		c.add(Finding{
			Code: "accounts.plain", Severity: Attention, Station: Accounts, Title: "Accounts travel in the clear",
			Detail: "The SCIM service is reached without TLS: whoever listens reads the token and everybody's values.",
			Remedy: "Ask for an address that begins with https.",
		})
	}
}

// SubjectDiffers says where what signs in and what an account is known by would not meet; empty where they do.
func SubjectDiffers(a *config.Application) string {
	if a.SAML == nil && a.OIDC == nil {
		return ""
	}
	from := map[string][]string{}
	for _, r := range a.Accounts.Mapping {
		if r.Set == "userName" || r.Set == "externalId" {
			from[r.Set] = append(from[r.Set], r.From...)
		}
	}
	if a.Subject.Source != "profile" {
		return fmt.Sprintf("Signing in, %s gets a %s identifier, which no account there has.", a.Name, a.Subject.Source)
	}
	for _, list := range from {
		if slices.Contains(list[:min(1, len(list))], a.Subject.From) {
			return ""
		}
	}
	return fmt.Sprintf("Signing in, %s gets %s; accounts are made with userName from %s.", a.Name, a.Subject.From,
		strings.Join(from["userName"], ", "))
}

// AccountState is how keeping an application's accounts stands.
type AccountState struct {
	Name                  string
	On, Compared          bool
	Asking, Failed, Drift int
	// Code and Reason are why nothing can be sent at all, Since when it was first found.
	Code, Reason string
	Tries        int
	Ends         *time.Time // of the token
}

// AccountFindings finds what has to be done about an application's accounts.
func AccountFindings(s AccountState, now time.Time) []Finding {
	var out []Finding
	add := func(code, severity, title, detail, remedy string) {
		out = append(out, Finding{Code: code, Severity: severity, Station: Accounts, Title: title, Detail: detail, Remedy: remedy})
	}
	if !s.On {
		return nil
	}
	if !s.Compared {
		add("accounts.not-compared", Attention, "Accounts were not compared yet", "Nothing is sent before somebody has looked who is "+
			"there.",
			"Compare on this station.")
	}
	if s.Asking > 0 {
		add("accounts.asking", Broken, "More accounts would be taken away than may be at once",
			count(s.Asking, "account")+" wait for somebody to say whether it is meant.", "Look at the names on this station, and decide.")
	}
	if s.Code != "" && s.Tries > 1 {
		e := explain.New(explain.Code(s.Code)).Of(s.Name).Explain()
		add("accounts.stopped", Broken, e.Title, s.Reason, e.Remedy)
	}
	if s.Failed > 0 {
		add("accounts.failed", Attention, "Accounts failed", "At the application, "+count(s.Failed,
			"account")+" could not be made what they should be.",
			"The list on this station says why for each.")
	}
	if s.Drift > 0 {
		add("accounts.drift", Remark, "Accounts were changed there", "The application, or somebody in it, changed "+count(s.Drift,
			"account")+" that the gate keeps.", "Set them right, or accept it.")
	}
	if s.Ends != nil && s.Ends.Sub(now) < 30*24*time.Hour {
		add("accounts.token-ends", Attention, "The token for accounts ends soon", "It ends on "+s.Ends.UTC().Format("2006-01-02")+".",
			"Have a new one made, enter it as the next, try it, and switch to it.")
	}
	return out
}
