package wal

import (
	"encoding/binary"
	"hash/crc32"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const segment = 1 << 20

// made is the log of one record with two blocks, as PostgreSQL writes it, at
// the beginning of the second file of a server.
func made() []byte {
	// an image of five bytes, compressed, with a hole; three bytes of data
	body := []byte{0, 0x10 | 0x02, 3, 0, 5, 0, 9, 0, 0x01 | 0x04, 7, 0}
	// tablespace, database, file, page
	body = append(body, 0x7f, 6, 0, 0, 0x0c, 0x40, 0, 0, 0x0d, 0x40, 0, 0, 8, 0, 0, 0)
	// the same relation's map of free space
	body = append(body, 1, 0x80|0x01, 0, 0, 2, 0, 0, 0)
	body = append(body, 253, 0, 0, 252, 9, 0, 0, 0, 255, 4)
	body = append(body, "imagedatmain"...)
	record := binary.LittleEndian.AppendUint32(nil, uint32(recordHead+len(body)))
	record = binary.LittleEndian.AppendUint32(record, 77)
	record = binary.LittleEndian.AppendUint64(record, 0)
	record = append(record, 0x20, heap, 0, 0)
	sum := crc32.Update(crc32.Checksum(body, castagnoli()), castagnoli(), record)
	record = append(binary.LittleEndian.AppendUint32(record, sum), body...)
	p := make([]byte, page)
	binary.LittleEndian.PutUint16(p, Formats["15"].Magic)
	binary.LittleEndian.PutUint64(p[8:], segment)
	copy(p[longHead:], record)
	return p
}

func write(t testing.TB, p []byte) Log {
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "000000010000000000000001"), p, 0o600))
	return Log{Fetch: InFolder(folder), Timeline: 1, Segment: segment, Format: Formats["15"]}
}

// TestRead reads a record by hand; what is not whole is an error.
func TestRead(t *testing.T) {
	p := made()
	n := Position(binary.LittleEndian.Uint32(p[longHead:])+7) &^ 7
	l := write(t, p)
	var got []Record
	keep := func(r *Record) {
		got = append(got, Record{Transaction: r.Transaction, Manager: r.Manager, Info: r.Info,
			Blocks: append([]Block(nil), r.Blocks...)})
	}
	require.NoError(t, l.Read(segment+longHead, segment+longHead+n, keep))
	assert.Equal(t, []Record{{Transaction: 77, Manager: heap, Info: 0x20,
		Blocks: []Block{{0x400c, 0x400d, 2, 8}, {0x400c, 0x400d, 1, 2}}}}, got)
	assert.True(t, got[0].Writes())
	assert.ErrorIs(t, l.Read(segment+longHead, segment+longHead+n-8, keep), ErrUnreadable, "it ends within the record")
	assert.ErrorIs(t, l.Read(segment+longHead, 3*segment, keep), ErrUnreadable, "no such file")
	for _, at := range []int{0, 8, longHead, longHead + 20, longHead + 30, longHead + 60} {
		broken := made()
		broken[at] ^= 0x40
		assert.ErrorIs(t, write(t, broken).Read(segment+longHead, segment+longHead+n, keep), ErrUnreadable,
			"a bit of byte %d", at)
	}
}

func TestPosition(t *testing.T) {
	p, err := ParsePosition("1A/2B")
	require.NoError(t, err)
	assert.Equal(t, Position(0x1a0000002b), p)
	assert.Equal(t, "1A/2B", p.String())
	for _, bad := range []string{"", "1", "1/", "x/1", "1/100000000"} {
		_, err := ParsePosition(bad)
		assert.Error(t, err, bad)
	}
}

// FuzzRecord: whatever stands in a log is read or refused, and a block is
// never made up of what is behind the record.
func FuzzRecord(f *testing.F) {
	p := made()
	f.Add(p[longHead:200], false)
	f.Add(p[longHead+recordHead:200], true)
	f.Fuzz(func(t *testing.T, b []byte, sound bool) {
		if sound { // past the checksum
			head := make([]byte, recordHead)
			binary.LittleEndian.PutUint32(head, uint32(recordHead+len(b)))
			binary.LittleEndian.PutUint32(head[20:],
				crc32.Update(crc32.Checksum(b, castagnoli()), castagnoli(), head[:20]))
			b = append(head, b...)
		}
		r := Record{compressed: Formats["15"].Compressed}
		n, err := r.read(b)
		if err != nil {
			require.ErrorIs(t, err, ErrUnreadable)
			return
		}
		require.True(t, n >= recordHead && n <= len(b))
		require.LessOrEqual(t, len(r.Blocks)*8, n)
	})
}
