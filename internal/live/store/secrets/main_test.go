package secrets

import (
	"os"
	"testing"
)

func TestMain(m *testing.M) {
	sealCost = 10
	os.Exit(m.Run())
}
