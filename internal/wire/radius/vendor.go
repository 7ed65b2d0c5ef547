package radius

import (
	"encoding/binary"
	"errors"
)

// ErrVendor is a Vendor-Specific that is not in the form which RFC 2865
// section 5.26 suggests. Its octets are kept as they are.
var ErrVendor = errors.New("Vendor-Specific does not hold sub-attributes (RFC 2865, section 5.26)")

// DecodeVendor reads the value of a Vendor-Specific: the enterprise number and
// the sub-attributes, which may be several.
func DecodeVendor(value []byte) (number uint32, subs []Attribute, err error) {
	if len(value) < 4 {
		return 0, nil, ErrVendor
	}
	number = binary.BigEndian.Uint32(value)
	for rest := value[4:]; len(rest) > 0; {
		if len(rest) < 2 || rest[1] < 2 || int(rest[1]) > len(rest) {
			return number, nil, ErrVendor
		}
		n := int(rest[1])
		subs = append(subs, Attribute{Type: Type(rest[0]), Value: rest[2:n:n]})
		rest = rest[n:]
	}
	return number, subs, nil
}

// AppendVendor encodes the value of a Vendor-Specific and appends it to dst.
// Together the sub-attributes have at most 249 octets.
func AppendVendor(dst []byte, number uint32, subs ...Attribute) []byte {
	dst = binary.BigEndian.AppendUint32(dst, number)
	for _, s := range subs {
		dst = append(append(dst, byte(s.Type), byte(len(s.Value)+2)), s.Value...)
	}
	return dst
}
