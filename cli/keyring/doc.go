// Package keyring has the commands of keys, certificates and the master key.
package keyring

import "innergate/cli/terminal"

// commands are what the room's commands share.
type commands struct{ *terminal.Program }
