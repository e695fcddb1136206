package container

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"net"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/fault"
)

// home is a folder with the engine's own configuration.
func home(t *testing.T, config string) string {
	t.Helper()
	dir := t.TempDir()
	for _, name := range []string{"DOCKER_HOST", "DOCKER_CONTEXT", "DOCKER_TLS_VERIFY", "XDG_RUNTIME_DIR"} {
		t.Setenv(name, "")
	}
	t.Setenv("DOCKER_CONFIG", dir)
	t.Setenv("HOME", dir)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "config.json"), []byte(config), 0o600))
	return dir
}

// TestNamed: DOCKER_HOST before DOCKER_CONTEXT before the configuration file.
func TestNamed(t *testing.T) {
	dir := home(t, `{"currentContext": "orchard"}`)
	for name, host := range map[string]string{"orchard": "tcp://orchard.example.org:2375",
		"meadow": "unix:///run/meadow.sock"} {
		sum := sha256.Sum256([]byte(name))
		meta := filepath.Join(dir, "contexts", "meta", hex.EncodeToString(sum[:]))
		require.NoError(t, os.MkdirAll(meta, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(meta, "meta.json"),
			[]byte(`{"Name": "`+name+`", "Endpoints": {"docker": {"Host": "`+host+`"}}}`), 0o600))
	}
	assert.Equal(t, "tcp://orchard.example.org:2375", Named())
	t.Setenv("DOCKER_CONTEXT", "meadow")
	assert.Equal(t, "unix:///run/meadow.sock", Named())
	t.Setenv("DOCKER_HOST", "tcp://127.0.0.1:1")
	assert.Equal(t, "tcp://127.0.0.1:1", Named())
	t.Setenv("DOCKER_HOST", "")
	t.Setenv("DOCKER_CONTEXT", "nowhere")
	_, err := Find(t.Context())
	assert.ErrorContains(t, err, `DOCKER_CONTEXT is "nowhere"`)
	t.Setenv("DOCKER_CONTEXT", "default")
	assert.Equal(t, "the first that answers", Named())
}

// TestUnreachable: each way not to reach an engine has words of its own.
func TestUnreachable(t *testing.T) {
	home(t, "{}")
	dir := t.TempDir()
	socket := filepath.Join(dir, "mute.sock")
	l, err := net.Listen("unix", socket)
	require.NoError(t, err)
	defer l.Close()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			c.Close()
		}
	}()
	for host, want := range map[string]string{
		"unix://" + filepath.Join(dir, "none.sock"): "no container engine answers",
		"unix://" + socket:                          "does not answer",
		"npipe:////./pipe/engine":                   "Hemzo knows unix, tcp and ssh",
		"ssh://127.0.0.1:1":                         "Connection refused",
		"ssh://-oProxyCommand=true":                 "is not an address",
		"ssh://-l@comb":                             "is not an address",
		"bees":                                      "is not an address",
		"tcp://127.0.0.1:1":                         "no container engine answers",
	} {
		t.Setenv("DOCKER_HOST", host)
		_, err := Find(t.Context())
		assert.ErrorContains(t, err, want, host)
	}
	err = unreachable(endpoint{host: "unix:///x"}, dir,
		&net.OpError{Op: "dial", Err: os.NewSyscallError("connect", syscall.EACCES)})
	assert.ErrorContains(t, err, "is closed to this user")
	assert.Equal(t, fault.Lacking, fault.KindOf(err))
}

func TestHost(t *testing.T) {
	for endpoint, want := range map[string]string{"unix:///var/run/docker.sock": "127.0.0.1 true",
		"tcp://127.0.0.1:2375": "127.0.0.1 true", "tcp://localhost:2375": "localhost true",
		"tcp://10.1.2.3:2375": "10.1.2.3 false", "ssh://keeper@comb:22": "comb false"} {
		host, local := (&Engine{Endpoint: endpoint}).Host()
		assert.Equal(t, want, strings.TrimSpace(host+" "+map[bool]string{true: "true", false: "false"}[local]))
		assert.Equal(t, !local, (&Engine{Endpoint: endpoint}).bind(true).IsUnspecified(),
			"%s: open to others only where it has to be", endpoint)
		assert.False(t, (&Engine{Endpoint: endpoint}).bind(false).IsUnspecified())
	}
}

func TestImageNames(t *testing.T) {
	for name, want := range map[string][2]string{
		"postgres": {"docker.io", "postgres:latest"}, "postgres:15": {"docker.io", "postgres:15"},
		"bees/hives": {"docker.io", "bees/hives:latest"}, "localhost/hives": {"localhost", "localhost/hives:latest"},
		"example.org:5000/hives":       {"example.org:5000", "example.org:5000/hives:latest"},
		"example.org/hives@sha256:abc": {"example.org", "example.org/hives@sha256:abc"},
	} {
		assert.Equal(t, want, [2]string{Registry(name), withTag(name)}, name)
	}
}

// TestAuth: credentials come from the engine's own file, or from the helper
// that it names.
func TestAuth(t *testing.T) {
	dir := home(t, `{"auths": {"example.org": {"auth": "`+
		base64.StdEncoding.EncodeToString([]byte("keeper:secret:more"))+`"}}, "credHelpers": {"helped.org": "hive"}}`)
	helper := filepath.Join(dir, "docker-credential-hive")
	require.NoError(t, os.WriteFile(helper,
		[]byte("#!/bin/sh\nread -r server\necho \"{\\\"Username\\\": \\\"drone\\\", \\\"Secret\\\": \\\"for "+
			"$server\\\"}\"\n"), 0o755))
	t.Setenv("PATH", dir+":"+os.Getenv("PATH"))
	for registry, want := range map[string]string{"example.org": "keeper secret:more",
		"helped.org": "drone for helped.org"} {
		b, err := base64.URLEncoding.DecodeString(auth(registry))
		require.NoError(t, err)
		var got struct{ Username, Password string }
		require.NoError(t, json.Unmarshal(b, &got))
		assert.Equal(t, want, got.Username+" "+got.Password)
	}
	assert.Empty(t, auth("docker.io"))
}

// TestDataFolder: newer images keep their data below their volume.
func TestDataFolder(t *testing.T) {
	r := Request{Data: "PGDATA", Folder: "/var/lib/postgresql/data"}
	folder, mount := dataFolder(r, []string{"PGDATA=/var/lib/postgresql/18/docker"},
		map[string]struct{}{"/var/lib/postgresql": {}})
	assert.Equal(t, "/var/lib/postgresql/18/docker /var/lib/postgresql", folder+" "+mount)
	folder, mount = dataFolder(r, nil, nil)
	assert.Equal(t, r.Folder+" "+r.Folder, folder+" "+mount)
}

// TestFindStops: what listens and says nothing is given up.
func TestFindStops(t *testing.T) {
	home(t, "{}")
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	t.Setenv("DOCKER_HOST", "tcp://"+l.Addr().String())
	ctx, stop := context.WithCancel(t.Context())
	stop()
	_, err = Find(ctx)
	assert.Error(t, err)
}
