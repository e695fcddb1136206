package redis

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"hemzo/internal/engine"
	"hemzo/internal/engine/redis/resp"
	"hemzo/internal/fault"
)

// putting is one reset under way.
type putting struct {
	*database
	engine.Reset
	c      *conn
	start  *state
	base   counts // when the copy was as it is to be; without Life where that is not known
	report *engine.Report
	until  time.Time // so long who writes meanwhile is waited for

	functions, scripts bool // they may not be as they were
}

// Reset puts the server back to its start state, while clients stay connected. What nobody
// touched is left alone: the server counts each command that is called, and tells a session
// that asks for it of each key that is changed.
func (d *database) Reset(ctx context.Context, r engine.Reset) (*engine.Report, error) {
	if r.Way == engine.Rollback {
		return nil, fault.New(fault.Lacking, "leave out  reset:, or write  reset: truncation, which puts back the keys that "+
			"were touched", "redis has no rollback: MULTI gathers commands, and takes none back")
	}
	p := &putting{database: d, Reset: r, report: &engine.Report{Unit: "key", Tables: []engine.TableReport{}},
		until: time.Now().Add(d.session.Wait)}
	now, err := p.look(ctx)
	if err != nil {
		return p.unanswered(ctx, err)
	}
	if now.equal(p.base) && r.Way != engine.Snapshot && !p.due(ctx) {
		return p.report, nil
	}
	if p.start, err = d.stateOf(ctx, r.Start); err != nil {
		return nil, err
	}
	if command := p.administered(now); command != "" {
		return p.renew(ctx, command+" was called, which is about the server itself")
	}
	err = p.putBack(ctx, now)
	if err != nil && p.c.told != nil { // what was told may not have been put back
		p.c.told.lose()
	}
	if errors.Is(err, errBroken) && ctx.Err() == nil {
		return p.renew(ctx, "its server ended meanwhile")
	}
	if err != nil {
		return nil, err
	}
	return p.report, nil
}

// patient is how long an answer is waited for at least.
const patient = 2 * time.Second

// unanswered says why a server does not tell what it counts, or starts another in its place.
func (p *putting) unanswered(ctx context.Context, err error) (*engine.Report, error) {
	_ = p.Close()
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	said, answered := errors.AsType[resp.ReplyError](err)
	busy := said.Code() == "BUSY" || errors.Is(err, context.DeadlineExceeded)
	switch {
	case busy && p.session.Force:
		return p.renew(ctx, "a script or another command ran on")
	case busy:
		return nil, engine.InTheWay(nil, max(p.session.Wait, patient), "wait until it has ended, or have the server started "+
			"anew with  --force", "a script or another command runs on, and the server answers nobody")
	case answered:
		return nil, unreachable(p.at, said)
	}
	return p.renew(ctx, "its server had ended")
}

// look asks what was counted up to now, and since when.
func (p *putting) look(ctx context.Context) (now counts, err error) {
	ctx, stop := context.WithTimeout(ctx, max(p.session.Wait, patient))
	defer stop()
	for range 2 { // the session may have been ended since the last reset
		if p.c, err = p.admin(ctx); err != nil {
			return now, err
		}
		if now, err = p.at.count(ctx, p.c, p.harmless); !errors.Is(err, errBroken) {
			break
		}
		_ = p.Close()
	}
	if err != nil {
		return now, err
	}
	base, ok := readCounts(p.Baseline)
	if !ok && p.at.Began == p.Start && p.Last == p.Start {
		base, ok = p.at.Counts, true
	}
	if ok && base.Life == now.Life && !p.at.One { // what others do is counted too
		p.base = base
	}
	return now, nil
}

// renewAfter is what part of the shortest span of time may have gone by, after which all begin
// anew: so each test has nine tenths of it.
const renewAfter = 10

// due reports whether spans of time are to begin anew.
func (p *putting) due(ctx context.Context) bool {
	s, known := p.states[p.Start]
	if !known {
		a, err := p.server.aboutState(ctx, p.Start)
		if err != nil || a.Expiring == 0 {
			return false
		}
		if s, err = p.stateOf(ctx, p.Start); err != nil {
			return false
		}
	}
	return s.shortest > 0 && time.Since(time.UnixMilli(p.base.Epoch)) > s.shortest/renewAfter
}

// epoch is when spans of time began to run: now, where they are to begin anew.
func (p *putting) epoch(ctx context.Context) int64 {
	if p.base.Epoch == 0 || p.due(ctx) {
		return time.Now().UnixMilli()
	}
	return p.base.Epoch
}

// aboutServer are commands that change the server itself: tests have no right to them
// unless the project file gives it.
var aboutServer = []string{"acl", "replicaof", "slaveof", "module", "failover", "cluster", "bgrewriteaof", "bgsave",
	"shutdown", "config"}

// administered is such a command, where one was called; "" else.
func (p *putting) administered(now counts) string {
	if !p.at.Unlimited {
		return ""
	}
	base := p.base
	if base.Life == "" {
		base = p.at.Counts
	}
	for _, name := range now.more(base) {
		command, part, _ := strings.Cut(name, "|")
		// Before Redis 7.0 all parts of a command are counted as one.
		if slices.Contains(aboutServer, command) && (command != "config" || part != "") {
			return strings.ToUpper(strings.ReplaceAll(name, "|", " "))
		}
	}
	return ""
}

// wholesale are commands after which single keys are not told.
var wholesale = []string{"flushall", "flushdb", "swapdb", "debug", "pfdebug", "migrate", "restore-asking"}

// putBack puts back the keys that were touched, or all.
func (p *putting) putBack(ctx context.Context, now counts) error {
	if p.c.told == nil && !p.at.One { // of other databases it would be told too
		if err := p.watchKeys(ctx, p.c); err != nil {
			return err
		}
	}
	told := p.c.told != nil && p.base.Life != "" && p.base.after(p.c.told.since)
	if p.Way == engine.Snapshot || !told && len(p.Keep) == 0 {
		return p.whole(ctx)
	}
	names, all, err := p.touched(ctx, now)
	if err != nil {
		return err
	}
	if all = all || len(names) > 64+p.start.Keys/16; all && len(p.Keep) == 0 {
		return p.whole(ctx)
	}
	return p.byKeys(ctx, now, names)
}

// renew starts the server anew, from the start state.
func (p *putting) renew(ctx context.Context, why string) (*engine.Report, error) {
	if p.InPlace {
		return nil, fault.New(fault.Failed, "leave out  --in-place", "the copy cannot be put back while clients stay "+
			"connected: %s", why)
	}
	_ = p.Close()
	if p.Begin != nil {
		if err := p.Begin(); err != nil {
			return nil, err
		}
	}
	at, err := p.server.renew(ctx, p.entry.ID, p.Start)
	if err != nil {
		return nil, fmt.Errorf("starting the server of a copy anew: %w", err)
	}
	p.database.at = at
	p.report.Way, p.report.Why, p.report.Reconnect = engine.Snapshot, why+": it was started anew", true
	p.report.Baseline = p.database.at.Counts.json()
	return p.report, nil
}

// disturbed waits a moment where somebody wrote during a reset, or ends who is connected
// where that was asked for. After the time for it, it is an error.
func (p *putting) disturbed(ctx context.Context) error {
	all, err := clientsOf(ctx, p.c)
	if err != nil {
		return err
	}
	if p.session.Force && len(all) > 0 {
		if p.session.Ended != nil {
			p.session.Ended()
		}
		return killAll(ctx, p.c, all)
	}
	if time.Now().After(p.until) {
		all = slices.DeleteFunc(all, func(c engine.Client) bool { return c.State == "subscribed" })
		return engine.InTheWay(all, p.session.Wait, "stop what writes, or have its connections ended with  --force",
			"clients change keys while they are put back")
	}
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(time.Millisecond):
		return nil
	}
}

// killAll ends the sessions of clients.
func killAll(ctx context.Context, c *conn, all []engine.Client) error {
	var ask [][]string
	for _, x := range all {
		ask = append(ask, []string{"CLIENT", "KILL", "ID", fmt.Sprint(x.PID)})
	}
	_, err := c.all(ctx, ask) // one that has gone is no error
	return err
}

// done says what a reset did, and what it is to be compared with from now on.
func (p *putting) done(way engine.Way, t *tally, after counts, epoch int64) error {
	after.Epoch = epoch
	p.report.Way, p.report.Baseline = way, after.json()
	if t != nil {
		p.report.Tables = t.tables()
		if t.kept {
			p.report.Kept = p.Keep
		}
	}
	p.report.Later = func(context.Context) (json.RawMessage, error) { return after.json(), nil }
	return nil
}

// watchKeys has the server tell of keys from now on.
func (d *database) watchKeys(ctx context.Context, c *conn) error {
	if err := c.track(ctx); err != nil {
		return err
	}
	since, err := d.at.count(ctx, c, d.harmless)
	c.told.since = since
	return err
}
