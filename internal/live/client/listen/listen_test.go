//go:build linux

package listen

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestAnInterfaceThatIsNotHereIsNamed(t *testing.T) {
	t.Parallel()
	_, _, err := Interface(context.Background(), "no-such-card")
	require.ErrorContains(t, err, "no-such-card")
}
