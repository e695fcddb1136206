package sqlite

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"hemzo/internal/fault"
)

// start is the file of a start state. Nobody writes to it, so it is read
// without locks.
type start struct {
	id     string
	c      *conn
	bytes  mapping
	size   int // of a page
	pages  int
	owner  []uint16 // of each page from 1: an index of trees, 0 for none
	whole  []bool   // of each page from 1: it is no page of a tree's nodes
	trees  []tree   // from 1
	tables map[string]*table

	counters []counter // in the order of their row ids; nil until asked for
}

// tree is one b-tree: a table or an index.
type tree struct {
	name  string
	table string // that it belongs to
}

// The header of an SQLite file; "Database File Format", section 1.3.
const (
	headerSize    = 100
	atPageSize    = 16 // 2 bytes; 1 stands for 65536
	atVersions    = 18 // 2 bytes: rollback journal or write-ahead log
	atSchema      = 40 // 4 bytes: the schema cookie
	atUserVersion = 60
	atApplication = 68
)

func (st *start) close() {
	st.c.close()
	st.bytes.close()
}

// begin opens the file of a start state; the one opened before is kept as
// long as it is the same.
func (d *database) begin(id string) (*start, error) {
	if d.start != nil && d.start.id == id {
		return d.start, nil
	}
	d.disconnect()
	path := d.server.file(id)
	st := &start{id: id, tables: map[string]*table{}}
	err := st.bytes.open(path)
	if errors.Is(err, os.ErrNotExist) {
		return nil, fault.New(fault.Failed, "drop the copy and take a new one", "its start state %s is gone", id)
	}
	if err == nil {
		st.c, err = connect(fixed(path), readWrite, 0)
	}
	if err == nil {
		err = st.read()
	}
	if err != nil {
		if st.c != nil {
			st.c.close()
		}
		st.bytes.close()
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
	if err != nil {
		return err
	}
	st.size, st.pages = int(size), int(pages)
	if err := st.bytes.refresh(); err != nil {
		return err
	}
	if len(st.bytes.b) < st.size*st.pages {
		return fmt.Errorf("%s is shorter than its pages are", st.id)
	}
	return nil
}

func (st *start) page(n int) []byte { return st.bytes.b[(n-1)*st.size : n*st.size] }

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
	owner, whole := make([]uint16, st.pages+1), make([]bool, st.pages+1)
	err = st.c.each("SELECT name, pageno, pagetype = 'overflow' FROM dbstat", func(s *stmt) error {
		if n := s.int(1); n <= int64(st.pages) {
			owner[n], whole[n] = index[s.text(0)], s.int(2) != 0
		}
		return nil
	})
	for n := range owner {
		whole[n] = whole[n] || owner[n] == 0
	}
	st.owner, st.whole = owner, whole
	return err
}

// reader reads a copy's pages as its own open transaction sees them.
type reader struct {
	c     *conn
	size  int
	pages int
	log   bool // a write-ahead log is in use: the file alone is not the truth
	b     []byte
}

// pagesOf opens the pages of the copy; a transaction has to be open. The file
// stays open as long as the connections: closing any descriptor of a file
// ends the locks that SQLite holds on it in this process (POSIX advisory
// locks).
func (d *database) pagesOf(c *conn) (*reader, error) {
	if hasLog(d.path) {
		size, err := c.number("PRAGMA main.page_size")
		if err != nil {
			return nil, err
		}
		pages, err := c.number("PRAGMA main.page_count")
		return &reader{c: c, size: int(size), pages: int(pages), log: true}, err
	}
	if d.raw.file == nil {
		if err := d.raw.open(d.path); err != nil {
			return nil, err
		}
	}
	if err := d.raw.refresh(); err != nil {
		return nil, err
	}
	b := d.raw.b
	if len(b) < headerSize {
		return nil, fmt.Errorf("%w: it has %d bytes", errNoDatabase, len(b))
	}
	size := int(b[atPageSize])<<8 | int(b[atPageSize+1])
	if size == 1 {
		size = 65536
	}
	if size < 512 {
		return nil, fmt.Errorf("%w: its pages have %d bytes", errNoDatabase, size)
	}
	// As many pages as the file is long: no transaction is under way.
	return &reader{c: c, size: size, pages: len(b) / size, b: b}, nil
}

// page returns page n, counted from 1.
func (r *reader) page(n int) (b []byte, err error) {
	if !r.log {
		return r.b[(n-1)*r.size : n*r.size], nil
	}
	err = r.c.each("SELECT data FROM sqlite_dbpage WHERE schema = 'main' AND pgno = ?",
		func(s *stmt) error { b = s.bytes(0); return nil }, n)
	if err == nil && len(b) != r.size {
		err = fmt.Errorf("page %d cannot be read", n)
	}
	return b, err
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
func (d *database) differences(c *conn, st *start) (diff *difference, err error) {
	defer guardFault(&err)()
	r, err := d.pagesOf(c)
	if err != nil {
		return nil, err
	}
	diff = &difference{tables: map[string]bool{}}
	if r.size != st.size {
		diff.unknown = true
		return diff, nil
	}
	if err := st.own(); err != nil {
		return nil, err
	}
	if err := diff.compareAll(r, st); err != nil {
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

// guardFault is deferred to turn a fault in mapped bytes into an error: somebody who cuts a
// file short by hand takes them away. It holds for one goroutine.
func guardFault(err *error) func() {
	before := debug.SetPanicOnFault(true)
	return func() {
		debug.SetPanicOnFault(before)
		if fault := recover(); fault != nil {
			*err = fmt.Errorf("%w: it was cut short while it was read: %v", errNoDatabase, fault)
		}
	}
}

// span is how many pages are compared at once: most are the same, and a long comparison
// is as fast as memory is read. shared is from how many on it is done by all processors.
const (
	span   = 64
	shared = 64 * span
)

// compareAll compares the pages that both have.
func (diff *difference) compareAll(r *reader, st *start) error {
	last := min(st.pages, r.pages)
	if r.log {
		for n := 1; n <= last; n++ {
			now, err := r.page(n)
			if err != nil {
				return err
			}
			diff.compare(n, st.page(n), now, st.whole[n])
		}
		return nil
	}
	workers := 1
	if last > shared {
		workers = runtime.GOMAXPROCS(0)
	}
	parts := make([]difference, workers)
	var group errgroup.Group
	for i := range parts {
		group.Go(func() error { return parts[i].comparePart(r, st, 1+last*i/workers, last*(i+1)/workers) })
	}
	if err := group.Wait(); err != nil {
		return err
	}
	for _, part := range parts {
		diff.pages, diff.header = append(diff.pages, part.pages...), diff.header || part.header
	}
	return nil
}

// comparePart compares the pages from one to another.
func (diff *difference) comparePart(r *reader, st *start, from, to int) (err error) {
	defer guardFault(&err)()
	for ; from <= to; from += span {
		end := min(from+span-1, to)
		if at := (from - 1) * r.size; bytes.Equal(st.bytes.b[at:end*r.size], r.b[at:end*r.size]) {
			continue
		}
		for n := from; n <= end; n++ {
			diff.compare(n, st.page(n), r.b[(n-1)*r.size:n*r.size], st.whole[n])
		}
	}
	return nil
}

func (diff *difference) compare(n int, then, now []byte, whole bool) {
	header := 0
	if n == 1 {
		header = headerSize
		for _, at := range []int{atUserVersion, atApplication} {
			diff.header = diff.header || !bytes.Equal(then[at:at+4], now[at:at+4])
		}
	}
	if whole && bytes.Equal(then, now) || !whole && sameNode(then, now, header) {
		return
	}
	diff.pages = append(diff.pages, n)
}

// sameNode compares what counts of two pages of a tree: header, cell pointers
// and cells. What lies between pointers and cells means nothing, and a leaf
// without cells is empty whatever else it holds ("B-tree Pages", section 1.6).
func sameNode(then, now []byte, header int) bool {
	if then[header] != now[header] {
		return false
	}
	cells := int(then[header+3])<<8 | int(then[header+4])
	pointers := header + 12
	if leaf := then[header]&8 != 0; leaf {
		if cells == 0 && now[header+3] == 0 && now[header+4] == 0 {
			return true
		}
		pointers = header + 8
	}
	end := min(pointers+2*cells, len(then))
	if !bytes.Equal(then[header:end], now[header:end]) {
		return false
	}
	content := int(then[header+5])<<8 | int(then[header+6])
	if content < end { // 0 stands for 65536; anything else is no such page
		content = end
	}
	return bytes.Equal(then[content:], now[content:])
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
	for _, n := range todo {
		page := st.page(n)
		if n == 1 {
			page = bytes.Clone(page)
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
		if _, err = c.do("INSERT INTO sqlite_dbpage(pgno, data, schema) VALUES (?, NULL, 'main')",
			st.pages+1); err != nil {
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
