package dialogue

import (
	"bytes"
	"strings"
)

// screen is what was written, as a terminal shows it: a carriage return and a backspace go back, what is
// written then stands in the place of what was there, and orders to the terminal (ECMA-48, section 5.4)
// leave no trace. It takes text piece by piece, wherever that is cut. The zero value is an empty screen.
type screen struct {
	shown  []byte
	line   int  // where the last line begins
	column int  // of the cursor, in bytes from there
	back   bool // the cursor went back in this line
	state  escape
	order  byte // the last byte of an order before the one that ends it
}

// escape is how far an order to the terminal has come.
type escape int

const (
	inText     escape = iota
	begun             // ESC
	inControl         // ESC [ ...
	inString          // ESC ] ..., up to BEL or ESC \
	stringEnds        // the ESC that may end it
)

const (
	bell      = 0x07
	backspace = 0x08
	esc       = 0x1b
)

func (s *screen) write(text []byte) {
	for _, b := range text {
		switch s.state {
		case begun:
			s.begin(b)
		case inControl:
			s.control(b)
		case inString:
			switch b {
			case bell:
				s.state = inText
			case esc:
				s.state = stringEnds
			}
		case stringEnds:
			if s.state = inString; b == '\\' {
				s.state = inText
			}
		default:
			s.put(b)
		}
	}
}

// begin takes the byte behind an ESC.
func (s *screen) begin(b byte) {
	switch {
	case b == '[':
		s.state, s.order = inControl, 0
	case b == ']':
		s.state = inString
	case b >= '@' && b <= '_' || b == '=' || b == '>':
		s.state = inText
	default: // no order that is known: what follows is text
		s.state = inText
		s.put(b)
	}
}

// control takes a byte of a control sequence. Of these only the one that erases in the line is obeyed.
func (s *screen) control(b byte) {
	if b < '@' || b > '~' {
		s.order = b
		return
	}
	s.state = inText
	if b != 'K' {
		return
	}
	before := s.shown[s.line:min(len(s.shown), s.line+s.column)]
	if s.order == '1' || s.order == '2' {
		for i := range before {
			before[i] = ' '
		}
	}
	if s.order != '1' {
		s.shown = s.shown[:s.line+len(before)]
	}
}

func (s *screen) put(b byte) {
	switch b {
	case 0, bell:
	case esc:
		s.state = begun
	case '\r':
		s.column, s.back = 0, true
	case backspace:
		s.column, s.back = max(0, s.column-1), true
	case '\n':
		s.endLine()
	default:
		if index := s.line + s.column; index < len(s.shown) {
			s.shown[index] = b
		} else {
			s.shown = append(s.shown, b)
		}
		s.column++
	}
}

// endLine ends the last line. Blanks that wipe what stood there before are no text.
func (s *screen) endLine() {
	if s.back {
		s.shown = append(s.shown[:s.line], bytes.TrimRight(s.shown[s.line:], " ")...)
	}
	s.shown = append(s.shown, '\n')
	s.line = len(s.shown)
	s.column = 0
	s.back = false
}

func (s *screen) dropLine() { s.shown, s.column = s.shown[:s.line], 0 }

func (s *screen) clear() { s.shown, s.line, s.column = nil, 0, 0 }

func (s *screen) size() int { return len(s.shown) }

// empty reports whether nothing is shown.
func (s *screen) empty() bool { return len(s.shown) == 0 }

// end returns the end of the last line, up to the cursor.
func (s *screen) end() string {
	line := s.shown[s.line:min(len(s.shown), s.line+s.column)]
	if len(line) > mostLine {
		line = line[len(line)-mostLine:]
	}
	return strings.ToValidUTF8(string(line), "\uFFFD")
}

func (s *screen) text() string {
	return strings.ToValidUTF8(string(s.shown[:s.line]), "\uFFFD") + s.end()
}
