package mywire

import (
	"slices"
	"strconv"
	"strings"

	"hemzo/internal/pattern"
	"hemzo/internal/sqltext"
)

// order is what a statement does to transactions and to the session.
type order byte

const (
	plain     order = iota
	writes          // refused in a transaction that only reads
	quiet           // begins no transaction where autocommit is off
	begin           // BEGIN, START TRANSACTION
	commit          // COMMIT
	rollback        // ROLLBACK
	savepoint       // SAVEPOINT
	toSave          // ROLLBACK TO, RELEASE SAVEPOINT
	commits         // commits by itself
	unlock          // UNLOCK TABLES
	set             // SET of variables of the session
	next            // SET TRANSACTION: of the next one
	use             // USE
	kill            // KILL
	branch          // XA
	load            // LOAD DATA LOCAL
	temporary       // CREATE TEMPORARY TABLE
)

// statement is one statement as the relay reads it.
type statement struct {
	order   order
	text    string
	start   int      // where it begins in what was sent
	words   []string // as far as they are needed
	chain   bool     // AND CHAIN
	release bool     // RELEASE
	reads   bool     // READ ONLY
}

// firstWords is how many words tell what a statement does.
const firstWords = 14

// Statements that commit by themselves, by their first words ("Statements That Cause an
// Implicit Commit" of MySQL's manual, "SQL statements That Cause an Implicit Commit" of
// MariaDB's).
var committing = []string{"ALTER", "BACKUP", "CACHE", "CHANGE", "CHECK", "CREATE", "DROP", "FLUSH", "GRANT", "IMPORT",
	"INSTALL", "LOCK", "OPTIMIZE", "RENAME", "REPAIR", "RESET", "REVOKE", "STOP", "TRUNCATE", "UNINSTALL", "RESTART",
	"SHUTDOWN", "CLONE"}

// read tells what a statement does.
func read(d sqltext.Dialect, text string) statement {
	s := statement{text: text, words: sqltext.Words(d, inner(text), firstWords)}
	switch first := s.word(0); first {
	case "":
		s.order = quiet
	case "INSERT", "UPDATE", "DELETE", "REPLACE":
		s.order = writes
	case "LOAD":
		s.loads()
	case "SELECT":
		if asksSession(text) {
			s.order = quiet
		}
	case "SHOW", "HELP", "PREPARE", "DEALLOCATE":
		s.order = quiet
	case "USE":
		s.order = use
	case "KILL":
		s.order = kill
	case "DO":
		if asksSession(text) {
			s.order = quiet
		}
	case "SET":
		s.sets(d, text)
	case "BEGIN", "START", "COMMIT", "ROLLBACK", "SAVEPOINT", "RELEASE":
		s.transaction()
	case "XA":
		if s.order = branch; s.word(1) == "RECOVER" {
			s.order = quiet
		}
	case "UNLOCK":
		s.order = unlock
	default:
		s.defines()
	}
	return s
}

// asksSession reports whether a SELECT asks for what the session has, and no table: any
// other function may be one of the schema's.
func asksSession(text string) bool {
	return !fromTable().MatchString(text) && !strings.Contains(ofSession().ReplaceAllString(text, ""), "(")
}

var (
	fromTable = pattern.Lazy(`(?i)\b(FROM|INTO|FOR|TABLE|NEXTVAL)\b`)
	ofSession = pattern.Lazy(`(?i)\b(DATABASE|SCHEMA|VERSION|CONNECTION_ID|LAST_INSERT_ID|USER|CURRENT_USER|` +
		`SESSION_USER|SYSTEM_USER|CURRENT_ROLE|ROW_COUNT|FOUND_ROWS|NOW|SLEEP|CONCAT|COALESCE|IFNULL|IF|CAST|` +
		`LENGTH|HEX|UPPER|LOWER|REPEAT|UUID|RAND|UNIX_TIMESTAMP)\s*\(`)
)

// inner is what a comment that servers run has inside, where a text is one.
func inner(text string) string {
	m := conditional().FindStringSubmatch(text)
	if m == nil {
		return text
	}
	return m[1]
}

var conditional = pattern.Lazy(`(?s)^\s*/\*M?!\d*(.*)\*/\s*$`)

// word is the i-th word; "" where there are fewer.
func (s *statement) word(i int) string {
	if i < len(s.words) {
		return s.words[i]
	}
	return ""
}

func (s *statement) loads() {
	switch {
	case s.word(1) == "INDEX":
		s.order = commits
	case slices.Contains(s.words[:min(len(s.words), 4)], "LOCAL"):
		s.order = load
	default:
		s.order = writes
	}
}

// defines reads a statement that may commit by itself.
func (s *statement) defines() {
	first, second := s.word(0), s.word(1)
	switch {
	case first == "ANALYZE":
		if slices.Contains([]string{"TABLE", "TABLES", "LOCAL", "NO_WRITE_TO_BINLOG"}, second) {
			s.order = commits
		}
	case first == "CREATE" && (second == "TEMPORARY" || second == "OR" && s.word(3) == "TEMPORARY"):
		s.order = temporary
	case first == "DROP" && (second == "TEMPORARY" || second == "PREPARE"):
		s.order = quiet
	case slices.Contains(committing, first):
		s.order = commits
	}
}

// transaction reads a statement about transactions.
func (s *statement) transaction() {
	second := s.word(1)
	if second == "WORK" {
		second = s.word(2)
	}
	has := func(word string) bool {
		i := slices.Index(s.words, word)
		return i > 0 && s.words[i-1] != "NO"
	}
	s.chain, s.release = has("CHAIN"), has("RELEASE")
	switch s.words[0] {
	case "BEGIN":
		if second != "NOT" { // NOT ATOMIC: a block
			s.order = begin
		}
	case "START":
		switch s.order = commits; second {
		case "TRANSACTION":
			s.order, s.reads = begin, strings.Contains(strings.Join(s.words, " "), "READ ONLY")
		}
	case "COMMIT":
		s.order = commit
	case "ROLLBACK":
		if s.order = rollback; second == "TO" {
			s.order = toSave
		}
	case "SAVEPOINT":
		s.order = savepoint
	case "RELEASE":
		s.order = toSave
	}
}

// sets reads a statement that sets something.
func (s *statement) sets(d sqltext.Dialect, text string) {
	switch s.order = set; s.word(1) {
	case "PASSWORD":
		s.order = commits
	case "STATEMENT": // for one that follows
		s.order = plain
	case "ROLE", "DEFAULT", "RESOURCE":
		s.order = quiet
	case "TRANSACTION":
		s.order, s.reads = next, strings.Contains(strings.Join(s.words, " "), "READ ONLY")
	default:
		s.words = sqltext.Words(d, inner(text), 1<<20)
	}
}

// isBlock reports whether a statement has others in it, up to its END.
func (s statement) isBlock() bool {
	switch s.word(0) {
	case "BEGIN":
		return s.word(1) == "NOT"
	case "IF", "LOOP", "WHILE", "REPEAT", "CASE", "FOR":
		return true
	}
	return false
}

// needsFloor reports whether a statement has to wait for the transactions of others.
func (s statement) needsFloor() bool {
	switch s.order {
	case quiet, next, use, kill:
		return false
	case set:
		return !asksSession(s.text)
	}
	return true
}

// controls reports whether a statement goes to the server by itself, or not at all.
func (s statement) controls() bool { return s.order != plain && s.order != writes && s.order != quiet }

// statements are those of a text, in order.
func statements(d sqltext.Dialect, text string) (all []statement) {
	for p := range sqltext.Statements(d, text) {
		s := read(d, text[p.Start:p.End])
		s.start = p.Start
		all = append(all, s)
	}
	return all
}

// lastName is the last word, as it stands in the text.
func (s statement) lastName() string {
	words := strings.Fields(strings.TrimRight(s.text, "; \t\r\n"))
	return strings.Trim(words[len(words)-1], "`")
}

// killed is whom a KILL names, and whether its connection is to end. Only the number of a
// connection is understood.
func (s statement) killed() (id uint32, connection, ok bool) {
	connection = true
	for _, w := range s.words[1:] {
		switch w {
		case "HARD", "SOFT", "CONNECTION":
		case "QUERY":
			connection = false
		default:
			n, err := strconv.ParseUint(w, 10, 32)
			return uint32(n), connection, err == nil
		}
	}
	return 0, connection, false
}

var temporaryName = pattern.Lazy(
	"(?is)\\bTEMPORARY\\s+TABLE\\s+(?:IF\\s+NOT\\s+EXISTS\\s+)?((?:`(?:[^`]|``)+`|[\\w$\\x80-\\xff]+)" +
		"(?:\\s*\\.\\s*(?:`(?:[^`]|``)+`|[\\w$\\x80-\\xff]+))?)")

// table is the name of a temporary table, as it stands; "" where none is seen.
func (s statement) table() string {
	if m := temporaryName().FindStringSubmatch(s.text); m != nil {
		return m[1]
	}
	return ""
}
