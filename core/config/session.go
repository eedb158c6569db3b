package config

import "time"

// What a sign-out at an application ends.
const (
	SignOutProvider    = "provider"    // the session at the gate, its applications, and the session at the provider
	SignOutGate        = "gate"        // the session at the gate and its applications
	SignOutApplication = "application" // the application's own part
)

// SessionRules limit how long a session at the gate counts for one application. Zero leaves it to the gate's own
// limits.
type SessionRules struct {
	// MaxMinutes is how long ago the person may have signed in; after that they are asked anew.
	MaxMinutes int `json:"maxMinutes,omitempty"`
	// IdleMinutes is how long the application may lie unused before the person is asked anew.
	IdleMinutes int `json:"idleMinutes,omitempty"`
}

// Sessions are the gate's own limits.
type Sessions struct {
	// IdleMinutes is how long a session may lie unused, MaxHours how long it lasts at most.
	IdleMinutes int `json:"idleMinutes"`
	MaxHours    int `json:"maxHours"`
	// Persistent lets a session outlive the browser; otherwise it goes when the browser is closed.
	Persistent bool `json:"persistent"`
}

// UsualSessions is what holds until something else is set.
var UsualSessions = Sessions{IdleMinutes: 120, MaxHours: 12}

// Idle and Max are the limits as durations.
func (s Sessions) Idle() time.Duration { return time.Duration(s.IdleMinutes) * time.Minute }

// Max is how long a session lasts at most.
func (s Sessions) Max() time.Duration { return time.Duration(s.MaxHours) * time.Hour }

// Validate says what is wrong.
func (s *Sessions) Validate() error {
	v := &validator{}
	if s.IdleMinutes < 5 || s.IdleMinutes > 60*24*30 {
		v.add("idleMinutes", "a session may lie unused for 5 minutes to 30 days (43200 minutes)")
	}
	if s.MaxHours < 1 || s.MaxHours > 24*90 {
		v.add("maxHours", "a session lasts 1 hour to 90 days (2160 hours)")
	}
	return v.err()
}

func (v *validator) session(s *SessionRules) {
	if s == nil {
		return
	}
	if s.MaxMinutes < 0 || s.MaxMinutes > 60*24*90 {
		v.add("session.maxMinutes", "it must be between 0 (for the gate's own limit) and 129600")
	}
	if s.IdleMinutes < 0 || s.IdleMinutes > 60*24*30 {
		v.add("session.idleMinutes", "it must be between 0 (for the gate's own limit) and 43200")
	}
}
