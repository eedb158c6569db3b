// Package sources has the commands of sources of metadata, templates, batches, handover links and reports.
package sources

import "innergate/cli/terminal"

// commands are what the room's commands share.
type commands struct{ *terminal.Program }
