// Package span says lengths of time as people do.
package span

import (
	"strconv"
	"strings"
	"time"
)

var units = []struct {
	name string
	size time.Duration
}{{"year", 365 * 24 * time.Hour}, {"day", 24 * time.Hour}, {"hour", time.Hour}, {"minute", time.Minute}, {"second", time.Second}}

// Words says a length by its two largest units, such as "1 hour 30 minutes" or "3 days"; what is smaller is left out.
func Words(d time.Duration) string {
	if d < 0 {
		return "minus " + Words(-d)
	}
	var parts []string
	for i, u := range units {
		n := int64(d / u.size)
		d -= time.Duration(n) * u.size
		if n > 0 {
			parts = append(parts, strconv.FormatInt(n, 10)+" "+u.name+map[bool]string{true: "s"}[n != 1])
		}
		if len(parts) == 2 || len(parts) == 1 && n == 0 && i > 0 {
			break // an hour and two seconds is an hour
		}
	}
	if len(parts) == 0 {
		return "less than a second"
	}
	return strings.Join(parts, " ")
}
