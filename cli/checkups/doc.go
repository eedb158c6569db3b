// Package checkups has the commands of the checkup, of notices and the mail that carries them, and of explanations.
package checkups

import "innergate/cli/terminal"

// commands are what the room's commands share.
type commands struct{ *terminal.Program }
