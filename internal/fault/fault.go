// Package fault holds the one error type that carries what a user needs:
// what kind of failure it was, where it happened, what the other side said,
// and what to do next. Every package may use it; only the command line
// prints it.
package fault

import (
	"errors"
	"fmt"
	"strings"
)

// Kind says how a failure is answered. Its value is the exit code.
type Kind int

// The kinds of failure.
const (
	Failed     Kind = 1 // the work was tried and did not succeed
	Usage      Kind = 2 // wrong usage or a wrong project file
	Lacking    Kind = 3 // this machine lacks what is needed
	StepFailed Kind = 4 // a step of the sources failed
	Refused    Kind = 5 // refused for safety
)

// Position is a place in a file. Line and Column count from 1, columns in
// characters; zero means unknown.
type Position struct {
	File   string `json:"file,omitempty"`
	Line   int    `json:"line,omitempty"`
	Column int    `json:"column,omitempty"`
}

// String returns FILE:LINE:COLUMN, as far as known.
func (p Position) String() string {
	switch {
	case p.File == "" && p.Line > 0:
		return fmt.Sprintf("line %d, column %d", p.Line, max(p.Column, 1))
	case p.Line == 0:
		return p.File
	case p.Column == 0:
		return fmt.Sprintf("%s:%d", p.File, p.Line)
	}
	return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column)
}

// Error is a failure as a user is told it. Only What is required.
type Error struct {
	Kind   Kind
	What   string   // what went wrong, one sentence without a full stop
	Where  Position // the place in a file that it is about
	Said   string   // what the server or the system said, word for word
	Code   string   // the server's code for it
	Lines  []string // material: a statement, the last lines of an output
	Next   string   // what to do next
	Reason error    // the cause, for errors.Is and errors.As
}

// Error returns the failure in one line.
func (e *Error) Error() string {
	var b strings.Builder
	if at := e.Where.String(); at != "" {
		b.WriteString(at + ": ")
	}
	b.WriteString(e.What)
	if e.Said != "" {
		b.WriteString(": " + e.Said)
	}
	if e.Code != "" {
		b.WriteString(" (" + e.Code + ")")
	}
	return b.String()
}

// Unwrap returns the cause.
func (e *Error) Unwrap() error { return e.Reason }

// KindOf returns the kind of the first Error in err's chain; Failed where
// there is none.
func KindOf(err error) Kind {
	if e, ok := errors.AsType[*Error](err); ok && e.Kind != 0 {
		return e.Kind
	}
	return Failed
}

// New returns an Error of a kind with a formatted What and what to do next.
func New(kind Kind, next, format string, args ...any) *Error {
	return &Error{Kind: kind, What: fmt.Sprintf(format, args...), Next: next}
}

// Excerpt returns the first lines of a statement, for Error.Lines; nil where it
// is empty.
func Excerpt(statement string) []string {
	if statement == "" {
		return nil
	}
	lines := strings.Split(statement, "\n")
	if len(lines) > 6 {
		lines = append(lines[:5], "...")
	}
	return lines
}

// LastLines returns the last n lines of an output, for Error.Lines; nil where
// it is blank.
func LastLines(output string, n int) []string {
	output = strings.TrimSpace(output)
	if output == "" {
		return nil
	}
	lines := strings.Split(output, "\n")
	return lines[max(len(lines)-n, 0):]
}
