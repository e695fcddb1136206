package mariadb

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"

	"hemzo/internal/fault"
)

const advice = "install it (on Debian: apt-get install mariadb-server-core), or put the folders of its programs " +
	"on PATH"

// installation is a MariaDB installation.
type installation struct {
	server  string // the path of mariadbd
	layout  string // of the script that lays out a data folder
	version string // "10.11.6"
	major   string // "10.11"
	stamp   string // changes when another is installed in its place
}

var versionLine = regexp.MustCompile(`Ver ([0-9]+\.[0-9]+)(\.[0-9]+)?-MariaDB`)

// find finds the server of a version; any for "". Distributions have one at a time.
func find(version string) (installation, error) {
	server := program("mariadbd", "mysqld")
	layout := program("mariadb-install-db", "mysql_install_db")
	if server == "" || layout == "" {
		return installation{}, fault.New(fault.Lacking, advice, "there is no MariaDB server on this machine")
	}
	info, err := os.Stat(server)
	if err != nil {
		return installation{}, err
	}
	out, _ := exec.Command(server, "--no-defaults", "--version").Output()
	m := versionLine.FindStringSubmatch(string(out))
	if m == nil {
		return installation{}, fault.New(fault.Lacking, advice, "%s is no MariaDB server: %s", server,
			strings.TrimSpace(string(out)))
	}
	i := installation{server: server, layout: layout, version: m[1] + m[2], major: m[1],
		stamp: info.ModTime().UTC().Format("20060102150405")}
	if version != "" && version != i.major && !strings.HasPrefix(i.major, version+".") {
		return installation{}, fault.New(fault.Lacking, advice, "MariaDB %s is wanted, this machine has %s", version,
			i.version)
	}
	return i, nil
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
