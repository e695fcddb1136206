package resp

import (
	"bytes"
	"errors"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestRead(t *testing.T) {
	in := NewReader(strings.NewReader("+OK\r\n-ERR no\r\n:-7\r\n$3\r\na\r\n\r\n$-1\r\n_\r\n#t\r\n,1.5\r\n" +
		"(123456789012345678901\r\n" +
		"=7\r\ntxt:abc\r\n!5\r\nERR x\r\n*2\r\n:1\r\n*0\r\n%1\r\n+a\r\n:1\r\n" +
		"~1\r\n:9\r\n>2\r\n+invalidate\r\n_\r\n|1\r\n+k\r\n:1\r\n:5\r\n"))
	var all []Value
	for {
		v, err := in.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		all = append(all, v)
	}
	one := Value{Kind: Integer, Text: "1", Int: 1}
	assert.Equal(t, []Value{{Kind: Simple, Text: "OK"}, {Kind: Error, Text: "ERR no"},
		{Kind: Integer, Text: "-7", Int: -7},
		{Kind: Bulk, Text: "a\r\n"}, {Kind: Null}, {Kind: Null}, one, {Kind: Simple, Text: "1.5"},
		{Kind: Simple, Text: "123456789012345678901"}, {Kind: Bulk, Text: "abc"}, {Kind: Error, Text: "ERR x"},
		{Kind: Array, Items: []Value{one, {Kind: Array, Items: []Value{}}}},
		{Kind: Map, Items: []Value{{Kind: Simple, Text: "a"}, one}},
		{Kind: Array, Items: []Value{{Kind: Integer, Text: "9", Int: 9}}},
		{Kind: Push, Items: []Value{{Kind: Simple, Text: "invalidate"}, {Kind: Null}}},
		{Kind: Integer, Text: "5", Int: 5}}, all)
}

func TestReadWrong(t *testing.T) {
	for text, what := range map[string]error{
		"*2\r\n:1\r\n": io.ErrUnexpectedEOF, "$5\r\nab": io.ErrUnexpectedEOF, "+OK": io.ErrUnexpectedEOF,
		"$2\r\nabc\r\n": ErrProtocol, "?x\r\n": ErrProtocol, ":x\r\n": ErrProtocol, "\r\n": ErrProtocol, "+OK\n": ErrProtocol,
		"$99999999999\r\n": ErrProtocol, strings.Repeat("*1\r\n", 100): ErrProtocol, strings.Repeat("x", 1<<17): ErrProtocol,
	} {
		_, err := NewReader(strings.NewReader(text)).Read()
		assert.ErrorIs(t, err, what, "%.20q", text)
	}
}

// FuzzRead: a command is read as it was written, and nothing that comes in breaks the reader.
func FuzzRead(f *testing.F) {
	f.Add([]byte("*2\r\n$3\r\nGET\r\n$1\r\nx\r\n"), "SET", "a\r\nb")
	f.Add([]byte("%1\r\n+a\r\n~2\r\n:1\r\n_\r\n"), "", "\x00\xff")
	f.Fuzz(func(t *testing.T, b []byte, one, two string) {
		in := NewReader(bytes.NewReader(b))
		for range 100 {
			if _, err := in.Read(); err != nil {
				break
			}
		}
		v, err := NewReader(bytes.NewReader(AppendCommand(nil, one, two))).Read()
		require.NoError(t, err)
		assert.Equal(t, []Value{{Kind: Bulk, Text: one}, {Kind: Bulk, Text: two}}, v.Items)
	})
}
