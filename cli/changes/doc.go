// Package changes has the commands of configuration as files, of history, proposals and the journal.
package changes

import "innergate/cli/terminal"

// commands are what the room's commands share.
type commands struct{ *terminal.Program }
