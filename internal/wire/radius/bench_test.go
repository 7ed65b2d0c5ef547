package radius

import "testing"

// The codec by itself: a request decoded and judged, and its answer made.
func BenchmarkDecodeAndAnswer(b *testing.B) {
	key := []byte("a-key-for-this-benchmark")
	p := &Packet{Code: AccessRequest, ID: 1, Authenticator: [16]byte{1}}
	p.AddText(UserName, "ines.marsh")
	hidden, err := HidePassword("a password", p.Authenticator, key)
	if err != nil {
		b.Fatal(err)
	}
	p.Add(UserPassword, hidden)
	request, err := p.EncodeRequest(key)
	if err != nil {
		b.Fatal(err)
	}
	b.ReportAllocs()
	for b.Loop() {
		q, err := Decode(request)
		if err != nil || CheckMessageAuthenticator(request, q.Authenticator, key) != Valid {
			b.Fatal(err)
		}
		answer := &Packet{Code: AccessAccept, ID: q.ID}
		answer.AddInteger(ManagementPrivilegeLevel, 15)
		if _, err := answer.EncodeResponse(q.Authenticator, key); err != nil {
			b.Fatal(err)
		}
	}
}
