package scim

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
)

// The kinds of a bad request (RFC 7644, section 3.12).
const (
	InvalidFilter = "invalidFilter"
	TooMany       = "tooMany"
	Uniqueness    = "uniqueness"
	Mutability    = "mutability"
	InvalidSyntax = "invalidSyntax"
	InvalidPath   = "invalidPath"
	NoTarget      = "noTarget"
	InvalidValue  = "invalidValue"
	InvalidVers   = "invalidVers"
	Sensitive     = "sensitive"
	InvalidCursor = "invalidCursor" // RFC 9865, section 2.1
	ExpiredCursor = "expiredCursor"
	InvalidCount  = "invalidCount"
)

// Error is a refusal as the protocol tells it (RFC 7644, section 3.12).
type Error struct {
	Status int
	Type   string // scimType; empty where the standard has none
	Detail string
}

func (e *Error) Error() string { return e.Detail }

type errorBody struct {
	Schemas []string `json:"schemas"`
	Status  string   `json:"status"`
	Type    string   `json:"scimType,omitempty"`
	Detail  string   `json:"detail,omitempty"`
}

// MarshalJSON writes the error as the standard has it: the status is a text.
func (e *Error) MarshalJSON() ([]byte, error) {
	return json.Marshal(errorBody{Schemas: []string{ErrorMessage}, Status: strconv.Itoa(e.Status), Type: e.Type, Detail: e.Detail})
}

// ReadError reads a refusal out of an answer. Many say less than the standard wants; the status of the answer counts.
func ReadError(status int, body []byte) *Error {
	out := &Error{Status: status}
	var in errorBody
	if json.Unmarshal(body, &in) == nil {
		out.Type, out.Detail = in.Type, in.Detail
	}
	return out
}

func bad(kind, format string, args ...any) *Error {
	return &Error{Status: http.StatusBadRequest, Type: kind, Detail: fmt.Sprintf(format, args...)}
}
