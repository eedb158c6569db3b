package explain

import (
	"maps"
	"slices"
)

// GermanOf lists the texts that are there in German.
func GermanOf() []string { return slices.Collect(maps.Keys(german)) }
