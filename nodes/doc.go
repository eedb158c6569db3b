// Package nodes keeps the gate's records on several nodes at one time: SQLite, replicated by Raft. Whatever was committed is on most
// of them; any one may be lost at any moment. It needs the engine's C libraries, and is part of a build of its own (the tag nodes).
package nodes
