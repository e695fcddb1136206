package cli_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// certificates writes those of an authority, a server at an address and a client into a
// folder, under the names that container engines' clients look for, and returns the server's
// settings.
func certificates(t *testing.T, dir, at string) *tls.Config {
	pool := x509.NewCertPool()
	var authority *x509.Certificate
	var authorityKey *ecdsa.PrivateKey
	var server tls.Certificate
	for i, name := range []string{"ca", "server", "cert"} {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		require.NoError(t, err)
		wanted := &x509.Certificate{SerialNumber: big.NewInt(int64(i + 1)), Subject: pkix.Name{CommonName: name},
			NotAfter: time.Now().Add(time.Hour), IPAddresses: []net.IP{net.ParseIP(at)}, IsCA: i == 0,
			BasicConstraintsValid: true, KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign,
			ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth}}
		if i == 0 {
			authority, authorityKey = wanted, key
		}
		der, err := x509.CreateCertificate(rand.Reader, wanted, authority, &key.PublicKey, authorityKey)
		require.NoError(t, err)
		private, err := x509.MarshalECPrivateKey(key)
		require.NoError(t, err)
		text := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
		secret := pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: private})
		require.NoError(t, os.WriteFile(filepath.Join(dir, name+".pem"), text, 0o644))
		switch name {
		case "ca":
			pool.AppendCertsFromPEM(text)
		case "server":
			server, err = tls.X509KeyPair(text, secret)
			require.NoError(t, err)
		case "cert":
			require.NoError(t, os.WriteFile(filepath.Join(dir, "key.pem"), secret, 0o600))
		}
	}
	return &tls.Config{Certificates: []tls.Certificate{server}, ClientCAs: pool,
		ClientAuth: tls.RequireAndVerifyClientCert}
}

// passOn listens for clients of the container engine of this machine, by TLS.
func passOn(t *testing.T, at string, settings *tls.Config) (address string) {
	l, err := tls.Listen("tcp", at+":0", settings)
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				engine, err := net.Dial("unix", "/var/run/docker.sock")
				if err != nil {
					return
				}
				defer engine.Close()
				go func() {
					_, _ = io.Copy(engine, c)
					_ = engine.(*net.UnixConn).CloseWrite()
				}()
				_, _ = io.Copy(c, engine)
			}()
		}
	}()
	return l.Addr().String()
}

// secureShell starts a server that lets the client in that the ssh found first runs, and
// returns the folder of that and the server's port.
func secureShell(t *testing.T, at string) (folder, port string) {
	dir := t.TempDir()
	for _, name := range []string{"host", "own"} {
		out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f",
			filepath.Join(dir, name)).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	require.NoError(t, os.MkdirAll("/run/sshd", 0o755)) // where it separates its privileges
	free, err := net.Listen("tcp", at+":0")
	require.NoError(t, err)
	_, port, _ = net.SplitHostPort(free.Addr().String())
	require.NoError(t, free.Close())
	server := exec.Command("/usr/sbin/sshd", "-D", "-e", "-f", "/dev/null", "-h", filepath.Join(dir, "host"), "-o",
		"ListenAddress="+at+":"+port, "-o", "AuthorizedKeysFile="+filepath.Join(dir, "own.pub"), "-o", "StrictModes=no",
		"-o", "PermitRootLogin=prohibit-password", "-o", "PidFile=none", "-o", "UsePAM=no", "-o",
		"SetEnv=PATH="+os.Getenv("PATH"))
	require.NoError(t, server.Start())
	t.Cleanup(func() {
		_ = server.Process.Kill()
		_ = server.Wait()
	})
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", at+":"+port)
		return err == nil && c.Close() == nil
	}, time.Minute, 10*time.Millisecond)
	known, err := os.ReadFile(filepath.Join(dir, "host.pub"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "known"), fmt.Appendf(nil, "[%s]:%s %s", at, port, known), 0o644))
	real, err := exec.LookPath("ssh")
	require.NoError(t, err)
	require.NoError(t, os.Mkdir(filepath.Join(dir, "bin"), 0o755))
	// The files are not those of the user who runs the tests.
	require.NoError(t, os.WriteFile(filepath.Join(dir, "bin", "ssh"), fmt.Appendf(nil,
		"#!/bin/sh\nexec %s -F /dev/null -i %s/own -o UserKnownHostsFile=%s/known \"$@\"\n", real, dir, dir), 0o755))
	return filepath.Join(dir, "bin"), port
}

// TestRemoteEngine: a container engine on another machine, by TLS and by ssh: copies are
// reached at that machine's address, only where it is allowed, and nothing stays there.
func TestRemoteEngine(t *testing.T) {
	if os.Getuid() != 0 {
		return // networks of their own take root
	}
	t.Parallel()
	within, _, at := machines(t, 1)
	certs := t.TempDir()
	address := passOn(t, at, certificates(t, certs, at))
	bin, port := secureShell(t, at)
	for name, reached := range map[string][]string{
		"TLS": {"DOCKER_HOST=tcp://" + address, "DOCKER_TLS_VERIFY=1", "DOCKER_CERT_PATH=" + certs},
		"ssh": {"DOCKER_HOST=ssh://root@" + at + ":" + port,
			"PATH=" + bin + ":" + filepath.Dir(program) + ":" + os.Getenv("PATH")},
	} {
		t.Run(name, func(t *testing.T) {
			root, env := project(t, 3)
			file := func(allowed string) {
				require.NoError(t, os.WriteFile(filepath.Join(root, "hemzo.yaml"), fmt.Appendf(nil, "databases: { apiary: { "+
					"engine: postgres, where: container, image: 'hemzo-test/postgres:%s', from: [ { migrations: m } ] } }\n%s\n",
					major(t), allowed), 0o644))
			}
			hemzo := func(args ...string) (string, error) {
				args = within(0, append([]string{program}, args...)...)
				cmd := exec.Command(args[0], args[1:]...)
				cmd.Dir, cmd.Env = root, append(append([]string{}, env...), reached...)
				out, err := cmd.CombinedOutput()
				return string(out), err
			}
			file("")
			out, err := hemzo("take")
			require.Error(t, err, out)
			assert.Contains(t, out, "allow_hosts")
			file("allow_hosts: [ \"" + at + "\" ]")
			out, err = hemzo("run", "-q", "--", "sh", "-c", `set -e
				psql -qXAt "$DATABASE_URL" -c "INSERT INTO hive_1 VALUES (9, 'x')"
				curl -sf -X POST "$HEMZO_CONTROL/reset" >/dev/null
				psql -XAt "$DATABASE_URL" -c "SELECT count(*) FROM hive_1"
				echo "$DATABASE_URL"`)
			require.NoError(t, err, out)
			lines := strings.Split(strings.TrimSpace(out), "\n")
			require.Len(t, lines, 2, out)
			assert.Equal(t, "0", lines[0])
			assert.Contains(t, lines[1], "@"+at+":")
			out, err = hemzo("stop", "--force", "--templates")
			require.NoError(t, err, out)
		})
	}
}
