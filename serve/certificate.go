package serve

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"
)

// The hub is its own authority where no certificate is given: boards get its certificate once, and the hub's own may
// change.
const (
	tlsFolder     = "tls"
	authorityFile = "ca.pem"
	authorityKey  = "ca.key"
	authorityLife = 10 * 365 * 24 * time.Hour
	ownLife       = 397 * 24 * time.Hour
)

// certificate is what the hub shows to its boards, and the authority that signed it where that is the hub itself.
type certificate struct {
	config    *tls.Config
	authority []byte // PEM; nil where a certificate was given
	trusted   bool   // every browser trusts it
}

// loadCertificate reads the given certificate, or makes one that the hub's own authority signs.
func loadCertificate(o Options) (certificate, error) {
	if o.Certificate != "" || o.Key != "" {
		k := &keeper{log: o.Log, make: func() (tls.Certificate, string, error) {
			pair, err := tls.LoadX509KeyPair(o.Certificate, o.Key)
			return pair, stamp(o.Certificate) + stamp(o.Key), err
		}, stale: func(had *tls.Certificate, mark string) bool { return stamp(o.Certificate)+stamp(o.Key) != mark }}
		if err := k.renew(); err != nil {
			return certificate{}, fmt.Errorf("the certificate cannot be read: %w; check --tls-cert and --tls-key", err)
		}
		rest := x509.NewCertPool()
		for _, der := range k.pair.Certificate[1:] {
			if c, err := x509.ParseCertificate(der); err == nil {
				rest.AddCert(c)
			}
		}
		_, err := k.pair.Leaf.Verify(x509.VerifyOptions{Intermediates: rest})
		return certificate{config: k.config(), trusted: err == nil}, nil
	}
	ca, key, pemCA, err := authority(filepath.Join(o.Data, tlsFolder), names(o.Hosts), addresses())
	if err != nil {
		return certificate{}, fmt.Errorf("the hub's own certificate cannot be made: %w", err)
	}
	k := &keeper{log: o.Log, make: func() (tls.Certificate, string, error) {
		at := addresses()
		pair, err := own(ca, key, names(o.Hosts), at)
		return pair, fmt.Sprint(at), err
	}, stale: func(had *tls.Certificate, mark string) bool {
		return time.Until(had.Leaf.NotAfter) < renewBefore || fmt.Sprint(addresses()) != mark
	}}
	if err := k.renew(); err != nil {
		return certificate{}, fmt.Errorf("the hub's own certificate cannot be made: %w", err)
	}
	return certificate{config: k.config(), authority: pemCA}, nil
}

// keeper shows a certificate, and a new one as soon as that is stale: connections that are open stay as they are.
type keeper struct {
	log   *slog.Logger
	make  func() (pair tls.Certificate, mark string, err error)
	stale func(had *tls.Certificate, mark string) bool

	mu     sync.Mutex
	pair   *tls.Certificate
	mark   string
	looked time.Time
}

const (
	certificateLook = 5 * time.Second // how often it is looked whether there is a new one
	renewBefore     = 30 * 24 * time.Hour
)

func (k *keeper) config() *tls.Config {
	return &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
		k.mu.Lock()
		defer k.mu.Unlock()
		if time.Since(k.looked) > certificateLook && k.stale(k.pair, k.mark) {
			if err := k.renew(); err != nil {
				k.looked = time.Now()
				k.log.Error("the new certificate cannot be used; the one before is shown on", "error", err)
			} else {
				k.log.Info("there is a new certificate", "until", k.pair.Leaf.NotAfter)
			}
		}
		return k.pair, nil
	}}
}

// renew is called with the lock, or before there is anybody else.
func (k *keeper) renew() error {
	pair, mark, err := k.make()
	if err != nil {
		return err
	}
	if pair.Leaf == nil {
		if pair.Leaf, err = x509.ParseCertificate(pair.Certificate[0]); err != nil {
			return err
		}
	}
	k.pair, k.mark, k.looked = &pair, mark, time.Now()
	return nil
}

// stamp changes when a file does.
func stamp(file string) string {
	info, err := os.Stat(file)
	if err != nil {
		return "none"
	}
	return fmt.Sprint(info.ModTime().UnixNano(), info.Size())
}

func addresses() (out []net.IP) {
	addrs, _ := net.InterfaceAddrs() // without them localhost alone is named
	for _, a := range addrs {
		if n, ok := a.(*net.IPNet); ok {
			out = append(out, n.IP)
		}
	}
	return out
}

// authority reads the hub's authority from a folder, or makes it there.
func authority(dir string, names []string, at []net.IP) (*x509.Certificate, *ecdsa.PrivateKey, []byte, error) {
	certPEM, err := os.ReadFile(filepath.Join(dir, authorityFile))
	if errors.Is(err, fs.ErrNotExist) {
		return newAuthority(dir, names, at)
	}
	if err != nil {
		return nil, nil, nil, err
	}
	keyPEM, err := os.ReadFile(filepath.Join(dir, authorityKey))
	if err != nil {
		return nil, nil, nil, err
	}
	certBlock, _ := pem.Decode(certPEM)
	keyBlock, _ := pem.Decode(keyPEM)
	if certBlock == nil || keyBlock == nil {
		return nil, nil, nil, fmt.Errorf("%s or %s in %s is no PEM file; move both away and the hub makes new ones",
			authorityFile, authorityKey, dir)
	}
	cert, err := x509.ParseCertificate(certBlock.Bytes)
	if err != nil {
		return nil, nil, nil, err
	}
	key, err := x509.ParseECPrivateKey(keyBlock.Bytes)
	return cert, key, certPEM, err
}

// houses are the addresses that the hub's authority may sign for: those that nobody outside of a house can have.
var houses = []string{"127.0.0.0/8", "10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "169.254.0.0/16", "100.64.0.0/10",
	"::1/128", "fc00::/7", "fe80::/10"}

// names are those of this computer, and those that the hub is told to answer to.
func names(told []string) []string {
	list := []string{"localhost"}
	if name, err := os.Hostname(); err == nil && name != "localhost" {
		list = append(list, name, name+".local")
	}
	return append(list, told...)
}

// newAuthority makes one that is good for the hub's names, for addresses in a house and for those that the computer has
// now, and for nothing else (RFC 5280, 4.2.1.10), so that whoever takes its key from there is believed by the
// household's phones for no other site.
func newAuthority(dir string, names []string, at []net.IP) (*x509.Certificate, *ecdsa.PrivateKey, []byte, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, nil, err
	}
	now := time.Now()
	cert := &x509.Certificate{SerialNumber: serial(), Subject: pkix.Name{CommonName: "Idle Ember hub"},
		NotBefore: now.Add(-time.Hour),
		NotAfter:  now.Add(authorityLife), IsCA: true, BasicConstraintsValid: true, MaxPathLenZero: true,
		KeyUsage:                    x509.KeyUsageCertSign,
		PermittedDNSDomainsCritical: true, PermittedDNSDomains: names}
	for _, net4 := range houses {
		_, n, err := net.ParseCIDR(net4)
		if err != nil {
			return nil, nil, nil, err
		}
		cert.PermittedIPRanges = append(cert.PermittedIPRanges, n)
	}
	for _, ip := range at { // a house may have public ones
		if v4 := ip.To4(); v4 != nil {
			ip = v4
		}
		if !permits(cert, ip) {
			cert.PermittedIPRanges = append(cert.PermittedIPRanges, &net.IPNet{IP: ip, Mask: net.CIDRMask(8*len(ip), 8*len(ip))})
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, cert, cert, &key.PublicKey, key)
	if err != nil {
		return nil, nil, nil, err
	}
	keyDER, err := x509.MarshalECPrivateKey(key)
	if err != nil {
		return nil, nil, nil, err
	}
	certPEM := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, nil, nil, err
	}
	// The key first: a certificate without its key would be useless.
	if err := os.WriteFile(filepath.Join(dir, authorityKey), pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY",
		Bytes: keyDER}), 0o600); err != nil {
		return nil, nil, nil, err
	}
	if err := os.WriteFile(filepath.Join(dir, authorityFile), certPEM, 0o600); err != nil {
		return nil, nil, nil, err
	}
	cert, err = x509.ParseCertificate(der)
	return cert, key, certPEM, err
}

// own makes a certificate for all names and addresses of this computer that the authority may sign for.
func own(ca *x509.Certificate, caKey *ecdsa.PrivateKey, names []string, at []net.IP) (tls.Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return tls.Certificate{}, err
	}
	now := time.Now()
	cert := &x509.Certificate{SerialNumber: serial(), Subject: pkix.Name{CommonName: "Idle Ember"},
		NotBefore: now.Add(-time.Hour),
		NotAfter:  earlier(now.Add(ownLife), ca.NotAfter), KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	for _, name := range names {
		if len(ca.PermittedDNSDomains) == 0 || slices.ContainsFunc(ca.PermittedDNSDomains, func(d string) bool {
			return strings.EqualFold(name, d) || strings.HasSuffix(strings.ToLower(name), "."+strings.ToLower(d))
		}) {
			cert.DNSNames = append(cert.DNSNames, name)
		}
	}
	for _, ip := range at {
		if len(ca.PermittedIPRanges) == 0 || permits(ca, ip) {
			cert.IPAddresses = append(cert.IPAddresses, ip)
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, cert, ca, &key.PublicKey, caKey)
	return tls.Certificate{Certificate: [][]byte{der, ca.Raw}, PrivateKey: key}, err
}

func permits(ca *x509.Certificate, ip net.IP) bool {
	return slices.ContainsFunc(ca.PermittedIPRanges, func(n *net.IPNet) bool { return n.Contains(ip) })
}

func earlier(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}

// RenewAuthority sets the authority of a hub that does not run aside, so that the next start makes a new one. It
// returns where the old one lies now.
func RenewAuthority(data string) (string, error) {
	dir := filepath.Join(data, tlsFolder)
	if _, err := os.Stat(filepath.Join(dir, authorityFile)); err != nil {
		return "", fmt.Errorf("there is no authority in %s; a start with --https or --mqtts makes one", dir)
	}
	aside := filepath.Join(data, tlsFolder+"-until-"+time.Now().Format("20060102-150405"))
	return aside, os.Rename(dir, aside)
}

func serial() *big.Int {
	n, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		panic(err) // the system's randomness never fails
	}
	return n
}
