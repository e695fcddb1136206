package rdb

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// Payload is a key's value as DUMP gives it and RESTORE takes it: its type, the value, the
// version of the format and a sum over all of it. A file of Valkey's own has no other
// numbers there.
func (f *File) Payload(e Entry) []byte {
	all := make([]byte, 0, len(e.Value)+11)
	all = append(all, e.Type)
	return f.seal(append(all, e.Value...))
}

// FunctionPayload is what FUNCTION RESTORE takes; nil where there are none.
func (f *File) FunctionPayload() []byte {
	if len(f.Functions) == 0 {
		return nil
	}
	var all []byte
	for _, text := range f.Functions {
		all = appendText(append(all, opFunction), text)
	}
	return f.seal(all)
}

func (f *File) seal(all []byte) []byte {
	all = binary.LittleEndian.AppendUint16(all, uint16(f.Version))
	s := newSum()
	s.Write(all)
	return binary.LittleEndian.AppendUint64(all, s.crc)
}

// footer is the version and the sum at the end of a payload, in bytes.
const footer = 10

// FromPayload reads a payload of DUMP, and tells the version that it was written in.
func FromPayload(payload []byte) (kind byte, value []byte, version int, err error) {
	if len(payload) < footer+1 {
		return 0, nil, 0, errors.New("what DUMP gave is too short")
	}
	end := len(payload) - footer
	return payload[0], payload[1:end], int(binary.LittleEndian.Uint16(payload[end:])), nil
}

func appendLength(to []byte, n int) []byte {
	switch {
	case n < 1<<6:
		return append(to, byte(n))
	case n < 1<<14:
		return append(to, byte(n>>8)|0x40, byte(n))
	case n <= 1<<32-1:
		return binary.BigEndian.AppendUint32(append(to, 0x80), uint32(n))
	}
	return binary.BigEndian.AppendUint64(append(to, 0x81), uint64(n))
}

func appendText(to []byte, text string) []byte { return append(appendLength(to, len(text)), text...) }

// Write writes a file, its entries in the order of their databases.
func (f *File) Write(out io.Writer) error {
	s := newSum()
	w := bufio.NewWriterSize(out, 1<<16)
	put := func(b []byte) {
		s.Write(b)
		_, _ = w.Write(b) // it remembers its error
	}
	mark := "REDIS%04d"
	if f.Valkey {
		mark = "VALKEY%03d"
	}
	put(fmt.Appendf(nil, mark, f.Version))
	for _, text := range f.Functions {
		put(appendText([]byte{opFunction}, text))
	}
	db := -1
	for _, e := range f.Entries {
		if e.DB < db {
			return errors.New("the entries of an RDB file are not in the order of their databases")
		}
		if e.DB != db {
			db = e.DB
			put(appendLength([]byte{opSelect}, db))
		}
		var head []byte
		if e.Expires != 0 {
			head = binary.LittleEndian.AppendUint64([]byte{opExpireMS}, uint64(e.Expires))
		}
		put(appendText(append(head, e.Type), e.Key))
		put(e.Value)
	}
	put([]byte{opEOF})
	_, _ = w.Write(binary.LittleEndian.AppendUint64(nil, s.crc))
	return w.Flush()
}

// Functions reads what FUNCTION DUMP gives.
func Functions(payload []byte) ([]string, error) {
	if len(payload) < footer {
		return nil, errors.New("what FUNCTION DUMP gave is too short")
	}
	r := readerOf(payload[:len(payload)-footer])
	var all []string
	for {
		op, err := r.byte()
		if errors.Is(err, io.EOF) {
			return all, nil
		}
		if err == nil && op != opFunction {
			err = fmt.Errorf("what FUNCTION DUMP gave holds %d", op)
		}
		var text string
		if err == nil {
			text, err = r.text()
		}
		if err != nil {
			return nil, err
		}
		all = append(all, text)
	}
}
