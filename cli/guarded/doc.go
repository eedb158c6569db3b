// Package guarded has the commands of applications behind the gate.
package guarded

import "innergate/cli/terminal"

// commands are what the room's commands share.
type commands struct{ *terminal.Program }
