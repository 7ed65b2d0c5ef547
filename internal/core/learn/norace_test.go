//go:build !race

package learn

const underRace = false
