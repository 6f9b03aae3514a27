package broker

import (
	"bytes"
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
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nkeys"
)

// Workers of other machines know the service by a certificate authority of its own,
// and are known by a key of their own (an nkey: Ed25519). What a worker needs of both
// stands in one file, its credentials.

// Identity is what the service shows to workers of other machines.
type Identity struct {
	Certificate tls.Certificate
	authority   []byte // PEM
}

// lifetime is how long the authority is good; certificates are made anew at each start.
const lifetime = 10 * 365 * 24 * time.Hour

// OpenIdentity reads the authority of a folder, made at the first time, and makes a
// certificate for the names and addresses under which the service is asked for.
func OpenIdentity(dir string, names []string) (*Identity, error) {
	keyName, certName := filepath.Join(dir, "authority.key"), filepath.Join(dir, "authority.crt")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	if _, err := os.Stat(certName); errors.Is(err, os.ErrNotExist) {
		if err := makeAuthority(keyName, certName); err != nil {
			return nil, fmt.Errorf("the certificate authority cannot be made: %w", err)
		}
	}
	pair, err := tls.LoadX509KeyPair(certName, keyName)
	if err != nil {
		return nil, fmt.Errorf("the certificate authority in %s cannot be read: %w", dir, err)
	}
	authority, err := x509.ParseCertificate(pair.Certificate[0])
	if err != nil {
		return nil, err
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	leaf := template("Wise Lantern service")
	leaf.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}
	for _, name := range names {
		if ip := net.ParseIP(name); ip != nil {
			leaf.IPAddresses = append(leaf.IPAddresses, ip)
		} else if name != "" {
			leaf.DNSNames = append(leaf.DNSNames, name)
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, leaf, authority, &key.PublicKey, pair.PrivateKey)
	if err != nil {
		return nil, err
	}
	return &Identity{Certificate: tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key},
		authority: pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: pair.Certificate[0]})}, nil
}

func template(name string) *x509.Certificate {
	serial, _ := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	return &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: name}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(lifetime),
		KeyUsage: x509.KeyUsageDigitalSignature, BasicConstraintsValid: true}
}

func makeAuthority(keyName, certName string) error {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	authority := template("Wise Lantern")
	authority.IsCA, authority.KeyUsage, authority.MaxPathLenZero = true, x509.KeyUsageCertSign, true
	der, err := x509.CreateCertificate(rand.Reader, authority, authority, &key.PublicKey, key)
	if err != nil {
		return err
	}
	secret, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	if err := os.WriteFile(keyName, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secret}), 0o600); err != nil {
		return err
	}
	return os.WriteFile(certName, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600)
}

// NewCredentials makes the credentials of a worker, and the public key by which it is
// known.
func (i *Identity) NewCredentials(name string) (credentials, public string, err error) {
	pair, err := nkeys.CreateUser()
	if err != nil {
		return "", "", err
	}
	seed, err := pair.Seed()
	if err != nil {
		return "", "", err
	}
	if public, err = pair.PublicKey(); err != nil {
		return "", "", err
	}
	return fmt.Sprintf("# Wise Lantern: credentials of worker %s. Keep them to yourself.\n%s%s\n%s\n%s\n", name, i.authority, seedBegin, seed, seedEnd), public, nil
}

const (
	seedBegin = "-----BEGIN USER NKEY SEED-----"
	seedEnd   = "------END USER NKEY SEED------"
)

// Credentials reads the file of a worker's credentials: one that the service has made,
// or one of an outside message server (a JWT and a seed).
func Credentials(file string) ([]nats.Option, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("the credentials cannot be read: %w", err)
	}
	if bytes.Contains(text, []byte("BEGIN NATS USER JWT")) {
		return []nats.Option{nats.UserCredentials(file)}, nil
	}
	_, rest, ok := strings.Cut(string(text), seedBegin)
	seed, _, ok2 := strings.Cut(rest, seedEnd)
	if !ok || !ok2 {
		return nil, fmt.Errorf("%s holds no credentials; make some with: lantern workers admit NAME", file)
	}
	pair, err := nkeys.FromSeed([]byte(strings.TrimSpace(seed)))
	if err != nil {
		return nil, fmt.Errorf("the key in %s is damaged: %w", file, err)
	}
	public, err := pair.PublicKey()
	if err != nil {
		return nil, err
	}
	options := []nats.Option{nats.Nkey(public, pair.Sign)}
	if bytes.Contains(text, []byte("BEGIN CERTIFICATE")) {
		authorities := x509.NewCertPool()
		if !authorities.AppendCertsFromPEM(text) {
			return nil, fmt.Errorf("the certificate in %s is damaged", file)
		}
		options = append(options, nats.Secure(&tls.Config{RootCAs: authorities, MinVersion: tls.VersionTLS13}))
	}
	return options, nil
}
