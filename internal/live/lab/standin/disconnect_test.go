package standin

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/site"
	"mellowgate/internal/live/client/aaa"
	"mellowgate/internal/wire/radius"
)

// A stand-in ends sessions for its servers only, and says why it ends none.
func TestADisconnectRequestIsAnswered(t *testing.T) {
	t.Parallel()
	r := start(t)
	const key = "a-key-for-these-tests"
	server, other := netip.MustParseAddr("192.0.2.1"), netip.MustParseAddr("192.0.2.2")
	r.device.config.Targets = map[*site.Server]aaa.Target{
		{Ref: site.Ref{Name: "r"}, Protocol: site.RADIUS}: {Authentication: netip.AddrPortFrom(server, 1812),
			Key: site.NewSecret(key)},
		{Ref: site.Ref{Name: "t"}, Protocol: site.TACACS}: {Authentication: netip.AddrPortFrom(other, 49),
			Key: site.NewSecret(key)},
	}
	_, err := r.exec("keeper", "look session")
	require.NoError(t, err)
	now := time.Now()
	ask := func(from netip.Addr, key string, at time.Time, code radius.Code, attributes ...string) []any {
		p := &radius.Packet{Code: code, ID: 9}
		for _, a := range attributes {
			name, value, _ := strings.Cut(a, "=")
			p.AddText(map[string]radius.Type{"name": radius.UserName, "device": radius.NASIdentifier,
				"session": radius.AcctSessionID}[name], value)
		}
		if !at.IsZero() {
			p.AddInteger(radius.EventTimestamp, uint32(at.Unix()))
		}
		b, err := p.EncodeDisconnectRequest([]byte(key))
		require.NoError(t, err)
		answer := r.device.disconnect(b, from)
		if answer == nil {
			return nil
		}
		require.True(t, radius.CheckResponse(answer, p.Authenticator, []byte(key)))
		got, err := radius.Decode(answer)
		require.NoError(t, err)
		require.EqualValues(t, 9, got.ID)
		cause, _ := got.Integer(radius.ErrorCause)
		return []any{got.Code, cause}
	}
	const request = radius.DisconnectRequest
	for name, got := range map[string][]any{
		"of nobody it knows":       ask(netip.MustParseAddr("192.0.2.9"), key, now, request, "name=keeper"),
		"of a server of TACACS+":   ask(other, key, now, request, "name=keeper"),
		"with another key":         ask(server, "another", now, request, "name=keeper"),
		"of another kind":          ask(server, key, now, radius.AccountingRequest, "name=keeper"),
		"too old":                  ask(server, key, now.Add(-302*time.Second), request, "name=keeper"),
		"of a clock that is ahead": ask(server, key, now.Add(302*time.Second), request, "name=keeper"),
	} {
		require.Nil(t, got, name)
	}
	require.Nil(t, r.device.disconnect([]byte{40}, server))
	nak := func(cause uint32) []any { return []any{radius.DisconnectNAK, cause} }
	require.Equal(t, nak(402), ask(server, key, now, request, "device=sw"))
	require.Equal(t, nak(403), ask(server, key, now, request, "name=keeper", "device=another"))
	require.Equal(t, nak(503), ask(server, key, now, request, "name=guest", "device=sw"))
	require.Equal(t, nak(503), ask(server, key, now, request, "name=keeper", "session=another"))
	require.Len(t, r.device.Sessions(), 1)
	require.Equal(t, []any{radius.DisconnectACK, uint32(0)},
		ask(server, key, time.Time{}, request, "name=keeper", "device=sw"))
	_ = r.clients["keeper"].Wait()
	require.Eventually(t, func() bool { return len(r.device.Sessions()) == 0 }, 30*time.Second, time.Millisecond)
	log := ""
	for _, l := range r.device.Log() {
		log += l.Text + "\n"
	}
	require.Contains(t, log, "r ends the session of keeper on line ssh0 (Disconnect-Request)")
}

// Every way in ends when it is asked for: a page's session too.
func TestADisconnectRequestEndsEveryWayIn(t *testing.T) {
	t.Parallel()
	r := start(t)
	v := r.device.arrive(r.device.design().Way(site.Web), 0, netip.AddrPort{})
	ended := make(chan struct{})
	v.person = "ines"
	r.device.joined(v, func() { close(ended) })
	request := &radius.Packet{}
	request.AddText(radius.UserName, "ines")
	require.Zero(t, r.device.hangUp(request, &site.Server{Ref: site.Ref{Name: "r"}}))
	<-ended
	require.True(t, v.ended.Load())
}
