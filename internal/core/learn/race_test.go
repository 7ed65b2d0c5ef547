//go:build race

package learn

// underRace tells that the race detector makes everything several times slower.
const underRace = true
