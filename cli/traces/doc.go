// Package traces has the commands of traces, statistics and support bundles.
package traces

import "innergate/cli/terminal"

// commands are what the room's commands share.
type commands struct{ *terminal.Program }
