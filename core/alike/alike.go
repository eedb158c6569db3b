// Package alike finds the name that somebody most likely meant.
package alike

import "strings"

// Nearest is the name among others that is most like a given one, or nothing where none is alike.
func Nearest(name string, among []string) string {
	best, least := "", len([]rune(name))/3+1
	for _, one := range among {
		d := distance([]rune(plain(name)), []rune(plain(one)))
		if d < least || d == least && best == "" && d <= 2 {
			best, least = one, d
		}
	}
	return best
}

// plain takes away what people mix up: case, dashes and underscores.
func plain(s string) string {
	return strings.NewReplacer("-", "", "_", "", " ", "").Replace(strings.ToLower(s))
}

// distance is how many letters must be changed, added, taken away, or swapped with the next to make one text the other.
func distance(a, b []rune) int {
	rows := [3][]int{}
	for i := range rows {
		rows[i] = make([]int, len(b)+1)
	}
	for j := range rows[1] {
		rows[1][j] = j
	}
	for i := 1; i <= len(a); i++ {
		now, before, last := rows[2], rows[1], rows[0]
		now[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			now[j] = min(before[j]+1, now[j-1]+1, before[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				now[j] = min(now[j], last[j-2]+1)
			}
		}
		rows[0], rows[1], rows[2] = before, now, last
	}
	return rows[1][len(b)]
}
