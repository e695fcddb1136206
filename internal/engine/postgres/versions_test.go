package postgres_test

import (
	"flag"
	"strconv"
	"strings"
	"testing"

	"hemzo/internal/engine/enginetest"
)

// otherMajors are the major versions beside this machine's of which there are
// images.
var otherMajors = []string{"13", "17", "18"}

// tests are those that depend on what the server is.
const tests = "TestChanges$|TestChangesByAnyKey|TestSuiteInMemory|TestSuiteExisting|TestPasswords|" +
	"TestRightsOfTests|TestFactsOfTests|TestReplacedAhead|TestResetBlocked|TestKeptFolders|TestReset$|TestLogAgrees|" +
	"TestLogTells|TestGrown|TestSnapshotInPlace|TestUncommitted|TestBuiltIn|TestBuilds|TestSelfTest|TestRandomWork|" +
	"TestMarks|TestResetAfterCrash"

var majorRounds = flag.Int("major-rounds", 5, "how many rounds of random work on each other major version")

// TestOtherMajors runs the tests of servers in memory on other major versions: in
// an image of each, where its programs are.
func TestOtherMajors(t *testing.T) {
	var images []string
	for _, major := range otherMajors {
		images = append(images, "hemzo-test/postgres:"+major)
	}
	enginetest.InImages(t, images, func(image string) []string {
		skipped := "none"
		if strings.HasSuffix(image, ":13") { // whose dumps tell a schema public that was made anew from the first one
			skipped = "TestBuiltIn"
		}
		return []string{"-test.run", tests, "-test.skip", skipped, "-rounds", strconv.Itoa(*majorRounds)}
	})
}
