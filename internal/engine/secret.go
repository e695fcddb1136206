package engine

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base32"
)

// Derive derives a secret of 26 letters and digits for a name from a key: the
// same each time, and nobody's who does not know the key.
func Derive(key []byte, name string) string {
	h := hmac.New(sha256.New, key)
	h.Write([]byte(name))
	return base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(h.Sum(nil))[:26]
}
