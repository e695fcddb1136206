package redis

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"hemzo/internal/engine"
	"hemzo/internal/engine/redis/resp"
)

// touched are the names of keys that may not be as in the start state; all says that they
// are not known, and gives those of all keys where some are to be kept.
func (p *putting) touched(ctx context.Context, now counts) (names map[string]bool, all bool, err error) {
	more := now.more(p.base)
	has := func(test func(string) bool) bool { return p.base.Life == "" || slices.ContainsFunc(more, test) }
	begins := func(prefix string) func(string) bool {
		return func(name string) bool { return strings.HasPrefix(name, prefix) }
	}
	p.functions = p.functions || has(begins("function"))
	p.scripts = p.scripts || has(begins("script")) || has(begins("eval"))
	known := p.c.told != nil && p.base.Life != "" && p.base.after(p.c.told.since) &&
		!has(func(name string) bool { return slices.Contains(wholesale, name) })
	names = map[string]bool{}
	if p.c.told != nil {
		// What was counted has been told when another request is answered: the server tells
		// at the end of each round of its work, after the replies of that round.
		if err := doing("asking the server for a reply", ctx, p.c, "PING"); err != nil {
			return nil, false, err
		}
		names, all = p.c.told.take()
	}
	if all || !known {
		if len(p.Keep) > 0 {
			names, err = p.everything(ctx)
		}
		return names, true, err
	}
	if has(begins("x")) {
		// Reading as a group, and acknowledging, is not told.
		for _, e := range p.start.file.Entries {
			if slices.Contains(streams, e.Type) {
				names[e.Key] = true
			}
		}
	}
	return names, false, nil
}

// streams are the types of streams in RDB files.
var streams = []byte{15, 19, 21}

// everything are the names of all keys, of the start state and of now.
func (p *putting) everything(ctx context.Context) (map[string]bool, error) {
	names := map[string]bool{}
	for name := range p.start.byName {
		names[name] = true
	}
	dbs, err := p.at.databasesOf(ctx, p.c)
	if err != nil {
		return nil, err
	}
	for _, db := range dbs {
		keys, err := p.at.keysOf(ctx, p.c, db)
		if err != nil {
			return nil, err
		}
		for _, k := range keys {
			names[k] = true
		}
	}
	return names, nil
}

// stays reports whether a key is to stay as it is.
func (p *putting) stays(name string) bool {
	// A slash is a letter like any other.
	flat := func(text string) string { return strings.ReplaceAll(text, "/", "\x00") }
	return slices.ContainsFunc(p.Keep, func(pattern string) bool {
		ok, err := path.Match(flat(pattern), flat(name))
		return ok && err == nil || pattern == name
	})
}

// byKeys puts back keys by their names, in every database, in one transaction that tells
// whether somebody wrote meanwhile: then it is done again, with what that one touched.
func (p *putting) byKeys(ctx context.Context, now counts, names map[string]bool) error {
	t := &tally{}
	for {
		dbs, err := p.databases(ctx)
		if err != nil {
			return err
		}
		epoch := p.epoch(ctx)
		f := p.fillKeys(names, dbs, epoch, t)
		before, after, items, err := p.transaction(ctx, f)
		if said := (resp.ReplyError)(""); errors.As(err, &said) && len(p.Keep) == 0 {
			p.report.Why = "the server refuses to put keys back one by one: " + string(said)
			return p.whole(ctx)
		}
		if err != nil {
			return err
		}
		t.count(items)
		undisturbed := before.equal(now) || p.at.One
		if undisturbed && after.blocked > 0 && !p.at.One { // who waited for a key may have taken what was put back
			if undisturbed, err = p.stable(ctx, after); err != nil {
				return err
			}
		}
		if undisturbed {
			return p.done(engine.Truncation, t, after, epoch)
		}
		if err := p.disturbed(ctx); err != nil {
			return err
		}
		if now, err = p.at.count(ctx, p.c, p.harmless); err != nil {
			return err
		}
		more, all, err := p.touched(ctx, now)
		if err != nil {
			return err
		}
		if all && len(p.Keep) == 0 {
			return p.whole(ctx)
		}
		maps.Copy(names, more)
	}
}

// stable reports whether nothing was done after something was counted, and nobody who
// waited for a key then has been given something.
func (p *putting) stable(ctx context.Context, after counts) (bool, error) {
	now, err := p.at.count(ctx, p.c, p.harmless)
	if err != nil {
		return false, err
	}
	// Who was given what was put back waits no more; nothing else tells of it.
	return now.equal(after) && now.blocked == after.blocked, nil
}

// databases are those in which keys may have to be put back or removed.
func (p *putting) databases(ctx context.Context) ([]int, error) {
	dbs, err := p.at.databasesOf(ctx, p.c)
	if err != nil {
		return nil, err
	}
	for _, db := range p.start.dbs {
		if !slices.Contains(dbs, db) {
			dbs = append(dbs, db)
		}
	}
	slices.Sort(dbs)
	return dbs, nil
}

// fillKeys has keys put back by their names.
func (p *putting) fillKeys(names map[string]bool, dbs []int, epoch int64, t *tally) *filler {
	f := p.at.filler()
	t.deleting = nil
	sorted := slices.DeleteFunc(slices.Sorted(maps.Keys(names)), func(name string) bool {
		stays := p.stays(name)
		t.kept = t.kept || stays
		return stays
	})
	// What goes makes room for what comes.
	for _, db := range dbs {
		var gone []string
		for _, name := range sorted {
			if p.start.entry(db, name) < 0 {
				gone = append(gone, name)
			}
		}
		for chunk := range slices.Chunk(gone, 200) {
			f.in(db)
			f.add(append([]string{"DEL"}, chunk...)...)
			t.deleting = append(t.deleting, deleting{db, len(f.ask) - 1})
		}
	}
	for _, db := range dbs {
		for _, name := range sorted {
			if i := p.start.entry(db, name); i >= 0 {
				f.restore(p.start, p.start.file.Entries[i], epoch)
				t.add(db, 0, 1)
			}
		}
	}
	if epoch != p.base.Epoch {
		f.expiring(p.start, epoch)
	}
	p.fillRest(f)
	return f
}

// fillRest has functions and scripts put back, where they may not be as they were.
func (p *putting) fillRest(f *filler) {
	if p.at.One { // they are everybody's, and tests may not change them
		return
	}
	if functions := p.start.file.FunctionPayload(); p.functions && functions != nil {
		f.add("FUNCTION", "RESTORE", string(functions), "FLUSH")
	} else if p.functions && p.at.atLeast(7, 0) {
		f.add("FUNCTION", "FLUSH")
	}
	if p.scripts {
		f.add("SCRIPT", "FLUSH")
		for _, text := range p.start.Scripts {
			f.add("SCRIPT", "LOAD", text)
		}
	}
}

// transaction does what a filler says while nobody else does anything, and tells what was
// counted at its begin and its end. items are the replies.
func (p *putting) transaction(ctx context.Context, f *filler) (before, after counts, items []resp.Value, err error) {
	info := p.at.askCounts()
	ask := slices.Concat([][]string{{"MULTI"}}, info, f.ask, info, [][]string{{"EXEC"}})
	all, err := p.c.all(ctx, ask)
	if err != nil {
		return before, after, nil, err
	}
	for i, v := range all {
		if err := firstError(v); err != nil {
			return before, after, nil, fmt.Errorf("putting keys back (%s): %w", ask[min(i, len(ask)-1)][0], err)
		}
	}
	done := all[len(all)-1].Items
	if len(done) != len(ask)-2 {
		return before, after, nil, errors.New("putting keys back: the server did not do all that it was asked")
	}
	before, err = p.harmless.countsIn(done[:len(info)])
	if err == nil {
		after, err = p.harmless.countsIn(done[len(done)-len(info):])
	}
	return before, after, done[len(info) : len(done)-len(info)], err
}

// whole puts back all keys: from the file that holds them, where the server can be had to
// read it, else by commands.
func (p *putting) whole(ctx context.Context) error {
	p.functions, p.scripts = true, true
	for {
		reloaded, expected, err := p.reload(ctx)
		if err != nil {
			return err
		}
		epoch, f := time.Now().UnixMilli(), p.at.filler()
		if p.at.One { // the server's machine may have another clock
			if epoch, err = serverTime(ctx, p.c); err != nil {
				return err
			}
		}
		if reloaded {
			f.expiring(p.start, epoch)
			p.functions = false // they are in the file
		} else {
			f.add(p.at.flush())
			f.whole(p.start, epoch)
		}
		p.fillRest(f)
		before, after, _, err := p.transaction(ctx, f)
		if err != nil {
			return err
		}
		undisturbed := !reloaded || before.equal(expected)
		if undisturbed && after.blocked > 0 && !p.at.One {
			undisturbed, err = p.stable(ctx, after)
		}
		if err == nil && undisturbed && p.c.told != nil {
			undisturbed, err = p.forget(ctx, after)
		}
		if err != nil {
			return err
		}
		if undisturbed {
			if p.report.Why == "" && p.Way != engine.Snapshot {
				p.report.Why = "all keys were put back"
			}
			return p.done(engine.Snapshot, nil, after, epoch)
		}
		if err := p.disturbed(ctx); err != nil {
			return err
		}
	}
}

// forget sets aside what was told of keys before all were put back; false where somebody
// has done something since.
func (p *putting) forget(ctx context.Context, after counts) (bool, error) {
	// Its reply comes after all that was to be told by then.
	now, err := p.at.count(ctx, p.c, p.harmless)
	p.c.told.take()
	p.c.told.since = after
	return now.equal(after), err
}

// reload has the server read the file of the start state, where that is within its reach,
// and tells what is then to be counted where nobody else does anything.
func (p *putting) reload(ctx context.Context) (done bool, expected counts, err error) {
	laid, release, err := p.server.layFile(ctx, p.database, p.Start)
	if err != nil || !laid {
		return false, expected, err
	}
	defer release()
	// Who waits for a key would not be told that it is there.
	if expected, err = p.at.count(ctx, p.c, p.harmless); err != nil || expected.blocked > 0 {
		return false, expected, err
	}
	_, err = p.c.do(ctx, "DEBUG", "RELOAD", "NOSAVE")
	if _, said := errors.AsType[resp.ReplyError](err); said {
		return false, expected, nil // by commands, then
	}
	expected.Calls["debug"]++
	return err == nil, expected, err
}

// tally counts the keys that are put back and removed, of each database.
type tally struct {
	rows     map[int]*engine.TableReport
	deleting []deleting
	kept     bool
}

// deleting is a command that removes keys, by its place among those of a transaction.
type deleting struct{ db, at int }

func (t *tally) add(db int, removed, putBack int64) {
	if removed+putBack == 0 {
		return
	}
	if t.rows == nil {
		t.rows = map[int]*engine.TableReport{}
	}
	if t.rows[db] == nil {
		t.rows[db] = &engine.TableReport{Name: "db" + strconv.Itoa(db)}
	}
	t.rows[db].Removed += removed
	t.rows[db].PutBack += putBack
}

// count adds what the replies of a transaction tell.
func (t *tally) count(items []resp.Value) {
	for _, d := range t.deleting {
		t.add(d.db, items[d.at].Int, 0)
	}
}

func (t *tally) tables() []engine.TableReport {
	all := []engine.TableReport{}
	for _, db := range slices.Sorted(maps.Keys(t.rows)) {
		all = append(all, *t.rows[db])
	}
	return all
}
