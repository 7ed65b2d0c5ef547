package phrase

import (
	"slices"
)

// Arrange puts the steps in an order in which safe holds of the device's text after each: the
// first step that is safe comes next. Steps that are only safe together become one. It returns
// how many steps it could not make safe in any order: they are marked, and stand where they
// stood.
func (p *Plan) Arrange(safe func(text string) bool) (unsafe int) {
	left, done := p.Steps, []Step(nil)
	holds := func(steps ...Step) bool {
		p.Steps = append(slices.Clone(done), steps...)
		text, err := p.After(len(p.Steps))
		return err == nil && safe(text)
	}
	for len(left) > 0 {
		index, with := p.next(left, holds)
		step := left[index]
		switch {
		case with < 0 && !holds(step):
			step.Unsafe = true
			unsafe++
		case with >= 0:
			other := left[with]
			step.Lines = merged(append(slices.Clone(step.Lines), other.Lines...))
			step.Undo = merged(append(slices.Clone(other.Undo), step.Undo...))
			if step.Stuck == "" {
				step.Stuck = other.Stuck
			}
		}
		done = append(done, step)
		var rest []Step
		for i, s := range left {
			if i != index && i != with {
				rest = append(rest, s)
			}
		}
		left = rest
	}
	p.Steps = done
	return unsafe
}

// next chooses the step that comes next, and where it is only safe with another, that one; -1
// for none.
func (p *Plan) next(left []Step, holds func(...Step) bool) (index, with int) {
	first := func(i, without int) bool { // no step of its chain comes before it
		for j := range i {
			if j != without && left[i].chain != "" && left[j].chain == left[i].chain {
				return false
			}
		}
		return true
	}
	for i := range left {
		if first(i, -1) && holds(left[i]) {
			return i, -1
		}
	}
	for i := range left {
		for j := range left {
			if i != j && first(i, -1) && first(j, i) && holds(left[i], left[j]) {
				return i, j
			}
		}
	}
	return 0, -1
}
