package exchange

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/site"
	"mellowgate/internal/wire/radius"
	"mellowgate/internal/wire/tacacs"
)

// Which key a packet was made with is told of that packet: what another packet of the
// same device was made with is only tried first.
func TestAKeyThatWasUsedIsTriedAgainForEachPacket(t *testing.T) {
	t.Parallel()
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(`
keys: {k: file k, old: file old}
servers:
  - {name: sanderling, protocol: radius, address: 192.0.2.23, key: k}
  - {name: other, protocol: radius, address: 192.0.2.24, key: old}
devices: [{name: sw-1, addresses: [192.0.2.101]}]
`)})
	require.NoError(t, err)
	d := Designed(s, site.Keys{"k": site.NewSecret(key), "old": site.NewSecret("the-old-key-of-the-site")})
	f := newFilm(t)
	f.access(1, "the-old-key-of-the-site")
	f.access(2, "a-key-that-nobody-thinks-of")
	f.access(3, "the-old-key-of-the-site")
	all := f.exchanges(d)
	require.Len(t, all, 3)
	used := map[bool]int{}
	for _, e := range all {
		require.Equal(t, KeyDiffers, e.Key)
		used[e.KeyUsed != ""]++
	}
	require.Equal(t, map[bool]int{true: 2, false: 1}, used)
	require.Contains(t, all[0].KeyUsed, "old")
}

// An answer comes from elsewhere only where it answers a question of just that client
// and number.
func TestAnAnswerFromElsewhereIsOneToAQuestionThatWasAsked(t *testing.T) {
	t.Parallel()
	from := netip.MustParseAddrPort("192.0.2.99:1812")
	for name, c := range map[string]struct {
		to        netip.AddrPort
		id        byte
		elsewhere bool
	}{
		"its own":              {device, 1, true},
		"another number":       {device, 2, false},
		"another client":       {netip.AddrPortFrom(netip.MustParseAddr("192.0.2.102"), device.Port()), 1, false},
		"another of its ports": {netip.AddrPortFrom(device.Addr(), device.Port()+1), 1, false},
	} {
		f := newFilm(t)
		p := f.access(1, key)
		a := &radius.Packet{Code: radius.AccessAccept, ID: c.id}
		b, err := a.EncodeResponse(p.Authenticator, []byte(key))
		require.NoError(t, err)
		f.UDP(f.tick(), from, c.to, b)
		elsewhere := false
		for _, e := range f.exchanges(directory(t)) {
			elsewhere = elsewhere || e.Has(evidence.MarkElsewhere)
		}
		require.Equal(t, c.elsewhere, elsewhere, name)
	}
}

func TestAQuestionThatIsSentAgainLaterIsWaitedForFromThen(t *testing.T) {
	t.Parallel()
	f := newFilm(t)
	f.access(1, key)
	f.now = f.now.Add(25 * time.Second)
	f.access(1, key)
	f.now = f.now.Add(25 * time.Second)
	f.answer(f.access(1, key), radius.AccessAccept, key)
	all := f.exchanges(directory(t))
	require.Len(t, all, 1)
	require.Equal(t, []any{evidence.Accepted, 2}, []any{all[0].Answer, all[0].Retransmissions})
}

// Where a run is, its places are the servers and devices of the site; what they name
// beside is passed over.
func TestADirectoryOfARunKnowsItsPlaces(t *testing.T) {
	t.Parallel()
	s, err := site.Parse(site.Source{Name: "site.yaml", Text: []byte(`
keys: {k: file k}
servers: [{name: sanderling, protocol: radius, address: 192.0.2.23, key: k}]
devices: [{name: sw-1, addresses: [192.0.2.101]}]
`)})
	require.NoError(t, err)
	d := InPlaces(s, site.Keys{"k": site.NewSecret(key)}, evidence.Places{
		Servers: []evidence.ServerPlace{{Name: "sanderling", Protocol: "radius", Address: "127.0.0.1",
			Authentication: 18120,
			Accounting:     18130}, {Name: "gone", Address: "127.0.0.2"}, {Name: "sanderling", Address: "nowhere"}},
		Devices: []evidence.DevicePlace{{Name: "sw-1", Source: "127.0.0.9"}, {Name: "gone", Source: "127.0.0.8"},
			{Name: "sw-1", Source: "nowhere"}}})
	f := newFilm(t)
	p := &radius.Packet{Code: radius.AccessRequest, ID: 1}
	p.AddText(radius.UserName, "ines.marsh")
	b, err := p.EncodeRequest([]byte(key))
	require.NoError(t, err)
	for _, from := range []string{"127.0.0.9:4000", "127.0.0.8:4000"} {
		f.UDP(f.tick(), netip.MustParseAddrPort(from), netip.MustParseAddrPort("127.0.0.1:18120"), b)
	}
	all := f.exchanges(d)
	require.Len(t, all, 2)
	require.Equal(t, []string{"sw-1", "sanderling"}, []string{all[0].Device, all[0].Server})
	require.Equal(t, []string{"", "sanderling"}, []string{all[1].Device, all[1].Server})
}

// After an answer, in the middle of the talk, the end of a connection tells who ended it.
func TestWhoEndsATalkAfterAnAnswerIsTold(t *testing.T) {
	t.Parallel()
	for _, byServer := range []bool{true, false} {
		e := one(t, directory(t), func(f *film) {
			f.talk(tacacs.Authentication, 0, key).say(
				tacacs.AuthenStart{Action: 1, Type: tacacs.ASCII, Service: 1, User: "ines.marsh", Port: "ssh0"}.Append(
					nil),
				tacacs.AuthenReply{Status: tacacs.AuthenGetPass, Message: "Password: "}.Append(nil)).
				tcp.Close(f.tick(), !byServer)
		})
		require.Equal(t, evidence.None, e.Answer)
		require.Equal(t, []bool{byServer, !byServer}, []bool{
			e.Has(evidence.MarkCutOff), e.Has(evidence.MarkEndedEarly)})
	}
}
