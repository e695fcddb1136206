package source

import (
	"path/filepath"
	"strings"

	"hemzo/internal/fault"
	"hemzo/internal/sqltext"
)

// Table is a CSV file read: a header that names columns, then rows.
type Table struct {
	File    string
	Name    string // the table that the rows are for
	Columns []string
	Rows    [][]Field
	Lines   []int // the line of the file on which each row begins
}

// Field is one value of a CSV row. An empty field without quotes is NULL, one
// with quotes the empty text.
type Field struct {
	Text string
	Null bool
}

// tableName is the table that a CSV file is for: its name without the
// extension and without a leading number.
func tableName(file string) string {
	return bare(strings.TrimSuffix(file, filepath.Ext(file)))
}

// readTable reads CSV as RFC 4180 defines it, with a header row. Lines may
// end in LF too; blank lines are passed over.
func readTable(file, table, text string) (*Table, error) {
	t := &Table{File: file, Name: table}
	bad := func(at int, next, what string, args ...any) error {
		e := fault.New(fault.Usage, next, what, args...)
		e.Where.File = file
		e.Where.Line, e.Where.Column = sqltext.Position(text, at)
		return e
	}
	if table == "" {
		return nil, bad(0, "name the file after its table, as in 02_hive_types.csv", "the file's name names no table")
	}
	line, counted := 1, 0
	for at := 0; at < len(text); {
		begin := at
		fields, end, problem := record(text, at)
		if problem != "" {
			return nil, bad(end, "", "%s", problem)
		}
		at = end
		if len(fields) == 1 && fields[0].Null {
			continue // a blank line
		}
		if t.Columns == nil {
			seen := map[string]bool{}
			for _, f := range fields {
				name := strings.TrimSpace(f.Text)
				if name == "" || seen[name] {
					return nil, bad(begin, "the first line names the table's columns, each once",
						"column name %q is empty or comes twice", name)
				}
				seen[name] = true
				t.Columns = append(t.Columns, name)
			}
			continue
		}
		if len(fields) != len(t.Columns) {
			return nil, bad(begin, "give every row as many fields as the header has, and quote fields that hold a "+
				"comma",
				"this row has %s, the header %s", count(len(fields), "field"), count(len(t.Columns), "column"))
		}
		line += strings.Count(text[counted:begin], "\n")
		counted = begin
		t.Rows = append(t.Rows, fields)
		t.Lines = append(t.Lines, line)
	}
	if t.Columns == nil {
		return nil, bad(0, "its first line has to name the table's columns", "the file is empty")
	}
	return t, nil
}

// record reads one record from text[at:] and returns where the next begins,
// or where a problem is.
func record(text string, at int) (fields []Field, end int, problem string) {
	for {
		f, next, problem := field(text, at)
		if problem != "" {
			return nil, next, problem
		}
		fields = append(fields, f)
		if next >= len(text) {
			return fields, next, ""
		}
		switch text[next] {
		case ',':
			at = next + 1
		case '\r':
			return fields, next + 2, ""
		default:
			return fields, next + 1, ""
		}
	}
}

// field reads one field and returns where it ended: at a comma, an end of
// line, or the end of the text.
func field(text string, at int) (f Field, end int, problem string) {
	if at >= len(text) || text[at] != '"' {
		end = at
		for end < len(text) && text[end] != ',' && text[end] != '\n' && !strings.HasPrefix(text[end:], "\r\n") {
			if text[end] == '"' {
				return f, end, "a quote inside a field that does not begin with one"
			}
			end++
		}
		return Field{Text: text[at:end], Null: end == at}, end, ""
	}
	var b strings.Builder
	for end = at + 1; end < len(text); end++ {
		if text[end] != '"' {
			b.WriteByte(text[end])
			continue
		}
		if end+1 < len(text) && text[end+1] == '"' {
			b.WriteByte('"')
			end++
			continue
		}
		end++
		if end < len(text) && text[end] != ',' && text[end] != '\n' && !strings.HasPrefix(text[end:], "\r\n") {
			return f, end, "text behind the closing quote of a field"
		}
		return Field{Text: b.String()}, end, ""
	}
	return f, at, "a quote that is never closed"
}
