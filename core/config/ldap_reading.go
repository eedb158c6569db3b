package config

import (
	"cmp"

	"innergate/core/ldapdir"
)

// LDAPReading says how people are read from a directory into the gate, besides by signing in.
type LDAPReading struct {
	// Filter finds all who are read (RFC 4515); whoever it no longer finds is gone.
	Filter string `json:"filter,omitempty"`
	// WholeHours is after how many hours everybody is read anew, ChangedMinutes after how many minutes those whose entry changed; 0 for
	// by hand alone.
	WholeHours     int `json:"wholeHours,omitempty"`
	ChangedMinutes int `json:"changedMinutes,omitempty"`
	// ChangedBy is the attribute that holds when an entry was changed last: modifyTimestamp (the default) or whenChanged.
	ChangedBy string `json:"changedBy,omitempty"`
	// GoneShare is the share of its people, in percent, that may be gone at once; where it is more, it stops and asks. 0 for 10.
	GoneShare int `json:"goneShare,omitempty"`
}

const (
	readingFilter    = "(objectClass=inetOrgPerson)"
	readingChangedBy = "modifyTimestamp"
	readingGoneShare = 10
)

func (v *validator) ldapReading(r *LDAPReading) {
	if r == nil {
		return
	}
	r.Filter, r.ChangedBy = cmp.Or(r.Filter, readingFilter), cmp.Or(r.ChangedBy, readingChangedBy)
	r.GoneShare = cmp.Or(r.GoneShare, readingGoneShare)
	if err := ldapdir.CheckFilter(r.Filter); err != nil {
		v.add("ldap.reading.filter", "%s", err)
	}
	if !ldapdir.NameFits(r.ChangedBy) {
		v.add("ldap.reading.changedBy", "%q is no name of an attribute", r.ChangedBy)
	}
	if r.WholeHours < 0 || r.WholeHours > 24*31 {
		v.add("ldap.reading.wholeHours", "it must be between 0 and a month (744)")
	}
	if r.ChangedMinutes < 0 || r.ChangedMinutes > 24*60 {
		v.add("ldap.reading.changedMinutes", "it must be between 0 and a day (1440)")
	}
	if r.GoneShare < 1 || r.GoneShare > 100 {
		v.add("ldap.reading.goneShare", "it must be between 1 and 100")
	}
}
