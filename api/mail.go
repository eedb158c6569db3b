package api

import "innergate/core/config"

// MailSettings are how the gate sends mail.
type MailSettings struct {
	config.Mail
	// On tells that there are such settings.
	On bool `json:"on"`
	// HasPassword tells that a password is kept; it is never shown.
	HasPassword bool `json:"hasPassword"`
}

// SaveMail changes how the gate sends mail. An empty server ends it.
type SaveMail struct {
	config.Mail
	// Password stays as it is where it is left out.
	Password *string `json:"password,omitempty"`
}

// TestMail asks for a mail to see that it can be sent.
type TestMail struct {
	To string `json:"to"`
}
