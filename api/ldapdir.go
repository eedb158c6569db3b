package api

// TryDirectory asks to try a directory.
type TryDirectory struct {
	// Name is of one person who is looked for; empty for none.
	Name string `json:"name,omitempty"`
}

// TriedDirectory is what came of trying a directory, without signing anybody in.
type TriedDirectory struct {
	Works bool        `json:"works"`
	Steps []TriedStep `json:"steps"`
	// Code and Remedy are of the first thing that did not work.
	Code   string `json:"code,omitempty"`
	Remedy string `json:"remedy,omitempty"`
	// Values are the attributes of the person who was found, Made is what the mapping makes of them.
	Values map[string][]string `json:"values"`
	Made   []TriedValue        `json:"made,omitempty"`
}

// TriedStep is one thing that was tried.
type TriedStep struct {
	Name   string `json:"name"` // server, bind, base, person, identifier, groups or mapping
	Text   string `json:"text"`
	Got    string `json:"got,omitempty"`
	OK     bool   `json:"ok"`
	Micros int64  `json:"micros"`
}

// TriedValue is a value of the profile.
type TriedValue struct {
	Name   string   `json:"name"`
	Values []string `json:"values"`
}
