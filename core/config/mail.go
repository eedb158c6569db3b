package config

import (
	"net"
	"net/mail"
	"strconv"
	"strings"
)

// Mail is how the gate sends mail (SMTP, RFC 5321). The password is kept sealed, beside it.
type Mail struct {
	// Server is the host and port of the mail server, such as mail.saltmere.example:587.
	Server string `json:"server"`
	// Encryption is starttls (after a greeting in the clear; the default), tls (from the first octet) or none, which is
	// for servers on this machine only.
	Encryption string `json:"encryption,omitempty"`
	// From is the address that mails come from, with or without a name before it.
	From string `json:"from"`
	// Username is for servers that want one.
	Username string `json:"username,omitempty"`
}

// Validate says what is wrong.
func (m *Mail) Validate() error {
	v := &validator{}
	m.Server, m.From, m.Username = strings.TrimSpace(m.Server), strings.TrimSpace(m.From), strings.TrimSpace(m.Username)
	if m.Encryption == "" {
		m.Encryption = "starttls"
	}
	v.oneOf("encryption", m.Encryption, Allowed["Mail.encryption"]...)
	host, port, err := m.Host()
	if err != nil {
		v.add("server", "%q is no host and port, such as mail.saltmere.example:587", m.Server)
	} else if port < 1 || port > 65535 {
		v.add("server", "%d is no port", port)
	}
	if ip := net.ParseIP(host); m.Encryption == "none" && host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		v.add("encryption", "without encryption codes could be read on the way; only a server on this machine is reached so")
	}
	if _, err := mail.ParseAddress(m.From); err != nil || len(m.From) > 320 {
		v.add("from", "%q is no mail address", m.From)
	}
	if len(m.Username) > 320 {
		v.add("username", "it has more than 320 characters")
	}
	return v.err()
}

// Host is where the server is.
func (m *Mail) Host() (string, int, error) {
	host, text, err := net.SplitHostPort(m.Server)
	if err != nil || host == "" || strings.ContainsAny(host, " /@") {
		return "", 0, strconv.ErrSyntax
	}
	port, err := strconv.Atoi(text)
	return host, port, err
}
