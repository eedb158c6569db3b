package oidc

import (
	"fmt"
	"slices"

	"innergate/core/explain"
	"innergate/core/jose"
	"innergate/core/trace"
)

var ruleMore = rule{"oidc.more", "The further address answers as it must", "our rule"}

// ReadMore reads what a further address says about a person: an object, or a list of them. Its members come under a
// name of their own, which keeps them apart from every other answer's. Of a list only those entries are kept in which
// all members of where are true.
func ReadMore(a Answer, as string, where []string, partner string, rec *trace.Recorder) (jose.Object, error) {
	c := checker{rec, partner}
	bad := func(why string) (jose.Object, error) {
		c.that(ruleMore, false, "status 200 with JSON", why)
		return nil, c.fail(explain.OIDCUserinfoFailed, explain.Fact("answer", why))
	}
	if a.Status != 200 {
		return bad(fmt.Sprintf("status %d", a.Status))
	}
	if len(a.Body) > MaxDocument {
		return bad(fmt.Sprintf("more than %d octets", MaxDocument))
	}
	if kind := Looks(a.Body); kind != "" {
		return bad(kind)
	}
	// A list is read as the one member of an object, by the same strict reader.
	o, err := jose.ReadObject(slices.Concat([]byte(`{"list":`), a.Body, []byte("}")))
	if err != nil {
		return bad(err.Error())
	}
	if len(o) != 1 {
		return bad("more than one value")
	}
	c.that(ruleMore, true, "", "")
	list, ok := o["list"].([]any)
	if !ok {
		if object, isObject := o["list"].(map[string]any); isObject {
			return jose.Object{as: object}, nil
		}
		return bad("neither an object nor a list")
	}
	kept := slices.DeleteFunc(list, func(entry any) bool {
		object, isObject := entry.(map[string]any)
		return len(where) > 0 && (!isObject || slices.ContainsFunc(where, func(name string) bool { return object[name] != true }))
	})
	return jose.Object{as: kept}, nil
}
