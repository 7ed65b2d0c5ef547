package phrase

import (
	"slices"

	"mellowgate/internal/core/phrase/arrange"
)

// Arrange puts the steps in an order in which safe holds of the device's text after each, as [arrange.Order] does.
// It returns how many steps it could not make safe in any order: they are marked.
func (p *Plan) Arrange(safe func(text string) bool) (unsafe int) {
	order := arrange.Order(p.Steps, arrange.Rules[Step]{
		Chained: func(earlier, later Step) bool { return earlier.chain != "" && earlier.chain == later.chain },
		Join:    joined,
		Safe: func(steps []Step) bool {
			text, err := p.after(steps)
			return err == nil && safe(text)
		},
	})
	p.Steps = nil
	for _, placed := range order {
		if !placed.Safe {
			placed.Step.Unsafe = true
			unsafe++
		}
		p.Steps = append(p.Steps, placed.Step)
	}
	return unsafe
}

// joined returns two steps as one: the lines of both, and what takes them back in turn.
func joined(first, second Step) Step {
	first.Lines = merged(append(slices.Clone(first.Lines), second.Lines...))
	first.Undo = merged(append(slices.Clone(second.Undo), first.Undo...))
	if first.Stuck == "" {
		first.Stuck = second.Stuck
	}
	return first
}
