package mariadb

import (
	"slices"
	"strings"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
	"hemzo/internal/pattern"
	"hemzo/internal/sqltext"
)

// definer is the clause of a definition that says as whom it runs, before what it defines;
// dumps have it in a comment of its own.
var definer = pattern.Lazy("(?is)^(" + apart + "(?:CREATE|ALTER)\\b" + apart +
	"(?:OR\\s+REPLACE\\b" + apart + ")?(?:ALGORITHM\\s*=\\s*\\w+" + apart + ")?)" +
	"DEFINER\\s*=\\s*(`[^`]+`|'[^']+'|\"[^\"]+\"|\\w+)(?:\\s*@\\s*(?:`[^`]*`|'[^']*'|\"[^\"]*\"|[\\w.%]+))?")

// apart is what may stand between words: blanks, and where comments that servers run begin
// and end.
const apart = `(?:\s|\*/|/\*M?!\d*)*`

// undefined is a statement without its definer, where that is one of some accounts: what it
// defines is then the account's that runs it.
func undefined(text string, accounts []string) string {
	if len(accounts) == 0 {
		return text
	}
	m := definer().FindStringSubmatchIndex(text)
	if m == nil || !named(text[m[4]:m[5]], accounts) {
		return text
	}
	return text[:m[3]] + strings.Repeat(" ", m[1]-m[3]) + text[m[1]:] // places in errors stay
}

// named reports whether a name in a statement is one of some.
func named(name string, some []string) bool {
	name = strings.Trim(name, "`'\"")
	return slices.ContainsFunc(some, func(s string) bool { return strings.EqualFold(s, name) })
}

// aboutAccounts reports whether a statement makes, changes or removes accounts or gives
// them rights.
func aboutAccounts(words []string) bool {
	switch words[0] {
	case "GRANT", "REVOKE":
		return true
	case "CREATE", "ALTER", "DROP", "RENAME":
		return len(words) > 1 && (words[1] == "USER" || words[1] == "ROLE")
	case "SET":
		return len(words) > 1 && (words[1] == "PASSWORD" || words[1] == "ROLE" || words[1] == "DEFAULT")
	}
	return false
}

// ofOthers reports whether a statement about accounts names one of some.
func ofOthers(text string, some []string) bool {
	return slices.ContainsFunc(sqltext.Words(dialect, text, 200), func(w string) bool { return named(w, some) })
}

// noDefiner says of a definer that is not there which key maps it.
func noDefiner(e *fault.Error, text string) {
	if m := definer().FindStringSubmatch(text); m != nil {
		name := strings.Trim(m[2], "`'\"")
		e.Next = "to have it run as the copy's own account, add  roles: [" + name + "]"
	}
}

// rolesOf are the accounts that the sources mention, in order.
func rolesOf(s engine.Spec) []string {
	all := slices.Clone(s.Roles)
	slices.Sort(all)
	return all
}
