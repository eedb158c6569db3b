package api

import "time"

// Pushes is how a provider pushes its people to the gate.
type Pushes struct {
	On      bool     `json:"on"`
	Address string   `json:"address"`
	Tokens  []Secret `json:"tokens"`
	// People were pushed so far, of whom so many are Inactive; of so many, Problems, it could not be worked out what their groups mean.
	People   int          `json:"people"`
	Inactive int          `json:"inactive"`
	Groups   int          `json:"groups"`
	Problems int          `json:"problems"`
	Remarks  []PushRemark `json:"remarks"`
}

// PushRemark is a habit of the sender that is taken without harm, though the standard has it another way.
type PushRemark struct {
	Text  string    `json:"text"`
	First time.Time `json:"first"`
	Last  time.Time `json:"last"`
}
