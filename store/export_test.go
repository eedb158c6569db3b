package store

// MovedAtOnce says how many traces one transaction moves, and returns what sets it back.
func MovedAtOnce(n int) func() {
	was := tracesMoved
	tracesMoved = n
	return func() { tracesMoved = was }
}
