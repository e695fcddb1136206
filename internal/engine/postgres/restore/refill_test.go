package restore

import (
	"bytes"
	"encoding/binary"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/engine/postgres/pg"
)

// copied is what COPY gives out for rows with a place and one key.
func copied(keys ...string) []byte {
	b := []byte(head)
	for i, k := range keys {
		b = binary.BigEndian.AppendUint16(b, 2)
		b = binary.BigEndian.AppendUint32(b, 6)
		b = binary.BigEndian.AppendUint32(b, uint32(i))
		b = binary.BigEndian.AppendUint16(b, 1)
		if k == "NULL" {
			b = binary.BigEndian.AppendUint32(b, 0xffffffff)
			continue
		}
		b = append(binary.BigEndian.AppendUint32(b, uint32(len(k))), k...)
	}
	return append(b, 0xff, 0xff)
}

// TestAbsent: the rows are found that only the first of two lists has; a key
// that only the second has, or another order, is noticed.
func TestAbsent(t *testing.T) {
	all := []string{"a", "b", "c", "d"}
	for _, x := range []struct {
		left, want []string
		err        error
	}{
		{all, nil, nil}, {[]string{"b", "c"}, []string{`"(0,1)"`, `"(3,1)"`}, nil},
		{nil, []string{`"(0,1)"`, `"(1,1)"`, `"(2,1)"`, `"(3,1)"`}, nil},
		{[]string{"a", "e"}, nil, errOrder}, {[]string{"b", "a"}, nil, errOrder},
		{[]string{"a", "", "b"}, nil, errOrder}, {[]string{"NULL"}, nil, errOrder},
	} {
		got, err := absent(bytes.NewReader(copied(all...)), bytes.NewReader(copied(x.left...)))
		assert.Equal(t, x.err, err, "%q", x.left)
		if err == nil {
			assert.Equal(t, x.want, got, "%q", x.left)
		}
	}
	whole := copied(all...)
	for n := range len(whole) - 1 {
		_, err := absent(bytes.NewReader(copied(all...)), bytes.NewReader(whole[:n]))
		require.Error(t, err, "cut off after %d bytes", n)
	}
}

// TestLocal: rows that are kept are written as they came, all or some of them.
func TestLocal(t *testing.T) {
	l := &local{layout: layout{format: "binary", binary: true}, at: map[string]int{}}
	require.NoError(t, eachRow(copied("a", "NULL", "ccc"), func(place string, row []byte) {
		l.at[place] = len(l.data)
		l.order, l.data = append(l.order, place), append(l.data, row)
	}))
	assert.Equal(t, []string{`"(0,1)"`, `"(1,1)"`, `"(2,1)"`}, l.order)
	for _, x := range []struct {
		places []string
		want   string
	}{
		{nil, "\x00\x01\x00\x00\x00\x01a\x00\x01\xff\xff\xff\xff\x00\x01\x00\x00\x00\x03ccc"},
		{[]string{`"(2,1)"`}, "\x00\x01\x00\x00\x00\x03ccc"},
	} {
		out, err := io.ReadAll(l.rows(t.Context(), x.places))
		require.NoError(t, err)
		assert.Equal(t, head+x.want+"\xff\xff", string(out))
	}
}

// FuzzRows: whatever comes instead of what COPY writes is an error, or rows
// whose keys are no longer than what came.
func FuzzRows(f *testing.F) {
	f.Add(copied("a", "", "NULL"))
	f.Fuzz(func(t *testing.T, b []byte) {
		rows := 0
		_ = eachRow(b, func(_ string, row []byte) { rows += len(row) })
		require.LessOrEqual(t, rows, len(b))
		r := newRowReader(bytes.NewReader(b))
		for {
			_, key, err := r.row()
			if err != nil || key == nil {
				return
			}
			require.LessOrEqual(t, len(key), len(b))
		}
	})
}

// TestEscapes: what is written as COPY writes it reads back, and what COPY never writes is an error.
func TestEscapes(t *testing.T) {
	for _, text := range []string{"", "a", "\b\f\n\r\t\v\\", `\N`, "it's", "über\x01"} {
		line := append(bytes.Join(escapeAll([][]byte{[]byte(text), []byte("b")}), []byte("\t")), '\n')
		values, err := literals(line)
		require.NoError(t, err, "%q", text)
		assert.Equal(t, []string{pg.Literal(text), "'b'"}, values)
	}
	values, err := literals([]byte("\\N\t1\n"))
	require.NoError(t, err)
	assert.Equal(t, []string{"NULL", "'1'"}, values)
	for _, bad := range []string{`a\`, `\x41`, `\101`} {
		_, err := literals([]byte(bad))
		require.ErrorIs(t, err, errForm, bad)
	}
}

// TestParentsFirst: a table comes after those that its foreign keys lead to; circles end.
func TestParentsFirst(t *testing.T) {
	lead := func(to ...int) *boundTable { return &boundTable{bounds: bounds{leads: to}} }
	all := []*boundTable{lead(3, 2), lead(3), lead(), lead(5), lead(4)}
	order := parentsFirst(all)
	assert.Equal(t, []*boundTable{all[2], all[1], all[0]}, order[:3])
	assert.ElementsMatch(t, all[3:], order[3:])
}
