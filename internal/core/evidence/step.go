package evidence

import "mellowgate/internal/core/walk"

// StepOf returns a step of a walk as it is noted and printed.
func StepOf(s walk.Step) TraceStep {
	step := TraceStep{Purpose: s.Purpose.Question(), Method: s.Method.String(), Result: s.Result, Reason: s.Reason,
		By: s.By, Seconds: s.Took.Seconds()}
	if s.List != nil {
		step.List = s.List.Name
	}
	for _, r := range s.Rested {
		step.Rested = append(step.Rested, r.Name)
	}
	for _, t := range s.Tries {
		step.Tries = append(step.Tries, TraceTry{Server: t.Server.Name, Try: t.N, Result: t.Reply.Result,
			Reason: t.Reply.Reason, Message: t.Reply.Message, Seconds: t.Reply.Took.Seconds()})
	}
	return step
}
