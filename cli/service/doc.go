// Package service has the commands that run the gate itself: serve, set-up, the demo, and the API's description.
package service

import "innergate/cli/terminal"

// commands are what the room's commands share.
type commands struct{ *terminal.Program }
