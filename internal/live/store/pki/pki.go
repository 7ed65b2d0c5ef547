// Package pki has the certificates of servers and devices that speak over TLS:
// RFC 6614 for RADIUS and RFC 9887 for TACACS+, both sides with a certificate.
// It reads them from files, and makes them for a lab.
package pki

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"mellowgate/internal/core/site"
)

// RADIUSKey is the fixed key of RADIUS over TLS, RFC 6614 section 2.3.
const RADIUSKey = "radsec"

// Identity is a certificate with its key, and whose certificates it trusts.
type Identity struct {
	Certificate tls.Certificate
	Trusted     *x509.CertPool
	Revoked     []*x509.RevocationList
}

// lowest returns the lowest version of TLS for a protocol: RFC 9887 wants 1.3.
func lowest(p site.Protocol) uint16 {
	if p == site.TACACS {
		return tls.VersionTLS13
	}
	return tls.VersionTLS12
}

// Server returns the configuration of a server: it asks for a certificate and
// takes only one that it trusts.
func (i Identity) Server(p site.Protocol) *tls.Config {
	return &tls.Config{MinVersion: lowest(p), Certificates: []tls.Certificate{i.Certificate},
		ClientAuth: tls.RequireAndVerifyClientCert, ClientCAs: i.Trusted, VerifyConnection: i.revoked,
		SessionTicketsDisabled: true} // each connection shows its certificate anew
}

// revoked refuses a certificate that is on a list of its authority, RFC 5280
// section 5.
func (i Identity) revoked(c tls.ConnectionState) error {
	for _, chain := range c.VerifiedChains {
		for index, certificate := range chain[:len(chain)-1] {
			for _, list := range i.Revoked {
				if list.CheckSignatureFrom(chain[index+1]) != nil {
					continue
				}
				for _, entry := range list.RevokedCertificateEntries {
					if entry.SerialNumber.Cmp(certificate.SerialNumber) == 0 {
						return fmt.Errorf("the certificate %s was revoked on %s", subject(certificate),
							entry.RevocationTime.UTC().Format(time.DateOnly))
					}
				}
			}
		}
	}
	return nil
}

// subject names a certificate.
func subject(c *x509.Certificate) string {
	if c.Subject.CommonName != "" {
		return c.Subject.CommonName
	}
	return strings.Join(c.DNSNames, ", ")
}

// NamesDevice reports whether a certificate is that of a device: it bears its
// name or an address of it (RFC 6614, section 2.3), or is the one that the site
// says; who is what it names.
func NamesDevice(c *x509.Certificate, d *site.Device) (found bool, who string) {
	if d.Shows.Fingerprint != "" {
		sum := sha256.Sum256(c.Raw)
		return hex.EncodeToString(sum[:]) == d.Shows.Fingerprint, Bears(c)
	}
	want := d.Name
	if d.Shows.Name != "" {
		want = d.Shows.Name
	}
	for _, n := range c.DNSNames {
		if strings.EqualFold(n, want) {
			return true, n
		}
	}
	if d.Shows.Name == "" {
		for _, ip := range c.IPAddresses {
			a, ok := netip.AddrFromSlice(ip)
			if ok && (slices.Contains(d.Sources(), a.Unmap()) || slices.Contains(d.Addresses, a.Unmap())) {
				return true, a.Unmap().String()
			}
		}
	}
	return false, Bears(c)
}

// Bears says which names and addresses a certificate bears.
func Bears(c *x509.Certificate) string {
	bears := slices.Clone(c.DNSNames)
	for _, ip := range c.IPAddresses {
		bears = append(bears, ip.String())
	}
	if len(bears) == 0 {
		return "nobody"
	}
	return strings.Join(bears, ", ")
}

// Client returns the configuration of an asker for a server at an address or of
// a name.
func (i Identity) Client(p site.Protocol, server string) *tls.Config {
	return &tls.Config{MinVersion: lowest(p), Certificates: []tls.Certificate{i.Certificate}, RootCAs: i.Trusted,
		ServerName: server}
}

// Load reads an identity from PEM files.
func Load(certificate, key, authorities string) (Identity, error) {
	pair, err := tls.LoadX509KeyPair(certificate, key)
	if err != nil {
		return Identity{}, fmt.Errorf("the certificate %s with the key %s cannot be used: %w", certificate, key, err)
	}
	pool, err := Authorities(authorities)
	return Identity{Certificate: pair, Trusted: pool}, err
}

// Authorities reads the authorities of a PEM file.
func Authorities(file string) (*x509.CertPool, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("the authorities cannot be read: %w", err)
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(text) {
		return nil, fmt.Errorf("%s holds no certificate in PEM form", file)
	}
	return pool, nil
}

// Of reads the identity that a site gives a server; paths start from base.
func Of(s *site.Server, base string) (Identity, error) {
	c := s.Certificates
	if c.Certificate == "" {
		return Identity{}, fmt.Errorf("the server %s runs over TLS and has no certificates: write tls: "+
			"{certificate: FILE, key: FILE, authorities: FILE}", s.Name)
	}
	at := func(path string) string {
		if filepath.IsAbs(path) {
			return path
		}
		return filepath.Join(base, path)
	}
	i, err := Load(at(c.Certificate), at(c.Key), at(c.Authorities))
	if err == nil && c.Revoked != "" {
		i.Revoked, err = revocations(at(c.Revoked))
	}
	if err == nil {
		err = i.current(time.Now())
	}
	if err != nil {
		return i, fmt.Errorf("the server %s: %w", s.Name, err)
	}
	return i, nil
}

// current reports a certificate that is not good at a time.
func (i Identity) current(now time.Time) error {
	leaf := i.Certificate.Leaf
	switch {
	case leaf == nil:
		return nil
	case now.After(leaf.NotAfter):
		return fmt.Errorf("the certificate %s ended on %s: no device would take it", subject(leaf),
			leaf.NotAfter.UTC().Format(time.DateOnly))
	case now.Before(leaf.NotBefore):
		return fmt.Errorf("the certificate %s is good from %s on, and not before: no device would take it",
			subject(leaf),
			leaf.NotBefore.UTC().Format(time.DateOnly))
	}
	return nil
}

// revocations reads lists of revoked certificates, in PEM or DER form.
func revocations(path string) ([]*x509.RevocationList, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("the list of revoked certificates cannot be read: %w", err)
	}
	var revocationLists []*x509.RevocationList
	for block, rest := pem.Decode(text); block != nil; block, rest = pem.Decode(rest) {
		list, err := x509.ParseRevocationList(block.Bytes)
		if err != nil {
			return nil, fmt.Errorf("%s: this is no list of revoked certificates: %w", path, err)
		}
		revocationLists = append(revocationLists, list)
	}
	if len(revocationLists) > 0 {
		return revocationLists, nil
	}
	list, err := x509.ParseRevocationList(text)
	if err != nil {
		return nil, fmt.Errorf("%s: this is no list of revoked certificates (RFC 5280, section 5), in PEM or DER form",
			path)
	}
	return []*x509.RevocationList{list}, nil
}

// Authority signs the certificates of a lab.
type Authority struct {
	certificate *x509.Certificate
	key         *ecdsa.PrivateKey
	serial      int64
}

// validFor is how long a lab's certificates are good.
const validFor = 7 * 24 * time.Hour

// NewAuthority makes an authority with a fresh key.
func NewAuthority(name string, now time.Time) (*Authority, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: name},
		NotBefore: now.Add(-time.Hour), NotAfter: now.Add(validFor),
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		return nil, err
	}
	certificate, err := x509.ParseCertificate(der)
	return &Authority{certificate: certificate, key: key, serial: 1}, err
}

// Issue makes an identity for a name at an address, for both sides of TLS.
func (a *Authority) Issue(name string, address netip.Addr, now time.Time) (Identity, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return Identity{}, err
	}
	a.serial++
	template := &x509.Certificate{SerialNumber: big.NewInt(a.serial), Subject: pkix.Name{CommonName: name},
		NotBefore: now.Add(-time.Hour), NotAfter: now.Add(validFor),
		KeyUsage:    x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth},
		DNSNames:    []string{name}, IPAddresses: []net.IP{address.AsSlice()}}
	der, err := x509.CreateCertificate(rand.Reader, template, a.certificate, key.Public(), a.key)
	if err != nil {
		return Identity{}, err
	}
	pool := x509.NewCertPool()
	pool.AddCert(a.certificate)
	return Identity{Certificate: tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, Trusted: pool}, nil
}

// Names of the files that Write makes.
const (
	AuthorityFile = "authority.pem"
	suffix        = ".pem"
	keySuffix     = ".key"
)

// WriteAuthority writes the authority's certificate into a folder, for ordinary
// programs.
func (a *Authority) WriteAuthority(dir string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, AuthorityFile),
		pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: a.certificate.Raw}), 0o600)
}

// Write writes an identity and its authority into a folder, for ordinary
// programs.
func (a *Authority) Write(dir, name string, i Identity) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	key, ok := i.Certificate.PrivateKey.(*ecdsa.PrivateKey)
	if !ok {
		return errors.New("not a key of this authority")
	}
	der, err := x509.MarshalECPrivateKey(key)
	if err != nil {
		return err
	}
	for file, block := range map[string]*pem.Block{
		AuthorityFile:    {Type: "CERTIFICATE", Bytes: a.certificate.Raw},
		name + suffix:    {Type: "CERTIFICATE", Bytes: i.Certificate.Certificate[0]},
		name + keySuffix: {Type: "EC PRIVATE KEY", Bytes: der},
	} {
		if err := os.WriteFile(filepath.Join(dir, file), pem.EncodeToMemory(block), 0o600); err != nil {
			return err
		}
	}
	return nil
}

// Written reads an identity that Write wrote.
func Written(dir, name string) (Identity, error) {
	return Load(filepath.Join(dir, name+suffix), filepath.Join(dir, name+keySuffix), filepath.Join(dir, AuthorityFile))
}

// Revoke makes a list of revoked certificates with one in it (RFC 5280, section 5).
func (a *Authority) Revoke(i Identity, now time.Time) (*x509.RevocationList, error) {
	leaf, err := x509.ParseCertificate(i.Certificate.Certificate[0])
	if err != nil {
		return nil, err
	}
	der, err := x509.CreateRevocationList(rand.Reader, &x509.RevocationList{Number: big.NewInt(1), ThisUpdate: now,
		NextUpdate: now.Add(validFor), RevokedCertificateEntries: []x509.RevocationListEntry{
			{SerialNumber: leaf.SerialNumber, RevocationTime: now}}}, a.certificate, a.key)
	if err != nil {
		return nil, err
	}
	return x509.ParseRevocationList(der)
}
