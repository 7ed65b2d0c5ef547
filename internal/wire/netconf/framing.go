// Package netconf frames and reads the messages of NETCONF: RFC 6242 for the
// framing over SSH, RFC 6241 for the messages. It knows nothing of what is
// configured.
package netconf

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strconv"
)

// MaxMessage bounds one message, in octets.
const MaxMessage = 4 << 20

// Errors of reading a message.
var (
	ErrTooLong = errors.New("a NETCONF message longer than 4 MiB")
	ErrFraming = errors.New("this is not framed as RFC 6242, section 4 has it")
)

// Conn is a stream of messages. It begins with the framing of base 1.0, an end
// mark after each (RFC 6242, section 4.3); Chunked goes on with that of base
// 1.1 (section 4.2).
type Conn struct {
	in      *bufio.Reader
	out     io.Writer
	chunked bool
}

// NewConn frames messages on a stream.
func NewConn(rw io.ReadWriter) *Conn {
	return &Conn{in: bufio.NewReaderSize(rw, 1<<15), out: rw}
}

// Chunked goes on in chunks, once both sides have said base:1.1.
func (c *Conn) Chunked() { c.chunked = true }

var endMark = []byte("]]>]]>")

// Read returns the next message. At the end of the stream the error is io.EOF, in
// the middle of a message io.ErrUnexpectedEOF.
func (c *Conn) Read() ([]byte, error) {
	if c.chunked {
		return c.readChunks()
	}
	var message []byte
	for {
		part, err := c.in.ReadSlice('>')
		message = append(message, part...)
		switch {
		case bytes.HasSuffix(message, endMark):
			return bytes.TrimSpace(message[:len(message)-len(endMark)]), nil
		case len(message) > MaxMessage:
			return nil, ErrTooLong
		case errors.Is(err, bufio.ErrBufferFull):
		case errors.Is(err, io.EOF) && len(bytes.TrimSpace(message)) > 0:
			return nil, io.ErrUnexpectedEOF
		case err != nil:
			return nil, err
		}
	}
}

// readChunks reads LF # LENGTH LF octets ... LF ## LF.
func (c *Conn) readChunks() ([]byte, error) {
	var message []byte
	for {
		size, err := c.chunkSize(len(message) > 0)
		if err != nil {
			return nil, err
		}
		if size == 0 {
			return message, nil
		}
		if len(message)+size > MaxMessage {
			return nil, ErrTooLong
		}
		index := len(message)
		message = append(message, make([]byte, size)...)
		if _, err := io.ReadFull(c.in, message[index:]); err != nil {
			return nil, io.ErrUnexpectedEOF
		}
	}
}

// chunkSize reads the head of a chunk: its size, 0 for the end of the message.
func (c *Conn) chunkSize(begun bool) (int, error) {
	var head [2]byte
	if _, err := io.ReadFull(c.in, head[:]); err != nil {
		if errors.Is(err, io.EOF) && !begun {
			return 0, io.EOF
		}
		return 0, io.ErrUnexpectedEOF
	}
	if head != [2]byte{'\n', '#'} {
		return 0, ErrFraming
	}
	var digits []byte
	for {
		b, err := c.in.ReadByte()
		if err != nil {
			return 0, io.ErrUnexpectedEOF
		}
		if b == '\n' {
			break
		}
		if digits = append(digits, b); len(digits) > 10 {
			return 0, ErrFraming
		}
	}
	if string(digits) == "#" {
		if !begun {
			return 0, ErrFraming
		}
		return 0, nil
	}
	size, err := strconv.ParseUint(string(digits), 10, 32)
	if err != nil || size == 0 || digits[0] == '0' || digits[0] == '+' {
		return 0, ErrFraming
	}
	if size > MaxMessage {
		return 0, ErrTooLong
	}
	return int(size), nil
}

// Write sends one message.
func (c *Conn) Write(message []byte) error {
	var b []byte
	if c.chunked {
		b = fmt.Appendf(nil, "\n#%d\n", len(message))
		b = append(append(b, message...), "\n##\n"...)
	} else {
		b = append(append(b, message...), endMark...)
	}
	_, err := c.out.Write(b)
	return err
}
