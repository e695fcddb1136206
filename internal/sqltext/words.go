package sqltext

import (
	"iter"
	"strings"
	"unicode/utf8"
)

// Words returns the first n words of a statement in upper case, names in
// quotes and marks of punctuation among them as they stand; comments and
// blank space are passed over. It is what tells one kind of statement from
// another.
func Words(d Dialect, statement string, n int) []string {
	var words []string
	for at := 0; at < len(statement) && len(words) < n; {
		t := d.next(statement, at)
		at = t.end
		switch t.kind {
		case space, comment:
		case word:
			words = append(words, strings.ToUpper(statement[t.start:t.end]))
		default:
			words = append(words, statement[t.start:t.end])
		}
	}
	return words
}

// Position returns the line and the column of a byte of the text, both
// counted from 1, the column in characters.
func Position(text string, offset int) (line, column int) {
	offset = min(max(offset, 0), len(text))
	before := text[:offset]
	start := strings.LastIndexByte(before, '\n') + 1
	return strings.Count(before, "\n") + 1, utf8.RuneCountInString(before[start:]) + 1
}

// Statements yields the statements of a text, in order.
func Statements(d Dialect, text string) iter.Seq[Piece] {
	return func(yield func(Piece) bool) {
		for p := range pieces(d, text) {
			if p.Statement && !yield(p) {
				return
			}
		}
	}
}
