package call

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestTimesInTablesSayTheirDateYearAndZoneWhereTheyAreOthers(t *testing.T) {
	t.Parallel()
	dublin, err := time.LoadLocation("Europe/Dublin")
	require.NoError(t, err)
	now := time.Date(2026, 11, 27, 15, 0, 0, 0, dublin)
	for want, at := range map[string]time.Time{"03:00:00": time.Date(2026, 11, 27, 3, 0, 0, 0, dublin),
		"11-26 23:59:59":          time.Date(2026, 11, 26, 23, 59, 59, 0, dublin),
		"07-01 03:00:00 IST":      time.Date(2026, 7, 1, 3, 0, 0, 0, dublin),
		"2025-11-27 03:00:00":     time.Date(2025, 11, 27, 3, 0, 0, 0, dublin),
		"2025-07-01 03:00:00 IST": time.Date(2025, 7, 1, 3, 0, 0, 0, dublin)} {
		require.Equal(t, want, shortAt(at, now))
	}
}
