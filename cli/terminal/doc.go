// Package terminal is what every command shares: streams and exit codes, the one wrapper of commands, how arguments and files are read,
// and how answers are printed.
package terminal
