package sqltext

import (
	"slices"
	"strings"
)

// nestedComment reads a comment in which others may stand.
func nestedComment(text string, at int) token {
	depth := 0
	for end := at; end+1 < len(text); {
		switch text[end : end+2] {
		case "/*":
			depth++
			end += 2
		case "*/":
			depth--
			end += 2
			if depth == 0 {
				return token{kind: comment, start: at, end: end}
			}
		default:
			end++
		}
	}
	return token{kind: comment, start: at, end: len(text), open: true}
}

// dollarQuoted reads $tag$ ... $tag$; false where no quote begins.
func dollarQuoted(text string, at int) (token, bool) {
	end := at + 1
	for end < len(text) && text[end] != '$' && isWord(text[end]) {
		end++
	}
	if end == len(text) || text[end] != '$' || end > at+1 && '0' <= text[at+1] && text[at+1] <= '9' {
		return token{}, false
	}
	tag := text[at : end+1]
	if n := strings.Index(text[end+1:], tag); n >= 0 {
		return token{kind: quoted, start: at, end: end + 1 + n + len(tag)}, true
	}
	return token{kind: quoted, start: at, end: len(text), open: true}, true
}

// escapeString reads E'...', in which a backslash takes what follows it.
func escapeString(text string, at int) token {
	for end := at + 2; end < len(text); end++ {
		switch text[end] {
		case '\\':
			end++
		case '\'':
			if end+1 < len(text) && text[end+1] == '\'' {
				end++
				continue
			}
			return token{kind: quoted, start: at, end: end + 1}
		}
	}
	return token{kind: quoted, start: at, end: len(text), open: true}
}

// nesting follows one statement's tokens to tell whether a semicolon stands
// inside brackets or inside the BEGIN ATOMIC body of a routine.
type nesting struct {
	brackets int
	depth    int  // of BEGIN and CASE in a body
	words    int  // read so far
	routine  bool // the statement makes a function or a procedure
	begin    bool // the last word was BEGIN
	create   bool // the first word was CREATE
}

func (n *nesting) inside() bool { return n.brackets > 0 || n.depth > 0 }

func (n *nesting) read(t token, text string) {
	if t.kind == other {
		switch text[t.start] {
		case '(':
			n.brackets++
		case ')':
			n.brackets = max(n.brackets-1, 0)
		}
	}
	if t.kind != word {
		return
	}
	w := strings.ToUpper(text[t.start:min(t.end, t.start+16)])
	n.words++
	if n.words == 1 {
		n.create = w == "CREATE"
	}
	// CREATE [OR REPLACE] FUNCTION | PROCEDURE
	if n.create && n.words <= 4 && (w == "FUNCTION" || w == "PROCEDURE") {
		n.routine = true
	}
	switch {
	case !n.routine || n.brackets > 0:
	case n.depth == 0:
		if n.begin && w == "ATOMIC" {
			n.depth = 1
		}
	case w == "CASE":
		n.depth++
	case w == "END":
		n.depth--
	}
	n.begin = w == "BEGIN"
}

// isCopyIn reports whether a statement is COPY ... FROM STDIN.
func isCopyIn(d Dialect, statement string) bool {
	if len(statement) < 4 || !strings.EqualFold(statement[:4], "COPY") {
		return false
	}
	words := Words(d, statement, 10_000)
	i := slices.Index(words, "FROM")
	return words[0] == "COPY" && i > 0 && i+1 < len(words) && words[i+1] == "STDIN"
}

// lineEnd returns where the line after the present one begins.
func lineEnd(text string, at int) int {
	if n := strings.IndexByte(text[at:], '\n'); n >= 0 {
		return at + n + 1
	}
	return len(text)
}

// dataEnd returns where data lines end, and where the line after \. begins.
func dataEnd(text string, at int) (end, next int) {
	for at < len(text) {
		after := lineEnd(text, at)
		if strings.TrimRight(text[at:after], "\r\n") == "\\." {
			return at, after
		}
		at = after
	}
	return at, at
}
