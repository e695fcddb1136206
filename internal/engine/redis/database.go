package redis

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"hemzo/internal/engine"
	"hemzo/internal/engine/redis/rdb"
	"hemzo/internal/engine/redis/resp"
	"hemzo/internal/fault"
)

// database is one copy, opened.
type database struct {
	server  holder
	entry   engine.Entry
	session engine.Session
	at      address

	hand     *conn // of Hemzo's account
	user     *conn // of the tests', for what users ask
	harmless harmless
	laid     laidFile
	// gathering says that the user's session is in MULTI.
	gathering bool
	states    map[string]*state
}

// Close ends the sessions.
func (d *database) Close() error { return errors.Join(leave(&d.hand), leave(&d.user)) }

func leave(c **conn) error {
	if *c == nil {
		return nil
	}
	err := (*c).Close()
	*c = nil
	return err
}

// admin is a session of Hemzo's account.
func (d *database) admin(ctx context.Context) (*conn, error) {
	if d.hand != nil {
		return d.hand, nil
	}
	c, err := d.at.dial(ctx)
	if err != nil {
		return nil, unreachable(d.at, err)
	}
	if d.harmless == nil {
		if d.harmless, err = d.at.askHarmless(ctx, c); err != nil {
			return nil, errors.Join(err, c.Close())
		}
	}
	d.hand = c
	return c, nil
}

// unreachable says why a server cannot be used.
func unreachable(a address, err error) error {
	at := net.JoinHostPort(a.Host, strconv.Itoa(a.Port))
	f := fault.New(fault.Lacking, "", "cannot connect to %s at %s", titleOf(a.Product), at)
	f.Reason = err
	if said, ok := errors.AsType[resp.ReplyError](err); ok {
		f.Said = string(said)
		return f
	}
	if op := new(net.OpError); errors.As(err, &op) {
		f.Said, f.Next = op.Err.Error(), "is the server running?"
	}
	return f
}

// stateOf reads a template or snapshot, once.
func (d *database) stateOf(ctx context.Context, id string) (*state, error) {
	if s, ok := d.states[id]; ok {
		return s, nil
	}
	s, err := d.server.state(ctx, id)
	if err == nil {
		d.states[id] = s
	}
	return s, err
}

// useless are commands that do nothing in a source, or never end.
var useless = []string{"SUBSCRIBE", "PSUBSCRIBE", "SSUBSCRIBE", "MONITOR", "QUIT", "RESET", "HELLO", "AUTH", "SYNC",
	"PSYNC", "CLIENT"}

// together bounds how many commands of a script are under way at once.
const together = 512

// Apply runs a script, with the rights of tests. What fails in the middle stays half done,
// and is thrown away with the work.
func (d *database) Apply(ctx context.Context, s engine.Script) error {
	if isRDB(s.Text) || strings.EqualFold(filepath.Ext(s.File), ".rdb") {
		return d.load(ctx, s)
	}
	c, err := d.at.dialAsTests(ctx)
	if err != nil {
		return unreachable(d.at, err)
	}
	defer c.Close()
	var batch []command
	for one, wrong := range commands(s.Text) {
		if wrong == nil && slices.Contains(useless, strings.ToUpper(one.words[0])) {
			wrong = &problem{one.at, one.words[0] + " has no meaning in a source"}
		}
		if wrong != nil {
			if err := d.run(ctx, c, s, batch); err != nil {
				return err
			}
			return s.Locate(wrong.at, fault.New(fault.StepFailed, "", "%s", wrong.what))
		}
		if batch = append(batch, one); len(batch) == together {
			if err := d.run(ctx, c, s, batch); err != nil {
				return err
			}
			batch = batch[:0]
		}
	}
	if err := d.run(ctx, c, s, batch); err != nil {
		return err
	}
	return d.noteScripts(ctx, s)
}

func (d *database) run(ctx context.Context, c *conn, s engine.Script, batch []command) error {
	ask := make([][]string, len(batch))
	for i, one := range batch {
		ask[i] = one.words
	}
	all, err := c.all(ctx, ask)
	if err != nil {
		return err
	}
	multi := 0
	for i, v := range all {
		if strings.EqualFold(batch[i].words[0], "MULTI") {
			multi = i
		}
		if err := v.Failed(); err != nil {
			return refused(s, batch[i], err)
		}
		// What was gathered is answered by EXEC, each in its turn.
		for j, item := range v.Items {
			if said := firstError(item); said != nil && strings.EqualFold(batch[i].words[0], "EXEC") {
				return refused(s, batch[min(multi+1+j, i)], said)
			}
		}
	}
	return nil
}

// firstError is the error that a reply is, or that stands in what EXEC answers.
func firstError(v resp.Value) error {
	if err := v.Failed(); err != nil {
		return err
	}
	for _, item := range v.Items {
		if err := firstError(item); err != nil {
			return err
		}
	}
	return nil
}

// refused places the server's message in the file that the command came from.
func refused(s engine.Script, one command, said error) error {
	e := fault.New(fault.StepFailed, "", "the server refuses this")
	e.Said, e.Reason = said.Error(), said
	line := fmt.Sprintf("%q", one.words)
	e.Lines = fault.Excerpt(strings.Trim(line, "[]"))
	if strings.HasPrefix(said.Error(), "NOPERM") {
		e.Next = "take it out: it is about the server; what is to be set there stands under  settings:"
	}
	return s.Locate(one.at, e)
}

// noteScripts remembers the scripts that a source put into the server's cache: no file of
// the server's holds them.
func (d *database) noteScripts(ctx context.Context, s engine.Script) error {
	var texts []string
	for one, wrong := range commands(s.Text) {
		if wrong == nil && len(one.words) == 3 && strings.EqualFold(one.words[0], "SCRIPT") &&
			strings.EqualFold(one.words[1], "LOAD") && !slices.Contains(d.at.Scripts, one.words[2]) {
			texts = append(texts, one.words[2])
		}
	}
	if texts == nil {
		return nil
	}
	d.at.Scripts = append(d.at.Scripts, texts...)
	return d.server.relocate(ctx, d.entry.ID, func(a *address) { a.Scripts = d.at.Scripts })
}

// load puts the keys of an RDB file into the server.
func (d *database) load(ctx context.Context, s engine.Script) error {
	bad := func(err error) error {
		e := fault.New(fault.StepFailed, "", "the RDB file cannot be read")
		e.Where, e.Said, e.Reason = fault.Position{File: s.File}, err.Error(), err
		return e
	}
	file, err := rdb.ReadAll(strings.NewReader(s.Text))
	if err != nil {
		return bad(err)
	}
	c, err := d.admin(ctx)
	if err != nil {
		return err
	}
	now, err := serverTime(ctx, c)
	if err != nil {
		return err
	}
	f := d.at.filler()
	if functions := file.FunctionPayload(); functions != nil && !d.at.One {
		f.add("FUNCTION", "RESTORE", string(functions))
	}
	for _, e := range file.Entries {
		if e.Expires != 0 && e.Expires <= now { // as the server itself would
			continue
		}
		f.in(e.DB)
		f.add("RESTORE", e.Key, strconv.FormatInt(e.Expires, 10), string(file.Payload(e)), "ABSTTL")
	}
	all, err := c.all(ctx, f.ask)
	if err != nil {
		return err
	}
	for i, v := range all {
		if err := v.Failed(); err != nil {
			return d.notRestored(s, f.ask[i], err, file)
		}
	}
	return nil
}

func (d *database) notRestored(s engine.Script, ask []string, said error, file *rdb.File) error {
	e := fault.New(fault.StepFailed, "", "the server refuses what the RDB file holds")
	if ask[0] == "RESTORE" {
		e.What = fmt.Sprintf("the server refuses the key %q of the RDB file", ask[1])
	}
	e.Where, e.Said, e.Reason = fault.Position{File: s.File}, said.Error(), said
	switch {
	case strings.HasPrefix(said.Error(), "BUSYKEY"):
		e.Next = "a step before this one made the key: leave it out of one of them"
	case strings.Contains(said.Error(), "version or checksum"):
		e.Next = fmt.Sprintf("the file is of version %d of the format: use a server that is no older than the one that "+
			"wrote it (this is %s %s)", file.Version, titleOf(d.at.Product), d.at.Version)
	}
	return e
}

// Load refuses rows.
func (d *database) Load(_ context.Context, t engine.Table) error {
	return fault.New(fault.Usage, "write commands, as in  data: keys.redis", "redis has no tables: %s", t.File)
}

// Query runs commands and passes their replies on.
func (d *database) Query(ctx context.Context, text string, out engine.Sink) error {
	if d.user == nil {
		c, err := d.at.dialAsTests(ctx)
		if err != nil {
			return unreachable(d.at, err)
		}
		d.user = c
	}
	s := engine.Script{Text: text, First: 1}
	open := d.gathering
	for one, wrong := range commands(text) {
		if wrong != nil {
			return s.Locate(wrong.at, fault.New(fault.Failed, "", "%s", wrong.what))
		}
		word := strings.ToUpper(one.words[0])
		if slices.Contains(useless[:4], word) {
			return s.Locate(one.at, fault.New(fault.Usage, "use the server's own program", "%s never ends", word))
		}
		v, err := d.user.do(ctx, one.words...)
		if errors.Is(err, errBroken) {
			_ = leave(&d.user)
			d.gathering = false
		}
		if err != nil {
			err = refused(s, one, err)
			if e, ok := errors.AsType[*fault.Error](err); ok {
				e.Kind = fault.Failed
			}
			return err
		}
		if open = word == "MULTI" || open && word != "EXEC" && word != "DISCARD"; open && word != "MULTI" {
			continue
		}
		if err := pass(v, out); err != nil {
			return err
		}
	}
	d.gathering = open
	if out.Open != nil {
		out.Open(open)
	}
	return nil
}

// pass hands a reply on: a row each element, or a row each pair.
func pass(v resp.Value, out engine.Sink) error {
	names, rows := []string{"reply"}, [][]any{{plain(v)}}
	switch v.Kind {
	case resp.Array:
		rows = nil
		for _, item := range v.Items {
			rows = append(rows, []any{plain(item)})
		}
	case resp.Map:
		names, rows = []string{"field", "value"}, nil
		for i := 0; i+1 < len(v.Items); i += 2 {
			rows = append(rows, []any{plain(v.Items[i]), plain(v.Items[i+1])})
		}
	}
	if out.Columns != nil {
		if err := out.Columns(names); err != nil {
			return err
		}
	}
	for _, row := range rows {
		if out.Row == nil {
			break
		}
		if err := out.Row(row); err != nil {
			return err
		}
	}
	return nil
}

// plain is a reply as a value of a row; one within another in brackets.
func plain(v resp.Value) any {
	switch v.Kind {
	case resp.Null:
		return nil
	case resp.Integer:
		return v.Int
	case resp.Array, resp.Map, resp.Push:
		var parts []string
		for _, item := range v.Items {
			parts = append(parts, fmt.Sprint(plain(item)))
		}
		return "[" + strings.Join(parts, " ") + "]"
	}
	return v.Text
}

// Snapshot keeps the present state.
func (d *database) Snapshot(ctx context.Context, to string, facts engine.Facts) (json.RawMessage, error) {
	return nil, d.server.Copy(ctx, d.entry.ID, to, facts)
}
