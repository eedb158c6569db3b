// Package nodes has the commands on the nodes that keep the gate's records together.
package nodes
