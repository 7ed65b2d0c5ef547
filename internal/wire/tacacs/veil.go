package tacacs

// Veil turns the octets of one connection into those that may be kept: passwords are
// stars of their length, and what CHAP and MS-CHAPv2 answer is zeros (RFC 8907, section
// 5.4.2). It opens bodies with the keys, the first that fits; a body that none opens stays
// as it is, since it shows that the keys of two sides differ, and so do octets that are no
// TACACS+. It holds back a packet until it is whole. It is not safe for concurrent use.
type Veil struct {
	keys  [][]byte
	held  [2][]byte
	asked map[uint32]bool // sessions whose last answer wanted what nobody may see
	other [2]bool         // what came is no TACACS+: it is passed on
}

// NewVeil returns the veil of one connection.
func NewVeil(keys [][]byte) *Veil { return &Veil{keys: keys, asked: map[uint32]bool{}} }

// Pass takes octets in, and returns what is whole by now. The octets returned are its own.
func (v *Veil) Pass(fromClient bool, b []byte) []byte {
	side := 0
	if fromClient {
		side = 1
	}
	v.held[side] = append(v.held[side], b...)
	var whole []byte
	for {
		held := v.held[side]
		h := Header{}
		n := 0
		err := error(nil)
		if !v.other[side] && len(held) >= headerSize {
			h, n, err = decodeHeader(held)
			v.other[side] = err != nil
		}
		switch {
		case v.other[side]:
			v.held[side] = nil
			return append(whole, held...)
		case len(held) < headerSize+n || len(held) < headerSize:
			return whole
		}
		packet := append([]byte(nil), held[:headerSize+n]...)
		v.held[side] = held[headerSize+n:]
		if h.Type == Authentication {
			v.packet(h, packet[headerSize:])
		}
		whole = append(whole, packet...)
	}
}

// packet veils one body of an authentication, in place.
func (v *Veil) packet(h Header, body []byte) {
	if h.Flags&FlagUnencrypted != 0 {
		v.open(h, body)
		return
	}
	for _, key := range v.keys {
		Obfuscate(h, body, key)
		fits := v.open(h, body)
		Obfuscate(h, body, key)
		if fits {
			return
		}
	}
}

// open veils a body in clear. It reports whether the body is one.
func (v *Veil) open(h Header, body []byte) bool {
	switch {
	case h.Sequence == 1:
		start, err := DecodeAuthenStart(body)
		if err != nil {
			return false
		}
		v.forget()
		data := body[len(body)-len(start.Data):]
		switch start.Type {
		case CHAP:
			clear(data[max(0, len(data)-16):])
		case MSCHAPv2:
			clear(data[max(0, len(data)-49):]) // the response, as RFC 2759 section 4 has it
		default:
			stars(data)
		}
	case h.Sequence%2 == 1:
		said, err := DecodeAuthenContinue(body)
		if err != nil {
			return false
		}
		if hidden, known := v.asked[h.SessionID]; hidden || !known {
			index := len(body) - len(said.Data) - len(said.Message)
			stars(body[index : index+len(said.Message)])
		}
	default:
		reply, err := DecodeAuthenReply(body)
		if err != nil {
			return false
		}
		v.asked[h.SessionID] = reply.Status == AuthenGetPass || reply.Flags&FlagNoEcho != 0
	}
	return true
}

// forget bounds what is known of sessions: a connection carries few at a time.
func (v *Veil) forget() {
	if len(v.asked) > 1024 {
		clear(v.asked)
	}
}

func stars(b []byte) {
	for i := range b {
		b[i] = '*'
	}
}
