package api

import "innergate/core/config"

// NewTemplate saves a connection as a template.
type NewTemplate struct {
	Name        string `json:"name"`
	Description string `json:"description,omitempty"`
	// From is the connection, as applications/slug or providers/slug.
	From string `json:"from"`
	// Blanks name what differs from one connection to the next; Sample is its value in this one.
	Blanks []config.Blank `json:"blanks,omitempty"`
}

// StartTemplate makes a draft from a template.
type StartTemplate struct {
	Name string `json:"name"`
	Slug string `json:"slug,omitempty"`
	// Values are those of the blanks.
	Values map[string]string `json:"values,omitempty"`
}
