package main

import (
	"bufio"
	"crypto/hmac"
	"crypto/md5"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"os"
	"os/signal"
	"path/filepath"
	"sync"
)

// servePlain is the plainest program that answers the client: it lets everybody in, and
// writes a record to a file that it syncs before it answers.
func servePlain(dir string) error {
	if err := plainUDP(radiusPort, plainLogin); err != nil {
		return err
	}
	file, err := os.OpenFile(filepath.Join(dir, "plain.records"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	records := &together{file: file}
	if err := plainUDP(recordPort, func(packet []byte) []byte {
		if records.keep(packet) != nil {
			return nil
		}
		return response(5, packet, nil)
	}); err != nil {
		return err
	}
	l, err := net.Listen("tcp", net.JoinHostPort(serverAt, fmt.Sprint(tacacsPort)))
	if err != nil {
		return err
	}
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go plainTCP(conn)
		}
	}()
	fmt.Fprintln(os.Stderr, "ready")
	stop := make(chan os.Signal, 1)
	signal.Notify(stop, os.Interrupt)
	<-stop
	return nil
}

// plainUDP answers one port, one packet after another; of records many are answered at
// once, for they wait for the disk.
func plainUDP(port int, answer func([]byte) []byte) error {
	conn, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.ParseIP(serverAt), Port: port})
	if err != nil {
		return err
	}
	go func() {
		b := make([]byte, 4096)
		for {
			n, to, err := conn.ReadFromUDPAddrPort(b)
			if err != nil {
				return
			}
			if port == radiusPort {
				_, _ = conn.WriteToUDPAddrPort(answer(b[:n]), to)
				continue
			}
			packet := append([]byte(nil), b[:n]...)
			go func() {
				if reply := answer(packet); reply != nil {
					_, _ = conn.WriteToUDPAddrPort(reply, to)
				}
			}()
		}
	}()
	return nil
}

// response makes an answer with its authenticator, RFC 2865 section 3.
func response(code byte, request, attributes []byte) []byte {
	b := make([]byte, 20, 64)
	b[0], b[1] = code, request[1]
	copy(b[4:], request[4:20])
	b = append(b, attributes...)
	binary.BigEndian.PutUint16(b[2:], uint16(len(b)))
	sum := md5.Sum(append(b[:len(b):len(b)], sharedKey...))
	copy(b[4:], sum[:])
	return b
}

// plainLogin accepts, with a Service-Type and a Message-Authenticator.
func plainLogin(request []byte) []byte {
	b := attribute(nil, 6, []byte{0, 0, 0, 6})
	b = attribute(b, 80, make([]byte, 16))
	whole := make([]byte, 20, 64)
	whole[0], whole[1] = 2, request[1]
	copy(whole[4:], request[4:20])
	whole = append(whole, b...)
	binary.BigEndian.PutUint16(whole[2:], uint16(len(whole)))
	mac := hmac.New(md5.New, []byte(sharedKey))
	mac.Write(whole)
	copy(b[len(b)-16:], mac.Sum(nil))
	return response(2, request, b)
}

// together writes what waits at the same time in one go.
type together struct {
	file    *os.File
	mu      sync.Mutex
	waiting []byte
	group   *group
}

// group is what is written in one go.
type group struct {
	once sync.Once
	err  error
}

var disk sync.Mutex

func (t *together) keep(b []byte) error {
	t.mu.Lock()
	if t.group == nil {
		t.group = &group{}
	}
	mine := t.group
	t.waiting = append(t.waiting, b...)
	t.mu.Unlock()
	mine.once.Do(func() {
		disk.Lock()
		defer disk.Unlock()
		t.mu.Lock()
		some := t.waiting
		t.waiting, t.group = nil, nil
		t.mu.Unlock()
		if _, mine.err = t.file.Write(some); mine.err == nil {
			mine.err = t.file.Sync()
		}
	})
	return mine.err
}

func plainTCP(conn net.Conn) {
	defer func() { _ = conn.Close() }()
	in := bufio.NewReader(conn)
	for {
		var header [12]byte
		if _, err := io.ReadFull(in, header[:]); err != nil {
			return
		}
		body := make([]byte, min(binary.BigEndian.Uint32(header[8:]), 1<<16))
		if _, err := io.ReadFull(in, body); err != nil {
			return
		}
		obfuscate(header[:], body)
		reply := []byte{1, 0, 0, 0, 0, 0}
		header[2]++
		binary.BigEndian.PutUint32(header[8:], uint32(len(reply)))
		obfuscate(header[:], reply)
		if _, err := conn.Write(append(header[:], reply...)); err != nil || header[3]&4 == 0 {
			return
		}
	}
}
