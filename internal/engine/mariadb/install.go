package mariadb

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"hemzo/internal/fault"
	"hemzo/internal/pattern"
)

const advice = "install it (on Debian: apt-get install mariadb-server-core), or put the folders of its programs " +
	"on PATH"

const mysqlAdvice = "install it, or put the folder of mysqld on PATH"

// installation is an installation of MariaDB, or of MySQL.
type installation struct {
	mysql   bool
	server  string // the path of the server
	layout  string // of the script that lays out a data folder
	version string // "10.11.6"
	major   string // "10.11"
	stamp   string // changes when another is installed in its place
}

var versionLine = pattern.Lazy(`Ver ([0-9]+\.[0-9]+)(\.[0-9]+)?(-MariaDB)?`)

// find finds the server of a version; any for "". Distributions have one at a time.
func (e Engine) find(version string) (installation, error) {
	server, next := program("mariadbd", "mysqld"), advice
	layout := program("mariadb-install-db", "mysql_install_db")
	if e.MySQL {
		server, next = program("mysqld"), mysqlAdvice
		layout = server
	}
	if server == "" || layout == "" {
		return installation{}, fault.New(fault.Lacking, next, "there is no %s server on this machine", e.product())
	}
	info, err := os.Stat(server)
	if err != nil {
		return installation{}, err
	}
	said, err := versionOf(server, info)
	if err != nil {
		return installation{}, err
	}
	m := versionLine().FindStringSubmatch(said)
	if m == nil || (m[3] == "") != e.MySQL {
		return installation{}, fault.New(fault.Lacking, next, "%s is no %s server: %s", server, e.product(), said)
	}
	i := installation{mysql: e.MySQL, server: server, layout: layout, version: m[1] + m[2], major: m[1],
		stamp: info.ModTime().UTC().Format("20060102150405")}
	if version != "" && version != i.major && !strings.HasPrefix(i.major, version+".") {
		return installation{}, fault.New(fault.Lacking, next, "%s %s is wanted, this machine has %s", e.product(), version,
			i.version)
	}
	return i, nil
}

// versionOf is what a program says of its version. To ask takes a process, so the answer
// is kept, under all that is another when the program is.
func versionOf(path string, info os.FileInfo) (string, error) {
	sum := sha256.Sum256(fmt.Append(nil, path, info.Size(), info.ModTime().UnixNano()))
	folder, err := os.UserCacheDir()
	kept := filepath.Join(folder, "hemzo", "version-"+hex.EncodeToString(sum[:8]))
	if err == nil {
		if b, err := os.ReadFile(kept); err == nil {
			return string(b), nil
		}
	}
	out, failed := exec.Command(path, "--no-defaults", "--version").Output()
	if failed != nil {
		return "", fault.New(fault.Lacking, advice, "%s does not tell its version: %v", path, failed)
	}
	said := strings.TrimSpace(string(out))
	if err == nil && os.MkdirAll(filepath.Dir(kept), 0o700) == nil {
		work := kept + "-" + rand.Text()[:8]
		if os.WriteFile(work, []byte(said), 0o600) == nil && os.Rename(work, kept) != nil {
			os.Remove(work)
		}
	}
	return said, nil
}

// program is the first of some that is on PATH, or where servers lie that are not.
func program(names ...string) string {
	for _, name := range names {
		if path, err := exec.LookPath(name); err == nil {
			return path
		}
		for _, folder := range []string{"/usr/sbin", "/usr/local/sbin", "/usr/local/bin", "/usr/libexec",
			"/opt/homebrew/opt/mariadb/bin", "/usr/local/opt/mariadb/bin"} {
			path := filepath.Join(folder, name)
			if info, err := os.Stat(path); err == nil && info.Mode()&0o111 != 0 {
				return path
			}
		}
	}
	return ""
}
