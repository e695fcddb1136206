// Package sqltext reads SQL text: it finds where statements begin and end,
// and what their words are. It knows lexical rules, no server and no grammar;
// which rules apply is told by a Dialect.
package sqltext

import (
	"iter"
	"slices"
	"strings"
	"unicode/utf8"
)

// Dialect tells which lexical rules a kind of SQL has beside those that all
// share: '…' strings and "…" names that double their quote, -- and /* */
// comments, and ; between statements.
type Dialect struct {
	Backtick bool // `name`
	Bracket  bool // [name]
	// OpenComment lets a /* comment run to the end of the text.
	OpenComment bool
	// TriggerBody: CREATE TRIGGER ends at "; END", and its body's own
	// semicolons do not end it.
	TriggerBody bool
	// NestedComments lets /* comments stand in one another.
	NestedComments bool
	DollarQuotes   bool // $tag$ ... $tag$
	EscapeStrings  bool // E'...', in which \ escapes
	// Routines: a ; inside brackets, or inside the BEGIN ATOMIC body of a
	// routine, does not end a statement.
	Routines bool
	// Dumps: data lines follow COPY ... FROM stdin; up to a line \. alone, and
	// a line that begins with \ between statements is for the client program.
	Dumps bool
	// Backslashes: in '…' and "…" a backslash takes what follows it.
	Backslashes  bool
	HashComments bool // # to the end of the line; -- is a comment where a blank follows it
	// Conditional: /*! … */ and /*M! … */ are run by servers.
	Conditional bool
	// Delimiters: a line DELIMITER x between statements makes x what ends them.
	Delimiters bool
	// Programs: a ; between BEGIN or CASE and END in the body of a stored program does
	// not end a statement.
	Programs bool
	// Modes: SET sql_mode says how quotes and backslashes are read from there on.
	Modes      bool
	ansiQuotes bool // "…" is a name
}

// Piece is a part of a text: a statement, from its first to its last token
// and without its semicolon, or what stands between two statements.
type Piece struct {
	Start, End int // bytes
	Statement  bool
	Open       string // what was begun and never ended: "string", "name" or "comment"
	OpenAt     int    // where that began
	CopyIn     bool   // a statement that takes data lines: COPY ... FROM stdin
	Data       bool   // the data lines of the COPY before it, without the line \.
	Client     bool   // a line for the client program
}

// Split cuts text into pieces that, put together, are the text. Its time
// grows in proportion to the length of the text.
func Split(d Dialect, text string) []Piece { return slices.Collect(pieces(d, text)) }

// pieces is Split, one piece at a time.
func pieces(d Dialect, text string) iter.Seq[Piece] {
	return func(yield func(Piece) bool) { d.split(text, yield) }
}

func (d Dialect) split(text string, yield func(Piece) bool) {
	var (
		body  triggerBody
		nest  nesting
		prog  program
		ends  = ""   // what ends a statement, where that is not ;
		more  = true // of the pieces are wanted
		usual = d
		begin = -1 // where the present statement began
		last  int  // where its last token ended
		done  int  // where the last piece ended
	)
	add := func(p Piece) {
		if more && p.Start < p.End {
			more = yield(p)
		}
		done = p.End
	}
	// flush adds the present statement, and reports whether data follows it.
	flush := func(open string, openAt int) bool {
		if begin < 0 {
			return false
		}
		copyIn := d.Dumps && isCopyIn(d, text[begin:last])
		add(Piece{Start: done, End: begin})
		add(Piece{Start: begin, End: last, Statement: true, Open: open, OpenAt: openAt, CopyIn: copyIn})
		if d.Modes {
			d.readModes(text[begin:last], usual)
		}
		begin, body, nest, prog = -1, triggerBody{}, nesting{}, program{}
		return copyIn
	}
	// aside adds a piece that is no SQL, behind what stands before it.
	aside := func(start, end int, p Piece) {
		add(Piece{Start: done, End: start})
		p.Start, p.End = start, end
		add(p)
	}
	for at := 0; more && at < len(text); {
		if d.Dumps && begin < 0 && text[at] == '\\' {
			end := lineEnd(text, at)
			aside(at, end, Piece{Client: true})
			at = end
			continue
		}
		if d.Delimiters && begin < 0 {
			if delimiter, end, ok := delimiterLine(text, at); ok {
				aside(at, end, Piece{Client: true})
				if ends = delimiter; ends == ";" {
					ends = ""
				}
				at = end
				continue
			}
		}
		if ends != "" && strings.HasPrefix(text[at:], ends) {
			flush("", 0)
			at += len(ends)
			continue
		}
		t := d.next(text, at)
		at = t.end
		if i := strings.Index(text[t.start:t.end], ends); ends != "" && i > 0 && (t.kind == word || t.kind == space) {
			at = t.start + i // a word ends where the delimiter begins
			t.end = at
		}
		if t.kind == semicolon && ends != "" {
			t.kind = other
		}
		switch {
		case t.kind == space, t.kind == comment:
			if t.open {
				flush("", 0)
				add(Piece{Start: done, End: len(text), Open: "comment", OpenAt: t.start})
				return
			}
			continue
		case t.kind == semicolon && !(d.TriggerBody && body.inside()) && !(d.Routines && nest.inside()) &&
			!(d.Programs && prog.inside()):
			if flush("", 0) {
				start := lineEnd(text, at)
				end, next := dataEnd(text, start)
				aside(start, end, Piece{Data: true})
				at = next
			}
			continue
		}
		if begin < 0 {
			begin = t.start
		}
		last = t.end
		if d.TriggerBody {
			body.read(t, text)
		}
		if d.Routines {
			nest.read(t, text)
		}
		if d.Programs {
			prog.read(t, text)
		}
		if t.open {
			flush(map[kind]string{quoted: "string", name: "name"}[t.kind], t.start)
		}
	}
	flush("", 0)
	add(Piece{Start: done, End: len(text)})
}

type kind int

const (
	space kind = iota
	comment
	semicolon
	word
	quoted
	name
	other
)

type token struct {
	kind       kind
	start, end int
	open       bool // the end of the text came before its own
}

// next reads the token that begins at a byte of the text.
func (d Dialect) next(text string, at int) token {
	c := text[at]
	switch {
	case isSpace(c):
		end := at + 1
		for end < len(text) && isSpace(text[end]) {
			end++
		}
		return token{kind: space, start: at, end: end}
	case c == ';':
		return token{kind: semicolon, start: at, end: at + 1}
	case c == '-' && strings.HasPrefix(text[at:], "--") && (!d.HashComments || blankAt(text, at+2)),
		c == '#' && d.HashComments:
		if n := strings.IndexByte(text[at:], '\n'); n >= 0 {
			return token{kind: comment, start: at, end: at + n + 1}
		}
		return token{kind: comment, start: at, end: len(text)}
	case c == '/' && strings.HasPrefix(text[at:], "/*") && d.NestedComments:
		return nestedComment(text, at)
	case c == '/' && strings.HasPrefix(text[at:], "/*"):
		if d.Conditional {
			if t, ok := d.conditional(text, at); ok {
				return t
			}
		}
		if n := strings.Index(text[at+2:], "*/"); n >= 0 {
			return token{kind: comment, start: at, end: at + 2 + n + 2}
		}
		return token{kind: comment, start: at, end: len(text), open: !d.OpenComment}
	case c == '"' && d.ansiQuotes:
		return quotedBy(text, at, c, name)
	case (c == '\'' || c == '"') && d.Backslashes:
		return backslashed(text, at, c, quoted)
	case c == '\'':
		return quotedBy(text, at, '\'', quoted)
	case c == '"', c == '`' && d.Backtick:
		return quotedBy(text, at, c, name)
	case c == '[' && d.Bracket:
		if n := strings.IndexByte(text[at:], ']'); n >= 0 {
			return token{kind: name, start: at, end: at + n + 1}
		}
		return token{kind: name, start: at, end: len(text), open: true}
	case c == '$' && d.DollarQuotes:
		if t, ok := dollarQuoted(text, at); ok {
			return t
		}
		return token{kind: other, start: at, end: at + 1}
	case d.EscapeStrings && (c == 'e' || c == 'E') && strings.HasPrefix(text[at+1:], "'"):
		return escapeString(text, at)
	case isWord(c):
		end := at + 1
		for end < len(text) && isWord(text[end]) {
			end++
		}
		return token{kind: word, start: at, end: end}
	}
	return token{kind: other, start: at, end: at + 1}
}

// quotedBy reads a text in quotes; a doubled quote stands for itself.
func quotedBy(text string, at int, quote byte, k kind) token {
	for end := at + 1; end < len(text); end++ {
		if text[end] != quote {
			continue
		}
		if end+1 < len(text) && text[end+1] == quote {
			end++
			continue
		}
		return token{kind: k, start: at, end: end + 1}
	}
	return token{kind: k, start: at, end: len(text), open: true}
}

// blankAt reports whether a blank, or nothing, stands at a byte.
func blankAt(text string, at int) bool { return at >= len(text) || text[at] <= ' ' }

func isSpace(c byte) bool {
	return c == ' ' || c == '\n' || c == '\t' || c == '\r' || c == '\f' || c == '\v'
}

// isWord takes every byte of a character beyond ASCII for part of a word, as
// the engines do.
func isWord(c byte) bool {
	return c == '_' || c == '$' || c >= utf8.RuneSelf ||
		'0' <= c && c <= '9' || 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z'
}

// triggerBody follows one statement's tokens to tell whether it is a CREATE
// TRIGGER, and where that ends: at an END that follows a semicolon and is
// followed by one. The END of a CASE never follows a semicolon, so it needs
// no counting.
type triggerBody struct {
	state int
}

const (
	bodyUnknown   = iota // no word has decided yet
	bodyCreate           // CREATE has been read
	bodyNone             // no trigger
	bodyOpen             // inside a trigger
	bodySemicolon        // inside, just behind a semicolon
	bodyEnd              // inside, behind "; END"
)

func (b *triggerBody) inside() bool { return b.state == bodyOpen || b.state == bodySemicolon }

// read takes the statement's next token.
func (b *triggerBody) read(t token, text string) {
	w := ""
	if t.kind == word {
		w = strings.ToUpper(text[t.start:min(t.end, t.start+16)])
	}
	switch b.state {
	case bodyUnknown:
		switch w {
		case "EXPLAIN", "QUERY", "PLAN":
		case "CREATE":
			b.state = bodyCreate
		default:
			b.state = bodyNone
		}
	case bodyCreate:
		switch w {
		case "TEMP", "TEMPORARY":
		case "TRIGGER":
			b.state = bodyOpen
		default:
			b.state = bodyNone
		}
	case bodyOpen, bodySemicolon, bodyEnd:
		switch {
		case t.kind == semicolon:
			b.state = bodySemicolon
		case b.state == bodySemicolon && w == "END":
			b.state = bodyEnd
		default:
			b.state = bodyOpen
		}
	}
}
