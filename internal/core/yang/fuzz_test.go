package yang_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/yang"
)

func FuzzRead(f *testing.F) {
	for _, device := range []string{"sw", "ap"} {
		for _, m := range yang.InOrder {
			data, _ := m.Of(plan(f, device), yang.Placeholders)
			for _, encode := range []func() ([]byte, error){data.JSON, data.XML} {
				text, err := encode()
				require.NoError(f, err)
				f.Add(text)
			}
		}
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		for _, m := range yang.InOrder {
			if read, err := m.Read(data); err == nil {
				_, err := read.JSON()
				require.NoError(t, err)
			}
		}
	})
}
