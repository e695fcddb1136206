// Package pattern has regular expressions compiled when they are first used: a program that
// compiles all of them takes a millisecond longer to start.
package pattern

import (
	"regexp"
	"sync"
)

// Lazy returns a function that gives a regular expression. Its first call panics where the
// text is none. It may be called from several goroutines.
func Lazy(text string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(text) })
}
