// Package exchange has the commands of the exchange sheet.
package exchange

import "innergate/cli/terminal"

// commands are what the room's commands share.
type commands struct{ *terminal.Program }
