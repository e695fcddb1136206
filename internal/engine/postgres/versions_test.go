package postgres_test

import (
	"flag"
	"os"
	"os/exec"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// otherMajors are the major versions beside this machine's of which there are
// images.
var otherMajors = []string{"13", "17", "18"}

// inside says that the tests run in an image of another major.
const inside = "HEMZO_TEST_INSIDE"

// tests are those that depend on what the server is.
const tests = "TestChanges$|TestChangesByAnyKey|TestSuiteInMemory|TestSuiteExisting|TestPasswords|" +
	"TestRightsOfTests|TestFactsOfTests|TestReplacedAhead|TestResetBlocked|TestKeptFolders|TestReset$|TestLogAgrees|" +
	"TestLogTells|TestGrown|TestSnapshotInPlace|TestUncommitted|TestBuiltIn|TestBuilds|TestSelfTest|TestRandomWork|" +
	"TestMarks|TestResetAfterCrash"

var majorRounds = flag.Int("major-rounds", 5, "how many rounds of random work on each other major version")

// TestOtherMajors runs the tests of servers in memory on other major versions: in
// an image of each, where its programs are.
func TestOtherMajors(t *testing.T) {
	if os.Getenv(inside) != "" {
		t.Skip("this is one of them")
	}
	if os.Getuid() != 0 {
		t.Skip("the images are root's")
	}
	self, err := os.Executable()
	require.NoError(t, err)
	here, err := os.Getwd()
	require.NoError(t, err)
	for _, major := range otherMajors {
		t.Run(major, func(t *testing.T) {
			t.Parallel()
			skipped := "none"
			if major == "13" { // whose dumps tell a schema public that was made anew from the first one
				skipped = "TestBuiltIn"
			}
			out, err := exec.Command("docker", "run", "--rm", "--init", "--shm-size", "1g", "-v", self+":/test:ro",
				"-v", here+":/src:ro", "-w", "/src", "-e", "HOME=/tmp", "-e", inside+"=1", "--entrypoint", "/test",
				"hemzo-test/postgres:"+major, "-test.run", tests, "-test.skip", skipped,
				"-rounds", strconv.Itoa(*majorRounds)).CombinedOutput()
			assert.NoError(t, err, string(out))
		})
	}
}
