// Package sessions has the commands of sessions at the gate.
package sessions

import "innergate/cli/terminal"

// commands are what the room's commands share.
type commands struct{ *terminal.Program }
