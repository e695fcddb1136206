// Package wal reads the write-ahead log of a PostgreSQL server: which relations
// were written to between two positions. The format is that of
// src/include/access/xlogrecord.h and xlog_internal.h of PostgreSQL 15, which the
// other versions share but for what Formats says, in the byte order of the
// machine, which is taken to be little-endian.
package wal

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
)

// Position is a place in the log, in bytes from its beginning.
type Position uint64

// ParsePosition reads a position as PostgreSQL writes it.
func ParsePosition(text string) (Position, error) {
	high, low, ok := strings.Cut(text, "/")
	h, err := strconv.ParseUint(high, 16, 32)
	l, failed := strconv.ParseUint(low, 16, 32)
	if err = errors.Join(err, failed); err != nil || !ok {
		return 0, fmt.Errorf("%q is no position in a write-ahead log", text)
	}
	return Position(h<<32 | l), nil
}

func (p Position) String() string { return fmt.Sprintf("%X/%X", uint64(p)>>32, uint32(p)) }

// Log is where a server's log lies, and how it is written.
type Log struct {
	Fetch    Fetch // nil where the log cannot be read
	Timeline uint32
	Segment  int64 // bytes in a file
	Format
}

// Fetch reads from one of the log's files, from an offset on, all that is asked for.
type Fetch func(file string, offset int64, into []byte) error

// Format is what differs between the logs of major versions.
type Format struct {
	Magic      uint16 // that pages begin with: XLOG_PAGE_MAGIC in access/xlog_internal.h
	Compressed byte   // flags of an image that is compressed: access/xlogrecord.h
}

// Formats are those of the major versions whose logs this package was held
// against the server's own dump program.
var Formats = map[string]Format{
	"13": {Magic: 0xD106, Compressed: 0x02},
	"15": {Magic: 0xD110, Compressed: 0x04 | 0x08 | 0x10},
	"17": {Magic: 0xD116, Compressed: 0x04 | 0x08 | 0x10},
	"18": {Magic: 0xD118, Compressed: 0x04 | 0x08 | 0x10},
}

// InFolder fetches from the files of a folder.
func InFolder(folder string) Fetch {
	return func(file string, offset int64, into []byte) error {
		f, err := os.Open(filepath.Join(folder, file))
		if err != nil {
			return err
		}
		defer f.Close()
		_, err = f.ReadAt(into, offset)
		return err
	}
}

// Block is a page that a record changes.
type Block struct {
	Database, File uint32 // the relation's: its database, 0 for what is shared, and its file node
	Fork           byte   // 0 for the rows themselves
	Number         uint32
}

// Record is one entry of the log.
type Record struct {
	Transaction   uint32 // 0 where it belongs to none
	Manager, Info byte   // the resource manager, and what it did
	Blocks        []Block

	compressed byte // flags of a compressed image
}

// ErrUnreadable says that the log cannot be read from a position: it is of
// another version, is not there any more, or was not written so far.
var ErrUnreadable = errors.New("the write-ahead log cannot be read")

const (
	page       = 8192
	shortHead  = 24 // of a page
	longHead   = 40 // of the first page of a file
	recordHead = 24
)

// Read passes on the records between two positions, at each of which a record
// begins or ends, and which lie behind what the server has written out. The
// record, and its blocks, are the callee's until it returns.
func (l Log) Read(from, to Position, each func(*Record)) error {
	if from >= to {
		return nil
	}
	body, err := l.body(from, to)
	if err != nil {
		return err
	}
	r := Record{compressed: l.Compressed}
	for len(body) > 0 {
		n, err := r.read(body)
		if err != nil {
			return err
		}
		each(&r)
		body = body[min((n+7)&^7, len(body)):] // records are aligned
	}
	return nil
}

// body is the log between two positions without the heads of its pages.
func (l Log) body(from, to Position) ([]byte, error) {
	first, end := from&^(page-1), (to+page-1)&^(page-1)
	raw := make([]byte, end-first)
	done := 0
	for _, p := range l.Pieces(from, to) {
		if err := l.Fetch(p.File, p.Offset, raw[done:done+p.Length]); err != nil {
			return nil, fmt.Errorf("%w: %w", ErrUnreadable, err)
		}
		done += p.Length
	}
	body := raw[:0]
	for at := first; at < end; at += page {
		p, head := raw[at-first:][:page], Position(shortHead)
		if at%Position(l.Segment) == 0 {
			head = longHead
		}
		begin, stop := max(at+head, from), min(at+page, to)
		if begin >= stop {
			continue
		}
		if binary.LittleEndian.Uint16(p) != l.Magic || binary.LittleEndian.Uint64(p[8:]) != uint64(at) {
			return nil, fmt.Errorf("%w: another page than that of %s is there", ErrUnreadable, at)
		}
		body = append(body, p[begin-at:stop-at]...)
	}
	return body, nil
}

// Piece is a part of one of the log's files.
type Piece struct {
	File   string
	Offset int64
	Length int
}

// Pieces are the whole pages from one position to another, by files.
func (l Log) Pieces(from, to Position) (all []Piece) {
	segment := Position(l.Segment)
	perID := (1 << 32) / segment
	for at, end := from&^(page-1), (to+page-1)&^(page-1); at < end; {
		number := at / segment
		next := min((number+1)*segment, end)
		name := fmt.Sprintf("%08X%08X%08X", l.Timeline, uint64(number/perID), uint64(number%perID))
		all = append(all, Piece{File: name, Offset: int64(at % segment), Length: int(next - at)})
		at = next
	}
	return all
}

var castagnoli = sync.OnceValue(func() *crc32.Table { return crc32.MakeTable(crc32.Castagnoli) })

// read reads the first record of b and returns its length.
func (r *Record) read(b []byte) (int, error) {
	if len(b) < recordHead {
		return 0, fmt.Errorf("%w: it ends within a record", ErrUnreadable)
	}
	n := int(binary.LittleEndian.Uint32(b))
	if n < recordHead || n > len(b) {
		return 0, fmt.Errorf("%w: a record of %d bytes", ErrUnreadable, n)
	}
	sum := crc32.Update(crc32.Checksum(b[recordHead:n], castagnoli()), castagnoli(), b[:20])
	if sum != binary.LittleEndian.Uint32(b[20:]) {
		return 0, fmt.Errorf("%w: a record's checksum is wrong", ErrUnreadable)
	}
	r.Transaction, r.Info, r.Manager = binary.LittleEndian.Uint32(b[4:]), b[16], b[17]
	return n, r.heads(b[recordHead:n])
}

// What the number that begins a head within a record stands for.
const (
	lastBlock = 32
	dataShort = 255
	dataLong  = 254
	origin    = 253
	topLevel  = 252
)

// Flags of a block's head, and of the image in it.
const (
	hasImage     = 0x10
	sameRelation = 0x80
	hasHole      = 0x01
)

// heads reads the heads of a record's blocks, which come before all data.
func (r *Record) heads(b []byte) error {
	r.Blocks = r.Blocks[:0]
	data := 0 // bytes of data that the heads read so far announce
	cut := cutter{left: b}
	for !cut.short && len(cut.left) > data {
		switch id := cut.number(1); {
		case id <= lastBlock:
			data += r.block(&cut)
		case id == dataShort:
			data += int(cut.number(1))
		case id == dataLong:
			data += int(cut.number(4))
		case id == origin:
			cut.number(2)
		case id == topLevel:
			cut.number(4)
		default:
			return fmt.Errorf("%w: a head of kind %d", ErrUnreadable, id)
		}
	}
	if cut.short || len(cut.left) != data {
		return fmt.Errorf("%w: a record's parts are longer than it", ErrUnreadable)
	}
	return nil
}

// block reads the head of a block and returns how much data belongs to it.
func (r *Record) block(cut *cutter) (data int) {
	flags := cut.number(1)
	data = int(cut.number(2))
	if flags&hasImage != 0 {
		data += int(cut.number(2))
		cut.number(2)
		if info := cut.number(1); info&hasHole != 0 && info&uint32(r.compressed) != 0 {
			cut.number(2)
		}
	}
	block := Block{Fork: byte(flags & 0x0f)}
	if flags&sameRelation == 0 {
		cut.number(4) // the tablespace
		block.Database, block.File = cut.number(4), cut.number(4)
	} else if n := len(r.Blocks); n > 0 {
		block.Database, block.File = r.Blocks[n-1].Database, r.Blocks[n-1].File
	} else {
		cut.short = true
	}
	block.Number = cut.number(4)
	r.Blocks = append(r.Blocks, block)
	return data
}

// cutter takes numbers off the beginning of some bytes.
type cutter struct {
	left  []byte
	short bool // more was asked for than was there
}

func (c *cutter) number(size int) (n uint32) {
	if len(c.left) < size {
		c.short, c.left = true, nil
		return 0
	}
	for i := size - 1; i >= 0; i-- {
		n = n<<8 | uint32(c.left[i])
	}
	c.left = c.left[size:]
	return n
}
