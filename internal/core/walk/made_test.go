package walk_test

import (
	"testing"

	"mellowgate/internal/randomsite/keep"
)

// What is foreseen of sites that are made at random, with all that they leave out, is what it was.
func TestTheForecastOfMadeSitesIsWhatItWas(t *testing.T) {
	t.Parallel()
	names, texts := keep.Forecast(t, 24)
	keep.Same(t, "made.txt", names, texts)
}
