package mariadb

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
	"math/big"
	"os"
	"path/filepath"
	"time"

	"hemzo/internal/engine/launch"
)

// certificate gives a server a key and a certificate of its own, and returns the options that
// name them. From MariaDB 11.4 on a server without them makes some at each start, with a key
// that takes a fifth of a second and more; this kind takes none.
func (l *layout) certificate() ([]string, error) {
	if l.mysql || !wantsTLS(l.version) {
		return nil, nil
	}
	certificate, key, err := selfSigned()
	if err != nil {
		return nil, err
	}
	secret, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, fmt.Errorf("making a key: %w", err)
	}
	var options []string
	for _, f := range []struct {
		option, kind string
		bytes        []byte
	}{{"ssl-cert", "CERTIFICATE", certificate}, {"ssl-key", "PRIVATE KEY", secret}} {
		path := filepath.Join(l.home.Folder, f.option+".pem")
		text := pem.EncodeToMemory(&pem.Block{Type: f.kind, Bytes: f.bytes})
		if err := errors.Join(os.WriteFile(path, text, 0o600), launch.Chown(path, l.owner)); err != nil {
			return nil, launch.NoRoom(err, "writing "+path)
		}
		options = append(options, "--"+f.option+"="+path)
	}
	return options, nil
}

// wantsTLS reports whether the clients of a version of MariaDB insist on TLS, with whatever
// certificate where they reach the server on their own machine.
func wantsTLS(version string) bool { return atLeast(version, 11, 4) }

// selfSigned makes a key and a certificate that vouches for itself.
func selfSigned() (certificate []byte, key *ecdsa.PrivateKey, err error) {
	if key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader); err != nil {
		return nil, nil, fmt.Errorf("making a key: %w", err)
	}
	now := time.Now()
	about := &x509.Certificate{SerialNumber: big.NewInt(now.UnixNano()), Subject: pkix.Name{CommonName: "hemzo"},
		NotBefore: now.Add(-time.Hour), NotAfter: now.AddDate(1, 0, 0)}
	if certificate, err = x509.CreateCertificate(rand.Reader, about, about, &key.PublicKey, key); err != nil {
		return nil, nil, fmt.Errorf("making a certificate: %w", err)
	}
	return certificate, key, nil
}

// offered is the TLS that a relay offers, where the clients of its server insist on it.
func (a address) offered() (*tls.Config, error) {
	if a.MySQL || !wantsTLS(a.Version) {
		return nil, nil
	}
	certificate, key, err := selfSigned()
	if err != nil {
		return nil, err
	}
	return &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{certificate}, PrivateKey: key}}}, nil
}
