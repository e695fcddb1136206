package enginetest

import (
	"os"
	"os/exec"
	"testing"

	"github.com/stretchr/testify/require"

	"hemzo/internal/container"
)

// Containers skips a test where there are none; root has them installed.
func Containers(t testing.TB) {
	docker, err := container.Find(t.Context())
	if err != nil && os.Getuid() != 0 {
		t.Skip(err)
	}
	require.NoError(t, err)
	require.NoError(t, docker.Close())
}

// Inside is the variable that names the image in which tests run, of another version than
// this machine's servers; see InImages.
const Inside = "HEMZO_TEST_INSIDE"

// InImages runs tests of this package in images, where their servers' programs are: args
// gives those of the tests' program.
func InImages(t *testing.T, images []string, args func(image string) []string) {
	if os.Getenv(Inside) != "" {
		t.Skip("this is one of them")
	}
	if os.Getuid() != 0 {
		t.Skip("the images are root's")
	}
	self, err := os.Executable()
	require.NoError(t, err)
	here, err := os.Getwd()
	require.NoError(t, err)
	for _, image := range images {
		t.Run(image, func(t *testing.T) {
			t.Parallel()
			run := append([]string{"run", "--rm", "--init", "--shm-size", "1g", "-v", self + ":/test:ro",
				"-v", here + ":/src:ro", "-w", "/src", "-e", "HOME=/tmp", "-e", Inside + "=" + image,
				"--entrypoint", "/test", image}, args(image)...)
			out, err := exec.Command("docker", run...).CombinedOutput()
			require.NoError(t, err, string(out))
		})
	}
}
