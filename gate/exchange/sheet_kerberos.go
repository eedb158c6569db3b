package exchange

import (
	"context"
	"fmt"

	"innergate/api"
	"innergate/core/kerberos"
	"innergate/gate/partners"
)

// kerberosSheet is what the administrator of a realm sets up for the gate, with the commands, and the settings of browsers.
func (g *Room) kerberosSheet(ctx context.Context, p *partners.Provider) (*api.ExchangeSheet, error) {
	hosts := g.partners.Hosts(p)
	host, realm := hosts[0], "YOUR.REALM"
	if len(p.Kerberos.Realms) > 0 {
		realm = p.Kerberos.Realms[0]
	}
	s := &api.ExchangeSheet{
		Title:      "For the administrator of " + p.Name,
		Role:       "We are a service of your realm; your machines show us tickets of your people (Kerberos, by SPNEGO).",
		Metadata:   g.PublicURL,
		Attributes: []api.SheetAttribute{},
		Downloads:  []api.Download{},
	}
	for _, h := range hosts {
		s.Values = append(s.Values, text("Service name", "registered with exactly one account",
			kerberos.Service+"/"+h+"@"+realm, "service"))
	}
	s.Values = append(s.Values,
		text("Address in the browsers' lists", "of those to which a browser shows a ticket", g.PublicURL, "address"),
		note("Encryption", "of the account's keys", "AES only: aes256-cts-hmac-sha1-96, aes256-cts-hmac-sha384-192, or with 128 bits"),
		note("Clocks", "", fmt.Sprintf("at most %d seconds from ours", p.Kerberos.Skew())),
		note("NTLM", "", "is never taken"),
		note("What we do", "", "we open tickets with the keytab; we ask your servers nothing, and nobody's password passes through us"),
	)
	s.Steps = stepsFor(s, append(kerberosSteps(host, realm), p.Steps...))
	s.Markdown = sheetText(s, "We want")
	var err error
	s.HandedOut, err = g.handOuts(ctx, "provider", p.ID, factsOf(s))
	return s, err
}

// kerberosSteps are the commands with which an administrator makes our service known and gives us its keytab, and what browsers need.
func kerberosSteps(host, realm string) []string {
	service := kerberos.Service + "/" + host
	account := "inner-gate"
	return []string{
		"In a realm of MIT Kerberos: kadmin -q \"addprinc -randkey " + service + "\", then kadmin -q \"ktadd -k gate.keytab -e " +
			"aes256-cts-hmac-sha1-96:normal,aes256-cts-hmac-sha384-192:normal " + service + "\".",
		"In a Windows domain: New-ADUser " + account + " -Enabled $true -AccountPassword (Read-Host -AsSecureString) " +
			"-KerberosEncryptionType AES256, look that setspn -Q " + service + " finds nobody, then ktpass /princ " +
			service + "@" + realm +
			" /mapuser " + account + " /crypto AES256-SHA1 /ptype KRB5_NT_PRINCIPAL /pass * /out gate.keytab.",
		"Send us gate.keytab by a way on which nobody else reads it: it is as good as a password. " +
			"Each making of a keytab makes a new key; " +
			"tell us before you make another one, so that both count for a while.",
		"Firefox (policies.json): {\"policies\": {\"Authentication\": {\"SPNEGO\": [\"" + host + "\"]}}}.",
		"Chromium and its kin (policies): AuthServerAllowlist = \"" + host + "\", and DisableAuthNegotiateCnameLookup = true where " +
			host +
			" is an alias. On Windows, the zone of the local intranet has the same effect.",
		"Safari on macOS shows tickets to hosts of its realm by itself, once the machine has one (kinit, or the single sign-on extension).",
		"Try it on a machine: klist get " + service + " (Windows), or kvno " + service + ", brings a ticket; " +
			"then open the rehearsal that we send you.",
	}
}
