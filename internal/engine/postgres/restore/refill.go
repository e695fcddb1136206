package restore

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine"
)

// refilling brings rows of a table back from its start state.
type refilling struct {
	layout
	from source
	to   *pgx.Conn
}

// fill brings the rows that are missing: those whose keys are not there, where
// many are left, else all. gone are the keys of the rows that went; nil where they are not
// known.
func (r *refilling) fill(ctx context.Context, left, want int64, gone []string, done *engine.TableReport) error {
	if kept, ok := r.from.(*local); ok && gone != nil {
		if rows := kept.among(gone); int64(len(rows)) == want-left { // all that is missing was written to
			var err error
			done.PutBack, err = r.bring(ctx, rows)
			return r.whole(err, done.PutBack, want-left)
		}
	}
	if r.key != "" && r.binary && left < want && left*2 > want {
		rows, err := r.from.absent(ctx, remote{r.layout, r.to})
		if err == nil && int64(len(rows)) == want-left {
			done.PutBack, err = r.bring(ctx, rows)
			return r.whole(err, done.PutBack, want-left)
		}
		if err != nil && !errors.Is(err, errOrder) {
			return err
		}
	}
	if left > 0 {
		tag, err := r.to.Exec(ctx, "DELETE FROM ONLY "+r.name)
		if err != nil {
			return err
		}
		done.Removed += tag.RowsAffected()
	}
	var err error
	done.PutBack, err = r.bring(ctx, nil)
	return r.whole(err, done.PutBack, want)
}

// whole is an error, that which there was or one where not as many rows came as
// the start state has.
func (r *refilling) whole(err error, came, want int64) error {
	if err == nil && came != want {
		return ErrReferenceLost
	}
	return err
}

// bring streams rows, and returns how many.
func (r *refilling) bring(ctx context.Context, places []string) (int64, error) {
	in := r.from.rows(ctx, places)
	tag, err := r.to.PgConn().CopyFrom(ctx, in,
		fmt.Sprintf("COPY %s (%s) FROM STDIN (FORMAT %s)", r.name, r.columns, r.format))
	return tag.RowsAffected(), cmp.Or(err, in.Close())
}

// errOrder says that the keys of a table are not among those of its start
// state, in their order.
var errOrder = errors.New("the keys differ")

// absent compares two lists of rows, each with its place in its table first.
func absent(ours, theirs io.Reader) (places []string, err error) {
	a, b := newRowReader(ours), newRowReader(theirs)
	_, there, err := b.row()
	for err == nil {
		place, key, failed := a.row()
		if failed != nil {
			return nil, failed
		}
		if key == nil {
			break
		}
		if there != nil && bytes.Equal(key, there) {
			_, there, err = b.row()
			continue
		}
		places = append(places, place)
	}
	if err == nil && there != nil {
		err = errOrder
	}
	return places, err
}

// keyLimit is more than an entry of an index can have, in bytes.
const keyLimit = 1 << 16

// rowReader reads what COPY writes in its binary format, which the manual's
// page on COPY describes.
type rowReader struct {
	in      *bufio.Reader
	started bool
	key     []byte
}

func newRowReader(in io.Reader) *rowReader { return &rowReader{in: bufio.NewReaderSize(in, 1<<16)} }

// head is the signature, the flags and the length of the extension, 0.
const head = "PGCOPY\n\xff\r\n\x00\x00\x00\x00\x00\x00\x00\x00\x00"

// row returns a row's place, as a text, and its other columns, valid until the
// next call; nil behind the last row.
func (r *rowReader) row() (place string, key []byte, err error) {
	if !r.started {
		got := make([]byte, len(head))
		if _, err := io.ReadFull(r.in, got); err != nil || string(got) != head {
			return "", nil, errors.Join(err, errForm)
		}
		r.started = true
	}
	var n [4]byte
	if _, err := io.ReadFull(r.in, n[:2]); err != nil {
		return "", nil, err
	}
	columns := int(int16(binary.BigEndian.Uint16(n[:])))
	if columns < 0 {
		return "", nil, nil
	}
	r.key = r.key[:0]
	for i := range columns {
		if _, err := io.ReadFull(r.in, n[:]); err != nil {
			return "", nil, err
		}
		size := int(int32(binary.BigEndian.Uint32(n[:])))
		if size > keyLimit {
			return "", nil, fmt.Errorf("a key of %d bytes", size)
		}
		at := len(r.key)
		if i > 0 {
			r.key = append(r.key, n[:]...)
			at += len(n)
		}
		r.key = append(r.key, make([]byte, max(size, 0))...)
		if _, err := io.ReadFull(r.in, r.key[at:]); err != nil {
			return "", nil, err
		}
		if i == 0 {
			if size != 6 {
				return "", nil, errors.New("a row's place is not of six bytes")
			}
			place = placeOf(r.key)
			r.key = r.key[:0]
		}
	}
	return place, r.key, nil
}
