package sqlite

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"hemzo/internal/fault"
)

// start is the file of a start state. Nobody writes to it, so it is read
// without locks.
type start struct {
	id     string
	c      *conn
	file   *os.File
	size   int // of a page
	pages  int
	owner  []uint16 // of each page from 1: an index of trees, 0 for none
	trees  []tree   // from 1
	tables map[string]*table
}

// tree is one b-tree: a table or an index.
type tree struct {
	name  string
	table string // that it belongs to
}

// The header of an SQLite file; "Database File Format", section 1.3.
const (
	headerSize    = 100
	atVersions    = 18 // 2 bytes: rollback journal or write-ahead log
	atSchema      = 40 // 4 bytes: the schema cookie
	atUserVersion = 60
	atApplication = 68
)

func (st *start) close() {
	st.c.close()
	st.file.Close()
}

// begin opens the file of a start state; the one opened before is kept as
// long as it is the same.
func (d *database) begin(id string) (*start, error) {
	if d.start != nil && d.start.id == id {
		return d.start, nil
	}
	d.disconnect()
	path := d.server.file(id)
	file, err := os.Open(path)
	if errors.Is(err, os.ErrNotExist) {
		return nil, fault.New(fault.Failed, "drop the copy and take a new one", "its start state %s is gone", id)
	}
	if err != nil {
		return nil, fmt.Errorf("opening the start state: %w", err)
	}
	st := &start{id: id, file: file, tables: map[string]*table{}}
	if st.c, err = connect(fixed(path), readWrite, 0); err == nil {
		err = st.read()
	}
	if err != nil {
		if st.c != nil {
			st.c.close()
		}
		file.Close()
		return nil, fmt.Errorf("reading the start state: %w", err)
	}
	d.start = st
	return st, nil
}

// fixed is the name of a file that nobody writes to.
func fixed(path string) string {
	return "file:" + strings.NewReplacer("%", "%25", "?", "%3f", "#", "%23").Replace(path) + "?mode=ro&immutable=1"
}

// join returns a connection to the file with the start state attached, set so
// that rows go back as they were: no trigger fires, no foreign key acts, no
// check that depends on the present is made.
func (d *database) join(st *start) (*conn, error) {
	if d.joined != nil {
		return d.joined, nil
	}
	c, err := d.another()
	if err != nil {
		return nil, err
	}
	err = c.triggers(false)
	for _, p := range []string{"PRAGMA foreign_keys = OFF", "PRAGMA ignore_check_constraints = ON"} {
		if err == nil {
			_, err = c.do(p)
		}
	}
	if err == nil {
		_, err = c.do("ATTACH ? AS start", fixed(d.server.file(st.id)))
	}
	if err != nil {
		c.close()
		return nil, d.explain(err, "joining the start state")
	}
	d.joined = c
	return c, nil
}

func (st *start) read() error {
	size, err := st.c.number("PRAGMA page_size")
	if err != nil {
		return err
	}
	pages, err := st.c.number("PRAGMA page_count")
	st.size, st.pages = int(size), int(pages)
	return err
}

// own finds out which tree each page belongs to. It reads every page of the
// start state once, and only a reset or a comparison that has work needs it.
func (st *start) own() error {
	if st.owner != nil {
		return nil
	}
	st.trees = []tree{{}}
	index := map[string]uint16{}
	add := func(name, table string) {
		index[name] = uint16(len(st.trees))
		st.trees = append(st.trees, tree{name, table})
	}
	add("sqlite_schema", "sqlite_schema")
	err := st.c.each("SELECT name, tbl_name FROM sqlite_schema WHERE rootpage > 0", func(s *stmt) error {
		add(s.text(0), s.text(1))
		return nil
	})
	if err != nil {
		return err
	}
	if len(st.trees) > 65535 {
		return fmt.Errorf("more than 65535 tables and indexes")
	}
	owner := make([]uint16, st.pages+1)
	err = st.c.each("SELECT name, pageno FROM dbstat", func(s *stmt) error {
		if n := s.int(1); n <= int64(st.pages) {
			owner[n] = index[s.text(0)]
		}
		return nil
	})
	st.owner = owner
	return err
}

// reader reads a database's pages as its own open transaction sees them.
type reader struct {
	c     *conn
	size  int
	pages int
	log   bool // a write-ahead log is in use
	file  *os.File
	chunk []byte
	first int // page in chunk
}

// pagesOf opens the pages of the copy; a transaction has to be open. The file
// stays open as long as the connection: closing any descriptor of a file ends
// the locks that SQLite holds on it in this process (POSIX advisory locks).
func (d *database) pagesOf(c *conn) (*reader, error) {
	size, err := c.number("PRAGMA main.page_size")
	if err != nil {
		return nil, err
	}
	pages, err := c.number("PRAGMA main.page_count")
	if err != nil {
		return nil, err
	}
	if d.raw == nil {
		if d.raw, err = os.Open(d.path); err != nil {
			return nil, err
		}
	}
	return &reader{c: c, size: int(size), pages: int(pages), log: hasLog(d.path), file: d.raw}, nil
}

const chunkSize = 1 << 20

// page returns page n, counted from 1. It is good until the next call.
func (r *reader) page(n int) ([]byte, error) {
	if r.log {
		var b []byte
		err := r.c.each("SELECT data FROM sqlite_dbpage WHERE schema = 'main' AND pgno = ?", func(s *stmt) error { b = s.bytes(0); return nil }, n)
		return b, err
	}
	have := len(r.chunk) / r.size
	if n < r.first || n >= r.first+have {
		want := min(max(chunkSize/r.size, 1), r.pages-n+1) * r.size
		if cap(r.chunk) < want {
			r.chunk = make([]byte, want)
		}
		r.chunk = r.chunk[:want]
		if _, err := r.file.ReadAt(r.chunk, int64(n-1)*int64(r.size)); err != nil {
			return nil, fmt.Errorf("reading page %d: %w", n, err)
		}
		r.first = n
	}
	at := (n - r.first) * r.size
	return r.chunk[at : at+r.size], nil
}

// difference is what comparing the pages of a copy with those of its start
// state tells.
type difference struct {
	pages   []int           // that differ, of those that both have
	tables  map[string]bool // a page of them differs
	header  bool            // user_version or application_id differs
	unknown bool            // pages have another size: nothing could be compared
}

// differences compares a copy with its start state, page by page. It is exact
// for tables: every change to a tree changes a page that the tree had, for a
// tree whose pages are all as they were is the same tree.
func (d *database) differences(c *conn, st *start) (*difference, error) {
	r, err := d.pagesOf(c)
	if err != nil {
		return nil, err
	}
	diff := &difference{tables: map[string]bool{}}
	if r.size != st.size {
		diff.unknown = true
		return diff, nil
	}
	buffer := make([]byte, min(chunkSize/st.size*st.size, st.pages*st.size))
	per := len(buffer) / st.size
	for first := 1; first <= min(st.pages, r.pages); first += per {
		n := min(per, st.pages-first+1)
		if _, err := st.file.ReadAt(buffer[:n*st.size], int64(first-1)*int64(st.size)); err != nil {
			return nil, fmt.Errorf("reading the start state: %w", err)
		}
		for i := range min(n, r.pages-first+1) {
			now, err := r.page(first + i)
			if err != nil {
				return nil, err
			}
			diff.compare(first+i, buffer[i*st.size:(i+1)*st.size], now)
		}
	}
	if len(diff.pages) == 0 && r.pages >= st.pages {
		return diff, nil
	}
	if err := st.own(); err != nil {
		return nil, err
	}
	for _, n := range diff.pages {
		if t := st.trees[st.owner[n]].table; t != "" {
			diff.tables[t] = true
		}
	}
	for n := r.pages + 1; n <= st.pages; n++ { // the copy has shrunk
		if t := st.trees[st.owner[n]].table; t != "" {
			diff.tables[t] = true
		}
	}
	return diff, nil
}

func (diff *difference) compare(n int, then, now []byte) {
	if bytes.Equal(then, now) {
		return
	}
	if n == 1 {
		for _, at := range []int{atUserVersion, atApplication} {
			diff.header = diff.header || !bytes.Equal(then[at:at+4], now[at:at+4])
		}
		if bytes.Equal(then[headerSize:], now[headerSize:]) {
			return
		}
	}
	if emptyLeaf(then) && emptyLeaf(now) && then[0] == now[0] {
		return
	}
	diff.pages = append(diff.pages, n)
}

// emptyLeaf reports whether a page is the leaf of a tree and holds no cell;
// its other bytes then mean nothing ("B-tree Pages", section 1.6).
func emptyLeaf(page []byte) bool {
	return (page[0] == 0x0d || page[0] == 0x0a) && page[3] == 0 && page[4] == 0
}

// putPages writes the start state's pages over those that differ and gives
// the file its size back, inside the open transaction, and returns how many
// were written. The connection's own view of the trees is out of date
// afterwards: it has to be closed once the transaction has ended. Nothing may
// be attached to it: the page table locks whatever is for writing.
func (d *database) putPages(c *conn, st *start, diff *difference, newSchema bool) (int, error) {
	r, err := d.pagesOf(c)
	if err != nil {
		return 0, err
	}
	todo := append([]int{1}, slices.DeleteFunc(slices.Clone(diff.pages), func(n int) bool { return n == 1 })...)
	for n := r.pages + 1; n <= st.pages; n++ {
		todo = append(todo, n)
	}
	page := make([]byte, st.size)
	for _, n := range todo {
		if _, err := st.file.ReadAt(page, int64(n-1)*int64(st.size)); err != nil {
			return 0, fmt.Errorf("reading the start state: %w", err)
		}
		if n == 1 {
			r.log = true // what this transaction sees, whatever it has written
			now, err := r.page(n)
			if err != nil {
				return 0, err
			}
			keepHeader(page, now)
		}
		if _, err := c.do("INSERT INTO sqlite_dbpage(pgno, data, schema) VALUES (?, ?, 'main')", n, page); err != nil {
			return 0, err
		}
	}
	if r.pages > st.pages {
		if _, err = c.do("INSERT INTO sqlite_dbpage(pgno, data, schema) VALUES (?, NULL, 'main')", st.pages+1); err != nil {
			return 0, err
		}
	}
	if newSchema {
		// Last: with another cookie this connection would read the schema
		// anew, through its own view of the trees.
		err = moveCookie(c)
	}
	return len(todo), err
}

// keepHeader keeps from the present first page what clients rely on: how the
// file is written, the change counter, which SQLite moves on, and the schema
// cookie.
func keepHeader(page, now []byte) {
	for _, part := range [][2]int{{atVersions, 20}, {24, 28}, {atSchema, 44}, {92, 100}} {
		copy(page[part[0]:part[1]], now[part[0]:part[1]])
	}
}

// moveCookie moves the schema cookie on: it never goes back, so that no
// client takes a schema that it remembers for the present one.
func moveCookie(c *conn) error {
	now, err := c.number("PRAGMA main.schema_version")
	if err != nil {
		return err
	}
	_, err = c.do(fmt.Sprintf("PRAGMA main.schema_version = %d", now+1))
	return err
}
