package engine

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Content is one object with its definition, or the rows of one table with a
// sum over them.
type Content struct {
	Kind, Name, Sum string
	Rows            int64             // of a table
	Columns         map[string]string // of a table, with a sum over the values of each
}

// Rows is the Kind of the rows of a table.
const Rows = "rows"

// Difference is something in which two databases differ.
type Difference struct {
	Kind   string `json:"kind"`
	Name   string `json:"name"`
	Has    string `json:"has"`    // the one that was looked at, in words; "" where it is missing
	Wanted string `json:"wanted"` // what it is to be; likewise
}

// contents are what a database holds, by kind and name.
type contents map[[2]string]Content

func byName(all []Content) contents {
	out := contents{}
	for _, c := range all {
		out[[2]string{c.Kind, c.Name}] = c
	}
	return out
}

// names are those of two databases, in order.
func (c contents) names(other contents) [][2]string {
	all := slices.AppendSeq(slices.Collect(maps.Keys(c)), maps.Keys(other))
	slices.SortFunc(all, func(a, b [2]string) int { return slices.Compare(a[:], b[:]) })
	return slices.Compact(all)
}

// Differences compares what two databases hold, in order of their names.
func Differences(has, wanted []Content) (all []Difference) {
	h, w := byName(has), byName(wanted)
	for _, name := range h.names(w) {
		one, there := h[name]
		other, expected := w[name]
		if there && expected && one.Sum == other.Sum {
			continue
		}
		d := Difference{Kind: name[0], Name: name[1]}
		if there {
			d.Has = one.words(other)
		}
		if expected {
			d.Wanted = other.words(one)
		}
		all = append(all, d)
	}
	return all
}

// words says what something is, beside what it is compared with.
func (c Content) words(other Content) string {
	if c.Kind != Rows {
		return cmp.Or(c.Sum, "there")
	}
	text := fmt.Sprintf("%d rows", c.Rows)
	if c.Rows == 1 {
		text = "1 row"
	}
	if c.Rows != other.Rows || other.Kind == "" {
		return text
	}
	if columns := c.differing(other); columns != nil {
		return text + ", with other values in " + strings.Join(columns, ", ")
	}
	return text + ", put together in another way"
}

// differing are the columns of two tables that do not hold the same values.
func (c Content) differing(other Content) (all []string) {
	for name, sum := range c.Columns {
		if other.Columns[name] != sum {
			all = append(all, name)
		}
	}
	slices.Sort(all)
	return all
}

// Stable leaves out of what a database holds all that is another thing each time it
// is made, by what two makings of the same gave: times, and values by chance. It
// names what it left out.
func Stable(all, one, another []Content) (kept []Content, left []string) {
	a, b := byName(one), byName(another)
	for _, c := range all {
		name := [2]string{c.Kind, c.Name}
		x, y := a[name], b[name]
		switch {
		case x.Sum == y.Sum:
			kept = append(kept, c)
		case c.Kind == Rows && x.Rows == y.Rows:
			unstable := x.differing(y)
			columns := maps.Clone(c.Columns)
			for _, column := range unstable {
				delete(columns, column)
				left = append(left, c.Name+"."+column)
			}
			c.Columns, c.Sum = columns, fmt.Sprint(c.Rows, columns)
			kept = append(kept, c)
		default:
			left = append(left, c.Kind+" "+c.Name)
		}
	}
	return kept, left
}
