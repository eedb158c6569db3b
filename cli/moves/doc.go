// Package moves has the commands of moving applications from one provider to another.
package moves

import "innergate/cli/terminal"

// commands are what the room's commands share.
type commands struct{ *terminal.Program }
