package source

import (
	"cmp"
	"path/filepath"
	"slices"
	"strings"

	"hemzo/internal/fault"
)

// place returns the leading run of numbers of a name, each without its
// leading zeros: "2024-01-05_hives.sql" gives 2024, 1, 5. Parts are joined by
// '.', '-' or '_'; what has a letter in it is no part, so "0001_2nd_hive"
// gives 1.
func place(name string) []string {
	var parts []string
	for {
		n := 0
		for n < len(name) && '0' <= name[n] && name[n] <= '9' {
			n++
		}
		if n == 0 || n < len(name) && !strings.ContainsRune("._- ", rune(name[n])) {
			return parts
		}
		parts = append(parts, strings.TrimLeft(name[:n], "0"))
		if n == len(name) {
			return parts
		}
		name = name[n+1:]
	}
}

// compareNumbers compares digits of any length without leading zeros.
func compareNumbers(a, b string) int {
	if c := cmp.Compare(len(a), len(b)); c != 0 {
		return c
	}
	return strings.Compare(a, b)
}

// order sorts by place, part by part, then by name. Names without a number
// come last.
func order(all []entry, byName bool) {
	slices.SortStableFunc(all, func(a, b entry) int {
		if !byName {
			if c := comparePlaces(place(a.name), place(b.name)); c != 0 {
				return c
			}
		}
		return strings.Compare(a.name, b.name)
	})
}

func comparePlaces(a, b []string) int {
	if len(a) == 0 || len(b) == 0 {
		return cmp.Compare(len(b), len(a))
	}
	return slices.CompareFunc(a, b, compareNumbers)
}

func unnumbered(all []entry) (n int) {
	for _, e := range all {
		if len(place(e.name)) == 0 {
			n++
		}
	}
	return n
}

// opposites are words by which names tell the two directions of a change.
var opposites = [][2]string{
	{"up", "down"}, {"do", "undo"}, {"apply", "revert"}, {"apply", "undo"},
	{"forward", "back"}, {"forward", "backward"}, {"deploy", "revert"}, {"in", "out"},
}

// noTwins refuses what leaves the order, or the direction, to chance.
func noTwins(all []entry, item Item) error {
	byStem := map[string]entry{}
	for _, e := range all {
		name := stem(e.name)
		if same, ok := byStem[name]; ok {
			return fault.New(fault.Usage, "rename one of them, or leave one out with skip",
				"two migrations have the same place and name: %s and %s", same.path, e.path)
		}
		byStem[name] = e
	}
	for _, e := range all {
		if undo, pattern, ok := undoPartner(e, byStem); ok {
			return fault.New(fault.Usage, "add this line to the source in the project file:  undo: \""+pattern+"\"",
				"%s looks like the file that undoes %s, and nothing says so", undo.path, e.path)
		}
	}
	return nil
}

// stem is what tells migrations apart: the name without its extension, its
// numbers without leading zeros.
func stem(name string) string {
	rest := strings.TrimSuffix(name, sqlExt(name))
	return strings.Join(place(rest), ".") + " " + bare(rest)
}

func sqlExt(name string) string {
	if ext := filepath.Ext(name); strings.EqualFold(ext, ".sql") {
		return ext
	}
	return ""
}

// bare is a name without its leading run of numbers.
func bare(name string) string {
	for range place(name) {
		name = strings.TrimLeft(strings.TrimLeft(name, "0123456789"), "._- ")
	}
	return name
}

// undoPartner returns the entry that looks as if it undid e, and a pattern
// that names its like.
func undoPartner(e entry, byStem map[string]entry) (entry, string, bool) {
	name := stem(e.name)
	for _, pair := range opposites { // a file that is called so alone, in a folder of its own
		if base, ok := strings.CutSuffix(name, " "+pair[0]); ok {
			if other, ok := byStem[base+" "+pair[1]]; ok {
				pattern := strings.TrimLeft(other.name, "0123456789.-_ ")
				if pattern != other.name {
					pattern = "*" + pattern
				}
				return other, pattern, true
			}
		}
	}
	for _, sep := range []string{".", "_", "-"} {
		for _, pair := range opposites {
			base, ok := strings.CutSuffix(name, sep+pair[0])
			if !ok {
				continue
			}
			if other, ok := byStem[base+sep+pair[1]]; ok {
				return other, "*" + sep + pair[1] + filepath.Ext(other.name), true
			}
		}
		for _, pair := range opposites[:5] {
			if other, ok := byStem[name+sep+pair[1]]; ok {
				return other, "*" + sep + pair[1] + filepath.Ext(other.name), true
			}
		}
	}
	return entry{}, "", false
}

// UndoPattern returns the undo pattern that a folder's names call for, "" for
// none. It is what init writes.
func UndoPattern(names []string) string {
	byStem := map[string]entry{}
	for _, n := range names {
		byStem[stem(n)] = entry{name: n}
	}
	for _, n := range names {
		if _, pattern, ok := undoPartner(entry{name: n}, byStem); ok {
			return pattern
		}
	}
	return ""
}
