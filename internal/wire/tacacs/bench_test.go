package tacacs

import "testing"

// The codec by itself: a request decoded, and its answer made.
func BenchmarkDecodeAndAnswer(b *testing.B) {
	key := []byte("a-key-for-this-benchmark")
	start := AuthenStart{Action: ActionLogin, Type: PAP, Service: ServiceLogin, User: "ines.marsh", Port: "ssh0",
		Data: "a password"}
	request := AppendPacket(nil, Header{Version: 0xc1, Type: Authentication, Sequence: 1, SessionID: 7},
		start.Append(nil),
		key)
	b.ReportAllocs()
	for b.Loop() {
		h, body, err := DecodePacket(request, key)
		if err != nil {
			b.Fatal(err)
		}
		if _, err := DecodeAuthenStart(body); err != nil {
			b.Fatal(err)
		}
		h.Sequence++
		AppendPacket(nil, h, AuthenReply{Status: AuthenPass}.Append(nil), key)
	}
}
