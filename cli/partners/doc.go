// Package partners has the commands of the secrets that are shared with partners.
package partners

import "innergate/cli/terminal"

// commands are what the room's commands share.
type commands struct{ *terminal.Program }
