package postgres

import "strings"

// plainInsert reports of a statement that it inserts rows of literals, and into which
// table, as it is written there: INSERT INTO name (columns) VALUES (literals), and nothing
// else. What it does not know it takes for something else.
func plainInsert(text string) (table string, plain bool) {
	s := scanner{text: text}
	if !s.word("insert") || !s.word("into") {
		return "", false
	}
	begin := s.at
	if !s.name() || s.mark('.') && !s.name() {
		return "", false
	}
	table = strings.TrimSpace(text[begin:s.at])
	if s.mark('(') && !s.list(s.name) {
		return "", false
	}
	if !s.word("values") {
		return "", false
	}
	for s.mark('(') && s.list(s.literal) {
		if s.at == len(text) {
			return table, true
		}
		if !s.mark(',') {
			break
		}
	}
	return "", false
}

// scanner reads a statement from left to right. Each method reports whether what it
// looks for is next, and passes over it and the blanks behind it.
type scanner struct {
	text string
	at   int
}

func (s *scanner) blanks() {
	for s.at < len(s.text) && strings.IndexByte(" \t\r\n", s.text[s.at]) >= 0 {
		s.at++
	}
}

func (s *scanner) mark(b byte) bool {
	if s.at == len(s.text) || s.text[s.at] != b {
		return false
	}
	s.at++
	s.blanks()
	return true
}

// list reads what stands between commas up to a closing bracket.
func (s *scanner) list(item func() bool) bool {
	for item() {
		if s.mark(')') {
			return true
		}
		if !s.mark(',') {
			return false
		}
	}
	return false
}

// letters returns the letters, digits and underlines that are next.
func (s *scanner) letters() string {
	end := s.at
	for end < len(s.text) {
		switch b := s.text[end]; {
		case 'a' <= b && b <= 'z', 'A' <= b && b <= 'Z', '0' <= b && b <= '9', b == '_':
			end++
			continue
		}
		break
	}
	return s.text[s.at:end]
}

// word reads a word, in small letters here.
func (s *scanner) word(want string) bool {
	if !strings.EqualFold(s.letters(), want) {
		return false
	}
	s.at += len(want)
	s.blanks()
	return true
}

// name reads a name, in quotes or not.
func (s *scanner) name() bool {
	if s.at < len(s.text) && s.text[s.at] == '"' {
		return s.quoted('"')
	}
	letters := s.letters()
	if letters == "" || '0' <= letters[0] && letters[0] <= '9' {
		return false
	}
	s.at += len(letters)
	s.blanks()
	return true
}

// quoted reads what stands between two quotes, in which one is doubled.
func (s *scanner) quoted(quote byte) bool {
	for at := s.at + 1; at < len(s.text); at++ {
		if s.text[at] != quote {
			continue
		}
		if at+1 < len(s.text) && s.text[at+1] == quote {
			at++
			continue
		}
		s.at = at + 1
		s.blanks()
		return true
	}
	return false
}

func (s *scanner) literal() bool {
	if s.at == len(s.text) {
		return false
	}
	switch b := s.text[s.at]; {
	case b == '\'':
		return s.quoted('\'')
	case b == '-' || b == '.' || '0' <= b && b <= '9':
		return s.number()
	}
	return s.word("null") || s.word("true") || s.word("false") || s.word("default")
}

// number reads digits with a point and an exponent.
func (s *scanner) number() bool {
	if s.text[s.at] == '-' {
		s.at++
	}
	begin := s.at
	digits := func() {
		for s.at < len(s.text) && '0' <= s.text[s.at] && s.text[s.at] <= '9' {
			s.at++
		}
	}
	digits()
	if s.at < len(s.text) && s.text[s.at] == '.' {
		s.at++
		digits()
	}
	if s.at == begin || s.at == begin+1 && s.text[begin] == '.' {
		return false
	}
	if s.at < len(s.text) && (s.text[s.at] == 'e' || s.text[s.at] == 'E') {
		if s.at++; s.at < len(s.text) && (s.text[s.at] == '-' || s.text[s.at] == '+') {
			s.at++
		}
		digits()
	}
	if s.letters() != "" {
		return false
	}
	s.blanks()
	return true
}
