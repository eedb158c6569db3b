package testbed

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"
)

// Query is an operation that lists: its path, and the names of what narrows and sorts it.
type Query struct {
	Path  string
	Names []string
}

// places are what stands for the parts of paths in a store that the demo filled. Paths with others are left out: they show one
// thing, which is found by its key.
var places = map[string]string{
	"/applications/{slug}": "berth-7", "/providers/{slug}": "port-7", "/groups/{slug}": "watch-7", "/reports/{side}": "",
	"/people/{id}": fmt.Sprintf("01F%023d", 7), "/applications/{slug}/assignments": "berth-7", "/applications/{slug}/who": "crew-rota",
	"/applications/{slug}/documents": "berth-7", "/applications/{slug}/exchange": "berth-7", "/applications/{slug}/handovers": "berth-7",
	"/applications/{slug}/reach": "berth-7", "/applications/{slug}/secrets": "berth-5", "/providers/{slug}/uses": "saltmere-staff",
	"/providers/{slug}/documents": "port-7", "/providers/{slug}/exchange": "port-7", "/providers/{slug}/reach": "port-7",
	"/sources/{slug}/entities": "harbours", "/moves/{slug}": "",
}

// values are what each narrowing is tried with; a list may have its own below its path. Those that narrow much stand beside
// those that hardly do.
var values = map[string][]string{
	"search": {"a", "berth", "berth 77", "mira v", "zzz"}, "reach": {"everyone", "off"}, "kind": {"saml", "openid"},
	"provider": {"saltmere-staff", "port-7"}, "application": {"berth-7", "crew-rota"}, "person": {fmt.Sprintf("01F%023d", 7)},
	"ended": {"yes"}, "type": {"guest", "staff"}, "group": {"crew", "watch-7"}, "active": {"no", "yes"},
	"outcome": {"refused", "signed-in"}, "flow": {"sp", "idp"}, "code": {"saml.expired", "no.such"}, "rehearsal": {"yes", "no"},
	"from": {day(-40)}, "until": {day(-40)}, "owner": {"team-7"}, "tag": {"none"}, "expires": {"30"}, "unused": {"30"}, "findings": {"1"},
	"object": {fmt.Sprintf("01A%023d", 7)}, "role": {"idp"}, "state": {"open"}, "severity": {"broken", "attention"}, "accepted": {"no"},
	"slug": {"berth-7"}, "q": {"berth 77", "mira", "a"}, "days": {"1", "90", "366"},
	"/history kind": {"application", "setting"}, "/findings kind": {"application"}, "/findings slug": {"berth-7"},
	"/proposals kind": {"application"}, "/findings code": {"metadata.unwatched"}, "/journal search": {"changed", "berth 77", "zzz"},
	"/history search": {"change 777", "fenna", "zzz"}, "/traces search": {"mira", "mira v", "saml.expired", "_demo00000001", "zzz"},
	"/sessions search": {"mira", "192.0.2.7", "zzz"}, "/people search": {"a", "mira", "mira v", "u777", "zzz"},
	"/certificates search": {"ab", "saltmere"},
}

// sorts are the columns of each list that can be sorted.
var sorts = map[string][]string{
	"/applications": {"name", "created", "reach", "kind"}, "/providers": {"name", "created", "reach", "kind"},
	"/people": {"name", "created", "type"}, "/groups": {"name", "created"},
	"/reports": {"name", "kind", "owner", "reach", "expires", "last", "people", "findings", "providers", "signins"},
}

// single are those that are asked with one narrowing at a time: each call of theirs reads much.
var single = []string{"/reports/{side}", "/reports/{side}/csv", "/find", "/statistics"}

// unread are those that are no page: they write files out, or walk everything on purpose.
var unread = []string{"/config", "/journal/export", "/journal/verify", "/people-export/{form}", "/history/revision",
	"/rehearsals/{id}/events", "/events", "/openapi.json"}

func day(ahead int) string { return time.Now().UTC().AddDate(0, 0, ahead).Format(time.RFC3339) }

// Pages are the addresses of every list with each of its narrowings alone, two of them together, and in each order; of what
// is not a list, the address alone. What a list takes and nothing is said of here is an error: a new narrowing comes with a
// value.
func Pages(list []Query) ([]string, error) {
	var out []string
	for _, q := range list {
		paths, ok := pathsOf(q.Path)
		if !ok {
			continue
		}
		narrowings, err := narrowings(q)
		if err != nil {
			return nil, err
		}
		for _, path := range paths {
			for _, n := range narrowings {
				out = append(out, strings.TrimSuffix(path+"?"+n, "?"))
			}
		}
	}
	return out, nil
}

func pathsOf(path string) ([]string, bool) {
	if slices.Contains(unread, path) {
		return nil, false
	}
	if strings.HasPrefix(path, "/reports/") {
		return []string{strings.Replace(path, "{side}", "application", 1), strings.Replace(path, "{side}", "provider", 1)}, true
	}
	if at := strings.Index(path, "{"); at >= 0 {
		part := places[path]
		if part == "" {
			return nil, false
		}
		end := strings.Index(path, "}")
		return []string{path[:at] + part + path[end+1:]}, true
	}
	return []string{path}, true
}

func narrowings(q Query) ([]string, error) {
	var each [][]string
	for _, name := range q.Names {
		if slices.Contains([]string{"after", "sort", "limit", "form", "sealed", "signed", "purpose", "for", "at", "number", "against",
			"entityId", "with", "message", "commonName"}, name) {
			continue
		}
		of, ok := values[q.Path+" "+name]
		if !ok {
			of, ok = values[name]
		}
		if !ok {
			return nil, fmt.Errorf("nothing is said of how %s is narrowed by %s", q.Path, name)
		}
		var one []string
		for _, v := range of {
			one = append(one, name+"="+url.QueryEscape(v))
		}
		each = append(each, one)
	}
	out := []string{""}
	for i, one := range each {
		out = append(out, one...)
		if slices.Contains(single, q.Path) {
			continue
		}
		for _, other := range each[i+1:] {
			for _, a := range one {
				for _, b := range other {
					out = append(out, a+"&"+b)
				}
			}
		}
	}
	return append(out, sorted(q, out)...), nil
}

// sorted is each narrowing alone in each order.
func sorted(q Query, narrowed []string) []string {
	var out []string
	list := strings.TrimSuffix(strings.TrimSuffix(q.Path, "/csv"), "/{side}")
	for _, column := range sorts[list] {
		for _, order := range []string{"", "-"} {
			for _, n := range narrowed {
				if !strings.Contains(n, "&") && (n == "" || !slices.Contains(single, q.Path)) {
					out = append(out, strings.TrimPrefix(n+"&sort="+order+column, "&"))
				}
			}
		}
	}
	return out
}
