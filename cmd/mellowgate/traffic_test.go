package main

import (
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mellowgate/internal/wire/capture"
	"mellowgate/internal/wire/radius"
	"mellowgate/internal/wire/tacacs"
)

// opened is what the shared key opens in a capture.
type opened struct {
	key     string
	streams map[bool]string
	clear   []string
}

func (o *opened) Datagram(_ time.Time, _, _ netip.AddrPort, b []byte, _ bool) {
	p, err := radius.Decode(b)
	if err != nil {
		return
	}
	if hidden, ok := p.Get(radius.UserPassword); ok {
		password, _ := radius.RevealPassword(hidden, p.Authenticator, []byte(o.key))
		o.clear = append(o.clear, "radius "+password)
	}
}

func (o *opened) Data(_ time.Time, _ *capture.Conn, fromClient bool, b []byte, _ bool) {
	o.streams[fromClient] += string(b)
	for {
		h, body, err := tacacs.DecodePacket([]byte(o.streams[fromClient]), []byte(o.key))
		if err != nil {
			return
		}
		o.streams[fromClient] = o.streams[fromClient][12+len(body):]
		if fromClient && h.Type == tacacs.Authentication {
			o.clear = append(o.clear, "tacacs "+string(body))
		}
	}
}

func (o *opened) Ended(time.Time, *capture.Conn, capture.Ending) { clear(o.streams) }
func (o *opened) Unreachable(time.Time, netip.Addr, netip.AddrPort, netip.AddrPort, bool, capture.Refusal) {
}
func (o *opened) Neighbour(time.Time, netip.Addr, netip.Addr, bool) {}

func TestKeptPacketsHoldNoPasswordThatTheKeyOpensUnlessAsked(t *testing.T) {
	t.Parallel()
	for with, has := range map[string]string{"traffic: 1MiB": "*****",
		"traffic: 1MiB, traffic-credentials: true": "right"} {
		t.Run(has, func(t *testing.T) {
			c, b, change := served(t)
			b.end(t)
			change("site: Served\n", "site: Served\nservice: {"+with+"}\n")
			change("run: true}]", here(t, "run: true}, {name: r, protocol: radius, address: 127.93.0.1, ports: "+
				"{authentication: 4950, accounting: 4951}, key: k, run: true}]"))
			b = c.start(t, "serve")
			require.NoError(t, os.WriteFile(filepath.Join(c.dir, "wrong"), []byte("left!\n"), 0o600))
			for _, args := range []string{"t right", "t wrong", "r right", "r wrong", "r right -form chap",
				"t right -form pap"} {
				parts := strings.Fields(args)
				c.run(t, append([]string{"ask", "-server", parts[0], "-as", "sw", "-person", "ines", "-password-file",
					parts[1]}, parts[2:]...)...)
			}
			b.end(t)
			file, err := os.Open(filepath.Join(c.dir, "mellowgate-state", "traffic.pcapng"))
			require.NoError(t, err)
			defer func() { _ = file.Close() }()
			source, err := capture.Open(file)
			require.NoError(t, err)
			o := &opened{key: "a-key-of-this-test-only", streams: map[bool]string{}}
			_, err = capture.Read(source, o)
			require.NoError(t, err)
			text := strings.Join(o.clear, "\n")
			for _, protocol := range []string{"radius", "tacacs"} {
				require.GreaterOrEqual(t, strings.Count(text, protocol), 2, text)
			}
			require.Equal(t, has == "right", strings.Contains(text, "right"), text)
			require.Equal(t, has == "right", strings.Contains(text, "left!"), text)
			require.Equal(t, has == "*****", strings.Contains(text, "*****"), text)
			r := c.run(t, "why", "-capture", "mellowgate-state/traffic.pcapng", "-all")
			require.Contains(t, r.out, "password-form: sw", "and what went wrong is still seen: %s", r.err)
			require.NotContains(t, r.out, "key-differs")
		})
	}
}
