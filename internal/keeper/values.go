package keeper

import (
	"context"
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"

	"kettlehole/internal/ledger"
)

// values keeps what steps give in the ledger. Secrets are sealed there with
// AES-256-GCM (NIST SP 800-38D); the key is a file in the lab's folder and goes
// with it.
type values struct {
	lab    string
	ledger *ledger.Ledger
	sealer cipher.AEAD
}

// openValues reads the lab's key, and makes it where there is none.
func openValues(lab string, l *ledger.Ledger, keyFile string) (*values, error) {
	key, err := os.ReadFile(keyFile)
	if errors.Is(err, fs.ErrNotExist) {
		key = make([]byte, 32)
		_, _ = rand.Read(key) // never fails
		part := keyFile + ".part"
		if err = os.WriteFile(part, key, 0o600); err == nil {
			err = os.Rename(part, keyFile)
		}
	}
	if err != nil {
		return nil, fmt.Errorf("reading the lab's key: %w", err)
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, fmt.Errorf("reading the lab's key: %w", err)
	}
	sealer, err := cipher.NewGCM(block)
	return &values{lab, l, sealer}, err
}

// Get gives all values in clear.
func (v *values) Get(ctx context.Context) (map[string]string, error) {
	rows, err := v.ledger.Values(ctx, v.lab)
	if err != nil {
		return nil, err
	}
	all := map[string]string{}
	for _, row := range rows {
		text := row.Text
		if row.Secret {
			size := v.sealer.NonceSize()
			if len(text) < size {
				return nil, fmt.Errorf("opening secret %q: it is cut short", row.Name)
			}
			if text, err = v.sealer.Open(nil, text[:size], text[size:], []byte(v.lab+"/"+row.Name)); err != nil {
				return nil, fmt.Errorf("opening secret %q: %w", row.Name, err)
			}
		}
		all[row.Name] = string(text)
	}
	return all, nil
}

// secrets gives the secret ones in clear.
func (v *values) secrets(ctx context.Context) ([]string, error) {
	rows, err := v.ledger.Values(ctx, v.lab)
	if err != nil {
		return nil, err
	}
	all, err := v.Get(ctx)
	if err != nil {
		return nil, err
	}
	var secrets []string
	for _, row := range rows {
		if row.Secret {
			secrets = append(secrets, all[row.Name])
		}
	}
	return secrets, nil
}

// Set keeps a value.
func (v *values) Set(ctx context.Context, name, value string, secret bool) error {
	text := []byte(value)
	if secret {
		nonce := make([]byte, v.sealer.NonceSize())
		_, _ = rand.Read(nonce) // never fails
		text = v.sealer.Seal(nonce, nonce, text, []byte(v.lab+"/"+name))
	}
	return v.ledger.SetValue(ctx, v.lab, ledger.Value{Name: name, Secret: secret, Text: text})
}
