package explain

import (
	"errors"
)

func OfPartner(err error, name string) error {
	var f *Failure
	if errors.As(err, &f) {
		return f.Of(name)
	}
	return err
}

// Stray tells failures that say nothing about the sign-in itself, only about who came with an answer.
func Stray(code string) bool {
	return code == "browser.lost" || code == "browser.finished" || code == "saml.request-repeated" || code == "oidc.state"
}
