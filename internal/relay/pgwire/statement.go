package pgwire

import (
	"slices"
	"strings"

	"hemzo/internal/pattern"
	"hemzo/internal/sqltext"
)

// order is what a statement does to transactions, settings and names.
type order byte

const (
	plain      order = iota
	begin            // BEGIN, START TRANSACTION
	commit           // COMMIT, END
	rollback         // ROLLBACK, ABORT
	savepoint        // SAVEPOINT, RELEASE, ROLLBACK TO: inside transactions alone
	inside           // LOCK, DECLARE without HOLD: likewise
	set              // SET, RESET
	local            // SET LOCAL, SET CONSTRAINTS, SET TRANSACTION
	level            // SET TRANSACTION ISOLATION LEVEL
	twoPhase         // PREPARE TRANSACTION
	named            // PREPARE, EXECUTE, DEALLOCATE
	deallocate       // DEALLOCATE ALL
	discard          // DISCARD ALL
	listen           // LISTEN, UNLISTEN
	notify           // NOTIFY
)

// statement is one statement as the relay reads it.
type statement struct {
	order order
	text  string
	words []string // the first ones
	tag   string   // what a server answers
	chain bool     // AND CHAIN
	reads bool     // READ ONLY
	warns string   // what is asked for and not done
}

// firstWords is how many words tell what a statement does.
const firstWords = 12

// read tells what a statement does.
func (r *Relay) read(text string) statement {
	s := statement{text: text, words: sqltext.Words(r.config.Dialect, text, firstWords)}
	if len(s.words) == 0 {
		return s
	}
	switch s.words[0] {
	case "BEGIN", "START", "COMMIT", "END", "ROLLBACK", "ABORT", "SAVEPOINT", "RELEASE":
		s.transaction()
	case "LOCK":
		s.order = inside
	case "DECLARE":
		if !withHold().MatchString(text) {
			s.order = inside
		}
	case "SET", "RESET":
		s.sets()
	case "PREPARE", "EXECUTE", "DEALLOCATE", "DISCARD":
		s.names()
	case "LISTEN", "UNLISTEN":
		s.order, s.tag = listen, s.words[0]
	case "NOTIFY":
		s.order, s.tag = notify, "NOTIFY"
	}
	return s
}

var withHold = pattern.Lazy(`(?i)\bWITH\s+HOLD\b`)

// word is the i-th word; "" where there are fewer.
func (s *statement) word(i int) string {
	if i < len(s.words) {
		return s.words[i]
	}
	return ""
}

// transaction reads a statement about transactions.
func (s *statement) transaction() {
	second := s.word(1)
	if second == "WORK" || second == "TRANSACTION" {
		second = s.word(2)
	}
	switch s.words[0] {
	case "BEGIN":
		s.order, s.tag = begin, "BEGIN"
	case "START":
		if s.word(1) == "TRANSACTION" {
			s.order, s.tag = begin, "START TRANSACTION"
		}
	case "COMMIT", "END":
		s.order, s.tag = commit, "COMMIT"
	case "ROLLBACK", "ABORT":
		if s.order, s.tag = rollback, "ROLLBACK"; second == "TO" {
			s.order = savepoint
		}
	default:
		s.order = savepoint
	}
	if s.order == begin {
		s.modes()
	}
	if s.word(1) == "PREPARED" { // the server refuses it inside a transaction
		s.order = plain
	}
	s.chain = second == "AND" && !slices.Contains(s.words, "NO")
}

// sets reads a statement about settings.
func (s *statement) sets() {
	s.order = set
	switch s.word(1) {
	case "LOCAL", "CONSTRAINTS":
		s.order = local
	case "TRANSACTION":
		if s.order = local; slices.Contains(s.words, "ISOLATION") {
			s.order, s.tag = level, "SET"
			s.modes()
		}
	}
}

// names reads a statement about prepared ones.
func (s *statement) names() {
	s.order = named
	switch {
	case s.words[0] == "PREPARE" && s.word(1) == "TRANSACTION":
		s.order = twoPhase
	case s.words[0] == "DEALLOCATE" && (s.word(1) == "ALL" || s.word(1) == "PREPARE" && s.word(2) == "ALL"):
		s.order, s.tag = deallocate, "DEALLOCATE ALL"
	case s.words[0] == "DISCARD":
		if s.order = plain; s.word(1) == "ALL" {
			s.order, s.tag = discard, "DISCARD ALL"
		}
	}
}

// modes reads how a transaction is wanted.
func (s *statement) modes() {
	text := strings.Join(s.words, " ")
	s.reads = strings.Contains(text, "READ ONLY")
	for _, level := range []string{"REPEATABLE READ", "SERIALIZABLE"} {
		if strings.Contains(text, "ISOLATION LEVEL "+level) {
			s.warns = "resets by rollback: transactions run at the isolation level read committed, not " +
				strings.ToLower(level)
		}
	}
}

// statements are those of a text, in order.
func (r *Relay) statements(text string) (all []statement) {
	for p := range sqltext.Statements(r.config.Dialect, text) {
		all = append(all, r.read(text[p.Start:p.End]))
	}
	return all
}

// controls reports whether a statement is the relay's to do.
func (s statement) controls() bool { return s.order != plain && s.order != local }

// name is that of a setting in SET or RESET, in lower case; "" where a statement
// sets none of its own session.
func (s statement) setting() string {
	words := s.words[1:]
	if len(words) > 0 && words[0] == "SESSION" {
		words = words[1:]
	}
	if len(words) == 0 {
		return ""
	}
	switch {
	case words[0] == "TIME" && len(words) > 1 && words[1] == "ZONE":
		return "timezone"
	case words[0] == "NAMES":
		return "client_encoding"
	case words[0] == "SCHEMA":
		return "search_path"
	case words[0] == "CHARACTERISTICS":
		if slices.Contains(words, "ISOLATION") {
			return "default_transaction_isolation"
		}
		return "default_transaction_read_only"
	}
	name := strings.ToLower(words[0])
	if len(words) > 2 && words[1] == "." {
		name += "." + strings.ToLower(words[2])
	}
	return name
}

// fatalSettings would end the one session that all share.
var fatalSettings = []string{"idle_in_transaction_session_timeout", "idle_session_timeout", "transaction_timeout"}

// statementName is the name after PREPARE, EXECUTE or DEALLOCATE.
var statementName = pattern.Lazy(
	`(?is)^(\s*(?:PREPARE|EXECUTE|DEALLOCATE(?:\s+PREPARE)?)\s+)("(?:[^"]|"")+"|[a-z_\x80-\xff][\w$\x80-\xff]*)`)

// renamed is a statement of the kind named with the name that it has on the server. One
// that the client does not know stays: all that are there have names of the relay's.
func (c *client) renamed(text string) string {
	m := statementName().FindStringSubmatchIndex(text)
	if m == nil {
		return text
	}
	name := text[m[4]:m[5]]
	if quoted, ok := strings.CutPrefix(name, `"`); ok {
		name = strings.ReplaceAll(strings.TrimSuffix(quoted, `"`), `""`, `"`)
	} else {
		name = strings.ToLower(name)
	}
	prepares := strings.EqualFold(strings.TrimSpace(text[m[2]:m[3]]), "PREPARE")
	if c.statements[name] == nil && !prepares {
		return text
	}
	own := c.statementOf(name)
	if strings.HasPrefix(strings.ToUpper(strings.TrimSpace(text)), "DEALLOCATE") {
		delete(c.statements, name)
	}
	return text[:m[4]] + own + text[m[5]:]
}
