package redis

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"hemzo/internal/engine"
	"hemzo/internal/engine/launch"
	"hemzo/internal/engine/redis/rdb"
	"hemzo/internal/engine/redis/resp"
	"hemzo/internal/fault"
)

// Names of the files of a state.
const (
	dataFile  = "dump.rdb" // all keys, as the server keeps them
	aboutFile = "state.json"
)

// about is what is known of a state beside its RDB file.
type about struct {
	Moment   int64    `json:"moment"`   // when it was kept, in milliseconds since 1970
	Keys     int      `json:"keys"`     // how many there are
	Expiring int      `json:"expiring"` // how many of them go by themselves
	Size     int64    `json:"size"`     // of the RDB file
	Scripts  []string `json:"scripts,omitempty"`
	Fields   []field  `json:"fields,omitempty"`

	timed []rdb.Entry // hashes of which some field goes by itself
}

// field is a field of a hash that goes by itself.
type field struct {
	DB      int    `json:"db"`
	Key     []byte `json:"key"`
	Name    []byte `json:"name"`
	Value   []byte `json:"value"`
	Expires int64  `json:"expires"` // in milliseconds since 1970
}

func readAbout(dir string) (a about, err error) {
	b, err := os.ReadFile(filepath.Join(dir, aboutFile))
	if err == nil {
		err = json.Unmarshal(b, &a)
	}
	if err != nil {
		return a, fmt.Errorf("reading what is known of a state: %w", err)
	}
	info, err := os.Stat(filepath.Join(dir, dataFile))
	if err == nil && info.Size() != a.Size {
		err = fault.New(fault.Failed, "hemzo build makes it again from the sources",
			"the RDB file of a template is not as it was written: %s", filepath.Join(dir, dataFile))
	}
	return a, err
}

// state is a template or snapshot, with its keys.
type state struct {
	about
	file   *rdb.File
	byName map[string][]int // of each name the entries, one in each database that has it
	fields map[[2]string][]field
	dbs    []int // that hold something, in order
	// shortest is the shortest span after which a key or field goes; 0 where none does.
	shortest time.Duration
}

func readState(dir string) (*state, error) {
	a, err := readAbout(dir)
	if err != nil {
		return nil, err
	}
	in, err := os.Open(filepath.Join(dir, dataFile))
	if err != nil {
		return nil, fmt.Errorf("reading the keys of a state: %w", err)
	}
	defer in.Close()
	return newState(a, in)
}

func newState(a about, in io.Reader) (*state, error) {
	f, err := rdb.ReadAll(in)
	if err != nil {
		return nil, fmt.Errorf("reading the keys of a state: %w", err)
	}
	s := &state{about: a, file: f, byName: make(map[string][]int, len(f.Entries))}
	for i, e := range f.Entries {
		s.byName[e.Key] = append(s.byName[e.Key], i)
		s.noteSpan(e.Expires)
		if n := len(s.dbs); n == 0 || s.dbs[n-1] != e.DB {
			s.dbs = append(s.dbs, e.DB)
		}
	}
	s.fields = map[[2]string][]field{}
	for _, x := range a.Fields {
		of := [2]string{strconv.Itoa(x.DB), string(x.Key)}
		s.fields[of] = append(s.fields[of], x)
		s.noteSpan(x.Expires)
	}
	return s, nil
}

// farAhead is from when on, counted from a state's moment, an expiry time is a date and not
// a span: spans begin anew with each copy.
const farAhead = 30 * 24 * time.Hour

// expires is when a key of a state goes, in milliseconds since 1970, where the time began
// to run at epoch; 0 for never.
func (a about) expires(at, epoch int64) int64 {
	if at == 0 || at-a.Moment > farAhead.Milliseconds() {
		return at
	}
	return max(epoch+at-a.Moment, 1)
}

// noteSpan notes the time after which a key or field goes.
func (s *state) noteSpan(at int64) {
	left := time.Duration(at-s.Moment) * time.Millisecond
	if at != 0 && left <= farAhead && (s.shortest == 0 || left < s.shortest) {
		s.shortest = max(left, time.Millisecond)
	}
}

// filler puts what a state holds into a server, in the order of its databases.
type filler struct {
	first int // what is the first database to a copy
	db    int
	ask   [][]string
}

func (a address) filler() *filler {
	f := &filler{first: a.First, db: -1}
	if a.One {
		f.in(0)
	}
	return f
}

// flush is the command that removes all that a copy holds.
func (a address) flush() string {
	if a.One {
		return "FLUSHDB"
	}
	return "FLUSHALL"
}

// in has what follows happen in a database.
func (f *filler) in(db int) {
	if f.db != db {
		f.db = db
		f.add("SELECT", strconv.Itoa(f.first+db))
	}
}

func (f *filler) add(words ...string) { f.ask = append(f.ask, words) }

// restore puts a key back. Fields of a hash that went meanwhile come again.
func (f *filler) restore(s *state, e rdb.Entry, epoch int64) {
	f.in(e.DB)
	f.add("RESTORE", e.Key, strconv.FormatInt(s.expires(e.Expires, epoch), 10), string(s.file.Payload(e)), "REPLACE",
		"ABSTTL")
	for _, x := range s.fields[[2]string{strconv.Itoa(e.DB), e.Key}] {
		f.add("HSET", e.Key, string(x.Name), string(x.Value))
		f.add("HPEXPIREAT", e.Key, strconv.FormatInt(s.expires(x.Expires, epoch), 10), "FIELDS", "1", string(x.Name))
	}
}

// save writes what a server holds to a folder.
func save(ctx context.Context, at engine.Endpoint, dir string) error {
	return addressOf(at).save(ctx, dir)
}

// save writes what a copy holds to a folder.
func (a address) save(ctx context.Context, dir string) error {
	c, err := a.dial(ctx)
	if err != nil {
		return unreachable(a, err)
	}
	defer c.Close()
	moment, err := serverTime(ctx, c)
	if err != nil {
		return err
	}
	path := filepath.Join(dir, dataFile)
	if a.Folder != "" {
		if err = doing("having the server save its keys", ctx, c, "SAVE"); err == nil {
			err = launch.CopyFile(filepath.Join(a.Folder, dataFile), path)
		}
	} else {
		err = a.fetch(ctx, c, path)
	}
	if err != nil {
		return err
	}
	n, size, err := examineFile(path)
	if err == nil {
		n.Fields, err = a.readFields(ctx, c, n.timed)
	}
	if err != nil {
		return err
	}
	n.Moment, n.Size, n.Scripts = moment, size, a.Scripts
	b, err := json.Marshal(n)
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, aboutFile), b, 0o600)
}

// doing asks for something that has no answer but success.
func doing(what string, ctx context.Context, c *conn, words ...string) error {
	if _, err := c.do(ctx, words...); err != nil {
		return fmt.Errorf("%s: %w", what, err)
	}
	return nil
}

// examineFile reads an RDB file through.
func examineFile(path string) (a about, size int64, err error) {
	in, err := os.Open(path)
	if err != nil {
		return a, 0, err
	}
	defer in.Close()
	_, err = rdb.Read(in, func(e rdb.Entry) error {
		a.Keys++
		timed := slices.Contains(timedHashes, e.Type)
		if timed {
			a.timed = append(a.timed, rdb.Entry{DB: e.DB, Key: e.Key, Expires: e.Expires})
		}
		if e.Expires != 0 || timed {
			a.Expiring++
		}
		return nil
	})
	if err != nil {
		return a, 0, fmt.Errorf("reading what the server saved: %w", err)
	}
	info, err := in.Stat()
	if err != nil {
		return a, 0, err
	}
	return a, info.Size(), nil
}

// serverTime is the time by a server's clock, in milliseconds since 1970.
func serverTime(ctx context.Context, c *conn) (int64, error) {
	v, err := c.do(ctx, "TIME")
	if err != nil {
		return 0, fmt.Errorf("asking the server's time: %w", err)
	}
	return timeIn(v)
}

func timeIn(v resp.Value) (int64, error) {
	if len(v.Items) != 2 {
		return 0, fmt.Errorf("the server does not tell the time: %s", v.Text)
	}
	seconds, err := strconv.ParseInt(v.Items[0].Text, 10, 64)
	micros, failed := strconv.ParseInt(v.Items[1].Text, 10, 64)
	return seconds*1000 + micros/1000, errors.Join(err, failed)
}

// errBusy says that a server's keys changed each time while they were read.
var errBusy = fault.New(fault.Failed, "stop what writes, or wait until it has",
	"clients changed keys while they were read")

// fetch writes an RDB file of what a server holds whose own files are out of reach.
func (a address) fetch(ctx context.Context, c *conn, path string) error {
	h, err := a.askHarmless(ctx, c)
	if err != nil {
		return err
	}
	for range 20 {
		before, err := a.count(ctx, c, h)
		if err != nil {
			return err
		}
		f, err := a.dump(ctx, c)
		if err != nil {
			return err
		}
		after, err := a.count(ctx, c, h)
		if err != nil {
			return err
		}
		if !after.equal(before) && !a.One { // there others are counted too
			continue
		}
		out, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if err != nil {
			return err
		}
		return errors.Join(f.Write(out), out.Close())
	}
	return errBusy
}

// count asks what a server has counted.
func (a address) count(ctx context.Context, c *conn, h harmless) (counts, error) {
	all, err := c.all(ctx, a.askCounts())
	if err != nil {
		return counts{}, err
	}
	return h.countsIn(all)
}

func (h harmless) countsIn(replies []resp.Value) (counts, error) {
	var text strings.Builder
	for _, v := range replies {
		if err := v.Failed(); err != nil {
			return counts{}, fmt.Errorf("asking what the server counts: %w", err)
		}
		text.WriteString(v.Text)
	}
	n := h.countsOf(text.String())
	if n.Life == "" {
		return n, errors.New("the server does not tell what it counts")
	}
	return n, nil
}

// dump reads all that a server holds.
func (a address) dump(ctx context.Context, c *conn) (*rdb.File, error) {
	f := &rdb.File{}
	dbs, err := a.databasesOf(ctx, c)
	if err != nil {
		return nil, err
	}
	for _, db := range dbs {
		keys, err := a.keysOf(ctx, c, db)
		if err != nil {
			return nil, err
		}
		if err := a.readKeys(ctx, c, f, db, keys); err != nil {
			return nil, err
		}
	}
	if a.atLeast(7, 0) && !a.One {
		v, err := c.do(ctx, "FUNCTION", "DUMP")
		if err == nil {
			f.Functions, err = rdb.Functions([]byte(v.Text))
		}
		if err != nil {
			return nil, fmt.Errorf("reading the functions: %w", err)
		}
	}
	if f.Version == 0 { // there is no key to tell it
		f.Version = 9
	}
	return f, nil
}

// databasesOf lists the numbered databases of a copy that hold something, as it numbers them.
func (a address) databasesOf(ctx context.Context, c *conn) ([]int, error) {
	dbs, err := filled(ctx, c)
	if !a.One {
		return dbs, err
	}
	if !slices.Contains(dbs, a.First) {
		return nil, err
	}
	return []int{0}, err
}

// filled lists the databases of a server that hold something.
func filled(ctx context.Context, c *conn) (dbs []int, err error) {
	v, err := c.do(ctx, "INFO", "keyspace")
	if err != nil {
		return nil, fmt.Errorf("asking which databases hold something: %w", err)
	}
	for line := range strings.Lines(v.Text) {
		name, _, _ := strings.Cut(line, ":")
		if n, ok := strings.CutPrefix(name, "db"); ok {
			if db, err := strconv.Atoi(n); err == nil {
				dbs = append(dbs, db)
			}
		}
	}
	slices.Sort(dbs)
	return dbs, nil
}

// choose has what follows happen in a database of a copy.
func (a address) choose(ctx context.Context, c *conn, db int) error {
	return doing("choosing a database", ctx, c, "SELECT", strconv.Itoa(a.First+db))
}

// keysOf lists the keys of a database, and leaves it chosen.
func (a address) keysOf(ctx context.Context, c *conn, db int) ([]string, error) {
	if err := a.choose(ctx, c, db); err != nil {
		return nil, err
	}
	seen := map[string]bool{}
	for cursor := "0"; ; {
		v, err := c.do(ctx, "SCAN", cursor, "COUNT", "1000")
		if err != nil || len(v.Items) != 2 {
			return nil, errors.Join(errors.New("listing the keys"), err)
		}
		for _, k := range v.Items[1].Items {
			seen[k.Text] = true // while others change keys one may come twice
		}
		if cursor = v.Items[0].Text; cursor == "0" {
			return slices.Collect(maps.Keys(seen)), nil
		}
	}
}

// readKeys adds the keys of a database, which is chosen, to a file.
func (a address) readKeys(ctx context.Context, c *conn, f *rdb.File, db int, keys []string) error {
	for chunk := range slices.Chunk(keys, 500) {
		ask := [][]string{{"TIME"}}
		for _, k := range chunk {
			left := "PTTL"
			if a.atLeast(7, 0) {
				left = "PEXPIRETIME"
			}
			ask = append(ask, []string{"DUMP", k}, []string{left, k})
		}
		all, err := c.all(ctx, ask)
		if err != nil {
			return err
		}
		now, err := timeIn(all[0])
		if err != nil {
			return err
		}
		for i, k := range chunk {
			value, left := all[1+2*i], all[2+2*i]
			if err := errors.Join(value.Failed(), left.Failed()); err != nil {
				return fmt.Errorf("reading the key %q: %w", k, err)
			}
			if value.Kind == resp.Null { // it has gone meanwhile
				continue
			}
			e := rdb.Entry{DB: db, Key: k}
			if left.Int > 0 {
				e.Expires = left.Int
				if !a.atLeast(7, 0) {
					e.Expires += now
				}
			}
			if e.Type, e.Value, f.Version, err = rdb.FromPayload([]byte(value.Text)); err != nil {
				return err
			}
			f.Valkey = f.Version >= 80
			f.Entries = append(f.Entries, e)
		}
	}
	return nil
}

// timedHashes are the types, in RDB files, of hashes of which some field goes by itself.
var timedHashes = []byte{22, 23, 24, 25}

// readFields reads the fields of hashes that go by themselves.
func (a address) readFields(ctx context.Context, c *conn, hashes []rdb.Entry) (all []field, err error) {
	for _, e := range hashes {
		if err := a.choose(ctx, c, e.DB); err != nil {
			return nil, err
		}
		v, err := c.do(ctx, "HGETALL", e.Key)
		if err != nil {
			return nil, fmt.Errorf("reading the key %q: %w", e.Key, err)
		}
		ask := []string{"HPEXPIRETIME", e.Key, "FIELDS", strconv.Itoa(len(v.Items) / 2)}
		for i := 0; i < len(v.Items); i += 2 {
			ask = append(ask, v.Items[i].Text)
		}
		if len(v.Items) == 0 { // all have gone
			continue
		}
		times, err := c.do(ctx, ask...)
		if err != nil {
			return nil, fmt.Errorf("reading when fields of the key %q go: %w", e.Key, err)
		}
		for i, at := range times.Items {
			if at.Int > 0 {
				all = append(all, field{DB: e.DB, Key: []byte(e.Key), Name: []byte(v.Items[2*i].Text),
					Value: []byte(v.Items[2*i+1].Text), Expires: at.Int})
			}
		}
	}
	return all, nil
}

// expiring puts back the keys of a state that go by themselves, or some field of which does.
func (f *filler) expiring(s *state, epoch int64) {
	for _, e := range s.file.Entries {
		if e.Expires != 0 || slices.Contains(timedHashes, e.Type) {
			f.restore(s, e, epoch)
		}
	}
}

// run has a server do it; the first error ends it.
func (f *filler) run(ctx context.Context, c *conn) error {
	all, err := c.all(ctx, f.ask)
	if err != nil {
		return err
	}
	for i, v := range all {
		if err := v.Failed(); err != nil {
			return fmt.Errorf("putting keys into the server (%s): %w", f.ask[i][0], err)
		}
	}
	return nil
}

// whole puts all that a state holds into an empty server.
func (f *filler) whole(s *state, epoch int64) {
	if functions := s.file.FunctionPayload(); functions != nil && f.first == 0 {
		f.add("FUNCTION", "RESTORE", string(functions), "FLUSH")
	}
	for _, e := range s.file.Entries {
		f.restore(s, e, epoch)
	}
}

// entry is the entry of a name in a database; -1 for none.
func (s *state) entry(db int, name string) int {
	for _, i := range s.byName[name] {
		if s.file.Entries[i].DB == db {
			return i
		}
	}
	return -1
}
