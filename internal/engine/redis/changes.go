package redis

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"hemzo/internal/engine"
	"hemzo/internal/engine/redis/rdb"
	"hemzo/internal/engine/redis/resp"
)

// reads are the commands that read a value whole, by the type that TYPE tells.
var reads = map[string][]string{
	"string": {"GET", ""}, "list": {"LRANGE", "", "0", "-1"}, "set": {"SMEMBERS", ""}, "hash": {"HGETALL", ""},
	"zset": {"ZRANGE", "", "0", "-1", "WITHSCORES"}, "stream": {"XINFO", "STREAM", "", "FULL", "COUNT", "0"},
}

// key is a key with its value, as a client reads it.
type key struct {
	db      int
	name    string
	kind    string // "string", "hash", ...
	expires int64  // in milliseconds since 1970; 0 for never
	value   string // the same for the same value
	size    int    // of its elements, or bytes
	short   string // the value in words
}

// readValues reads keys of a database as clients do, in the order of their names. Those
// that are not there are left out.
func (a address) readValues(ctx context.Context, c *conn, db int, names []string) (all []key, err error) {
	names = slices.Sorted(slices.Values(names))
	if err := a.choose(ctx, c, db); err != nil {
		return nil, err
	}
	for chunk := range slices.Chunk(names, 500) {
		some, err := a.readChunk(ctx, c, db, chunk)
		if err != nil {
			return nil, err
		}
		all = append(all, some...)
	}
	return all, nil
}

func (a address) readChunk(ctx context.Context, c *conn, db int, names []string) (all []key, err error) {
	ask := [][]string{{"TIME"}}
	for _, n := range names {
		ask = append(ask, []string{"TYPE", n}, []string{"PTTL", n})
	}
	if a.atLeast(7, 0) {
		for i := 2; i < len(ask); i += 2 {
			ask[i][0] = "PEXPIRETIME"
		}
	}
	about, err := c.all(ctx, ask)
	if err != nil {
		return nil, err
	}
	now, err := timeIn(about[0])
	if err != nil {
		return nil, err
	}
	ask = nil
	for i, n := range names {
		k := key{db: db, name: n, kind: about[1+2*i].Text}
		if k.kind == "none" {
			continue
		}
		if left := about[2+2*i].Int; left > 0 {
			if k.expires = left; !a.atLeast(7, 0) {
				k.expires += now
			}
		}
		read, known := reads[k.kind]
		if !known { // of a module
			read = []string{"DUMP", ""}
		}
		read = slices.Clone(read)
		read[slices.Index(read, "")] = n
		all, ask = append(all, k), append(ask, read)
	}
	values, err := c.all(ctx, ask)
	if err != nil {
		return nil, err
	}
	for i, v := range values {
		if err := v.Failed(); err != nil {
			return nil, fmt.Errorf("reading the key %q: %w", all[i].name, err)
		}
		all[i].tell(v)
	}
	return all, nil
}

// tell notes a value as it was read.
func (k *key) tell(v resp.Value) {
	switch k.kind {
	case "set":
		slices.SortFunc(v.Items, func(a, b resp.Value) int { return strings.Compare(a.Text, b.Text) })
	case "hash":
		v.Items = sortedPairs(v.Items)
	case "stream":
		v = withoutTimes(v)
	}
	k.value = fmt.Sprintf("%q", plain(v))
	k.size = len(v.Items)
	if v.Kind == resp.Map {
		k.size /= 2
	}
	k.short = shorten(k.kind, v, k.size)
}

func sortedPairs(items []resp.Value) []resp.Value {
	pairs := slices.Collect(slices.Chunk(items, 2))
	slices.SortFunc(pairs, func(a, b []resp.Value) int { return strings.Compare(a[0].Text, b[0].Text) })
	return slices.Concat(pairs...)
}

// withoutTimes leaves out of what XINFO tells when consumers were last seen, how entries lie
// in memory, and for how long.
func withoutTimes(v resp.Value) resp.Value {
	if len(v.Items) == 0 {
		return v
	}
	out := resp.Value{Kind: v.Kind}
	for i := 0; i < len(v.Items); i++ {
		switch v.Items[i].Text {
		case "seen-time", "active-time", "idle", "inactive", "radix-tree-keys", "radix-tree-nodes":
			i++ // its value too
		default:
			out.Items = append(out.Items, withoutTimes(v.Items[i]))
			out.Items[len(out.Items)-1].Text = v.Items[i].Text
			out.Items[len(out.Items)-1].Int = v.Items[i].Int
		}
	}
	out.Text, out.Int = v.Text, v.Int
	return out
}

// longest is how much of a value is shown, in bytes.
const longest = 200

// shorten is a value in words.
func shorten(kind string, v resp.Value, size int) string {
	switch {
	case kind == "string" && len(v.Text) <= longest:
		return v.Text
	case kind == "string":
		return fmt.Sprintf("%d bytes: %.40q...", len(v.Text), v.Text)
	case kind == "stream":
		return streamInWords(v)
	}
	if text := fmt.Sprint(plain(v)); len(text) <= longest {
		return text
	}
	return fmt.Sprintf("%d elements", size)
}

// streamInWords tells how long a stream is, and of its groups.
func streamInWords(v resp.Value) string {
	text := "a stream"
	for i := 0; i+1 < len(v.Items); i += 2 {
		switch name, value := v.Items[i].Text, v.Items[i+1]; name {
		case "length":
			text = fmt.Sprintf("%d entries", value.Int)
		case "last-generated-id":
			text += ", the last one " + value.Text
		case "groups":
			if len(value.Items) > 0 {
				text += fmt.Sprintf(", %d groups", len(value.Items))
			}
		}
	}
	return text
}

// Contents sums up all keys, functions and scripts.
func (d *database) Contents(ctx context.Context, _ bool) (all []engine.Content, err error) {
	c, err := d.admin(ctx)
	if err != nil {
		return nil, err
	}
	epoch := d.epoch()
	dbs, err := d.at.databasesOf(ctx, c)
	if err != nil {
		return nil, err
	}
	for _, db := range dbs {
		names, err := d.at.keysOf(ctx, c, db)
		if err != nil {
			return nil, err
		}
		keys, err := d.at.readValues(ctx, c, db, names)
		if err != nil {
			return nil, err
		}
		for _, k := range keys {
			goes := k.expires
			if goes != 0 && goes-epoch <= farAhead.Milliseconds() { // a span: see about.expires
				goes -= epoch
			}
			sum := sha256.Sum256(fmt.Appendf(nil, "%s %d %s", k.kind, goes, k.value))
			all = append(all, engine.Content{Kind: k.kind, Name: nameOf(db, k.name), Sum: fmt.Sprintf("%x", sum[:8])})
		}
	}
	more, err := d.programs(ctx, c)
	return append(all, more...), err
}

// nameOf is a key with its database, where that is not the first.
func nameOf(db int, name string) string {
	if db == 0 {
		return name
	}
	return fmt.Sprintf("db%d %s", db, name)
}

// epoch is when the copy's spans of time began to run.
func (d *database) epoch() int64 {
	if c, ok := readCounts(d.entry.Facts.Baseline); ok && c.Life == d.at.Counts.Life {
		return c.Epoch
	}
	return d.at.Counts.Epoch
}

// programs sums up functions, and counts scripts.
func (d *database) programs(ctx context.Context, c *conn) (all []engine.Content, err error) {
	if d.at.One { // they are everybody's
		return nil, nil
	}
	v, err := c.do(ctx, "INFO", "memory")
	if err != nil {
		return nil, fmt.Errorf("asking for the scripts: %w", err)
	}
	_, rest, _ := strings.Cut(v.Text, "number_of_cached_scripts:")
	if n, _, _ := strings.Cut(rest, "\r\n"); n != "" && n != "0" {
		all = append(all, engine.Content{Kind: "scripts", Name: "in the cache", Sum: n})
	}
	if !d.at.atLeast(7, 0) {
		return all, nil
	}
	v, err = c.do(ctx, "FUNCTION", "DUMP")
	if err != nil {
		return nil, fmt.Errorf("asking for the functions: %w", err)
	}
	functions, err := rdb.Functions([]byte(v.Text))
	for _, text := range functions {
		first, _, _ := strings.Cut(text, "\n")
		sum := sha256.Sum256([]byte(text))
		all = append(all, engine.Content{Kind: "functions", Name: first, Sum: fmt.Sprintf("%x", sum[:8])})
	}
	return all, err
}

// Changes tells which keys differ from those of the start state, of which a copy is made
// where values are to be compared.
func (d *database) Changes(ctx context.Context, cmp engine.Compare) (_ *engine.Changes, err error) {
	c, err := d.admin(ctx)
	if err != nil {
		return nil, err
	}
	now, err := d.at.count(ctx, c, d.harmless)
	if err != nil {
		return nil, err
	}
	base, ok := readCounts(cmp.Baseline)
	if !ok && d.at.Began == cmp.Start && cmp.Last == cmp.Start {
		base = d.at.Counts
	}
	if now.equal(base) && !d.at.One {
		return noChanges(), nil
	}
	lock, _, err := d.server.Own(ctx)
	if err != nil {
		return nil, err
	}
	fresh, facts := engine.NewID(engine.Work), d.entry.Facts
	facts.Owner, facts.Baseline = engine.Owner{Lock: lock}, nil
	defer func() { err = errors.Join(err, d.server.Drop(context.WithoutCancel(ctx), fresh)) }()
	if err := d.server.Copy(ctx, cmp.Start, fresh, facts); err != nil {
		return nil, fmt.Errorf("making a copy to compare with: %w", err)
	}
	e, err := d.server.Find(ctx, fresh)
	if err != nil {
		return nil, err
	}
	other := openDatabase(d.server, e, engine.Session{})
	defer other.Close()
	if _, err := other.admin(ctx); err != nil {
		return nil, err
	}
	return d.compare(ctx, other, cmp.Rows)
}

func noChanges() *engine.Changes {
	c := engine.NoChanges()
	c.Unit = "key"
	return c
}

// compare tells how a copy differs from a fresh one.
func (d *database) compare(ctx context.Context, fresh *database, rows int) (*engine.Changes, error) {
	out := noChanges()
	dbs := map[int]bool{}
	for _, x := range []*database{d, fresh} {
		some, err := x.at.databasesOf(ctx, x.hand)
		if err != nil {
			return nil, err
		}
		for _, db := range some {
			dbs[db] = true
		}
	}
	for _, db := range slices.Sorted(maps.Keys(dbs)) {
		t, err := d.compareKeys(ctx, fresh, db, rows)
		if err != nil {
			return nil, err
		}
		if t.Added+t.Removed+t.Altered > 0 {
			out.Tables = append(out.Tables, t)
		}
	}
	var programs [2][]engine.Content
	for i, x := range []*database{d, fresh} {
		var err error
		if programs[i], err = x.programs(ctx, x.hand); err != nil {
			return nil, err
		}
	}
	for _, diff := range engine.Differences(programs[0], programs[1]) {
		what := "altered"
		if diff.Wanted == "" {
			what = "added"
		} else if diff.Has == "" {
			what = "removed"
		}
		out.Schema = append(out.Schema, engine.SchemaChange{What: what, Kind: diff.Kind, Name: diff.Name})
	}
	return out, nil
}

func (d *database) compareKeys(ctx context.Context, fresh *database, db, rows int) (t engine.TableChange, err error) {
	t = engine.TableChange{Name: "db" + strconv.Itoa(db)}
	var has [2]map[string]key
	for i, x := range []*database{d, fresh} {
		names, err := x.at.keysOf(ctx, x.hand, db)
		if err != nil {
			return t, err
		}
		keys, err := x.at.readValues(ctx, x.hand, db, names)
		if err != nil {
			return t, err
		}
		has[i] = map[string]key{}
		for _, k := range keys {
			has[i][k.name] = k
		}
	}
	names := maps.Clone(has[0])
	maps.Copy(names, has[1])
	shift := fresh.at.Counts.Epoch - d.epoch()
	for _, name := range slices.Sorted(maps.Keys(names)) {
		now, there := has[0][name]
		was, before := has[1][name]
		if there && before && now.same(was, shift) {
			continue
		}
		var row engine.RowChange
		if there {
			row.After = now.row()
		}
		if before {
			row.Before = was.row()
		}
		switch {
		case !before:
			t.Added++
		case !there:
			t.Removed++
		default:
			t.Altered++
		}
		if len(t.Rows) < rows {
			t.Rows, t.Columns = append(t.Rows, row), []string{"key", "type", "value", "expires"}
		}
	}
	return t, nil
}

// same reports whether a key is as it was in a copy whose spans of time began to run later.
func (k key) same(was key, shift int64) bool {
	goes := was.expires
	if goes != 0 && k.expires != goes {
		goes -= shift
	}
	return k.kind == was.kind && k.value == was.value && max(k.expires-goes, goes-k.expires) <= 5
}

func (k key) row() []any {
	goes := any(nil)
	if k.expires != 0 {
		goes = time.UnixMilli(k.expires).UTC().Format(time.RFC3339)
	}
	return []any{k.name, k.kind, k.short, goes}
}
