// Package watch has the commands of partners' metadata: reading, taking, refreshing and its versions.
package watch

import "innergate/cli/terminal"

// commands are what the room's commands share.
type commands struct{ *terminal.Program }
