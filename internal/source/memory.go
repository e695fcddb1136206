package source

import (
	"bufio"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
)

// Memory remembers, from one command to the next, what the files of sources hold: the hash of
// each, with what the system tells of it. A file of which that is the same is not read. The
// zero Memory remembers nothing.
type Memory struct {
	// Folder is where it lies; this user's alone.
	Folder string
}

// Read finds, orders and hashes the steps of a database, as the function Read does.
func (m Memory) Read(ctx context.Context, root string, items []Item, l Language) (*Plan, error) {
	r := reader{root: root, language: l, fixed: true, known: m.open(root, items, l)}
	plan, err := r.plan(ctx, items)
	if err == nil {
		r.known.save()
	}
	return plan, err
}

// known is a file as it was when it was read.
type known struct {
	size       int64
	changed    int64 // in nanoseconds since 1970, by the system's clock
	dev, inode uint64
	digest     string
}

// records are those of one list of sources.
type records struct {
	path  string // "" for none
	old   map[string]known
	now   map[string]known
	dirty bool
}

// format is that of the file and of what is hashed.
const format = "hemzo sources 1"

func (m Memory) open(root string, items []Item, l Language) *records {
	k := &records{old: map[string]known{}, now: map[string]known{}}
	if m.Folder == "" {
		return k
	}
	name := sha256.Sum256(fmt.Appendf(nil, "%q %s %+v", root, l.Name, items))
	k.path = filepath.Join(m.Folder, hex.EncodeToString(name[:12]))
	in, err := os.Open(k.path)
	if err != nil {
		return k
	}
	defer in.Close()
	lines := bufio.NewScanner(in)
	if !lines.Scan() || lines.Text() != format {
		return k
	}
	for lines.Scan() {
		if of, f, ok := parseKnown(lines.Text()); ok {
			k.old[of] = f
		}
	}
	return k
}

func parseKnown(line string) (of string, f known, ok bool) {
	words := strings.Fields(line)
	if len(words) != 6 || len(words[5]) != 64 {
		return "", f, false
	}
	var numbers [4]int64
	for i := range numbers {
		n, err := strconv.ParseInt(words[i+1], 10, 64)
		if err != nil {
			return "", f, false
		}
		numbers[i] = n
	}
	return words[0], known{numbers[0], numbers[1], uint64(numbers[2]), uint64(numbers[3]), words[5]}, true
}

// knownOf is what the system tells of a file; false where that does not tell one content
// from the next: it was changed so short a time before it was looked at that it may have
// changed again in the same moment.
func knownOf(s sight) (known, bool) {
	st, ok := s.info.Sys().(*syscall.Stat_t)
	if !ok || s.when.Sub(s.changed) < grain {
		return known{}, false
	}
	return known{size: s.info.Size(), changed: s.changed.UnixNano(), dev: uint64(st.Dev), inode: st.Ino}, true
}

// find returns the hash of a file that is as it was. how says in what way it is read.
func (k *records) find(s sight, how string) (digest string, ok bool) {
	is, certain := knownOf(s)
	of := k.key(s.path, how)
	was, there := k.old[of]
	is.digest = was.digest
	if !certain || !there || is != was {
		return "", false
	}
	k.now[of] = was
	return was.digest, true
}

func (k *records) key(path, how string) string {
	sum := sha256.Sum256([]byte(path + "\x00" + how))
	return hex.EncodeToString(sum[:12])
}

// note remembers a file that was read after it was looked at.
func (k *records) note(s sight, how, digest string) {
	if is, certain := knownOf(s); certain {
		is.digest = digest
		k.now[k.key(s.path, how)] = is
		k.dirty = true
	}
}

// save writes it, in one step. What cannot be written is read again the next time.
func (k *records) save() {
	if k.path == "" || !k.dirty && len(k.now) == len(k.old) || os.MkdirAll(filepath.Dir(k.path), 0o700) != nil {
		return
	}
	var text strings.Builder
	text.WriteString(format + "\n")
	for of, f := range k.now {
		fmt.Fprintf(&text, "%s %d %d %d %d %s\n", of, f.size, f.changed, int64(f.dev), int64(f.inode), f.digest)
	}
	work := k.path + "-" + rand.Text()[:8]
	if os.WriteFile(work, []byte(text.String()), 0o600) != nil || os.Rename(work, k.path) != nil {
		os.Remove(work)
	}
}

// lookAt notes what a file is like, before it is read.
func (r *reader) lookAt(file string) (sight, error) {
	if _, err := r.look(file); err != nil {
		return sight{}, err
	}
	return r.seen[len(r.seen)-1], nil
}
