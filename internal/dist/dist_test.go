package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestPackages: what is made can be read by the system's own programs, and twice
// the same makes the same bytes. Manual pages are such.
func TestPackages(t *testing.T) {
	r := release{version: "1.2.3", commit: "abc", at: time.Unix(1_700_000_000, 0).UTC(), to: t.TempDir()}
	texts, err := r.texts()
	require.NoError(t, err)
	all := append([]file{{"bin/hemzo", []byte("#!/bin/sh\necho honey\n"), 0o755}}, texts...)
	var made [2]map[string][]byte
	for i := range made {
		archive, err := r.archive("hemzo-1.2.3", all)
		require.NoError(t, err)
		deb, err := r.deb("amd64", all)
		require.NoError(t, err)
		made[i] = map[string][]byte{"a.tar.gz": archive, "b.deb": deb}
	}
	assert.Equal(t, made[0], made[1])
	require.NoError(t, r.write(made[0]))
	run := func(name string, args ...string) string {
		cmd := exec.Command(name, args...)
		cmd.Dir = r.to
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
		return string(out)
	}
	run("sha256sum", "--check", "SHA256SUMS")
	run("tar", "xzf", "a.tar.gz")
	assert.Equal(t, "honey\n", run("hemzo-1.2.3/bin/hemzo"))
	page, err := os.ReadFile(filepath.Join(r.to, "hemzo-1.2.3/share/man/man1/hemzo-reset.1"))
	require.NoError(t, err)
	assert.Contains(t, string(page), `.TH "HEMZO-RESET" "1"`)
	assert.Contains(t, string(page), "Reset puts copies back to their start state")
	if _, err := exec.LookPath("dpkg-deb"); err == nil { // a system without it has no use for them
		assert.Contains(t, run("dpkg-deb", "--info", "b.deb"), "Package: hemzo")
		assert.Contains(t, run("dpkg-deb", "--contents", "b.deb"), "./usr/share/man/man1/hemzo-take.1")
		run("dpkg-deb", "--extract", "b.deb", "x")
		assert.Equal(t, "honey\n", run("x/usr/bin/hemzo"))
	}
}
