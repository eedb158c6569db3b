// Package rehearsal has the commands of trying: rehearsals, judging and decoding messages, and mappings.
package rehearsal

import "innergate/cli/terminal"

// commands are what the room's commands share.
type commands struct{ *terminal.Program }
