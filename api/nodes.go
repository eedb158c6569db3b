package api

import "time"

// Nodes are those that keep the gate's records together.
type Nodes struct {
	// Alone is set where the gate keeps them by itself, on one machine.
	Alone bool   `json:"alone"`
	Nodes []Node `json:"nodes"`
	// Findings is what is wrong with them.
	Findings []Finding `json:"findings"`
}

// Node is one of them.
type Node struct {
	ID      string `json:"id"`
	Address string `json:"address"`
	Role    string `json:"role"` // voter, stand-by or spare
	Leads   bool   `json:"leads"`
	Own     bool   `json:"own"` // it is the one that answers this
	// Answers is set where it runs and answers the others. What follows is known of such nodes alone.
	Answers bool       `json:"answers"`
	Version string     `json:"version,omitempty"`
	Began   *time.Time `json:"began,omitempty"`
	Ends    *time.Time `json:"ends,omitempty"` // its certificate
	// Ahead is how many milliseconds its clock is ahead of the clock of the one that answers this.
	Ahead int64 `json:"ahead,omitempty"`
}

// NodeKey is what one machine needs to become a node, once.
type NodeKey struct {
	Key     string    `json:"key"`
	Expires time.Time `json:"expires"`
}

// JoinNode is what a machine sends that was invited.
type JoinNode struct {
	Invitation string `json:"invitation"`
	Address    string `json:"address"`   // at which the other nodes reach it
	PublicKey  []byte `json:"publicKey"` // PKIX, DER
	Proof      []byte `json:"proof"`
}

// NodeJoined is what it gets.
type NodeJoined struct {
	Certificate []byte   `json:"certificate"`
	Authority   []byte   `json:"authority"`
	Others      []string `json:"others"`
	Proof       []byte   `json:"proof"`
}
