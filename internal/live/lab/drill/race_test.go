//go:build race

package drill

// underRace tells that the race detector makes everything several times slower.
const underRace = true
