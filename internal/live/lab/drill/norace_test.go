//go:build !race

package drill

const underRace = false
