package postgres

import "regexp"

var (
	// What format('%I.%I') writes, and nothing behind it.
	qualifiedName = regexp.MustCompile(`^("([^"]|"")+"|[a-z_][a-z0-9_]*)\.("([^"]|"")+"|[a-z_][a-z0-9_]*)$`)
	catalogName   = regexp.MustCompile(`^[a-z_][a-z0-9_]*$`)
	wholeNumber   = regexp.MustCompile(`^[0-9]*$`)
)

// safe reports whether all that of a baseline gets into statements is a name or
// a number: where tests log in as the role that made a copy they could have
// written it, and an administrator may work on that copy too.
func (b baseline) safe() bool {
	ok := wholeNumber.MatchString(b.Next)
	for _, m := range b.Tables {
		ok = ok && qualifiedName.MatchString(m.Name) && wholeNumber.MatchString(m.Since)
	}
	for _, m := range b.Catalogs {
		ok = ok && catalogName.MatchString(m.Name) && wholeNumber.MatchString(m.Since)
	}
	for _, c := range b.Counters {
		ok = ok && qualifiedName.MatchString(c.Name)
	}
	return ok
}
