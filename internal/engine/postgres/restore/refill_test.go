package restore

import (
	"bytes"
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
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

// FuzzRows: whatever comes instead of what COPY writes is an error, or rows
// whose keys are no longer than what came.
func FuzzRows(f *testing.F) {
	f.Add(copied("a", "", "NULL"))
	f.Fuzz(func(t *testing.T, b []byte) {
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
