package listen

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"syscall"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"

	"mellowgate/internal/routine"
	"mellowgate/internal/wire/capture"
)

// wire is a network interface as a source of packets.
type wire struct {
	*pcapgo.EthernetHandle
	ctx  context.Context
	loop bool   // a loopback interface shows each packet twice, going out and coming in
	last []byte // the packet before, where loop is set
}

func (*wire) LinkType() layers.LinkType { return layers.LinkTypeEthernet }

// ZeroCopyReadPacketData waits for the next packet. The end of the context is
// the end of the capture.
func (w *wire) ZeroCopyReadPacketData() ([]byte, gopacket.CaptureInfo, error) {
	for {
		data, ci, err := w.EthernetHandle.ZeroCopyReadPacketData()
		switch {
		case err != nil && w.ctx.Err() != nil:
			return nil, ci, io.EOF
		case err != nil || !w.loop:
			return data, ci, err
		case bytes.Equal(data, w.last):
			w.last = w.last[:0]
			continue
		}
		w.last = append(w.last[:0], data...)
		return data, ci, nil
	}
}

// Interface captures live on a network interface until the context ends.
func Interface(ctx context.Context, name string) (capture.Source, func(), error) {
	card, err := net.InterfaceByName(name)
	if err != nil {
		return nil, nil, fmt.Errorf("there is no network interface %s here", name)
	}
	handle, err := pcapgo.NewEthernetHandle(name)
	// the library does not wrap it
	if err != nil && (errors.Is(err, syscall.EPERM) || strings.Contains(err.Error(), syscall.EPERM.Error())) {
		return nil, nil, fmt.Errorf("capturing on %s needs a privilege: run as root, or give the program "+
			"CAP_NET_RAW; a state folder can be listened to without", name)
	}
	if err != nil {
		return nil, nil, fmt.Errorf("capturing on %s is not possible: %w", name, err)
	}
	stop := routine.OnDone(ctx, func() { _ = handle.Close() })
	return &wire{EthernetHandle: handle, ctx: ctx, loop: card.Flags&net.FlagLoopback != 0}, func() {
		if stop() {
			_ = handle.Close()
		}
	}, nil
}
