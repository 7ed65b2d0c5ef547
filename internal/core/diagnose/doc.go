// Package diagnose goes from evidence to causes: to the names of what went wrong
// at a login, each with what speaks for it and against it, and the repair.
//
// Evidence is read into signs (read_*.go, reasons.go), each with its source and
// time. A story has points: things that went wrong, found in what the device walked
// (device.go, resting.go) or, where it noted nothing, by others (others.go). For each point the causes of
// the catalogue are weighed by the signs. To add a cause: an entry in
// catalogue.go. To add a kind of evidence: a reader that gives signs. Where the
// evidence comes from is left to those who gather it.
package diagnose
