package project

import (
	"fmt"
	"net"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"hemzo/internal/pattern"
)

// checker holds nodes against the table of keys.
type checker struct {
	root   string
	lookup func(string) (string, bool) // environment; nil leaves ${NAME} alone
}

var nameRule = pattern.Lazy(`^[a-z][a-z0-9_-]{0,62}$`)

func (c checker) object(n *node, keys []key, what string) error {
	if n.null {
		return nil
	}
	if !n.isMap {
		return problem(n.at, "", "%s has to be a map, got %s", what, n.is())
	}
	for _, f := range n.fields {
		i := slices.IndexFunc(keys, func(k key) bool { return k.name == f.name })
		if i < 0 {
			return problem(f.at, nearest(f.name, keys), "unknown key %q in %s", f.name, what)
		}
		if err := c.value(f.value, keys[i]); err != nil {
			return err
		}
	}
	return nil
}

func (c checker) value(n *node, k key) error {
	wrong := func(want string) error {
		return problem(n.at, "", "%s: expected %s, got %s", k.name, want, n.is())
	}
	if n.null {
		if k.kind == aObject || k.kind == aNamed || k.kind == aList || k.kind == aTextMap {
			return nil
		}
		return wrong(string(k.kind))
	}
	switch k.kind {
	case aObject:
		return c.object(n, k.keys, k.name)
	case aNamed:
		if !n.isMap {
			return wrong("a map of names")
		}
		for _, f := range n.fields {
			if !nameRule().MatchString(f.name) {
				return problem(f.at, "", "%s: the name %q has to begin with a letter and hold lower-case letters, "+
					"digits, - and _ alone, at most 63", k.name, f.name)
			}
			if err := c.object(f.value, k.keys,
				fmt.Sprintf("%s %q", strings.TrimSuffix(k.name, "s"), f.name)); err != nil {
				return err
			}
		}
		return nil
	case aList:
		if n.scalar || n.isMap {
			return wrong("a list")
		}
		for _, item := range n.items {
			if err := c.object(item, k.keys, "an item of "+k.name); err != nil {
				return err
			}
		}
		return nil
	case aTextMap:
		if !n.isMap {
			return wrong("a map of texts")
		}
		for _, f := range n.fields {
			if err := c.scalar(f.value, key{name: f.name, kind: aText}); err != nil {
				return err
			}
		}
		return nil
	case aTexts, aWords, aPaths:
		one := k
		one.kind = map[kind]kind{aTexts: aText, aWords: aWord, aPaths: aPath}[k.kind]
		if n.scalar {
			return c.scalar(n, one)
		}
		if n.isMap {
			return wrong(string(k.kind))
		}
		for _, item := range n.items {
			if err := c.scalar(item, one); err != nil {
				return err
			}
		}
		return nil
	}
	return c.scalar(n, k)
}

func (c checker) scalar(n *node, k key) error {
	wrong := func(want string) error {
		return problem(n.at, "", "%s: expected %s, got %s", k.name, want, n.is())
	}
	if !n.scalar {
		return wrong(string(k.kind))
	}
	if c.lookup == nil && strings.Contains(n.text, "${") {
		return nil // of another profile: its values are not known
	}
	if err := c.replace(n); err != nil {
		return err
	}
	var err error
	switch k.kind {
	case aFlag:
		if n.text != "true" && n.text != "false" {
			return wrong("true or false")
		}
	case aNumber:
		var v int
		if v, err = strconv.Atoi(n.text); err != nil || v < 0 {
			return wrong("a whole number, 0 or more")
		}
	case aSize:
		if _, err = parseSize(n.text); err != nil {
			return wrong("a size such as 512MB or 2GB")
		}
	case aSpan:
		if _, err = ParseDuration(n.text); err != nil {
			return wrong("a duration such as 90s, 30m, 2h or 7d")
		}
	case aWord:
		if !slices.Contains(k.values, n.text) {
			return problem(n.at, nearestOf(n.text, k.values), "%s: expected %s, got %q", k.name,
				strings.Join(k.values, ", "), n.text)
		}
	case aListener:
		if _, err = strconv.ParseUint(n.text, 10, 16); err == nil {
			return nil
		}
		if _, _, err = net.SplitHostPort(n.text); err != nil {
			return wrong("a port or an address with a port")
		}
	case aPath:
		if _, err := os.Stat(c.path(n.text)); err != nil {
			return problem(n.at, "paths are relative to the folder of the project file", "%s: there is no %s", k.name,
				n.text)
		}
	}
	return nil
}

func (c checker) path(name string) string {
	if filepath.IsAbs(name) {
		return name
	}
	return filepath.Join(c.root, name)
}

var variable = pattern.Lazy(`\$?\$\{[^}]*\}?`)
var variableName = pattern.Lazy(`^\$\{([A-Za-z_][A-Za-z0-9_]*)(:-([^}]*))?\}$`)

// replace puts the environment's values into a text. $${ stands for ${.
func (c checker) replace(n *node) (err error) {
	if c.lookup == nil {
		return nil
	}
	n.text = variable().ReplaceAllStringFunc(n.text, func(use string) string {
		if strings.HasPrefix(use, "$$") {
			return use[1:]
		}
		m := variableName().FindStringSubmatch(use)
		if m == nil {
			err = problem(n.at, "write ${NAME} or ${NAME:-default}; $${ stands for ${", "%s is no variable", use)
			return use
		}
		if v, ok := c.lookup(m[1]); ok && (v != "" || m[2] == "") {
			return v
		}
		if m[2] == "" {
			err = problem(n.at, fmt.Sprintf("set %s, or write ${%s:-default}", m[1], m[1]), "the environment has no %s",
				m[1])
		}
		return m[3]
	})
	return err
}

// required reports the first required key that is missing.
func required(n *node, keys []key, what string) error {
	for _, k := range keys {
		v := n.get(k.name)
		if v == nil {
			if k.required {
				return problem(n.at, "", "%s lacks the key %q (%s)", what, k.name, k.doc)
			}
			continue
		}
		switch k.kind {
		case aObject:
			if err := required(v, k.keys, k.name); err != nil {
				return err
			}
		case aList:
			for _, item := range v.items {
				if err := required(item, k.keys, "an item of "+k.name); err != nil {
					return err
				}
			}
		case aNamed:
			if k.name == "profiles" {
				continue // a profile changes some keys only
			}
			for _, f := range v.fields {
				// Its own place, for a database written as a bare name.
				if f.value.null {
					f.value.at = f.at
				}
				if err := required(f.value, k.keys,
					fmt.Sprintf("%s %q", strings.TrimSuffix(k.name, "s"), f.name)); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// parseSize reads a number of bytes with a unit; units are powers of 1024.
func parseSize(s string) (int64, error) {
	digits := strings.TrimRight(s, "kKmMgGtTiBb ")
	v, err := strconv.ParseInt(digits, 10, 40)
	if err != nil || v < 0 {
		return 0, fmt.Errorf("%q is not a size", s)
	}
	unit := strings.ToUpper(strings.TrimSpace(s[len(digits):]))
	shift, ok := map[string]int{"": 0, "B": 0, "K": 10, "KB": 10, "KIB": 10, "M": 20, "MB": 20, "MIB": 20, "G": 30,
		"GB": 30, "GIB": 30, "T": 40, "TB": 40, "TIB": 40}[unit]
	if !ok || v > (1<<62)>>shift {
		return 0, fmt.Errorf("%q is not a size", s)
	}
	return v << shift, nil
}

func nearest(name string, keys []key) string {
	var all []string
	for _, k := range keys {
		all = append(all, k.name)
	}
	return nearestOf(name, all)
}

// nearestOf returns a hint that names the word most like name, "" where none
// is near.
func nearestOf(name string, all []string) string {
	best, far := "", 3
	if len(name) > 6 {
		far = 4
	}
	for _, w := range all {
		if d := distance(name, w); d < far {
			best, far = w, d
		}
	}
	if best != "" {
		return fmt.Sprintf("did you mean %q?", best)
	}
	all = slices.Sorted(slices.Values(all))
	return "known here: " + strings.Join(all, ", ")
}

// distance counts the letters to change, add, drop or swap with a neighbour.
func distance(a, b string) int {
	if len(a) > 64 {
		return 64
	}
	rows := make([][]int, len(a)+1)
	for i := range rows {
		rows[i] = make([]int, len(b)+1)
		rows[i][0] = i
	}
	for j := range b {
		rows[0][j+1] = j + 1
	}
	for i := range len(a) {
		for j := range len(b) {
			change := rows[i][j]
			if a[i] != b[j] {
				change++
			}
			d := min(change, rows[i][j+1]+1, rows[i+1][j]+1)
			if i > 0 && j > 0 && a[i] == b[j-1] && a[i-1] == b[j] {
				d = min(d, rows[i-1][j-1]+1)
			}
			rows[i+1][j+1] = d
		}
	}
	return rows[len(a)][len(b)]
}

// badPattern returns the first pattern that path.Match cannot read.
func badPattern(n *node) *node {
	if n == nil {
		return nil
	}
	for _, item := range append([]*node{n}, n.items...) {
		if _, err := path.Match(item.text, ""); item.scalar && err != nil {
			return item
		}
	}
	return nil
}
