package sqltext

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

var lite = Dialect{Backtick: true, Bracket: true, OpenComment: true, TriggerBody: true}

func texts(d Dialect, text string) (out []string) {
	for _, p := range Statements(d, text) {
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
		{"trigger with a case", "create temp trigger t after insert on h begin\n update h set x=case when 1 then 2 end; delete from q; end; select 1",
			[]string{"create temp trigger t after insert on h begin\n update h set x=case when 1 then 2 end; delete from q; end", "select 1"}},
		{"trigger without a last semicolon", "CREATE TRIGGER t DELETE ON h BEGIN SELECT 1; END",
			[]string{"CREATE TRIGGER t DELETE ON h BEGIN SELECT 1; END"}},
		{"a table called trigger", "create table trigger(a); b", []string{"create table trigger(a)", "b"}},
		{"begin is a statement", "begin; a; end; b", []string{"begin", "a", "end", "b"}},
		{"letters beyond ASCII", "select 'č;' as größe; b", []string{"select 'č;' as größe", "b"}},
	} {
		t.Run(c.name, func(t *testing.T) { assert.Equal(t, c.want, texts(lite, c.text)) })
	}
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
	f.Add("explain query plan create temp trigger x begin ; end")
	f.Fuzz(func(t *testing.T, text string) {
		for _, d := range []Dialect{lite, {}} {
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
