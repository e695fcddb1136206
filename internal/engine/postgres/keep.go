package postgres

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine"
	"hemzo/internal/engine/launch"
	"hemzo/internal/engine/postgres/pg"
	"hemzo/internal/fault"
	"hemzo/internal/pattern"
)

// saved is where the data folder is kept when the server has ended cleanly:
// its templates then need no building. It is named after the server's folder,
// and so after its version and settings.
func (c *cluster) saved() string {
	return filepath.Join(c.home.Kept, "saved-"+c.identity)
}

// noRoomFor is what to do where the data of a server finds no room.
const noRoomFor = "free some room, or set HEMZO_MEMORY_DIR to a folder with more"

// copyKept copies a kept data folder; false where there is none that is whole. One
// that was looked at and found broken is removed; where the copy fails for
// another reason it stays, and that is the error.
func (c *cluster) copyKept(from string) (bool, error) {
	// The mark is written last: a folder without it is half a folder.
	mark, err := os.ReadFile(filepath.Join(from, "whole"))
	of, size, _ := strings.Cut(string(mark), "\n")
	if err != nil || of != c.major+" "+c.stamp {
		return false, nil
	}
	err = launch.CopyTree(filepath.Join(from, "data"), c.data, c.owner)
	if err == nil {
		_ = os.Chtimes(filepath.Join(from, "whole"), time.Time{}, time.Now()) // used
		return true, nil
	}
	_ = os.RemoveAll(c.data)
	if now, failed := sizeOf(filepath.Join(from, "data")); failed != nil || now != size {
		return false, os.RemoveAll(from)
	}
	if errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) {
		f := fault.New(fault.Lacking, noRoomFor, "copying the kept data folder: no room left in %s", c.home.Folder)
		f.Reason = err
		return false, f
	}
	return false, fmt.Errorf("copying the kept data folder: %w", err)
}

// sizeOf tells how many files a kept folder has, and how large they are: each
// is read to its end.
func sizeOf(dir string) (string, error) {
	var files, size int64
	err := filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		f, err := os.Open(path)
		if err != nil {
			return err
		}
		defer f.Close()
		n, err := io.Copy(io.Discard, f)
		files, size = files+1, size+n
		return err
	})
	return fmt.Sprintf("%d files, %d bytes", files, size), err
}

// keepLimit bounds what one kept data folder may take, keptLimit what all of
// them may take together, in bytes.
const (
	keepLimit = 1 << 30
	keptLimit = 4 << 30
)

// keep keeps the data folder of a server that is not running. It replaces
// what was kept before in one step; of two at once the later one stays.
func (c *cluster) keep(to string) error {
	if c.home.Kept == "" {
		return nil
	}
	if err := os.MkdirAll(c.home.Kept, 0o700); err != nil {
		return fmt.Errorf("keeping the data folder: %w", err)
	}
	if size, err := launch.TreeSize(c.data); err != nil || size > keepLimit {
		return err
	}
	work, err := os.MkdirTemp(c.home.Kept, "work-")
	if err != nil {
		return fmt.Errorf("keeping the data folder: %w", err)
	}
	defer os.RemoveAll(work)
	err = launch.CopyTree(c.data, filepath.Join(work, "data"), nil)
	var size string
	if err == nil {
		size, err = sizeOf(filepath.Join(work, "data"))
	}
	if err == nil {
		err = os.WriteFile(filepath.Join(work, "whole"), []byte(c.major+" "+c.stamp+"\n"+size), 0o600)
	}
	if err != nil {
		return fmt.Errorf("keeping the data folder: %w", err)
	}
	old := work + "-old"
	if err := os.Rename(to, old); err != nil && !errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("keeping the data folder: %w", err)
	}
	defer os.RemoveAll(old)
	if err := os.Rename(work, to); err != nil && !errors.Is(err, syscall.ENOTEMPTY) && !errors.Is(err, os.ErrExist) {
		return fmt.Errorf("keeping the data folder: %w", err)
	}
	return pruneKept(c.home.Kept, to, keptLimit)
}

// pruneKept removes the kept folders that were not used for the longest time,
// but for one, until the rest takes no more than limit.
func pruneKept(kept, but string, limit int64) error {
	type folder struct {
		path string
		size int64
		used time.Time
	}
	marks, _ := filepath.Glob(filepath.Join(kept, "*", "whole"))
	var all []folder
	for _, m := range marks {
		info, err := os.Stat(m)
		if err != nil {
			continue // another process removes it
		}
		f := folder{path: filepath.Dir(m), used: info.ModTime()}
		if f.size, err = launch.TreeSize(f.path); err == nil {
			all = append(all, f)
			limit -= f.size
		}
	}
	slices.SortFunc(all, func(a, b folder) int { return a.used.Compare(b.used) })
	for _, f := range all {
		if limit >= 0 {
			break
		}
		if f.path == but {
			continue
		}
		// Without its mark first: half a folder is none.
		if err := errors.Join(os.Remove(filepath.Join(f.path, "whole")), os.RemoveAll(f.path)); err != nil {
			return fmt.Errorf("removing an old data folder: %w", err)
		}
		limit += f.size
	}
	return nil
}

// prune drops what does not outlive the server, and leaves as little log as
// can be.
func prune(ctx context.Context, address json.RawMessage) error {
	s, err := connect(ctx, address, engine.Patience{})
	if err != nil {
		return err
	}
	defer s.Close()
	all, err := s.List(ctx)
	if err != nil {
		return err
	}
	// The templates used last stay, as many as there is room for.
	slices.SortFunc(all, func(a, b engine.Entry) int { return b.Facts.Used.Compare(a.Facts.Used) })
	room := int64(keepLimit - 64<<20)
	for _, e := range all {
		if e.Kind == engine.Template && !e.Bad && e.Size <= room {
			room -= e.Size
			continue
		}
		if err := s.Drop(ctx, e.ID); err != nil {
			return err
		}
	}
	return s.(*server).prune(ctx)
}

// prune drops what tests have made beside the databases that Hemzo made, and
// brings the log to an end.
func (s *server) prune(ctx context.Context) error {
	var names []string
	err := s.readRetrying(ctx, func(ctx context.Context, conn *pgx.Conn) error {
		rows, err := conn.Query(ctx, `SELECT datname FROM pg_database WHERE datname NOT IN ('postgres',
		'template0', 'template1') AND datname NOT LIKE 'hemzo\_t\_%'`)
		if err == nil {
			names, err = pgx.CollectRows(rows, pgx.RowTo[string])
		}
		return err
	})
	for _, name := range names {
		if err == nil {
			err = s.execInBackground(ctx, fmt.Sprintf(
				"ALTER DATABASE %s IS_TEMPLATE false; DROP DATABASE %s WITH (FORCE)",
				pg.Ident(name), pg.Ident(name)))
		}
	}
	if err == nil {
		err = s.clearLogins(ctx)
	}
	if err != nil {
		return fmt.Errorf("dropping what does not outlive the server: %w", err)
	}
	return s.execInBackground(ctx, "CHECKPOINT")
}

// save keeps the data folder of a server that has ended.
func (c *cluster) save(ctx context.Context) error {
	out, err := c.command(ctx, "pg_controldata", "-D", c.data).Output()
	if err != nil || !shutDown().Match(out) {
		return nil // not cleanly: not worth keeping
	}
	return c.keep(c.saved())
}

var shutDown = pattern.Lazy(`(?m)^Database cluster state: +shut down$`)
