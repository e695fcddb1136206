package sqltext

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

var lite = Dialect{Backtick: true, Bracket: true, OpenComment: true, TriggerBody: true}

func texts(d Dialect, text string) (out []string) {
	for p := range Statements(d, text) {
		out = append(out, text[p.Start:p.End])
	}
	return out
}

func TestSplit(t *testing.T) {
	for _, c := range []struct {
		name, text string
		want       []string
	}{
		{"nothing", " \n-- only a comment\n/* and ; another */;;", nil},
		{"two and no last semicolon", "a;\n b ", []string{"a", "b"}},
		{"semicolons in quotes", `insert 'it''s;' "na;me" ` + "`b;`" + ` [c;d]; next`,
			[]string{`insert 'it''s;' "na;me" ` + "`b;`" + ` [c;d]`, "next"}},
		{"comments inside", "a -- x;\n b /* ; */ c; d", []string{"a -- x;\n b /* ; */ c", "d"}},
		{"a comment behind is no part", "a /* x */ ; b -- y", []string{"a", "b"}},
		{"trigger with a " +
			"case", "create temp trigger t after insert on h begin\n update h set x=case when 1 then 2 end; delete " +
			"from q; end; select 1",
			[]string{"create temp trigger t after insert on h begin\n update h set x=case when 1 then 2 end; " +
				"delete from q; end", "select 1"}},
		{"trigger without a last semicolon", "CREATE TRIGGER t DELETE ON h BEGIN SELECT 1; END",
			[]string{"CREATE TRIGGER t DELETE ON h BEGIN SELECT 1; END"}},
		{"a table called trigger", "create table trigger(a); b", []string{"create table trigger(a)", "b"}},
		{"begin is a statement", "begin; a; end; b", []string{"begin", "a", "end", "b"}},
		{"letters beyond ASCII", "select 'č;' as größe; b", []string{"select 'č;' as größe", "b"}},
	} {
		t.Run(c.name, func(t *testing.T) { assert.Equal(t, c.want, texts(lite, c.text)) })
	}
}

var postgres = Dialect{NestedComments: true, DollarQuotes: true, EscapeStrings: true, Routines: true, Dumps: true}

func TestSplitPostgres(t *testing.T) {
	for _, c := range []struct {
		name, text string
		want       []string
	}{
		{"dollar quotes", "do $$ begin; a; end $$; do $x$ $$; $y$; $x$; select $1; a$b$c; d",
			[]string{"do $$ begin; a; end $$", "do $x$ $$; $y$; $x$", "select $1", "a$b$c", "d"}},
		{"escape strings", `select E'it\'s;', e'\\'; select 'a\'; U&'\0041;'`,
			[]string{`select E'it\'s;', e'\\'`, `select 'a\'`, `U&'\0041;'`}},
		{"nested comments", "a /* ; /* ; */ ; */; b", []string{"a", "b"}},
		{"atomic bodies", "create or replace function f() returns int begin atomic select case when true then 1 " +
			"end; select 2; end; begin; commit",
			[]string{"create or replace function f() returns int begin atomic select case when true then 1 end; " +
				"select 2; end", "begin", "commit"}},
		{"rules", "create rule r as on insert to t do (a; b); c",
			[]string{"create rule r as on insert to t do (a; b)", "c"}},
	} {
		t.Run(c.name, func(t *testing.T) { assert.Equal(t, c.want, texts(postgres, c.text)) })
	}
}

func TestSplitDump(t *testing.T) {
	text := "\\restrict abc\nCOPY public.hive (id, label) FROM stdin;\n1\ta;b\n2\t\\N\n\\.\n\nSELECT 1;\nCOPY x " +
		"FROM STDIN WITH (FORMAT csv);\n\\.\n\\connect other\n"
	var got []string
	for _, p := range Split(postgres, text) {
		switch {
		case p.Statement:
			got = append(got, "SQL "+text[p.Start:p.End])
		case p.Data:
			got = append(got, "DATA "+text[p.Start:p.End])
		case p.Client:
			got = append(got, "CLIENT "+text[p.Start:p.End])
		}
	}
	assert.Equal(t, []string{"CLIENT \\restrict abc\n", "SQL COPY public.hive (id, label) FROM stdin",
		"DATA 1\ta;b\n2\t\\N\n", "SQL SELECT 1",
		"SQL COPY x FROM STDIN WITH (FORMAT csv)", "CLIENT \\connect other\n"}, got)
}

func TestSplitTellsWhatWasNeverEnded(t *testing.T) {
	for text, want := range map[string]string{
		"select 'abc; def": "string", `select "abc`: "name", "select [abc": "name", "select 1 /* abc": "",
	} {
		pieces := Split(lite, text)
		assert.Equal(t, want, pieces[len(pieces)-1].Open, text)
	}
	strict := lite
	strict.OpenComment = false
	pieces := Split(strict, "select 1 /* abc")
	assert.Equal(t, "comment", pieces[len(pieces)-1].Open)
}

func TestWordsAndPosition(t *testing.T) {
	assert.Equal(t, []string{"PRAGMA", `"x"`, "."}, Words(lite, `/* c */ pragma "x".y`, 3))
	line, column := Position("ab\nčd\ne", len("ab\nč"))
	assert.Equal(t, []int{2, 2}, []int{line, column})
}

func FuzzSplit(f *testing.F) {
	f.Add("create trigger t after insert on h begin select ';' ; end; x")
	f.Add("a;'b''c';[d;]`e`/* f */--g\n;")
	f.Add("copy x from stdin;\n1\n\\.\nE'\\'' $a$ /* /* */ create function f() begin atomic ; end; ( ; )")
	f.Add("explain query plan create temp trigger x begin ; end")
	f.Fuzz(func(t *testing.T, text string) {
		for _, d := range []Dialect{lite, postgres, {}} {
			var all strings.Builder
			for _, p := range Split(d, text) {
				if p.End <= p.Start {
					t.Fatalf("an empty piece in %q", text)
				}
				all.WriteString(text[p.Start:p.End])
			}
			if all.String() != text {
				t.Fatalf("pieces of %q give %q", text, all.String())
			}
			Words(d, text, 5)
		}
	})
}

// BenchmarkSplit shows that time grows in proportion to the text: the bytes
// a second stay the same.
func BenchmarkSplit(b *testing.B) {
	one := "create trigger t after insert on h begin update h set x = case when 1 then 'a;' end; end;\n-- c\n"
	for _, n := range []int{100, 10_000} {
		text := strings.Repeat(one, n)
		b.Run(strings.Repeat("x", len(text)/1_000_000+1), func(b *testing.B) {
			b.SetBytes(int64(len(text)))
			for b.Loop() {
				Split(lite, text)
			}
		})
	}
}
