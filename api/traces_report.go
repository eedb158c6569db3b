package api

import "time"

// Report lists applications or providers with what an owner or auditor asks about them.
type Report struct {
	Items []ReportLine `json:"items"`
	Next  string       `json:"next,omitempty"`
	Count int          `json:"count"`
	At    time.Time    `json:"at"`
	// By counts by kind, reach, owner, and provider (of applications) or application (of providers).
	By map[string]map[string]int `json:"by"`
}

// ReportLine is one of them. Providers are an application's providers, or the applications of a provider.
type ReportLine struct {
	Slug       string     `json:"slug"`
	Name       string     `json:"name"`
	Kind       string     `json:"kind"`
	Reach      string     `json:"reach"`
	Owner      string     `json:"owner"`
	Tags       []string   `json:"tags"`
	Providers  []string   `json:"providers"`
	Expires    *time.Time `json:"expires,omitempty"` // of the certificate that ends first
	LastSignIn *time.Time `json:"lastSignIn,omitempty"`
	SignIns    int64      `json:"signIns"` // in the last 30 days
	People     int64      `json:"people"`
	Broken     int        `json:"broken"` // findings that nobody accepted
	Attention  int        `json:"attention"`
	Changed    time.Time  `json:"changed"`
}
