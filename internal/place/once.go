package place

import (
	"crypto/sha256"
	"encoding/hex"
	"os"
	"path/filepath"
)

// firstTime reports whether something is said for the first time on this machine.
func firstTime(state, what string) bool {
	sum := sha256.Sum256([]byte(what))
	dir := filepath.Join(state, "said")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return true
	}
	f, err := os.OpenFile(filepath.Join(dir, hex.EncodeToString(sum[:8])), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return !os.IsExist(err)
	}
	f.Close()
	return true
}
