package restore

import (
	"bufio"
	"bytes"
	"context"
	_ "embed"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/errgroup"

	"hemzo/internal/engine"
)

// layoutSQL asks for the columns of a table that can be written to, those of its
// primary key, and the format in which COPY can give them.
//
//go:embed sql/layout.sql
var layoutSQL string

// refilling brings rows of a table from the reference copy of the start state.
type refilling struct {
	from, to     *pgx.Conn
	name         string
	columns, key string // lists of names; key is "" where there is no primary key
	format       string // in which COPY gives the columns
}

// layout asks for the columns that can be written to, and for the primary key.
// A few types have no binary form.
func (r *refilling) layout(ctx context.Context) error {
	return r.from.QueryRow(ctx, layoutSQL, r.name).Scan(&r.columns, &r.key, &r.format)
}

// fill brings the rows that are missing: those whose keys are not there, where
// many are left, else all.
func (r *refilling) fill(ctx context.Context, left, want int64, done *engine.TableReport) error {
	if r.key != "" && r.format == "binary" && left < want && left*2 > want {
		rows, err := r.missing(ctx)
		if err == nil && int64(len(rows)) == want-left {
			done.PutBack, err = r.bring(ctx, " WHERE ctid = ANY ('{"+strings.Join(rows, ",")+"}')")
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
	done.PutBack, err = r.bring(ctx, "")
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
func (r *refilling) bring(ctx context.Context, where string) (int64, error) {
	in, out := io.Pipe()
	done := make(chan struct{})
	go func() {
		defer close(done)
		_ = copyOut(ctx, r.from, out, fmt.Sprintf("COPY (SELECT %s FROM ONLY %s%s) TO STDOUT (FORMAT %s)", r.columns,
			r.name, where, r.format))
	}()
	tag, err := r.to.PgConn().CopyFrom(ctx, in,
		fmt.Sprintf("COPY %s (%s) FROM STDIN (FORMAT %s)", r.name, r.columns, r.format))
	in.CloseWithError(err)
	<-done // the session is somebody else's from here on
	return tag.RowsAffected(), err
}

// copyOut writes what COPY gives out. The server gives each row by itself; the
// other end gets many at once.
func copyOut(ctx context.Context, conn *pgx.Conn, to *io.PipeWriter, sql string) error {
	out := bufio.NewWriterSize(to, 1<<16)
	_, err := conn.PgConn().CopyTo(ctx, out, sql)
	if err == nil {
		err = out.Flush()
	}
	to.CloseWithError(err)
	return err
}

// errOrder says that the keys of a table are not among those of its start
// state, in their order.
var errOrder = errors.New("the keys differ")

// missing lists where the rows are, in the reference copy, whose keys are not in the
// table. Both list their keys in the same order.
func (r *refilling) missing(ctx context.Context) (rows []string, err error) {
	query := fmt.Sprintf("COPY (SELECT ctid, %s FROM ONLY %s ORDER BY %s) TO STDOUT (FORMAT binary)", r.key, r.name,
		r.key)
	all, ctx := errgroup.WithContext(ctx)
	var in [2]*io.PipeReader
	for i, conn := range []*pgx.Conn{r.from, r.to} {
		read, write := io.Pipe()
		in[i] = read
		all.Go(func() error { return copyOut(ctx, conn, write, query) })
	}
	all.Go(func() error {
		rows, err = absent(in[0], in[1])
		// What is left is read, so that the sessions can be used again.
		for _, r := range in {
			if _, failed := io.Copy(io.Discard, r); failed != nil && err == nil {
				err = failed
			}
		}
		if errors.Is(err, errOrder) {
			return nil
		}
		return err
	})
	if failed := all.Wait(); failed != nil {
		return nil, failed
	}
	return rows, err
}

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
			return "", nil, errors.Join(err, errors.New("this is not what COPY writes"))
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
			place = fmt.Sprintf(`"(%d,%d)"`, binary.BigEndian.Uint32(r.key), binary.BigEndian.Uint16(r.key[4:]))
			r.key = r.key[:0]
		}
	}
	return place, r.key, nil
}
