// Package login is SSH as the way into a lab (RFC 4251 to 4254), spoken by the
// keeper: nodes need no SSH server, and nothing is written to a person's own
// files. Each lab has keys of its own, which go with it.
package login

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"golang.org/x/crypto/ssh"
)

// The files of a lab's keys, in a folder of their own.
const (
	clientKey = "key"       // with which people and their programs come in
	authority = "authority" // with which the lab says who its nodes are
	hostKey   = "host"
	// Known is the file with the hosts that a client of the lab knows.
	Known = "known"
)

// Keys are those of one lab.
type Keys struct {
	client ssh.PublicKey
	host   ssh.Signer
	signer ssh.Signer // the authority
}

// MakeKeys makes the keys of a lab in the folder, or reads those that are
// there. All is for the folder's owner alone.
func MakeKeys(folder, lab string) (*Keys, error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, fmt.Errorf("making the lab's keys: %w", err)
	}
	var signers [3]ssh.Signer
	for i, name := range []string{clientKey, hostKey, authority} {
		signer, err := key(filepath.Join(folder, name), lab)
		if err != nil {
			return nil, fmt.Errorf("making the lab's keys: %w", err)
		}
		signers[i] = signer
	}
	keys := &Keys{client: signers[0].PublicKey(), host: signers[1], signer: signers[2]}
	known := fmt.Sprintf("@cert-authority %s %s", Pattern(lab), ssh.MarshalAuthorizedKey(keys.signer.PublicKey()))
	if err := replace(filepath.Join(folder, Known), []byte(known)); err != nil {
		return nil, fmt.Errorf("making the lab's keys: %w", err)
	}
	return keys, nil
}

// Pattern matches the names that clients call the lab's nodes by (ssh_config(5)).
func Pattern(lab string) string { return "*." + lab }

// key reads a private key (the format of OpenSSH's PROTOCOL.key), or makes it.
func key(path, comment string) (ssh.Signer, error) {
	text, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		_, private, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			return nil, err
		}
		block, err := ssh.MarshalPrivateKey(private, "lab "+comment)
		if err != nil {
			return nil, err
		}
		text = pem.EncodeToMemory(block)
		if err := replace(path, text); err != nil {
			return nil, err
		}
	} else if err != nil {
		return nil, err
	}
	return ssh.ParsePrivateKey(text)
}

// replace writes a file for its owner alone, whole or not at all.
func replace(path string, text []byte) error {
	if have, err := os.ReadFile(path); err == nil && bytes.Equal(have, text) {
		return nil
	}
	half, err := os.CreateTemp(filepath.Dir(path), ".half-*") // mode 0600
	if err != nil {
		return err
	}
	defer os.Remove(half.Name()) // gone once it is renamed
	_, err = half.Write(text)
	if closed := half.Close(); err == nil {
		err = closed
	}
	if err == nil {
		err = os.Rename(half.Name(), path)
	}
	return err
}

// certified is the host key with a certificate for these names (OpenSSH's
// PROTOCOL.certkeys). It has no end: the keys go with the lab.
func (k *Keys) certified(names []string) (ssh.Signer, error) {
	certificate := &ssh.Certificate{Key: k.host.PublicKey(), CertType: ssh.HostCert, KeyId: names[0], ValidPrincipals: names, ValidBefore: ssh.CertTimeInfinity}
	if err := certificate.SignCert(rand.Reader, k.signer); err != nil {
		return nil, err
	}
	return ssh.NewCertSigner(certificate, k.host)
}
