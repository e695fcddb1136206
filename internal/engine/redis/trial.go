package redis

import (
	"fmt"
	"strings"

	"hemzo/internal/engine"
)

// imitation is what tests do, in this language.
func imitation() *engine.Trial {
	sets := func(n int) string {
		var text strings.Builder
		text.WriteString("MSET")
		for i := range n {
			fmt.Fprintf(&text, " hemzo:trial:%d %d", i, i)
		}
		return text.String()
	}
	return &engine.Trial{
		Nothing: "PING",
		Few:     func(string) string { return sets(5) },
		Many:    func(string) string { return sets(1000) },
		Empty:   func([]string) string { return "FLUSHDB" },
	}
}
