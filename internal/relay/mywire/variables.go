package mywire

import (
	"encoding/hex"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"hemzo/internal/pattern"
	"hemzo/internal/sqltext"
)

// The session's variables are those of one client at a time. When another comes what the
// one before has set is kept in user variables of the relay's own, which have types and
// character sets too, and what the other had is put in its place.

// variables are those that a client has set, or may have.
type variables struct {
	system []string // of the session, in lower case
	user   []string // as statements name them, with @
	slot   int      // which user variables keep them: one that no other client has
	kept   bool     // they do
	// values are those that were in force when the session was given up, as SQL has them
	values map[string]string
}

func (v *variables) note(system, user []string) {
	for _, name := range system {
		if !slices.Contains(v.system, name) {
			v.system = append(v.system, name)
		}
	}
	for _, name := range user {
		if !slices.Contains(v.user, name) && len(v.user) < maxUser {
			v.user = append(v.user, name)
		}
	}
}

// maxUser bounds the user variables of a client; there are names in texts that look alike.
const maxUser = 200

// names are the variables of the session of SET NAMES.
var names = []string{"character_set_client", "character_set_results", "collation_connection"}

// lastInsert is the variable of LAST_INSERT_ID(), which each client has.
const lastInsert = "last_insert_id"

// keptAs is the user variable that keeps a variable of a client, by its kind and its place
// among them: their names may be as long as names can be.
func keptAs(c *client, kind string, i int) string {
	return fmt.Sprintf("@hemzo_%d_%s_%d", c.slot, kind, i)
}

// Kinds of what is kept.
const (
	ofSystem = "system"
	ofUser   = "user"
)

// first is the value of a variable of the session at its beginning, as it was kept. The clock
// has none.
func first(name string) string {
	if name == timestamp {
		return "DEFAULT"
	}
	return firstKept(name)
}

func firstKept(name string) string { return "@`hemzo_0_" + name + "`" }

// timestamp is the variable of a session's clock.
const timestamp = "timestamp"

// set sets variables together, and where the server refuses that each for itself: what it
// refuses then stays as it is.
func (s *session) set(parts []string) error {
	err := s.do("SET " + strings.Join(parts, ", "))
	if !isServers(err) {
		return err
	}
	for _, part := range parts {
		if err := s.do("SET " + part); err != nil && !isServers(err) {
			return err
		}
	}
	return nil
}

// keep are assignments that keep what a client's variables are now.
func keep(c *client) []string {
	parts := []string{keptAs(c, lastInsert, 0) + " = @@session." + lastInsert}
	for i, name := range c.system {
		parts = append(parts, keptAs(c, ofSystem, i)+" = @@session."+name)
	}
	for i, name := range c.user {
		parts = append(parts, keptAs(c, ofUser, i)+" = "+name)
	}
	return parts
}

// restore are assignments that put a client's variables in the place of another's; nil is
// nobody.
func restore(c, other *client) []string {
	parts := []string{lastInsert + " = 0"}
	if c.kept {
		parts[0] = lastInsert + " = CAST(" + keptAs(c, lastInsert, 0) + " AS UNSIGNED)"
	}
	var system, user []string
	if other != nil {
		system, user = other.system, other.user
	}
	for _, name := range system {
		if !slices.Contains(c.system, name) {
			parts = append(parts, "@@session."+name+" = "+first(name))
		}
	}
	for i, name := range c.system {
		parts = append(parts, "@@session."+name+" = "+keptAs(c, ofSystem, i))
	}
	for _, name := range user {
		if !slices.Contains(c.user, name) {
			parts = append(parts, name+" = NULL")
		}
	}
	for i, name := range c.user {
		parts = append(parts, name+" = "+keptAs(c, ofUser, i))
	}
	return parts
}

// settle has a client's variables in force. What it had on a session that was given up is
// told first.
func (s *session) settle(c *client) error {
	if err := s.option(c.capabilities&capMultiStatements != 0); err != nil {
		return err
	}
	if s.current != c {
		if err := s.change(c); err != nil {
			return err
		}
	}
	return s.use(c.schema)
}

func (s *session) change(c *client) error {
	if s.current != nil && !s.left {
		if err := s.set(keep(s.current)); err != nil {
			return fmt.Errorf("keeping what a client has set: %w", err)
		}
		s.current.kept = true
	}
	if c.values != nil {
		if err := s.set(c.told()); err != nil {
			return fmt.Errorf("telling what a client has set: %w", err)
		}
		c.values, c.kept = nil, true
	}
	if err := s.capture(c.system); err != nil {
		return err
	}
	err := s.set(restore(c, s.current))
	if err == nil && c.system == nil && c.naming != "" { // it has set nothing, and said how it writes
		err = s.do(c.naming)
		c.system = slices.Clone(names)
	}
	if err == nil {
		s.current, s.left = c, false
	}
	return err
}

// told are assignments of what a client's variables were on another session.
func (c *client) told() (parts []string) {
	for name, value := range c.values {
		parts = append(parts, name+" = "+value)
	}
	return parts
}

// capture keeps the first values of variables that are about to be set. A name that is
// none is passed over: the server will say so.
func (s *session) capture(system []string) error {
	for _, name := range system {
		if s.known[name] {
			continue
		}
		err := s.do("SET " + firstKept(name) + " = @@session." + name)
		if _, ok := err.(*serverError); ok { //nolint:errorlint // it is returned as it is
			continue
		}
		if err != nil {
			return err
		}
		s.known[name] = true
	}
	return nil
}

// tell notes what a client's variables are, for another session.
func (s *session) tell(c *client) error {
	asked := []string{keptAs(c, lastInsert, 0)}
	for i := range c.system {
		asked = append(asked, keptAs(c, ofSystem, i))
	}
	for i := range c.user {
		asked = append(asked, keptAs(c, ofUser, i))
	}
	row, err := s.one("SELECT " + strings.Join(asked, ", "))
	if err != nil {
		return err
	}
	c.values = map[string]string{}
	for i, v := range row {
		c.values[asked[i]] = v.literal()
	}
	return nil
}

// Types of columns whose values are numbers as they stand.
var numeric = []byte{0, 1, 2, 3, 4, 5, 8, 9, 246}

// literal is a value as SQL has it.
func (v value) literal() string {
	switch {
	case v.null:
		return "NULL"
	case slices.Contains(numeric, v.kind):
		return v.text
	}
	return "_utf8mb4 x'" + hex.EncodeToString([]byte(v.text)) + "'"
}

// userVariable is where one may be named: addresses of mail and names of accounts have
// something before the @.
var userVariable = pattern.Lazy("(?:^|[^\\w.@`'\"-])@(?:[\\w.$]|[`'\"])")

// marks are those of comments that servers run.
var marks = pattern.Lazy(`/\*M?!\d*|\*/`)

// userVariables are the user variables that a text names, as far as they can be told.
func userVariables(d sqltext.Dialect, text string) (all []string) {
	if !strings.Contains(text, "@") || !userVariable().MatchString(text) {
		return nil
	}
	words := sqltext.Words(d, marks().ReplaceAllString(text, " "), 1<<20)
	for i := 0; i+1 < len(words); i++ {
		if words[i] != "@" || i > 0 && words[i-1] == "@" || words[i+1] == "@" {
			continue
		}
		name := words[i+1]
		for i+3 < len(words) && words[i+2] == "." {
			name, i = name+"."+words[i+3], i+2
		}
		if plainName().MatchString(name) || quotedName().MatchString(name) {
			all = append(all, "@"+name)
		}
	}
	return all
}

var (
	plainName  = pattern.Lazy(`^[\w.$]+$`)
	quotedName = pattern.Lazy("^(`[^`]+`|'[^'\\\\]+'|\"[^\"\\\\]+\")$")
)

// setVariables are the variables of the session that a SET names.
func (s *statement) setVariables() (all []string) {
	words, depth, starts := s.words[1:], 0, true
	for i := 0; i < len(words); i++ {
		switch w := words[i]; {
		case w == "(":
			depth++
		case w == ")":
			depth--
		case w == "," && depth == 0:
			starts = true
			continue
		case starts:
			all = append(all, target(words[i:])...)
		}
		starts = false
	}
	return all
}

// target are the variables that an assignment sets, by its words.
func target(words []string) []string {
	for len(words) > 1 && words[0] == "@" {
		if words[1] != "@" {
			return nil // a user variable
		}
		words = words[2:]
		if len(words) > 2 && words[1] == "." && slices.Contains([]string{"SESSION", "LOCAL"}, words[0]) {
			words = words[2:]
		}
	}
	if len(words) > 1 && (words[0] == "SESSION" || words[0] == "LOCAL") {
		words = words[1:]
	}
	switch {
	case len(words) == 0 || slices.Contains([]string{"GLOBAL", "PERSIST", "PERSIST_ONLY"}, words[0]):
		return nil
	case words[0] == "NAMES" || words[0] == "CHARSET" || words[0] == "CHARACTER" && len(words) > 1 && words[1] == "SET":
		return names
	case words[0] == "TRANSACTION":
		return []string{"transaction_isolation", "tx_isolation", "transaction_read_only", "tx_read_only"}
	}
	if name := strings.ToLower(words[0]); plainName().MatchString(name) {
		return []string{name}
	}
	return nil
}

// Variables that are the relay's to keep: in the server's place SET sets a user variable.
var kept = pattern.Lazy(`(?i)(?:@@(?:session\s*\.\s*|local\s*\.\s*)?|\b(?:session|local)\s+|\b)` +
	`(autocommit|wait_timeout|idle_transaction_timeout|idle_write_transaction_timeout|` +
	`idle_readonly_transaction_timeout)\s*(:?=)\s*(DEFAULT\b|ON\b|OFF\b|TRUE\b|FALSE\b)?`)

// autocommit is the user variable that is set in the place of that variable.
const autocommit = "@hemzo__autocommit"

// withoutKept is a SET in which user variables are set where the relay keeps variables.
func withoutKept(text string) string {
	return kept().ReplaceAllStringFunc(text, func(found string) string {
		m := kept().FindStringSubmatch(found)
		value := map[string]string{"default": "1", "on": "1", "true": "1", "off": "0", "false": "0"}[strings.ToLower(m[3])]
		if !strings.EqualFold(m[1], "autocommit") {
			return "@hemzo__unset " + m[2] + " " + value
		}
		return autocommit + " " + m[2] + " " + value
	})
}

// setsKept reports whether a SET names a variable that the relay keeps.
func setsKept(system []string) (autocommits, others bool) {
	for _, name := range system {
		switch name {
		case "autocommit":
			autocommits = true
		case "wait_timeout", "idle_transaction_timeout", "idle_write_transaction_timeout",
			"idle_readonly_transaction_timeout":
			others = true
		}
	}
	return autocommits, others
}

// truth is a value of a switch; it tells also whether it is one.
func truth(v value) (on, ok bool) {
	switch strings.ToLower(v.text) {
	case "on":
		return true, true
	case "off":
		return false, true
	}
	n, err := strconv.Atoi(v.text)
	return n == 1, err == nil && (n == 0 || n == 1)
}
