package lab_test

import (
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// hangUp connects, sends something that is no whole login, and leaves.
func hangUp(t *testing.T, address, half string) {
	conn, err := net.DialTimeout("tcp", address, 5*time.Second)
	require.NoError(t, err)
	_ = conn.SetDeadline(time.Now().Add(2 * time.Second))
	_, _ = conn.Write([]byte(half))
	require.NoError(t, conn.Close())
}
