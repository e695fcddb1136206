package redis

import (
	"crypto/sha256"
	"encoding/hex"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"hemzo/internal/engine/folder"
	"hemzo/internal/fault"
	"hemzo/internal/pattern"
)

const advice = "install it (on Debian: apt-get install redis-server, or valkey-server), or put the folder of its " +
	"program on PATH"

// installation is an installation of Redis or Valkey.
type installation struct {
	server  string // the path of the server
	product string // "redis" or "valkey"
	version string // "7.0.15"
	major   string // "7.0"
	stamp   string // changes when another is installed in its place
}

func (i installation) title() string { return titleOf(i.product) }

func titleOf(product string) string {
	if product == "valkey" {
		return "Valkey"
	}
	return "Redis"
}

var versionLine = pattern.Lazy(`^(Redis|Valkey) server v=(([0-9]+\.[0-9]+)[0-9.]*)`)

// find finds the server of a version; any for "".
func find(version string) (installation, error) {
	var other installation
	for _, name := range []string{"redis-server", "valkey-server"} {
		path := program(name)
		if path == "" {
			continue
		}
		i, err := examine(path)
		if err != nil {
			return i, err
		}
		if version == "" || version == i.major || strings.HasPrefix(i.major, version+".") {
			return i, nil
		}
		other = i
	}
	if other.server != "" {
		return other, fault.New(fault.Lacking, advice, "version %s is wanted, this machine has %s %s", version,
			other.title(), other.version)
	}
	return other, fault.New(fault.Lacking, advice, "there is no server of Redis or Valkey on this machine")
}

// examine asks a program what it is. That takes a process, so the answer is kept, under
// all that is another when the program is.
func examine(path string) (installation, error) {
	i := installation{server: path}
	info, err := os.Stat(path)
	if err != nil {
		return i, err
	}
	i.stamp = info.ModTime().UTC().Format("20060102150405")
	sum := sha256.Sum256([]byte(path + info.ModTime().String() + info.Mode().String()))
	caches, err := os.UserCacheDir()
	kept := filepath.Join(caches, "hemzo", "version-"+hex.EncodeToString(sum[:8]))
	said, failed := os.ReadFile(kept)
	if err != nil || failed != nil {
		if said, failed = exec.Command(path, "--version").Output(); failed != nil {
			return i, fault.New(fault.Lacking, advice, "%s does not tell its version: %v", path, failed)
		}
		if err == nil && os.MkdirAll(filepath.Dir(kept), 0o700) == nil {
			_ = folder.Replace(kept, said) // else it is asked again
		}
	}
	m := versionLine().FindStringSubmatch(string(said))
	if m == nil {
		return i, fault.New(fault.Lacking, advice, "%s is no server of Redis or Valkey: %s", path,
			strings.TrimSpace(string(said)))
	}
	i.product, i.version, i.major = strings.ToLower(m[1]), m[2], m[3]
	return i, nil
}

// program is the path of a program that is on PATH, or where servers lie that are not.
func program(name string) string {
	if path, err := exec.LookPath(name); err == nil {
		return path
	}
	for _, dir := range []string{"/usr/sbin", "/usr/local/sbin", "/usr/local/bin", "/opt/homebrew/bin"} {
		path := filepath.Join(dir, name)
		if info, err := os.Stat(path); err == nil && info.Mode()&0o111 != 0 {
			return path
		}
	}
	return ""
}
