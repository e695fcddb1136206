// Package rdb reads and writes the files in which Redis and Valkey keep what they hold, as
// far as to tell each key with its value apart: values stay as they are in the file, and
// are given to a server by RESTORE. The format is that of "rdb.h" and "rdb.c" of Redis and
// Valkey, versions 1 to 13 and, of Valkey alone, 80.
package rdb

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"hash/crc64"
	"io"
	"strconv"
	"strings"
)

// Entry is one key.
type Entry struct {
	DB      int
	Key     string
	Expires int64 // in milliseconds since 1970; 0 for never
	Type    byte  // as the file has it
	Value   []byte
}

// File is what a file holds.
type File struct {
	Valkey    bool // the file begins with Valkey's own mark
	Version   int
	Functions []string // as a file has each library of functions
	Entries   []Entry
}

// Opcodes.
const (
	opSlotImport = 243
	opSlotInfo   = 244
	opFunction   = 245
	opFunctionGA = 246 // of a release candidate
	opModule     = 247
	opIdle       = 248
	opFreq       = 249
	opAux        = 250
	opResize     = 251
	opExpireMS   = 252
	opExpire     = 253
	opSelect     = 254
	opEOF        = 255
)

// ErrCut is in the chain where a file ends too early.
var ErrCut = errors.New("the file ends too early")

// Versions that this package reads.
const (
	newestRedis, oldestValkey, newestValkey = 13, 80, 80
)

// Read reads a file. visit is called for each key, whose Value is its own then;
// the File that is returned has no entries. An error says at which byte the file is wrong.
func Read(in io.Reader, visit func(Entry) error) (*File, error) {
	r := &reader{in: bufio.NewReaderSize(in, 1<<16), sum: newSum()}
	f, err := r.file(visit)
	if err != nil {
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			err = ErrCut
		}
		return nil, fmt.Errorf("byte %d: %w", r.at, err)
	}
	return f, nil
}

// ReadAll reads a file whole.
func ReadAll(in io.Reader) (*File, error) {
	var all []Entry
	f, err := Read(in, func(e Entry) error { all = append(all, e); return nil })
	if err == nil {
		f.Entries = all
	}
	return f, err
}

// reader keeps what it has read of the value under way.
type reader struct {
	in     *bufio.Reader
	at     int64
	sum    hash.Hash64
	value  []byte // what was read since keep
	kept   bool
	valkey bool
	buf    [16]byte
}

func (r *reader) file(visit func(Entry) error) (*File, error) {
	f, err := r.header()
	if err != nil {
		return nil, err
	}
	var e Entry
	for {
		op, err := r.byte()
		if err != nil {
			return nil, err
		}
		switch op {
		case opEOF:
			return f, r.end(f)
		case opSelect:
			var n uint64
			n, err = r.length()
			e.DB = int(n)
		case opExpireMS:
			e.Expires, err = r.int64()
		case opExpire:
			var b []byte
			if b, err = r.take(4); err == nil {
				e.Expires = int64(int32(binary.LittleEndian.Uint32(b))) * 1000
			}
		case opFunction, opFunctionGA:
			var text string
			if text, err = r.text(); err == nil {
				f.Functions = append(f.Functions, text)
			}
			if op == opFunctionGA {
				err = errors.New("functions as a release candidate kept them are not read")
			}
		case opAux, opResize, opIdle, opFreq, opModule, opSlotInfo, opSlotImport:
			err = r.pass(op)
		default:
			if err = r.entry(&e, op); err == nil {
				err = visit(e)
			}
			e = Entry{DB: e.DB}
		}
		if err != nil {
			return nil, err
		}
	}
}

func (r *reader) header() (*File, error) {
	b, err := r.take(9)
	if err != nil {
		return nil, err
	}
	f := &File{}
	digits := ""
	switch {
	case strings.HasPrefix(string(b), "REDIS"):
		digits = string(b[5:])
	case strings.HasPrefix(string(b), "VALKEY"):
		f.Valkey, digits = true, string(b[6:])
	}
	if f.Version, err = strconv.Atoi(digits); err != nil || f.Version < 1 {
		return nil, errors.New("this is no RDB file")
	}
	r.valkey = f.Valkey
	if !f.Valkey && f.Version > newestRedis || f.Valkey && (f.Version < oldestValkey || f.Version > newestValkey) {
		return nil, fmt.Errorf("a file of version %d is newer than this Hemzo reads", f.Version)
	}
	return f, nil
}

// pass reads over what is not about one key.
func (r *reader) pass(op byte) (err error) {
	switch op {
	case opAux:
		_, err = r.text()
		if err == nil {
			_, err = r.text()
		}
	case opResize:
		err = r.lengths(2)
	case opSlotInfo:
		err = r.lengths(3)
	case opSlotImport:
		err = errors.New("a file written while slots moved is not read")
	case opIdle:
		err = r.lengths(1)
	case opFreq:
		_, err = r.byte()
	case opModule:
		if err = r.lengths(3); err == nil { // its id, when it was written
			err = r.module()
		}
	}
	return err
}

func (r *reader) entry(e *Entry, kind byte) (err error) {
	e.Type = kind
	if e.Key, err = r.text(); err != nil {
		return err
	}
	r.kept, r.value = true, nil
	err = r.skip(kind)
	r.kept, e.Value = false, r.value
	return err
}

// end checks the sum, where the file has one.
func (r *reader) end(f *File) error {
	if f.Version < 5 {
		return nil
	}
	want := r.sum.Sum64()
	b, err := r.take(8)
	if err != nil {
		return err
	}
	if has := binary.LittleEndian.Uint64(b); has != 0 && has != want {
		return errors.New("the sum at the end of the file is not that of its contents")
	}
	return nil
}

func (r *reader) byte() (byte, error) {
	b, err := r.take(1)
	if err != nil {
		return 0, err
	}
	return b[0], nil
}

// take reads n bytes; they are there until the next read.
func (r *reader) take(n int) ([]byte, error) {
	b := r.buf[:min(n, len(r.buf))]
	if n > len(r.buf) {
		return r.long(n)
	}
	return b, r.fill(b)
}

// long reads many bytes as they come: a length alone allots nothing.
func (r *reader) long(n int) ([]byte, error) {
	const most = 1 << 20
	all := make([]byte, 0, min(n, most))
	for len(all) < n {
		from := len(all)
		all = append(all, make([]byte, min(n-from, most))...)
		if err := r.fill(all[from:]); err != nil {
			return nil, err
		}
	}
	return all, nil
}

func (r *reader) fill(b []byte) error {
	n, err := io.ReadFull(r.in, b)
	r.at += int64(n)
	if err != nil {
		return err
	}
	r.sum.Write(b)
	if r.kept {
		r.value = append(r.value, b...)
	}
	return nil
}

func (r *reader) int64() (int64, error) {
	b, err := r.take(8)
	if err != nil {
		return 0, err
	}
	return int64(binary.LittleEndian.Uint64(b)), nil
}

// How a length says that a string is kept in another way.
const (
	encInt8 = iota
	encInt16
	encInt32
	encLZF
)

// encoded reads a length, or how a string is kept.
func (r *reader) encoded() (n uint64, special bool, err error) {
	b, err := r.byte()
	if err != nil {
		return 0, false, err
	}
	switch {
	case b>>6 == 0:
		return uint64(b & 0x3f), false, nil
	case b>>6 == 1:
		low, err := r.byte()
		return uint64(b&0x3f)<<8 | uint64(low), false, err
	case b == 0x80:
		more, err := r.take(4)
		if err != nil {
			return 0, false, err
		}
		return uint64(binary.BigEndian.Uint32(more)), false, nil
	case b == 0x81:
		more, err := r.take(8)
		if err != nil {
			return 0, false, err
		}
		return binary.BigEndian.Uint64(more), false, nil
	case b>>6 == 3:
		return uint64(b & 0x3f), true, nil
	}
	return 0, false, fmt.Errorf("%#x begins no length", b)
}

// length reads a length of what takes a byte or more each, or a number.
func (r *reader) length() (uint64, error) {
	n, special, err := r.encoded()
	if err == nil && special {
		err = errors.New("a string stands where a number is to be")
	}
	return n, err
}

func (r *reader) lengths(count int) error {
	for range count {
		if _, err := r.length(); err != nil {
			return err
		}
	}
	return nil
}

const maxString = 1 << 40 // in bytes: more is no length

// string reads a string as it lies in the file, and tells what it says.
func (r *reader) text() (string, error) {
	n, special, err := r.encoded()
	if err != nil {
		return "", err
	}
	if !special {
		if n > maxString {
			return "", errors.New("a string cannot be that long")
		}
		b, err := r.take(int(n))
		return string(b), err
	}
	switch n {
	case encInt8:
		b, err := r.byte()
		return strconv.Itoa(int(int8(b))), err
	case encInt16:
		b, err := r.take(2)
		if err != nil {
			return "", err
		}
		return strconv.Itoa(int(int16(binary.LittleEndian.Uint16(b)))), nil
	case encInt32:
		b, err := r.take(4)
		if err != nil {
			return "", err
		}
		return strconv.Itoa(int(int32(binary.LittleEndian.Uint32(b)))), nil
	case encLZF:
		return r.compressed()
	}
	return "", fmt.Errorf("a string is kept in an unknown way (%d)", n)
}

func (r *reader) compressed() (string, error) {
	short, err := r.length()
	if err != nil {
		return "", err
	}
	long, err := r.length()
	if err != nil {
		return "", err
	}
	if short > maxString || long > short*300+64 { // LZF makes at most 264 of 3 bytes
		return "", errors.New("a compressed string cannot be that long")
	}
	b, err := r.take(int(short))
	if err != nil || r.kept { // what a value says is not asked
		return "", err
	}
	out, err := expand(b, int(long))
	return string(out), err
}

// expand undoes LZF ("liblzf", lzf_d.c).
func expand(in []byte, size int) ([]byte, error) {
	bad := errors.New("a compressed string is broken")
	out := make([]byte, 0, size)
	for i := 0; i < len(in); {
		control := int(in[i])
		i++
		if control < 32 { // so many bytes, and one, as they are
			n := control + 1
			if i+n > len(in) {
				return nil, bad
			}
			out = append(out, in[i:i+n]...)
			i += n
			continue
		}
		n := control >> 5
		if n == 7 {
			if i >= len(in) {
				return nil, bad
			}
			n += int(in[i])
			i++
		}
		if i >= len(in) {
			return nil, bad
		}
		from := len(out) - (control&0x1f)<<8 - int(in[i]) - 1
		i++
		if from < 0 {
			return nil, bad
		}
		for range n + 2 {
			out = append(out, out[from])
			from++
		}
	}
	if len(out) != size {
		return nil, bad
	}
	return out, nil
}

// table is that of the polynomial of RDB files, which Go writes the other way round.
var table = crc64.MakeTable(0x95ac9329ac4bc9b5)

// sum is a CRC-64 that begins with 0, as RDB files have it.
type sum struct{ crc uint64 }

func newSum() *sum { return &sum{} }

func (s *sum) Write(b []byte) (int, error) {
	s.crc = ^crc64.Update(^s.crc, table, b)
	return len(b), nil
}
func (s *sum) Sum64() uint64     { return s.crc }
func (s *sum) Sum([]byte) []byte { return nil }
func (s *sum) Reset()            { s.crc = 0 }
func (s *sum) Size() int         { return 8 }
func (s *sum) BlockSize() int    { return 1 }

func readerOf(b []byte) *reader {
	return &reader{in: bufio.NewReader(bytes.NewReader(b)), sum: newSum()}
}
