package explain

import "errors"

// OfPartner names the partner in an error that is a failure without one; others it leaves as they are.
func OfPartner(err error, name string) error {
	var f *Failure
	if errors.As(err, &f) {
		return f.Of(name)
	}
	return err
}

// Stray tells failures that say nothing about the sign-in itself, only about who came with an answer.
func Stray(code Code) bool {
	return code == BrowserLost || code == BrowserFinished || code == SAMLRequestRepeated || code == OIDCState || code == OIDCStateMissing
}
