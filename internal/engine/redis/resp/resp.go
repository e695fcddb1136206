// Package resp reads and writes the protocol that Redis and Valkey speak, RESP in its
// versions 2 and 3 ("Redis serialization protocol specification").
package resp

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"math"
	"strconv"
)

// Kind is the first byte of a value.
type Kind byte

// The kinds of values. Those that RESP 3 has more are read as the nearest of these: a null
// as Null, a boolean as Integer, a double or big number as Simple, a verbatim string as Bulk,
// a set as Array.
const (
	Simple  Kind = '+'
	Error   Kind = '-'
	Integer Kind = ':'
	Bulk    Kind = '$'
	Array   Kind = '*'
	Map     Kind = '%' // Items holds keys and values in turns
	Push    Kind = '>'
	Null    Kind = '_'
)

// Value is one reply.
type Value struct {
	Kind  Kind
	Text  string // of all but arrays; an integer's digits too
	Int   int64
	Items []Value
}

// Failed is the error that a value is; nil for all others.
func (v Value) Failed() error {
	if v.Kind != Error {
		return nil
	}
	return ReplyError(v.Text)
}

// ReplyError is an error that a server answered with.
type ReplyError string

func (e ReplyError) Error() string { return string(e) }

// Code is the first word, which names the kind of error: "WRONGTYPE".
func (e ReplyError) Code() string {
	for i, c := range e {
		if c == ' ' {
			return string(e[:i])
		}
	}
	return string(e)
}

// Limits of what is believed of a length: a server's strings are at most 512 MB, and
// no reply that Hemzo asks for is nested deeper.
const (
	maxBulk  = 512 << 20
	maxDepth = 32
)

// ErrProtocol is in the chain of errors of what is no RESP.
var ErrProtocol = errors.New("this is not the protocol of Redis")

// Reader reads values.
type Reader struct {
	in    *bufio.Reader
	aside []Value // pushes that came inside another value
}

// NewReader reads from r.
func NewReader(r io.Reader) *Reader { return &Reader{in: bufio.NewReaderSize(r, 16<<10)} }

// Buffered is how many bytes have been read ahead.
func (r *Reader) Buffered() int { return r.in.Buffered() }

// Read reads one value. An error of the reader below is returned as it is: io.EOF where
// it ends between values, io.ErrUnexpectedEOF inside one.
// Redis 6 sends pushes in the middle of what EXEC answers: they are returned after it.
func (r *Reader) Read() (Value, error) {
	if len(r.aside) > 0 {
		v := r.aside[0]
		r.aside = r.aside[1:]
		return v, nil
	}
	return r.read(0)
}

func (r *Reader) read(depth int) (v Value, err error) {
	if depth > maxDepth {
		return v, fmt.Errorf("%w: nested too deeply", ErrProtocol)
	}
	line, err := r.line()
	if err != nil {
		if depth > 0 && errors.Is(err, io.EOF) {
			err = io.ErrUnexpectedEOF
		}
		return v, err
	}
	if len(line) == 0 {
		return v, fmt.Errorf("%w: an empty line", ErrProtocol)
	}
	v.Kind, v.Text = Kind(line[0]), string(line[1:])
	switch v.Kind {
	case Simple, Error:
	case ',', '(':
		v.Kind = Simple
	case '#':
		v.Kind = Integer
		if v.Text == "t" {
			v.Int = 1
		}
		v.Text = strconv.FormatInt(v.Int, 10)
	case Null:
		v.Text = ""
	case Integer:
		if v.Int, err = strconv.ParseInt(v.Text, 10, 64); err != nil {
			return v, fmt.Errorf("%w: %q is no number", ErrProtocol, v.Text)
		}
	case Bulk, '=', '!':
		return r.bulk(v)
	case Array, Push, Map, '~', '|':
		return r.items(v, depth)
	default:
		return v, fmt.Errorf("%w: a value cannot begin with %q", ErrProtocol, line[0])
	}
	return v, nil
}

// length reads a length; -1 is nothing at all.
func length(text string, limit int64) (int, error) {
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < -1 || n > limit {
		return 0, fmt.Errorf("%w: %q is no length", ErrProtocol, text)
	}
	return int(n), nil
}

func (r *Reader) bulk(v Value) (Value, error) {
	n, err := length(v.Text, maxBulk)
	if err != nil {
		return v, err
	}
	kind := v.Kind
	if v.Text = ""; n < 0 {
		v.Kind = Null
		return v, nil
	}
	text, err := r.take(n)
	if err != nil {
		return v, err
	}
	var end [2]byte
	if _, err := io.ReadFull(r.in, end[:]); err != nil {
		return v, unexpected(err)
	}
	if end != [2]byte{'\r', '\n'} {
		return v, fmt.Errorf("%w: a string is longer than its length", ErrProtocol)
	}
	v.Kind, v.Text = Bulk, string(text)
	switch {
	case kind == '!':
		v.Kind = Error
	case kind == '=' && len(text) >= 4 && text[3] == ':': // "txt:" or "mkd:"
		v.Text = string(text[4:])
	}
	return v, nil
}

// take reads n bytes, as they come: a length alone allots nothing.
func (r *Reader) take(n int) ([]byte, error) {
	const most = 1 << 20
	text := make([]byte, 0, min(n, most))
	for len(text) < n {
		from := len(text)
		text = append(text, make([]byte, min(n-from, most))...)
		if _, err := io.ReadFull(r.in, text[from:]); err != nil {
			return nil, unexpected(err)
		}
	}
	return text, nil
}

func (r *Reader) items(v Value, depth int) (Value, error) {
	n, err := length(v.Text, math.MaxInt32)
	if err != nil {
		return v, err
	}
	kind := v.Kind
	if v.Text = ""; n < 0 {
		v.Kind = Null
		return v, nil
	}
	if kind == Map || kind == '|' {
		n *= 2
	}
	v.Items = make([]Value, 0, min(n, 1024))
	for len(v.Items) < n {
		item, err := r.read(depth + 1)
		if err != nil {
			return v, unexpected(err)
		}
		if item.Kind == Push {
			r.aside = append(r.aside, item)
			continue
		}
		v.Items = append(v.Items, item)
	}
	switch kind {
	case '~':
		v.Kind = Array
	case '|': // attributes of the value that follows
		return r.read(depth)
	}
	return v, nil
}

func (r *Reader) line() ([]byte, error) {
	line, err := r.in.ReadSlice('\n')
	switch {
	case errors.Is(err, bufio.ErrBufferFull):
		return nil, fmt.Errorf("%w: a line has no end", ErrProtocol)
	case err != nil && len(line) > 0:
		return nil, unexpected(err)
	case err != nil:
		return nil, err
	case len(line) < 2 || line[len(line)-2] != '\r':
		return nil, fmt.Errorf("%w: a line does not end with CR LF", ErrProtocol)
	}
	return line[:len(line)-2], nil
}

func unexpected(err error) error {
	if errors.Is(err, io.EOF) {
		return io.ErrUnexpectedEOF
	}
	return err
}

// AppendCommand appends a command as clients send it.
func AppendCommand(to []byte, words ...string) []byte {
	to = append(to, '*')
	to = strconv.AppendInt(to, int64(len(words)), 10)
	to = append(to, '\r', '\n')
	for _, w := range words {
		to = append(to, '$')
		to = strconv.AppendInt(to, int64(len(w)), 10)
		to = append(to, '\r', '\n')
		to = append(to, w...)
		to = append(to, '\r', '\n')
	}
	return to
}
