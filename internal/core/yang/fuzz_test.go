package yang_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/yang"
)

func FuzzRead(f *testing.F) {
	for _, device := range []string{"sw", "ap"} {
		system, _ := yang.SystemOf(plan(f, device), yang.Placeholders)
		open, _ := yang.OpenSystemOf(plan(f, device), yang.Placeholders)
		for _, encode := range []func() ([]byte, error){system.JSON, system.XML, open.JSON, open.XML} {
			data, err := encode()
			require.NoError(f, err)
			f.Add(data)
		}
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		if s, err := yang.ReadSystem(data); err == nil {
			_, err := s.JSON()
			require.NoError(t, err)
		}
		if s, err := yang.ReadOpenSystem(data); err == nil {
			_, err := s.JSON()
			require.NoError(t, err)
		}
	})
}
