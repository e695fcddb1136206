package postgres

import (
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"hemzo/internal/engine"
)

// scram returns the SCRAM-SHA-256 verifier of a password, in the form in
// which PostgreSQL keeps it (RFC 5802, section 3; RFC 7677): so the password
// itself is in no statement and in no log.
func scram(password string) (string, error) { return scramRounds(password, 4096) }

// scramRounds takes another number of rounds. For a password of 128 random
// bits one is enough; some clients refuse fewer than 4096.
func scramRounds(password string, rounds int) (string, error) {
	salt := make([]byte, 16)
	rand.Read(salt)
	salted, err := pbkdf2.Key(sha256.New, password, salt, rounds, sha256.Size)
	if err != nil {
		return "", fmt.Errorf("hashing a password: %w", err)
	}
	client := sha256.Sum256(sign(salted, "Client Key"))
	b64 := base64.StdEncoding.EncodeToString
	return fmt.Sprintf("SCRAM-SHA-256$%d:%s$%s:%s", rounds, b64(salt), b64(client[:]), b64(sign(salted, "Server Key"))),
		nil
}

func sign(key []byte, text string) []byte {
	h := hmac.New(sha256.New, key)
	h.Write([]byte(text))
	return h.Sum(nil)
}

// derived returns the password of a role of Hemzo's: every machine that knows
// the server's secret knows it.
func derived(secret, role string) string {
	return engine.Derive([]byte("hemzo "+secret), role)
}
