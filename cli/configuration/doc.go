// Package configuration has the commands of applications and providers: adding, changing, access, routes and reach.
package configuration

import "innergate/cli/terminal"

// commands are what the room's commands share.
type commands struct{ *terminal.Program }
