package sqlite

import (
	"encoding/json"
	"math/rand/v2"
	"os"
	"time"

	"golang.org/x/sys/unix"
)

// witness tells a file that nobody has written to since it was marked from
// one that somebody has. Marking sets the file's time of last change to a
// moment in the past that no clock will give again, so that any write shows,
// however soon it comes and whatever the granularity of the file system's
// clock. In a write-ahead log writes go to the log first: a log with
// something in it counts as a write.
type witness struct {
	Mtime int64  `json:"mtime"` // nanoseconds since 1970
	Inode uint64 `json:"inode"`
}

// mark marks a file, anew or with the mark that it had before. The caller
// sees to it that nobody writes meanwhile.
func mark(path string, again json.RawMessage) (json.RawMessage, error) {
	at := time.Now().Add(-time.Hour - time.Duration(rand.Int64N(int64(time.Hour)))).UnixNano()
	var old witness
	if again != nil && json.Unmarshal(again, &old) == nil {
		at = old.Mtime
	}
	if err := os.Chtimes(path, time.Time{}, time.Unix(0, at)); err != nil {
		return nil, err
	}
	if old.Mtime != 0 {
		return again, nil
	}
	w, err := look(path)
	if err != nil {
		return nil, err
	}
	return json.Marshal(w)
}

func look(path string) (w witness, err error) {
	var st unix.Stat_t
	if err := unix.Stat(path, &st); err != nil {
		return w, &os.PathError{Op: "stat", Path: path, Err: err}
	}
	return witness{Mtime: st.Mtim.Nano(), Inode: st.Ino}, nil
}

// untouched reports whether nobody has written to a file since it was marked.
func untouched(path string, baseline json.RawMessage) (bool, error) {
	now, err := look(path)
	if err != nil || baseline == nil {
		return false, err
	}
	var then witness
	if json.Unmarshal(baseline, &then) != nil {
		return false, nil
	}
	return now == then && !hasLog(path), nil
}
