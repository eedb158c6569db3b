package ldapdir

import (
	"regexp"
	"strings"
)

// State is what a directory says of an account when its password is tried.
type State string

// States of an account.
const (
	Good       State = ""
	Wrong      State = "wrong"       // name or password
	Expired    State = "expired"     // the password
	MustChange State = "must-change" // the password is right, and good for nothing but to be changed
	Locked     State = "locked"      // after too many tries
	Disabled   State = "disabled"
	Refused    State = "refused" // for another reason
)

// Result codes (RFC 4511, section 4.1.9).
const (
	resultSuccess            = 0
	resultInvalidCredentials = 49
	resultUnwilling          = 53
	resultConstraint         = 19
	resultInsufficient       = 50
)

// Errors of the password policy control (draft-behera-ldap-password-policy, section 6.2); -1 where it said none.
const (
	policyNone       = -1
	policyExpired    = 0
	policyLocked     = 1
	policyMustChange = 2
)

// diagnostic is the code that a widespread directory hides in its diagnostic message: "… data 533, …".
var diagnostic = regexp.MustCompile(`\bdata ([0-9a-f]{3,4})\b`)

var diagnostics = map[string]State{
	"525": Wrong, "52e": Wrong, "530": Refused, "531": Refused, "532": Expired, "533": Disabled, "701": Disabled, "773": MustChange,
	"775": Locked,
}

// Judge says what a directory's answer to a bind means: its result code, the error of its password policy (-1 for none) and its
// diagnostic message.
func Judge(result, policy int, message string) State {
	switch policy {
	case policyExpired:
		return Expired
	case policyLocked:
		return Locked
	case policyMustChange:
		return MustChange
	}
	switch result {
	case resultSuccess:
		return Good
	case resultInvalidCredentials:
		if m := diagnostic.FindStringSubmatch(message); m != nil {
			if s, ok := diagnostics[m[1]]; ok {
				return s
			}
		}
		return Wrong
	case resultUnwilling, resultInsufficient, resultConstraint:
		if strings.Contains(strings.ToLower(message), "disabled") || strings.Contains(strings.ToLower(message), "inactivated") {
			return Disabled
		}
	}
	return Refused
}

// ChangeRefused says in words why a directory did not take a new password: the error of its password policy, or its message.
func ChangeRefused(policy int, message string) string {
	switch policy {
	case 3:
		return "You may not change your password yourself."
	case 4:
		return "Your old password is wrong."
	case 5:
		return "The new password is too simple."
	case 6:
		return "The new password is too short."
	case 7:
		return "You have changed your password too short a time ago."
	case 8:
		return "You have had this password before."
	}
	low := strings.ToLower(message)
	switch {
	case strings.Contains(low, "history"):
		return "You have had this password before."
	case strings.Contains(low, "short"), strings.Contains(low, "length"):
		return "The new password is too short."
	case strings.Contains(low, "quality"):
		return "The new password is too short or too simple."
	case strings.Contains(low, "complex"), strings.Contains(low, "simple"):
		return "The new password is too simple."
	case strings.Contains(low, "young"):
		return "You have changed your password too short a time ago."
	}
	return "The directory did not take the new password."
}
