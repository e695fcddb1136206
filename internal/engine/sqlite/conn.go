package sqlite

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"time"

	"modernc.org/libc"
	lite "modernc.org/sqlite/lib"
)

// conn is one connection to SQLite, on the library's C interface. The
// database/sql driver hides three things that the reset and the error
// messages need: switching triggers off, the place of an error in a
// statement, and the data version. A conn is for one goroutine at a time.
type conn struct {
	tls   *libc.TLS
	db    uintptr
	out   uintptr // room for one pointer that the library returns
	cache map[string]*stmt
}

// liteError is what SQLite said about a call.
type liteError struct {
	Message string
	Code    int // the extended result code
	Offset  int // byte offset in the statement, -1 where unknown
}

func (e *liteError) Error() string { return fmt.Sprintf("%s (SQLite code %d)", e.Message, e.Code) }

// codeOf returns the primary result code in err's chain, or 0.
func codeOf(err error) int {
	if e, ok := errors.AsType[*liteError](err); ok {
		return e.Code & 0xff
	}
	return 0
}

// openMode says how a file is opened.
type openMode int

const (
	readOnly  openMode = lite.SQLITE_OPEN_READONLY
	readWrite openMode = lite.SQLITE_OPEN_READWRITE
	create    openMode = lite.SQLITE_OPEN_READWRITE | lite.SQLITE_OPEN_CREATE
)

// connect opens a file. Locks are waited for up to wait.
func connect(path string, mode openMode, wait time.Duration) (*conn, error) {
	c := &conn{tls: libc.NewTLS(), cache: map[string]*stmt{}}
	name, err := libc.CString(path)
	if err != nil {
		return nil, err
	}
	defer libc.Xfree(c.tls, name)
	if c.out = libc.Xmalloc(c.tls, 8); c.out == 0 {
		return nil, errors.New("out of memory")
	}
	rc := lite.Xsqlite3_open_v2(c.tls, name, c.out, int32(mode)|lite.SQLITE_OPEN_URI|lite.SQLITE_OPEN_NOMUTEX, 0)
	c.db = c.pointer()
	if rc != lite.SQLITE_OK {
		err := c.failure(rc)
		c.close()
		return nil, err
	}
	c.setWait(wait)
	return c, nil
}

func (c *conn) pointer() uintptr {
	return uintptr(binary.NativeEndian.Uint64(libc.GoBytes(c.out, 8)))
}

// setWait sets how long a statement waits for a lock.
func (c *conn) setWait(wait time.Duration) {
	lite.Xsqlite3_busy_timeout(c.tls, c.db, int32(wait.Milliseconds()))
}

// triggers switches all triggers of this connection on or off
// (SQLITE_DBCONFIG_ENABLE_TRIGGER).
func (c *conn) triggers(on bool) error {
	var v int32
	if on {
		v = 1
	}
	room := libc.Xmalloc(c.tls, 16)
	defer libc.Xfree(c.tls, room)
	rc := lite.Xsqlite3_db_config(c.tls, c.db, lite.SQLITE_DBCONFIG_ENABLE_TRIGGER, libc.VaList(room, v, uintptr(0)))
	if rc != lite.SQLITE_OK {
		return c.failure(rc)
	}
	return nil
}

func (c *conn) failure(rc int32) error {
	if c.db == 0 {
		return &liteError{Message: "out of memory", Code: int(rc), Offset: -1}
	}
	return &liteError{
		Message: libc.GoString(lite.Xsqlite3_errmsg(c.tls, c.db)),
		Code:    int(lite.Xsqlite3_extended_errcode(c.tls, c.db)),
		Offset:  int(lite.Xsqlite3_error_offset(c.tls, c.db)),
	}
}

// close ends the connection and whatever it had open.
func (c *conn) close() {
	if c.tls == nil {
		return
	}
	for _, s := range c.cache {
		s.finalize()
	}
	if c.db != 0 {
		lite.Xsqlite3_close_v2(c.tls, c.db)
	}
	libc.Xfree(c.tls, c.out)
	c.tls.Close()
	c.tls = nil
}

// stmt is one prepared statement.
type stmt struct {
	c     *conn
	p     uintptr
	owned []uintptr // memory that bound texts and blobs live in
}

// prepare compiles one statement; nil where the text holds none.
func (c *conn) prepare(text string) (*stmt, error) {
	sql, err := libc.CString(text)
	if err != nil {
		return nil, err
	}
	defer libc.Xfree(c.tls, sql)
	if rc := lite.Xsqlite3_prepare_v2(c.tls, c.db, sql, int32(len(text))+1, c.out, 0); rc != lite.SQLITE_OK {
		return nil, c.failure(rc)
	}
	p := c.pointer()
	if p == 0 {
		return nil, nil
	}
	return &stmt{c: c, p: p}, nil
}

func (s *stmt) finalize() {
	s.release()
	lite.Xsqlite3_finalize(s.c.tls, s.p)
}

func (s *stmt) release() {
	for _, p := range s.owned {
		libc.Xfree(s.c.tls, p)
	}
	s.owned = s.owned[:0]
}

// reset makes the statement ready for its next use.
func (s *stmt) reset() {
	lite.Xsqlite3_reset(s.c.tls, s.p)
	if len(s.owned) > 0 {
		lite.Xsqlite3_clear_bindings(s.c.tls, s.p)
		s.release()
	}
}

// bind sets the parameters: nil, int64, int, float64, string or []byte.
func (s *stmt) bind(args ...any) error {
	for i, arg := range args {
		if rc := s.bindOne(int32(i+1), arg); rc != lite.SQLITE_OK {
			return s.c.failure(rc)
		}
	}
	return nil
}

func (s *stmt) bindOne(i int32, arg any) int32 {
	switch v := arg.(type) {
	case nil:
		return lite.Xsqlite3_bind_null(s.c.tls, s.p, i)
	case int:
		return lite.Xsqlite3_bind_int64(s.c.tls, s.p, i, int64(v))
	case int64:
		return lite.Xsqlite3_bind_int64(s.c.tls, s.p, i, v)
	case float64:
		return lite.Xsqlite3_bind_double(s.c.tls, s.p, i, v)
	case string:
		p, err := libc.CString(v)
		if err != nil {
			return lite.SQLITE_NOMEM
		}
		s.owned = append(s.owned, p)
		return lite.Xsqlite3_bind_text(s.c.tls, s.p, i, p, int32(len(v)), 0)
	case []byte:
		p := libc.Xmalloc(s.c.tls, libc.Tsize_t(max(len(v), 1)))
		if p == 0 {
			return lite.SQLITE_NOMEM
		}
		copy(libc.GoBytes(p, len(v)), v)
		s.owned = append(s.owned, p)
		return lite.Xsqlite3_bind_blob(s.c.tls, s.p, i, p, int32(len(v)), 0)
	}
	panic(fmt.Sprintf("sqlite: cannot bind a %T", arg))
}

// step runs the statement to its next row; false at its end.
func (s *stmt) step() (bool, error) {
	switch rc := lite.Xsqlite3_step(s.c.tls, s.p); rc {
	case lite.SQLITE_ROW:
		return true, nil
	case lite.SQLITE_DONE:
		return false, nil
	default:
		return false, s.c.failure(rc)
	}
}

func (s *stmt) columns() []string {
	n := lite.Xsqlite3_column_count(s.c.tls, s.p)
	names := make([]string, n)
	for i := range names {
		names[i] = libc.GoString(lite.Xsqlite3_column_name(s.c.tls, s.p, int32(i)))
	}
	return names
}

func (s *stmt) int(i int) int64 { return lite.Xsqlite3_column_int64(s.c.tls, s.p, int32(i)) }

func (s *stmt) text(i int) string { return string(s.bytes(i)) }

// is reports whether a column's bytes are those of a text.
func (s *stmt) is(i int, text string) bool {
	p := lite.Xsqlite3_column_blob(s.c.tls, s.p, int32(i))
	n := int(lite.Xsqlite3_column_bytes(s.c.tls, s.p, int32(i)))
	return n == len(text) && (n == 0 || string(libc.GoBytes(p, n)) == text)
}

// bytes returns a copy of a column's bytes.
func (s *stmt) bytes(i int) []byte {
	p := lite.Xsqlite3_column_blob(s.c.tls, s.p, int32(i))
	n := lite.Xsqlite3_column_bytes(s.c.tls, s.p, int32(i))
	if p == 0 || n == 0 {
		return nil
	}
	return append([]byte(nil), libc.GoBytes(p, int(n))...)
}

// value returns a column as nil, int64, float64, string or []byte.
func (s *stmt) value(i int) any {
	switch lite.Xsqlite3_column_type(s.c.tls, s.p, int32(i)) {
	case lite.SQLITE_INTEGER:
		return s.int(i)
	case lite.SQLITE_FLOAT:
		return lite.Xsqlite3_column_double(s.c.tls, s.p, int32(i))
	case lite.SQLITE_TEXT:
		return s.text(i)
	case lite.SQLITE_BLOB:
		if b := s.bytes(i); b != nil {
			return b
		}
		return []byte{}
	}
	return nil
}

// kept returns the statement for a text, compiled once a connection.
func (c *conn) kept(text string) (*stmt, error) {
	if s := c.cache[text]; s != nil {
		return s, nil
	}
	s, err := c.prepare(text)
	if err != nil {
		return nil, err
	}
	if s == nil {
		return nil, fmt.Errorf("no statement in %q", text)
	}
	c.cache[text] = s
	return s, nil
}

// do runs one statement to its end and returns how many rows it changed.
// Statements are kept: it is for Hemzo's own, few and fixed ones.
func (c *conn) do(text string, args ...any) (int64, error) {
	s, err := c.kept(text)
	if err != nil {
		return 0, err
	}
	defer s.reset()
	if err := s.bind(args...); err != nil {
		return 0, err
	}
	for {
		more, err := s.step()
		if err != nil {
			return 0, err
		}
		if !more {
			return lite.Xsqlite3_changes64(c.tls, c.db), nil
		}
	}
}

// each runs one kept query and calls f for every row.
func (c *conn) each(text string, f func(*stmt) error, args ...any) error {
	s, err := c.kept(text)
	if err != nil {
		return err
	}
	defer s.reset()
	if err := s.bind(args...); err != nil {
		return err
	}
	for {
		more, err := s.step()
		if err != nil || !more {
			return err
		}
		if err := f(s); err != nil {
			return err
		}
	}
}

// number returns the first column of a query's only row.
func (c *conn) number(text string, args ...any) (n int64, err error) {
	err = c.each(text, func(s *stmt) error { n = s.int(0); return nil }, args...)
	return n, err
}

// word is number for text.
func (c *conn) word(text string) (w string, err error) {
	err = c.each(text, func(s *stmt) error { w = s.text(0); return nil })
	return w, err
}

// interrupted makes running statements fail once ctx is done, until the
// returned function is called.
func (c *conn) interrupted(ctx context.Context) (stop func()) {
	if ctx.Done() == nil {
		return func() {}
	}
	end, gone := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(gone)
		select {
		case <-end:
		case <-ctx.Done():
			tls := libc.NewTLS()
			lite.Xsqlite3_interrupt(tls, c.db)
			tls.Close()
		}
	}()
	return func() { close(end); <-gone }
}
