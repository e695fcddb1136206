package place

import (
	"crypto/rand"
	"errors"
	"fmt"
	"hemzo/internal/engine"
	"os"
	"path/filepath"
)

// secret is what the passwords of this user's containers are derived from: a
// server that begins with the data of an earlier one has its password.
func secret(state string) ([]byte, error) {
	path := filepath.Join(state, "secret")
	b, err := os.ReadFile(path)
	if err == nil && len(b) >= 26 {
		return b, nil
	}
	f, err := os.CreateTemp(state, ".secret")
	if err != nil {
		return nil, fmt.Errorf("making a secret: %w", err)
	}
	_, err = f.WriteString(rand.Text())
	if err = errors.Join(err, f.Close()); err == nil {
		err = os.Link(f.Name(), path) // whoever is first makes it
	}
	os.Remove(f.Name())
	if err != nil && !errors.Is(err, os.ErrExist) {
		return nil, fmt.Errorf("making a secret: %w", err)
	}
	return os.ReadFile(path)
}

// Secret derives a secret for a name from the one that this user keeps: the
// same each time, and nobody else's.
func Secret(state, name string) (string, error) {
	key, err := secret(state)
	if err != nil {
		return "", err
	}
	return engine.Derive(key, name), nil
}

// Password is the password of this user's private servers: it is known before
// they run.
func Password() (string, error) {
	state, err := StateFolder()
	if err != nil {
		return "", err
	}
	return Secret(state, "servers")
}
