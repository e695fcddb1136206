package sqltext

import (
	"strings"

	"hemzo/internal/pattern"
)

// modeSet is what a statement sets sql_mode to.
var modeSet = pattern.Lazy(`(?is)^(?:/\*M?!\d*\s*)?SET\s(?:.*[\s,])?(?:@@)?(?:(?:SESSION|LOCAL)[\s.]\s*)?` +
	`SQL_MODE\s*:?=\s*(.*)`)

// ansiModes are those in which "…" is a name, by themselves or as a part of what they mean.
var ansiModes = pattern.Lazy(`\b(ANSI_QUOTES|ANSI|ORACLE|MSSQL|DB2|MAXDB|POSTGRESQL)\b`)

// readModes reads the modes that a statement sets; where it takes them from a variable they
// are the usual ones again, as at the end of a dump.
func (d *Dialect) readModes(statement string, usual Dialect) {
	if !strings.EqualFold(statement[:min(3, len(statement))], "SET") && !strings.HasPrefix(statement, "/*") {
		return
	}
	m := modeSet().FindStringSubmatch(statement)
	if m == nil {
		return
	}
	modes := strings.ToUpper(m[1])
	d.Backslashes = usual.Backslashes && !strings.Contains(modes, "NO_BACKSLASH_ESCAPES")
	d.ansiQuotes = ansiModes().MatchString(modes)
}

// backslashed reads a text in quotes in which a backslash takes what follows it.
func backslashed(text string, at int, quote byte, k kind) token {
	for end := at + 1; end < len(text); end++ {
		switch text[end] {
		case '\\':
			end++
		case quote:
			if end+1 < len(text) && text[end+1] == quote {
				end++
				continue
			}
			return token{kind: k, start: at, end: end + 1}
		}
	}
	return token{kind: k, start: at, end: len(text), open: true}
}

// conditional reads /*! ... */ or /*M! ... */, which a server runs: what looks like its
// end inside a string is none. false where no such comment begins.
func (d Dialect) conditional(text string, at int) (token, bool) {
	rest := text[at+2:]
	if !strings.HasPrefix(rest, "!") && !strings.HasPrefix(rest, "M!") {
		return token{}, false
	}
	for end := at + 3; end < len(text); {
		if strings.HasPrefix(text[end:], "*/") {
			return token{kind: other, start: at, end: end + 2}, true
		}
		c := text[end]
		if c == '\'' || c == '"' || c == '`' {
			t := d.next(text, end)
			end = t.end
			continue
		}
		if strings.HasPrefix(text[end:], "/*") {
			end = d.next(text, end).end
			continue
		}
		end++
	}
	return token{kind: comment, start: at, end: len(text), open: true}, true
}

// delimiterLine reports what a line that begins at a byte makes the delimiter; false
// where it is no such line.
func delimiterLine(text string, at int) (delimiter string, end int, ok bool) {
	const word = "delimiter"
	end = lineEnd(text, at)
	line := strings.TrimRight(text[at:end], "\r\n")
	if len(line) <= len(word) || !strings.EqualFold(line[:len(word)], word) || !isSpace(line[len(word)]) {
		return "", 0, false
	}
	words := strings.Fields(line[len(word):])
	if len(words) == 0 {
		return "", 0, false
	}
	return words[0], end, true
}

// program follows one statement's tokens to tell whether a semicolon stands in the body
// of a stored program: between BEGIN or CASE and its END.
type program struct {
	words  int
	first  string
	stored bool
	depth  int
	ended  bool // the last word was END
}

func (p *program) inside() bool { return p.depth > 0 }

// programKinds are what CREATE makes that has a body.
var programKinds = map[string]bool{"PROCEDURE": true, "FUNCTION": true, "TRIGGER": true, "EVENT": true, "PACKAGE": true}

func (p *program) read(t token, text string) {
	if t.kind != word {
		p.ended = false
		return
	}
	w := strings.ToUpper(text[t.start:min(t.end, t.start+16)])
	p.words++
	ended := p.ended
	p.ended = false
	switch {
	case p.words == 1:
		p.first = w
	case !p.stored:
		p.stored = p.first == "CREATE" && p.words < 16 && programKinds[w]
	case ended && w == "CASE": // END CASE
	case ended && (w == "IF" || w == "LOOP" || w == "WHILE" || w == "REPEAT" || w == "FOR"):
		p.depth++ // it was no END of what is counted
	case w == "BEGIN" || w == "CASE":
		p.depth++
	case w == "END" && p.depth > 0:
		p.depth--
		p.ended = true
	}
}
