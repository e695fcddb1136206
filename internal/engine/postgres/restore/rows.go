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
	"maps"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
)

// layoutSQL asks for the columns of a table that can be written to, those of its primary
// key, those that the table always numbers itself, whether all have a binary form, and the
// table's size in bytes.
//
//go:embed sql/layout.sql
var layoutSQL string

// layout is how the rows of a table are read and written.
type layout struct {
	name         string
	columns, key string // lists of names; key is "" where there is no primary key
	format       string // in which COPY gives the columns: a few types have no binary form
	size         int64

	names, keyNames, numbered []string // the columns, those of the key, those that are always numbered
	binary                    bool     // all have a binary form
	where                     string   // keys that are asked for; "" for all
}

func (l layout) form() layout { return l }

func readLayout(ctx context.Context, conn *pgx.Conn, name string) (l layout, err error) {
	l.name = name
	err = conn.QueryRow(ctx, layoutSQL, name).Scan(&l.names, &l.keyNames, &l.numbered, &l.binary, &l.size)
	l.columns, l.key = strings.Join(l.names, ", "), strings.Join(l.keyNames, ", ")
	if l.format = "text"; l.binary {
		l.format = "binary"
	}
	return l, err
}

// keys is a query for where each row is, and its key, in the order of the keys.
func (l layout) keys() string {
	return fmt.Sprintf("COPY (SELECT ctid, %s FROM ONLY %s%s ORDER BY %[1]s) TO STDOUT (FORMAT binary)", l.key, l.name,
		l.where)
}

// rows is a query for rows of which more, or where they are, comes first.
func (l layout) rows(first, where string) string {
	return fmt.Sprintf("COPY (SELECT %s%s FROM ONLY %s%s) TO STDOUT (FORMAT %s)", first, l.columns, l.name, where,
		l.format)
}

// source is where the rows of a table of a start state come from.
type source interface {
	form() layout
	// absent lists the places of the rows whose keys a table does not have; errOrder where
	// that has others.
	absent(ctx context.Context, from remote) (places []string, err error)
	// rows are some rows as COPY writes them, by the places that absent tells; all for nil.
	// Its Close reads the rest.
	rows(ctx context.Context, places []string) io.ReadCloser
}

// remote are rows that a session reads.
type remote struct {
	layout
	conn *pgx.Conn
}

func (r remote) keys(ctx context.Context) io.ReadCloser {
	return stream(ctx, r.conn, r.layout.keys())
}

// absent compares both lists of keys, in their order.
func (r remote) absent(ctx context.Context, from remote) (places []string, err error) {
	ours, theirs := r.keys(ctx), from.keys(ctx)
	places, err = absent(ours, theirs)
	return places, errors.Join(err, ours.Close(), theirs.Close())
}

func (r remote) rows(ctx context.Context, places []string) io.ReadCloser {
	where := ""
	if places != nil {
		where = " WHERE ctid = ANY ('{" + strings.Join(places, ",") + "}')"
	}
	return stream(ctx, r.conn, r.layout.rows("", where))
}

// streamed is what COPY gives out. A session that cannot write on is broken: all is read.
type streamed struct {
	*io.PipeReader
	ended chan error
}

func (s streamed) Close() error {
	_, _ = io.Copy(io.Discard, s.PipeReader)
	return <-s.ended // the session is somebody else's from here on
}

// stream passes on what COPY gives out. The server gives each row by itself; the other end
// gets many at once.
func stream(ctx context.Context, conn *pgx.Conn, sql string) io.ReadCloser {
	in, to := io.Pipe()
	s := streamed{in, make(chan error, 1)}
	go func() {
		out := bufio.NewWriterSize(to, 1<<16)
		_, err := conn.PgConn().CopyTo(ctx, out, sql)
		if err == nil {
			err = out.Flush()
		}
		to.CloseWithError(err)
		s.ended <- err
	}()
	return s
}

// Tables are kept in memory up to so many bytes each, and all together.
const (
	tableLimit = 1 << 20
	allLimit   = 32 << 20
)

// local are rows that are kept in memory: most resets of a suite put the same few tables
// back, and need no session for reading then. A start state does not change.
type local struct {
	layout
	order  []string // places of rows
	data   [][]byte // rows, in that order, each as COPY writes it
	at     map[string]int
	places map[string]string // of rows by their keys, as COPY writes those as texts; nil without
}

func (l *local) rows(_ context.Context, places []string) io.ReadCloser {
	if places == nil {
		places = l.order
	}
	out := &bytes.Buffer{}
	if l.format == "binary" {
		out.WriteString(head)
	}
	for _, p := range places {
		if at, there := l.at[p]; there { // else a row too few comes, which is noticed
			out.Write(l.data[at])
		}
	}
	if l.format == "binary" {
		out.Write(end)
	}
	return io.NopCloser(out)
}

func (l *local) absent(ctx context.Context, from remote) (places []string, err error) {
	there, err := readAllOf(ctx, from.conn, fmt.Sprintf("COPY (SELECT %s FROM ONLY %s%s) TO STDOUT", l.key, l.name,
		from.where))
	if err != nil {
		return nil, err
	}
	left := maps.Clone(l.places)
	for line := range bytes.Lines(there) {
		key := string(bytes.TrimSuffix(line, []byte("\n")))
		if _, known := left[key]; !known {
			return nil, errOrder
		}
		delete(left, key)
	}
	return slices.Sorted(maps.Values(left)), nil
}

// among lists the places of the rows that have some keys.
func (l *local) among(keys []string) (places []string) {
	for _, k := range keys {
		if p, there := l.places[k]; there {
			places = append(places, p)
		}
	}
	return places
}

// bytes is about how much memory the rows take.
func (l *local) bytes() int {
	return int(l.size) + 250*len(l.order)
}

// errLarge says that rows are too many to be kept, or have nothing to keep.
var errLarge = errors.New("the rows are too many")

// keepRows reads the rows of a table to keep them; errLarge where they take too much.
func keepRows(ctx context.Context, conn *pgx.Conn, of layout) (*local, error) {
	l := &local{layout: of, at: map[string]int{}}
	if of.size > tableLimit || of.columns == "" {
		return nil, errLarge
	}
	var err error
	if of.key != "" {
		if err = l.keepKeys(ctx, conn); err != nil {
			return nil, err
		}
	}
	all, err := readAll(ctx, conn, of.rows("ctid, ", ""))
	if err != nil {
		return nil, err
	}
	l.size = int64(len(all))
	each := eachRow
	if of.format != "binary" {
		each = eachLine
	}
	err = each(all, func(place string, row []byte) {
		l.at[place] = len(l.data)
		l.order, l.data = append(l.order, place), append(l.data, row)
	})
	return l, err
}

// keepKeys reads where the rows are by their keys.
func (l *local) keepKeys(ctx context.Context, conn *pgx.Conn) error {
	all, err := readAll(ctx, conn, fmt.Sprintf("COPY (SELECT ctid, %s FROM ONLY %s) TO STDOUT", l.key, l.name))
	if err != nil {
		return err
	}
	l.places = map[string]string{}
	return eachLine(all, func(place string, key []byte) {
		l.places[string(bytes.TrimSuffix(key, []byte("\n")))] = place
	})
}

// readAllOf reads what COPY gives out, however much it is.
func readAllOf(ctx context.Context, conn *pgx.Conn, sql string) ([]byte, error) {
	to := &bytes.Buffer{}
	_, err := conn.PgConn().CopyTo(ctx, to, sql)
	return to.Bytes(), err
}

func readAll(ctx context.Context, conn *pgx.Conn, sql string) ([]byte, error) {
	to := &limited{}
	_, err := conn.PgConn().CopyTo(ctx, to, sql)
	if err == nil && to.over {
		err = errLarge
	}
	return to.Bytes(), err
}

// limited takes no more than it may, and lets the rest go: a session that cannot write is
// broken.
type limited struct {
	bytes.Buffer
	over bool
}

func (l *limited) Write(b []byte) (int, error) {
	if l.over = l.over || l.Len()+len(b) > 2*tableLimit; l.over {
		return len(b), nil
	}
	return l.Buffer.Write(b)
}

// end is what follows the last row.
var end = []byte{0xff, 0xff}

// eachRow reads what COPY writes in its binary format, the place of each row first, and
// passes each on as it is written without that.
func eachRow(all []byte, each func(place string, row []byte)) error {
	rest, found := bytes.CutPrefix(all, []byte(head))
	if !found {
		return errForm
	}
	for {
		if len(rest) < 2 {
			return errForm
		}
		fields := int(int16(binary.BigEndian.Uint16(rest)))
		if rest = rest[2:]; fields < 0 {
			return nil
		}
		place, left, ok := cutField(rest)
		if fields == 0 || !ok || len(place) != 6 {
			return errForm
		}
		row := left
		for range fields - 1 {
			if _, left, ok = cutField(left); !ok {
				return errForm
			}
		}
		row = append(binary.BigEndian.AppendUint16(nil, uint16(fields-1)), row[:len(row)-len(left)]...)
		each(placeOf(place), row)
		rest = left
	}
}

// eachLine is eachRow for the text format: line ends of values are written as \n there.
func eachLine(all []byte, each func(place string, row []byte)) error {
	for line := range bytes.Lines(all) {
		place, row, found := bytes.Cut(line, []byte("\t"))
		if !found || !bytes.HasSuffix(row, []byte("\n")) {
			return errForm
		}
		each(`"`+string(place)+`"`, row)
	}
	return nil
}

// cutField cuts the first value off, without its length.
func cutField(b []byte) (value, rest []byte, ok bool) {
	if len(b) < 4 {
		return nil, nil, false
	}
	n, b := int(int32(binary.BigEndian.Uint32(b))), b[4:]
	if n < 0 {
		return nil, b, true
	}
	if n > len(b) {
		return nil, nil, false
	}
	return b[:n], b[n:], true
}

// errForm says that something is not what COPY writes.
var errForm = errors.New("this is not what COPY writes")

// placeOf writes a row's place as the server reads it in a list.
func placeOf(ctid []byte) string {
	return fmt.Sprintf(`"(%d,%d)"`, binary.BigEndian.Uint32(ctid), binary.BigEndian.Uint16(ctid[4:]))
}
