// Package soak kills and stops the gate's process under load, again and again, and looks at what is left. `make test` does some of
// it, `make soak` much more.
package soak
