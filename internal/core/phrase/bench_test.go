package phrase

import (
	"bytes"
	"os"
	"testing"
)

// BenchmarkRead reads a text of which most lines are none of ours, as saved texts are.
func BenchmarkRead(b *testing.B) {
	book := book(b, shipped+"phrasebooks/quay-switch.yaml")
	text, err := os.ReadFile(shipped + "saved/north-sw-1.txt")
	if err != nil {
		b.Fatal(err)
	}
	filler := bytes.Repeat(
		[]byte("berth 7\n carries 10 20 30\n note \"to the store\"\nwall 10 lets 192.0.2.0/24 to any\n"), 250)
	text = append(filler, text...)
	b.SetBytes(int64(len(text)))
	b.ReportAllocs()
	for b.Loop() {
		if _, err := book.Read(bytes.NewReader(text), nil); err != nil {
			b.Fatal(err)
		}
	}
}
