// Package arrange puts the steps of a change in an order in which each is safe. It knows nothing of what a step
// is.
package arrange

import (
	"slices"
)

// Rules are what the order of steps hangs on.
type Rules[S any] struct {
	Chained func(earlier, later S) bool // whether the later one never comes before the earlier
	Join    func(first, second S) S     // both as one step
	Safe    func(steps []S) bool        // whether it is safe to stand where these steps, in their order, lead
}

// Placed is a step in its place.
type Placed[S any] struct {
	Step S
	Safe bool // whether it is safe to stand after it
}

// Order returns the steps in an order in which it is safe to stand after each: the first step that is safe comes
// next, and where there is none, the first two that are only safe together become one. What is safe in no order
// stands where it stood.
func Order[S any](steps []S, rules Rules[S]) (order []Placed[S]) {
	left, done := slices.Clone(steps), []S(nil)
	safe := func(next ...S) bool { return rules.Safe(append(slices.Clone(done), next...)) }
	for len(left) > 0 {
		index, with, found := rules.next(left, safe)
		placed := Placed[S]{Step: left[index], Safe: found}
		if with >= 0 {
			placed.Step = rules.Join(left[index], left[with])
		}
		order, done = append(order, placed), append(done, placed.Step)
		left = without(left, index, with)
	}
	return order
}

// next chooses the step that comes next, and where it is only safe with another, that one; -1 for none. It is
// false where nothing is safe: then the first that is left comes next.
func (r Rules[S]) next(left []S, safe func(...S) bool) (index, with int, found bool) {
	for i := range left {
		if r.first(left, i, -1) && safe(left[i]) {
			return i, -1, true
		}
	}
	for i := range left {
		for j := range left {
			if i != j && r.first(left, i, -1) && r.first(left, j, i) && safe(left[i], left[j]) {
				return i, j, true
			}
		}
	}
	return 0, -1, false
}

// first reports whether no step that must come before the one at index is left, but perhaps the one at except.
func (r Rules[S]) first(left []S, index, except int) bool {
	for i := range index {
		if i != except && r.Chained(left[i], left[index]) {
			return false
		}
	}
	return true
}

// without returns the steps but those at two places.
func without[S any](steps []S, one, other int) (rest []S) {
	for i, s := range steps {
		if i != one && i != other {
			rest = append(rest, s)
		}
	}
	return rest
}
