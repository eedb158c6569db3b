package nodes

import "log/slog"

// folderName is where a node keeps its part, in the data folder.
const folderName = "node"

// Options say which node this is.
type Options struct {
	Data string
	// Address is where the other nodes reach this one: a host and a port.
	Address string
	// Errands is where the other nodes ask this one for what is not among the records; see ErrandsAddress.
	Errands string
	// Others are the addresses of nodes that keep the records already; none means that this is the first.
	Others   []string
	Identity *Identity
	Log      *slog.Logger
}

// Member is one of the nodes.
type Member struct {
	ID      uint64
	Address string
	Role    string // voter, stand-by or spare
	Leads   bool
	Own     bool // it is the one that tells
}
