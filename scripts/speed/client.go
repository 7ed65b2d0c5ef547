package main

import (
	"bufio"
	"crypto/hmac"
	"crypto/md5"
	"crypto/rand"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"sync"
	"sync/atomic"
	"time"
)

const (
	sockets   = 8
	perSocket = 8
	cycle     = 1 << 14 // packets of a socket, before the first comes again
)

// attribute appends an attribute, RFC 2865 section 5.
func attribute(b []byte, kind byte, value []byte) []byte {
	return append(append(b, kind, byte(len(value)+2)), value...)
}

// makeLogins makes Access-Requests that differ in identifier and authenticator.
func makeLogins() [][]byte {
	all := make([][]byte, sockets*cycle)
	for i := range all {
		b := make([]byte, 20, 128)
		b[0], b[1] = 1, byte(i)
		_, _ = rand.Read(b[4:20])
		b = attribute(b, 1, []byte(person))
		var hidden [16]byte
		copy(hidden[:], password)
		pad := md5.Sum(append([]byte(sharedKey), b[4:20]...)) // section 5.2
		for j := range hidden {
			hidden[j] ^= pad[j]
		}
		b = attribute(b, 2, hidden[:])
		b = attribute(b, 87, []byte("ssh0"))
		at := len(b) + 2
		b = attribute(b, 80, make([]byte, 16)) // RFC 2869, section 5.14
		binary.BigEndian.PutUint16(b[2:], uint16(len(b)))
		mac := hmac.New(md5.New, []byte(sharedKey))
		mac.Write(b)
		copy(b[at:], mac.Sum(nil))
		all[i] = b
	}
	return all
}

// makeRecords makes Accounting-Requests that differ in their session, RFC 2866.
func makeRecords() [][]byte {
	all := make([][]byte, sockets*cycle)
	for i := range all {
		b := make([]byte, 20, 128)
		b[0], b[1] = 4, byte(i)
		b = attribute(b, 40, []byte{0, 0, 0, 1})
		b = attribute(b, 1, []byte(person))
		b = attribute(b, 44, fmt.Appendf(nil, "session-%08d", i))
		b = attribute(b, 87, []byte("ssh0"))
		binary.BigEndian.PutUint16(b[2:], uint16(len(b)))
		sum := md5.Sum(append(b[:len(b):len(b)], sharedKey...)) // section 3
		copy(b[4:], sum[:])
		all[i] = b
	}
	return all
}

// dialUDP makes a socket to a port of the server.
func dialUDP(port int) (*net.UDPConn, error) {
	return net.DialUDP("udp", &net.UDPAddr{IP: net.ParseIP(clientAt)},
		&net.UDPAddr{IP: net.ParseIP(serverAt), Port: port})
}

// askUDP asks from several sockets, some on their way on each, and counts the answers,
// which must be of a code.
func askUDP(port int, all [][]byte, code byte, d time.Duration) (int, error) {
	var answered atomic.Int64
	failed := make(chan error, sockets)
	end := time.Now().Add(d)
	for i := range sockets {
		go func() { failed <- askSocket(port, all[i*cycle:(i+1)*cycle], code, end, &answered) }()
	}
	var err error
	for range sockets {
		if e := <-failed; e != nil {
			err = e
		}
	}
	return int(answered.Load()), err
}

func askSocket(port int, all [][]byte, code byte, end time.Time, answered *atomic.Int64) error {
	conn, err := dialUDP(port)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close() }()
	answer := make([]byte, 4096)
	_ = conn.SetReadDeadline(end.Add(5 * time.Second))
	for sent, got := 0, 0; time.Now().Before(end) || got < sent; {
		for sent-got < perSocket && time.Now().Before(end) {
			if _, err := conn.Write(all[sent%len(all)]); err != nil {
				return err
			}
			sent++
		}
		n, err := conn.Read(answer)
		if err != nil {
			return fmt.Errorf("%d of %d answers: %w", got, sent, err)
		}
		if n < 20 || answer[0] != code {
			return fmt.Errorf("the answer has the code %d, not %d", answer[0], code)
		}
		got++
		answered.Add(1)
	}
	return nil
}

// askSteadily asks so many a second, whatever comes back, and returns how long each
// answer took from when its question was due.
func askSteadily(all [][]byte, rate float64, d time.Duration) ([]time.Duration, error) {
	var mu sync.Mutex
	var times []time.Duration
	failed := make(chan error, sockets)
	for i := range sockets {
		go func() {
			some, err := steady(all[i*cycle:(i+1)*cycle], rate/sockets, d)
			mu.Lock()
			times = append(times, some...)
			mu.Unlock()
			failed <- err
		}()
	}
	var err error
	for range sockets {
		if e := <-failed; e != nil {
			err = e
		}
	}
	return times, err
}

func steady(all [][]byte, rate float64, d time.Duration) ([]time.Duration, error) {
	conn, err := dialUDP(radiusPort)
	if err != nil {
		return nil, err
	}
	defer func() { _ = conn.Close() }()
	var due [256]atomic.Int64 // by identifier; 0: it was answered
	var times []time.Duration
	began := time.Now()
	ended := make(chan error, 1)
	total := int(rate * d.Seconds())
	_ = conn.SetReadDeadline(began.Add(d + 2*time.Second))
	go func() {
		answer := make([]byte, 4096)
		for range total {
			if _, err := conn.Read(answer); err != nil {
				// After a pause of the machine what is due comes at once, and more than a socket
				// holds is lost, on either side: some, and no more.
				if lost := total - len(times); lost*20 > total {
					ended <- fmt.Errorf("%d of %d answers: %w", len(times), total, err)
					return
				}
				break
			}
			times = append(times, time.Since(began)-time.Duration(due[answer[1]].Load()))
		}
		ended <- nil
	}()
	for i := range total {
		at := time.Duration(float64(i) / rate * float64(time.Second))
		if wait := at - time.Since(began); wait > 0 {
			time.Sleep(wait)
		}
		packet := all[i%len(all)]
		due[packet[1]].Store(int64(at))
		if _, err := conn.Write(packet); err != nil {
			return nil, err
		}
	}
	return times, <-ended
}

// obfuscate hides or opens the body of a packet, RFC 8907 section 4.5.
func obfuscate(header, body []byte) {
	seed := append(append(append(append([]byte{}, header[4:8]...), sharedKey...), header[0]), header[2])
	var pad []byte
	for i := range body {
		if i%16 == 0 {
			sum := md5.Sum(append(seed[:len(seed):len(seed)], pad...))
			pad = sum[:]
		}
		body[i] ^= pad[i%16]
	}
}

// makeStart makes the packet of a PAP login, RFC 8907 section 5.1.
func makeStart(session uint32, flags byte) []byte {
	body := []byte{1, 1, 2, 1, byte(len(person)), 4, 0, byte(len(password))}
	body = append(append(append(body, person...), "ssh0"...), password...)
	packet := []byte{0xc1, 1, 1, flags}
	packet = binary.BigEndian.AppendUint32(packet, session)
	packet = binary.BigEndian.AppendUint32(packet, uint32(len(body)))
	obfuscate(packet, body)
	return append(packet, body...)
}

// readReply reads an answer and reports whether it lets in.
func readReply(in io.Reader) error {
	var header [12]byte
	if _, err := io.ReadFull(in, header[:]); err != nil {
		return err
	}
	body := make([]byte, binary.BigEndian.Uint32(header[8:]))
	if _, err := io.ReadFull(in, body); err != nil {
		return err
	}
	if obfuscate(header[:], body); body[0] != 1 {
		return fmt.Errorf("the login was answered with the status %d", body[0])
	}
	return nil
}

func dialTCP() (net.Conn, error) {
	d := net.Dialer{LocalAddr: from(), Timeout: 5 * time.Second}
	return d.Dial("tcp", net.JoinHostPort(serverAt, fmt.Sprint(tacacsPort)))
}

// workers run until the time is over, and count.
func workers(n int, d time.Duration, work func(end time.Time, answered *atomic.Int64) error) (int, error) {
	var answered atomic.Int64
	failed := make(chan error, n)
	end := time.Now().Add(d)
	for range n {
		go func() { failed <- work(end, &answered) }()
	}
	var err error
	for range n {
		if e := <-failed; e != nil {
			err = e
		}
	}
	return int(answered.Load()), err
}

var session atomic.Uint32

// askKept asks on connections that are kept, several on their way on each.
func askKept(connections, each int, d time.Duration) (int, error) {
	return workers(connections, d, func(end time.Time, answered *atomic.Int64) error {
		conn, err := dialTCP()
		if err != nil {
			return err
		}
		defer func() { _ = conn.Close() }()
		_ = conn.SetDeadline(end.Add(5 * time.Second))
		in := bufio.NewReader(conn)
		ask := func() error {
			_, err := conn.Write(makeStart(session.Add(1), 4))
			return err
		}
		if err := ask(); err != nil { // the first one tells that the connection is to be kept
			return err
		}
		if err := readReply(in); err != nil {
			return err
		}
		for sent, got := 0, 0; time.Now().Before(end) || got < sent; {
			for sent-got < each && time.Now().Before(end) {
				if err := ask(); err != nil {
					return err
				}
				sent++
			}
			if err := readReply(in); err != nil {
				return err
			}
			got++
			answered.Add(1)
		}
		return nil
	})
}

// askEach makes a connection for each login.
func askEach(at int, d time.Duration) (int, error) {
	return workers(at, d, func(end time.Time, answered *atomic.Int64) error {
		for time.Now().Before(end) {
			conn, err := dialTCP()
			if err != nil {
				return err
			}
			_ = conn.SetDeadline(end.Add(5 * time.Second))
			if _, err = conn.Write(makeStart(session.Add(1), 0)); err == nil {
				err = readReply(conn)
			}
			_ = conn.(*net.TCPConn).SetLinger(0) // no port waits for its end: they would run out
			_ = conn.Close()
			if err != nil {
				return err
			}
			answered.Add(1)
		}
		return nil
	})
}
