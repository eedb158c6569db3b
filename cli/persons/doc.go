// Package persons has the commands of people and groups.
package persons

import "innergate/cli/terminal"

// commands are what the room's commands share.
type commands struct{ *terminal.Program }
