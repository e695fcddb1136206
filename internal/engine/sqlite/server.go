package sqlite

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"hemzo/internal/engine"
	"hemzo/internal/engine/folder"
	"hemzo/internal/engine/launch"
	"hemzo/internal/fault"
)

// server is a folder of SQLite files: ID.db is a database, ID.json its facts.
// A database is there as soon as both are.
type server struct{ *folder.Folder }

func (s *server) file(id string) string { return filepath.Join(s.Path, id+".db") }
func (s *server) About() engine.About {
	return engine.About{Engine: "sqlite", Version: version(), Where: "memory", Address: s.Path, InPlace: true}
}

func (s *server) Connection(id string, _ engine.Facts) engine.Connection {
	file := s.file(id)
	return engine.Connection{
		URL: "sqlite://" + file, JDBC: "jdbc:sqlite:" + file, JDBCFull: "jdbc:sqlite:" + file,
		ConnInfo: "file:" + file, Database: file, File: file,
	}
}

func (s *server) Create(ctx context.Context, id string, spec engine.Spec, facts engine.Facts) error {
	if err := s.Write(id, facts); err != nil {
		return err
	}
	err := s.create(s.file(id), spec)
	if err != nil {
		return errors.Join(s.noRoom(err, "making an empty database"), s.Drop(ctx, id))
	}
	return nil
}

func (s *server) create(path string, spec engine.Spec) error {
	c, err := connect(path, create, 0)
	if err != nil {
		return err
	}
	defer c.close()
	pragmas := []string{fmt.Sprintf("PRAGMA encoding = '%s'", encodings[strings.ToUpper(spec.Encoding)])}
	for _, set := range spec.Settings {
		if set.Name != "foreign_keys" {
			pragmas = append(pragmas, fmt.Sprintf("PRAGMA %s = %s", set.Name, set.Value))
		}
	}
	// A file without a page does not keep its encoding: write one.
	for _, p := range append(pragmas, "BEGIN IMMEDIATE", "PRAGMA user_version = 0", "COMMIT") {
		if _, err := c.do(p); err != nil {
			return err
		}
	}
	return nil
}

func (s *server) Copy(ctx context.Context, from, to string, facts engine.Facts) error {
	// The files of copies are held still by whoever copies them.
	if kind, _ := engine.KindOf(from); kind == engine.Work {
		if err := s.settle(from); err != nil {
			return err
		}
	}
	work := s.file(engine.NewID(engine.Work))
	held, err := copyFile(ctx, s.file(from), work, modeOf(to))
	if held != nil {
		defer held.Close()
	}
	if err != nil {
		os.Remove(work)
		if errors.Is(err, os.ErrNotExist) {
			return engine.ErrNotFound
		}
		return s.noRoom(err, "copying "+from)
	}
	return s.place(work, to, facts)
}

// modeOf keeps templates and snapshots from being written by accident.
func modeOf(id string) os.FileMode {
	if kind, _ := engine.KindOf(id); kind == engine.Template || kind == engine.Kept {
		return 0o400
	}
	return 0o600
}

// place gives a finished file its name and its facts, in one visible step.
func (s *server) place(work, to string, facts engine.Facts) error {
	base, err := mark(work, nil)
	if err == nil {
		facts.Baseline = base
		err = s.Write(to, facts)
	}
	if err == nil {
		err = os.Rename(work, s.file(to))
	}
	if err != nil {
		os.Remove(work)
		return s.noRoom(err, "naming "+to)
	}
	return nil
}

func (s *server) Rename(ctx context.Context, from, to string, facts engine.Facts) error {
	if err := s.settle(from); err != nil {
		return err
	}
	if err := os.Chmod(s.file(from), modeOf(to)); err != nil {
		return fmt.Errorf("naming %s: %w", to, err)
	}
	if err := s.place(s.file(from), to, facts); err != nil {
		return err
	}
	return s.Drop(ctx, from)
}

// settle folds a write-ahead log that a command left behind into its file.
func (s *server) settle(id string) error {
	if !hasLog(s.file(id)) {
		return nil
	}
	c, err := connect(s.file(id), readWrite, time.Second)
	if err != nil {
		return err
	}
	defer c.close()
	_, err = c.do("PRAGMA wal_checkpoint(TRUNCATE)")
	return err
}

func hasLog(file string) bool {
	info, err := os.Stat(file + "-wal")
	return err == nil && info.Size() > 0
}

func (s *server) Drop(_ context.Context, id string) error {
	if _, ok := engine.KindOf(id); !ok {
		return fault.New(fault.Refused, "", "%s does not bear Hemzo's mark", id)
	}
	var first error
	for _, path := range []string{s.file(id), s.file(id) + "-wal", s.file(id) + "-shm", s.file(id) + "-journal",
		s.Facts(id)} {
		if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) && first == nil {
			first = fmt.Errorf("dropping %s: %w", id, err)
		}
	}
	return first
}

// Clear removes files of work whose maker is gone, facts without a file, and
// locks that nobody holds.
func (s *server) Clear(ctx context.Context) error {
	names, err := os.ReadDir(s.Path)
	if err != nil {
		return err
	}
	for _, n := range names {
		id, ext, _ := strings.Cut(n.Name(), ".")
		kind, ok := engine.KindOf(id)
		path := filepath.Join(s.Path, n.Name())
		switch {
		case ok && kind == engine.Work && ext == "db":
			if e, err := s.Find(ctx, id); err == nil {
				if e.Newer || s.Owned(ctx, e.Facts.Owner.Lock) {
					continue
				}
			} else if !abandoned(path) {
				continue
			}
			if err := s.Drop(ctx, id); err != nil {
				return err
			}
		case ok && kind != engine.Copy && ext == "json" &&
			(folder.Older(n, time.Minute) || kind == engine.Work && !s.owned(ctx, path) || kind == engine.Kept &&
				s.orphaned(ctx, path)):
			if _, err := os.Stat(s.file(id)); errors.Is(err, os.ErrNotExist) {
				os.Remove(path)
			}
		}
	}
	return s.Sweep()
}

// owned reports whether the maker of work is alive, by the facts that it
// wrote before the file.
func (s *server) owned(ctx context.Context, path string) bool {
	var f engine.Facts
	b, err := os.ReadFile(path)
	return err == nil && json.Unmarshal(b, &f) == nil && s.Owned(ctx, f.Owner.Lock)
}

// orphaned reports whether the copy that a snapshot is of is gone, or its owner
// is: who made the snapshot was killed before it was whole.
func (s *server) orphaned(ctx context.Context, path string) bool {
	var f engine.Facts
	b, err := os.ReadFile(path)
	if err != nil || json.Unmarshal(b, &f) != nil || f.Of == "" {
		return false
	}
	e, err := s.Find(ctx, f.Of)
	return errors.Is(err, engine.ErrNotFound) || err == nil && e.Facts.Owner.Lock != "" &&
		!s.Owned(ctx, e.Facts.Owner.Lock)
}

func (s *server) IsIntact(_ context.Context, e engine.Entry) (bool, error) {
	if e.Bad {
		return false, nil
	}
	same, err := untouched(s.file(e.ID), e.Facts.Baseline)
	if errors.Is(err, os.ErrNotExist) {
		return false, nil
	}
	return same, err
}

// Tables asks the template's schema.
func (s *server) Tables(_ context.Context, e engine.Entry) (map[string][]string, error) {
	c, err := connect(fixed(s.file(e.ID)), readOnly, 0)
	if err != nil {
		return nil, err
	}
	defer c.close()
	all := map[string][]string{}
	err = c.each(`SELECT DISTINCT m.name, coalesce(f."table", '') FROM sqlite_schema m
		LEFT JOIN pragma_foreign_key_list(m.name) f ON lower(m.name) <> lower(f."table")
		WHERE m.type = 'table' ORDER BY 1, 2`, func(st *stmt) error {
		all[st.text(0)] = append(all[st.text(0)], nonEmpty(st.text(1))...)
		return nil
	})
	return all, err
}

// nonEmpty is a list of a text, where there is one.
func nonEmpty(text string) []string {
	if text == "" {
		return nil
	}
	return []string{text}
}

// Watch sets the file's time of last access far back: reading it, which every
// connection does, brings it forward.
func (s *server) Watch(_ context.Context, id string) (func(time.Duration) (engine.Visitor, error), error) {
	path := s.file(id)
	back := func() (st unix.Stat_t, err error) {
		if err := os.Chtimes(path, neverRead, time.Time{}); err != nil {
			return st, err
		}
		err = unix.Stat(path, &st)
		return st, err
	}
	before, err := back()
	if err == nil {
		_, err = os.ReadFile(path)
	}
	var read unix.Stat_t
	if err == nil {
		err = unix.Stat(path, &read)
	}
	if err == nil && read.Atim != before.Atim {
		before, err = back()
	}
	if err != nil {
		return nil, fmt.Errorf("watching %s: %w", id, err)
	}
	// Where the file system keeps no times of access nothing can be told, and
	// nobody is blamed.
	blind := read.Atim == before.Atim
	return func(time.Duration) (engine.Visitor, error) {
		var after unix.Stat_t
		if err := unix.Stat(path, &after); err != nil {
			return engine.Nobody, fmt.Errorf("watching %s: %w", id, err)
		}
		switch {
		case blind:
			return engine.Somebody, nil
		case after.Atim == before.Atim:
			return engine.Nobody, nil
		case after.Atim.Nano() == readByHemzo.UnixNano():
			return engine.Hemzo, nil
		}
		return engine.Somebody, nil
	}, nil
}

// Times of access of a watched file to which nobody has come, and to which commands
// of Hemzo's have. No reader leaves them.
var (
	neverRead   = time.Unix(3600, 0)
	readByHemzo = time.Unix(7200, 0)
)

// leaveUnread notes in the time of access of a watched file, when the work on it is
// done, that it was Hemzo's, where nobody else had come before.
func (d *database) leaveUnread() func() {
	var st unix.Stat_t
	if unix.Stat(d.path, &st) != nil ||
		st.Atim.Nano() != neverRead.UnixNano() && st.Atim.Nano() != readByHemzo.UnixNano() {
		return func() {}
	}
	return func() { _ = os.Chtimes(d.path, readByHemzo, time.Time{}) }
}

func (s *server) Open(ctx context.Context, id string, session engine.Session) (engine.Database, error) {
	// A copy whose file is gone has its facts still: a reset makes it anew.
	if _, err := s.Find(ctx, id); err != nil {
		return nil, err
	}
	d := &database{server: s, id: id, path: s.file(id), wait: session.Wait}
	for _, set := range session.Settings {
		if set.Name == "foreign_keys" && strings.EqualFold(set.Value, "on") {
			d.foreignKeys = true
		}
	}
	return d, ctx.Err()
}

func (s *server) Close() error {
	s.Release()
	return nil
}

// noRoom also knows SQLite's own code for a full disk.
func (s *server) noRoom(err error, doing string) error {
	if err != nil && codeOf(err) == 13 { // SQLITE_FULL
		err = fmt.Errorf("%w: %w", syscall.ENOSPC, err)
	}
	return s.NoRoom(err, doing)
}

// copyFile copies a whole file. The new one is returned open and locked: the
// lock tells others that somebody is at work on it, from before its first
// byte until the caller closes it.
func copyFile(ctx context.Context, from, to string, mode os.FileMode) (*os.File, error) {
	in, err := os.Open(from)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	out, publish, err := newFile(to, mode)
	if err != nil {
		return nil, err
	}
	if launch.Cloned(out, in) {
		return out, publish()
	}
	if info, err := in.Stat(); err == nil {
		if err := launch.RoomFor(filepath.Dir(to), info.Size(), "copying "+filepath.Base(from)); err != nil {
			return out, err
		}
	}
	// In pieces, so that a user's Ctrl-C does not wait for a large one; each
	// is copied inside the kernel where the system can.
	for ctx.Err() == nil {
		if _, err := io.CopyN(out, in, 64<<20); err == io.EOF {
			return out, publish()
		} else if err != nil {
			return out, err
		}
	}
	return out, ctx.Err()
}

// namedFile makes a file by its name and locks it.
func namedFile(path string, mode os.FileMode) (*os.File, func() error, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_RDWR, mode)
	if err != nil {
		return nil, nil, err
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX); err != nil {
		f.Close()
		return nil, nil, err
	}
	return f, func() error { return nil }, nil
}

// abandoned reports whether a file that copyFile makes has lost its maker:
// nobody holds its lock. One that is empty and young may not be locked yet.
func abandoned(path string) bool {
	f, err := os.Open(path)
	if err != nil {
		return false
	}
	defer f.Close()
	if unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) != nil {
		return false
	}
	info, err := f.Stat()
	return err == nil && (info.Size() > 0 || time.Since(info.ModTime()) > time.Minute)
}
