package mariadb

import (
	"fmt"
	"os/exec"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestContinueLater: a server that stands still goes on, whatever became of who stopped it.
func TestContinueLater(t *testing.T) {
	cmd := exec.Command("sleep", "100")
	require.NoError(t, cmd.Start())
	defer func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }()
	pid := cmd.Process.Pid
	standsStill := func() bool { return stopped(t.Context(), pid) == nil }
	for _, after := range []time.Duration{time.Hour, 100 * time.Millisecond} {
		end, err := continueLater(pid, after)
		require.NoError(t, err)
		require.NoError(t, syscall.Kill(pid, syscall.SIGSTOP))
		require.True(t, standsStill())
		if after == time.Hour {
			end() // it is ended before its time
			require.True(t, standsStill())
			require.NoError(t, syscall.Kill(pid, syscall.SIGCONT))
			continue
		}
		goesOn := func() bool { return running(fmt.Sprintf("/proc/%d/stat", pid)) }
		require.Eventually(t, goesOn, 20*time.Second, time.Millisecond)
		end()
	}
}
