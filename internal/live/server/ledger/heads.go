package ledger

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"mellowgate/internal/live/store/files"
)

// Head is the end of a chain, signed where its place has a key for that.
type Head struct {
	Chain    string `json:"chain"`
	Host     string `json:"host"` // where it is written, "" where that is not noted
	Sequence int64  `json:"newest"`
	Hash     string `json:"last"`
	Time     string `json:"signed,omitempty"`    // when it was signed, RFC 3339
	Key      string `json:"key,omitempty"`       // the Ed25519 key that opens Signature (RFC 8032), in base64
	Sign     string `json:"signature,omitempty"` // over chain, newest, last and signed, in base64
}

// Files of signed heads, in the folder of the records.
const (
	keyFile   = "heads.key"   // the key that signs, 32 octets in base64
	headsFile = "heads.jsonl" // the heads that were signed, a line for each
)

// signed is what is signed of a head.
func (h Head) signed() []byte {
	b := appendField(nil, "mellowgate head 1")
	b = appendField(b, h.Chain)
	b = appendNumber(b, h.Sequence)
	b = appendField(b, h.Hash)
	return appendField(b, h.Time)
}

// wrong says what is wrong with the signature of a head, "" where it holds or there is
// none.
func (h Head) wrong() string {
	if h.Sign == "" && h.Key == "" {
		return ""
	}
	key, err1 := base64.StdEncoding.DecodeString(h.Key)
	signature, err2 := base64.StdEncoding.DecodeString(h.Sign)
	if errors.Join(err1, err2) != nil || len(key) != ed25519.PublicKeySize ||
		!ed25519.Verify(key, h.signed(), signature) {
		return "is not as it was signed"
	}
	return ""
}

// Signer signs the heads of a ledger.
type Signer struct{ key ed25519.PrivateKey }

// Signer returns the signer of a folder, and makes its key where there is none and one is
// to be made. It is nil where there is none.
func (f Folder) Signer(make bool) (*Signer, error) {
	path := filepath.Join(string(f), keyFile)
	text, err := os.ReadFile(path)
	if err == nil && len(bytes.Trim(text, "\x00")) == 0 { // made just before the machine went down: it signed nothing
		err = fs.ErrNotExist
	}
	if errors.Is(err, fs.ErrNotExist) && make {
		seed := [ed25519.SeedSize]byte{}
		_, _ = rand.Read(seed[:]) // never fails: crypto/rand ends the process instead
		text = []byte(base64.StdEncoding.EncodeToString(seed[:]) + "\n")
		err = files.WriteWhole(path, text)
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	seed, err := base64.StdEncoding.DecodeString(string(text[:max(0, len(text)-1)]))
	if err != nil || len(seed) != ed25519.SeedSize {
		return nil, fmt.Errorf("%s is no key of this program; take it away, and a new one is made at the next "+
			"start: heads that were signed before keep the old one", path)
	}
	return &Signer{key: ed25519.NewKeyFromSeed(seed)}, nil
}

// Key returns the key that opens its signatures, in base64.
func (s *Signer) Key() string {
	return base64.StdEncoding.EncodeToString(s.key.Public().(ed25519.PublicKey))
}

// Sign returns a head with the time and a signature.
func (s *Signer) Sign(h Head, moment time.Time) Head {
	h.Time, h.Key = moment.UTC().Format(time.RFC3339), s.Key()
	h.Sign = base64.StdEncoding.EncodeToString(ed25519.Sign(s.key, h.signed()))
	return h
}

// KeepHead notes a signed head beside the records.
func (f Folder) KeepHead(h Head) error {
	line, err := json.Marshal(h)
	if err != nil {
		return err
	}
	file, err := os.OpenFile(filepath.Join(string(f), headsFile), os.O_CREATE|os.O_RDWR|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	err = endLine(file)
	if err == nil {
		_, err = file.Write(append(line, '\n'))
	}
	return errors.Join(err, file.Close())
}

// endLine takes away a last line that was never finished: the machine went down.
func endLine(file *os.File) error {
	const longest = 4096
	end, err := file.Seek(0, io.SeekEnd)
	if err != nil || end == 0 {
		return err
	}
	b := make([]byte, min(end, longest))
	if _, err := file.ReadAt(b, end-int64(len(b))); err != nil {
		return err
	}
	if b[len(b)-1] == '\n' {
		return nil
	}
	return file.Truncate(end - int64(len(b)) + int64(bytes.LastIndexByte(b, '\n')+1))
}

// Signed returns the heads that were signed here. A last line that was never finished is
// none.
func (f Folder) Signed() ([]Head, error) {
	path := filepath.Join(string(f), headsFile)
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var heads []Head
	n := 0
	for line := range bytes.Lines(text) {
		n++
		if line[len(line)-1] != '\n' {
			break
		}
		var h Head
		if err := json.Unmarshal(line, &h); err != nil {
			return nil, fmt.Errorf("%s, line %d: this is no head of a ledger: %w", path, n, err)
		}
		heads = append(heads, h)
	}
	return heads, nil
}
