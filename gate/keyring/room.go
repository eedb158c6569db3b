// Package keyring keeps the gate's own keys and certificates (RFC 5280) and replaces them in steps that can be
// taken back: published, switched, retired. It signs nothing itself; it hands out signers and decryption keys, and
// notes which certificates were used.
package keyring

import (
	"sync"

	"innergate/gate/ground"
)

// Room holds what the package needs of the gate; see the package.
type Room struct {
	*ground.Ground

	usedCerts sync.Map // usedCertificate → time.Time, until it is written down
}

// New makes the room over those that it stands on.
func New(g *ground.Ground) *Room {
	return &Room{Ground: g}
}
