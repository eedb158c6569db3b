package oidc

import (
	"fmt"
	"maps"
	"slices"

	"innergate/core/claims"
	"innergate/core/jose"
)

// Claims is what a provider says about a person, gathered from one or several answers, with the answer that each name
// came from.
type Claims struct {
	Values claims.Bag
	// From tells for each name which answer it came from, such as "ID token".
	From map[string]string
}

const (
	maxClaimDepth = 6
	maxClaims     = 10000
)

// Add puts an object's members in. What an earlier answer said under the same name stays: the ID token is signed and
// comes first. Members of an inner object are named with a dot between, and those of a list of objects are gathered:
// emails.address holds the address of every entry.
func (c *Claims) Add(origin string, o jose.Object) error {
	if c.Values == nil {
		c.Values, c.From = claims.Bag{}, map[string]string{}
	}
	found, left := claims.Bag{}, maxClaims
	for _, name := range slices.Sorted(maps.Keys(o)) {
		if err := flatten(found, name, o[name], maxClaimDepth, &left); err != nil {
			return fmt.Errorf("the %s: %w", origin, err)
		}
	}
	for name, values := range found {
		if _, there := c.From[name]; !there {
			c.Values[name], c.From[name] = values, origin
		}
	}
	return nil
}

func flatten(to claims.Bag, name string, value any, depth int, left *int) error {
	if depth == 0 {
		return fmt.Errorf("%q is nested too deep", shown(name))
	}
	if *left--; *left < 0 {
		return fmt.Errorf("it holds more than %d values", maxClaims)
	}
	switch v := value.(type) {
	case nil:
	case []any:
		for _, one := range v {
			if err := flatten(to, name, one, depth-1, left); err != nil {
				return err
			}
		}
	case map[string]any:
		for _, inner := range slices.Sorted(maps.Keys(v)) {
			if err := flatten(to, name+"."+inner, v[inner], depth-1, left); err != nil {
				return err
			}
		}
	default: // a string, a number as it was written, true or false
		to[name] = append(to[name], fmt.Sprint(v))
	}
	return nil
}
