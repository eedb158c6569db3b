// Package console has the commands of who may administer the gate: logging in, tokens, and roles by group.
package console

import "innergate/cli/terminal"

// commands are what the room's commands share.
type commands struct{ *terminal.Program }
