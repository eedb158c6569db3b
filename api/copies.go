package api

import "time"

// Copies are those that the service makes of its records by itself.
type Copies struct {
	// Folder is where they are kept, on the service's machine; empty where it makes none by itself.
	Folder    string `json:"folder"`
	Hours     int    `json:"hours"` // from one to the next
	Keep      int    `json:"keep"`  // how many
	Encrypted bool   `json:"encrypted"`
	Items     []Copy `json:"items"` // the newest first
}

// Copy is one of them.
type Copy struct {
	Name   string    `json:"name"`
	Made   time.Time `json:"made"`
	Octets int64     `json:"octets"`
}

// FetchCopy asks for a copy.
type FetchCopy struct {
	// Recipients are public keys of age to which it is encrypted; without any it is in clear, what is sealed in it stays sealed.
	Recipients []string `json:"recipients"`
}
