package aaa

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/core/site"
	"mellowgate/internal/wire/radius"
)

func TestWhatADeviceSaysToADisconnectRequest(t *testing.T) {
	t.Parallel()
	answer := func(p, request *radius.Packet, key string) []byte {
		p.ID += request.ID
		b, err := p.EncodeResponse(request.Authenticator, []byte(key))
		require.NoError(t, err)
		return b
	}
	nak := func(cause uint32) *radius.Packet {
		p := &radius.Packet{Code: radius.DisconnectNAK}
		if cause != 0 {
			p.AddInteger(radius.ErrorCause, cause)
		}
		return p
	}
	ack := func() *radius.Packet { return &radius.Packet{Code: radius.DisconnectACK} }
	for name, c := range map[string]struct {
		answers func(request *radius.Packet, n int) [][]byte
		want    string // "": the sessions have ended
		seen    int
	}{
		"ended": {func(r *radius.Packet, _ int) [][]byte { return [][]byte{answer(ack(), r, key)} }, "", 1},
		"ended at the second request, after what is no answer": {func(r *radius.Packet, n int) [][]byte {
			if n == 2 {
				return [][]byte{answer(ack(), r, key)}
			}
			other := &radius.Packet{Code: radius.AccessAccept}
			return [][]byte{answer(ack(), r, "another"), answer(other, r, key), answer(&radius.Packet{
				Code: radius.DisconnectACK, ID: 1}, r, key), {41}}
		}, "", 2},
		"none": {func(r *radius.Packet, _ int) [][]byte { return [][]byte{answer(nak(503), r, key)} },
			ErrNoSession.Error(), 1},
		"a cause": {func(r *radius.Packet, _ int) [][]byte { return [][]byte{answer(nak(508), r, key)} },
			"Multiple-Session-Selection-Unsupported", 1},
		"a cause without a name": {func(r *radius.Packet, _ int) [][]byte { return [][]byte{answer(nak(999), r, key)} },
			"999", 1},
		"no cause": {func(r *radius.Packet, _ int) [][]byte { return [][]byte{answer(nak(0), r, key)} }, "no cause", 1},
		"silent":   {func(*radius.Packet, int) [][]byte { return nil }, "no answer (UDP 127.0.0.1:", 2},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			at, seen := radiusServer(t, c.answers)
			wait := 5 * time.Second
			if c.want == "" && c.seen == 2 || name == "silent" {
				wait = 300 * time.Millisecond
			}
			now := time.Unix(1_800_000_000, 0)
			err := Disconnecting{Device: "sw", Person: "ines", To: at, Key: site.NewSecret(key),
				Server: target(site.RADIUS, at, wait).Server, Now: func() time.Time { return now }}.Send(
				context.Background())
			if c.want == "" {
				require.NoError(t, err)
			} else {
				require.ErrorContains(t, err, c.want)
			}
			require.Equal(t, name == "none", errors.Is(err, ErrNoSession))
			require.Len(t, seen, c.seen)
			b := <-seen
			require.True(t, radius.CheckDisconnectRequest(b, []byte(key)))
			p, err := radius.Decode(b)
			require.NoError(t, err)
			stamp, _ := p.Integer(radius.EventTimestamp)
			require.Equal(t, []any{"sw", "ines", uint32(1_800_000_000)},
				[]any{p.Text(radius.NASIdentifier), p.Text(radius.UserName), stamp})
			if c.seen == 2 {
				require.Equal(t, b, <-seen, "it is repeated to the octet")
			}
		})
	}
}

func TestADisconnectRequestEndsWithItsContext(t *testing.T) {
	t.Parallel()
	ctx, stop := context.WithCancel(context.Background())
	at, _ := radiusServer(t, func(*radius.Packet, int) [][]byte { stop(); return nil })
	err := Disconnecting{Device: "sw", Person: "ines", To: at, Key: site.NewSecret(key), Now: time.Now,
		Server: target(site.RADIUS, at, time.Hour).Server}.Send(ctx)
	require.ErrorIs(t, err, context.Canceled)
}
