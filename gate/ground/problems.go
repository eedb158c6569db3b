package ground

import (
	"errors"
	"fmt"
	"net/http"

	"innergate/api"
	"innergate/core/config"
	"innergate/store"
)

// GoneMeanwhile passes over what somebody deleted a moment ago.
func GoneMeanwhile(err error) error {
	if p, ok := err.(*api.Problem); ok && p.Status == http.StatusNotFound {
		return nil
	}
	return err
}

// Problem makes an error for the API.
func Problem(status int, code, title, detail, remedy string) *api.Problem {
	return &api.Problem{Type: "about:blank", Title: title, Status: status, Detail: detail, Code: code, Remedy: remedy}
}

// NotFound says that there is no such object.
func NotFound(kind, name string) error {
	return Problem(
		http.StatusNotFound, "not-found", "Not found", fmt.Sprintf("There is no %s %q.", kind, name),
		"Look at the list for the right name.",
	)
}

// Missing explains a record that could not be read: it is not there, or something failed.
func Missing(err error, kind, name string) error {
	if errors.Is(err, store.ErrNotFound) {
		return NotFound(kind, name)
	}
	return store.Clear(err)
}

// BadRequest refuses what was asked, with the reason and the remedy.
func BadRequest(code, detail, remedy string) error {
	return Problem(http.StatusBadRequest, code, "This can't be done as asked", detail, remedy)
}

// Invalid turns a configuration's problems into one for the API.
func Invalid(err error) error {
	var fields config.Problems
	if !errors.As(err, &fields) {
		return err
	}
	p := Problem(
		http.StatusUnprocessableEntity, "invalid", "Some values can't be taken",
		"Some values can't be taken; nothing was changed.", "",
	)
	p.Fields = fields
	return p
}

// Conflict refuses what does not go with what is there.
func Conflict(code, detail, remedy string) error {
	return Problem(http.StatusConflict, code, "Not now", detail, remedy)
}

// IsNotFound tells whether an error says that something is not there.
func IsNotFound(err error) bool {
	var p interface{ NotFound() bool }
	return errors.As(err, &p) && p.NotFound()
}
