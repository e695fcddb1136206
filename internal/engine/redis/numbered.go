package redis

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"hemzo/internal/engine"
	"hemzo/internal/engine/sessionlock"
	"hemzo/internal/fault"
	"hemzo/internal/turn"
)

// numbered is a server that is there already: each copy is one of its numbered databases. In
// one of them, which no test can choose, Hemzo notes
//
//	hemzo:facts      the facts of each, by its id
//	hemzo:places     whose each database is
//	hemzo:locks      the session that holds each lock
//	hemzo:data:ID    a template's RDB file, hemzo:about:ID what is known beside it
type numbered struct {
	about    engine.About
	at       address // of the notes
	count    int     // of databases
	patience engine.Patience
	locks    *sessionlock.Locks[*conn]

	turn turn.Turn // for what follows
	conn *conn
	name string // of the session, another one at each
}

const (
	factsKey  = "hemzo:facts"
	placesKey = "hemzo:places"
	locksKey  = "hemzo:locks"
	dataKey   = "hemzo:data:"
	aboutKey  = "hemzo:about:"
)

func newNumbered(a address, p engine.Patience) *numbered {
	s := &numbered{at: a, patience: p, turn: turn.New()}
	s.about = engine.About{Engine: Engine{}.Name(), Address: net.JoinHostPort(a.Host, strconv.Itoa(a.Port)), InPlace: true}
	s.locks = sessionlock.New(sessionlock.Session[*conn]{
		With: s.ask,
		Last: func(ctx context.Context, work func(context.Context, *conn)) {
			if s.turn.Take(ctx) == nil {
				defer s.turn.Give()
				work(ctx, s.conn)
			}
		},
		Take: s.takeLock,
		Free: func(ctx context.Context, c *conn, name string) {
			if c != nil {
				_, _ = c.do(ctx, "EVAL", freeing, "1", locksKey, name, s.name)
			}
		},
		Ping: func(ctx context.Context, c *conn) error { _, err := c.do(ctx, "PING"); return err },
	})
	return s
}

// takeLock takes a lock that nobody holds, or that was held by a session that has ended.
func (s *numbered) takeLock(ctx context.Context, c *conn, name string) (bool, error) {
	v, err := c.do(ctx, "HSETNX", locksKey, name, s.name)
	if err != nil || v.Int == 1 {
		return v.Int == 1, err
	}
	if v, err = c.do(ctx, "HGET", locksKey, name); err != nil || v.Text == s.name {
		return err == nil, err
	}
	holder := v.Text
	living, err := sessionsOf(ctx, c)
	if err != nil || living[holder] {
		return false, err
	}
	v, err = c.do(ctx, "EVAL", "if redis.call('HGET', KEYS[1], ARGV[1]) == ARGV[2] then redis.call('HSET', KEYS[1], "+
		"ARGV[1], ARGV[3]) return 1 end return 0", "1", locksKey, name, holder, s.name)
	return v.Int == 1, err
}

// sessionsOf are the names of the sessions of a server.
func sessionsOf(ctx context.Context, c *conn) (map[string]bool, error) {
	v, err := c.do(ctx, "CLIENT", "LIST")
	living := map[string]bool{}
	for line := range strings.Lines(v.Text) {
		_, rest, _ := strings.Cut(line, " name=")
		name, _, _ := strings.Cut(rest, " ")
		living[name] = true
	}
	return living, err
}

// ask runs something on the server's own session, once more where that was broken.
func (s *numbered) ask(ctx context.Context, f func(context.Context, *conn) error) error {
	if err := s.turn.Take(ctx); err != nil {
		return err
	}
	defer s.turn.Give()
	for tries := 0; ; tries++ {
		if s.conn == nil {
			if err := s.connect(ctx); err != nil {
				return err
			}
		}
		// What it asks is short, and its locks would go with it: it is not broken off.
		short, stop := context.WithTimeout(context.WithoutCancel(ctx), 30*time.Second)
		err := f(short, s.conn)
		stop()
		if !errors.Is(err, errBroken) && !errors.Is(err, context.DeadlineExceeded) {
			return err
		}
		_ = s.conn.Close()
		s.conn = nil
		s.locks.Lost()
		if tries > 0 || ctx.Err() != nil {
			return err
		}
	}
}

func (s *numbered) connect(ctx context.Context) error {
	c, err := s.at.dial(ctx)
	if err != nil {
		return notLetIn(s.at, err)
	}
	name := "hemzo-" + rand.Text()
	err = doing("naming a session", ctx, c, "CLIENT", "SETNAME", name)
	if err == nil {
		err = s.at.choose(ctx, c, 0)
	}
	if err != nil {
		return errors.Join(err, c.Close())
	}
	s.conn, s.name = c, name
	s.locks.Reacquire(ctx, c)
	return nil
}

// Lock takes a lock of the server's own session.
func (s *numbered) Lock(ctx context.Context, name string, waiting func()) (func(), error) {
	return s.locks.Lock(ctx, name, waiting)
}

// Own takes a lock that lives as long as this process.
func (s *numbered) Own(ctx context.Context) (string, func(), error) { return s.locks.Own(ctx) }

// Owned reports whether some process holds a lock.
func (s *numbered) Owned(ctx context.Context, lock string) bool {
	held := true // what cannot be asked is not taken for gone
	_ = s.ask(ctx, func(ctx context.Context, c *conn) error {
		v, err := c.do(ctx, "HGET", locksKey, lock)
		if err != nil {
			return err
		}
		living, err := sessionsOf(ctx, c)
		if err == nil {
			held = living[v.Text] && v.Text != ""
		}
		return err
	})
	return held
}

// About describes the server.
func (s *numbered) About() engine.About { return s.about }

func (s *numbered) locate(e engine.Entry) address { return s.locateFacts(e.ID, e.Facts) }

func (s *numbered) locateFacts(id string, f engine.Facts) address {
	var a address
	_ = json.Unmarshal(f.Private, &a) // as claim wrote it
	a.Host, a.Port, a.Login, a.Admin, a.One = s.at.Host, s.at.Port, s.at.Login, s.at.Admin, true
	a.Product, a.Version = s.at.Product, s.at.Version
	return a
}

func (s *numbered) relocate(ctx context.Context, id string, change func(*address)) error {
	return s.UpdateFacts(ctx, id, func(f *engine.Facts) {
		var a address
		_ = json.Unmarshal(f.Private, &a) // likewise
		change(&a)
		f.Private, _ = json.Marshal(a) // of texts and numbers
	})
}

// Connection tells how a copy is reached.
func (s *numbered) Connection(id string, facts engine.Facts) engine.Connection {
	return s.locateFacts(id, facts).connection()
}

func entryOf(id, facts string) (e engine.Entry, ours bool) {
	e.ID = id
	if e.Kind, ours = engine.KindOf(id); !ours {
		return e, false
	}
	e.Bad = json.Unmarshal([]byte(facts), &e.Facts) != nil || !e.Facts.Sound()
	e.Newer, e.Size = e.Facts.Format > engine.Format, e.Facts.Size
	return e, true
}

// List returns all of some kinds, or of every one, that has facts.
func (s *numbered) List(ctx context.Context, kinds ...engine.Kind) (all []engine.Entry, err error) {
	err = s.ask(ctx, func(ctx context.Context, c *conn) error {
		v, err := c.do(ctx, "HGETALL", factsKey)
		all = nil
		for i := 0; i+1 < len(v.Items); i += 2 {
			if e, ours := entryOf(v.Items[i].Text, v.Items[i+1].Text); ours && e.Kind.In(kinds) {
				all = append(all, e)
			}
		}
		return err
	})
	return all, err
}

// Find returns one.
func (s *numbered) Find(ctx context.Context, id string) (e engine.Entry, err error) {
	if _, ours := engine.KindOf(id); !ours {
		return e, engine.ErrNotFound
	}
	err = s.ask(ctx, func(ctx context.Context, c *conn) error {
		v, err := c.do(ctx, "HGET", factsKey, id)
		if err == nil && v.Text == "" {
			err = engine.ErrNotFound
		}
		e, _ = entryOf(id, v.Text)
		return err
	})
	return e, err
}

// UpdateFacts changes the facts of one, while nobody else does.
func (s *numbered) UpdateFacts(ctx context.Context, id string, change func(*engine.Facts)) error {
	for {
		var done bool
		err := s.ask(ctx, func(ctx context.Context, c *conn) error {
			v, err := c.do(ctx, "HGET", factsKey, id)
			if err == nil && v.Text == "" {
				err = engine.ErrNotFound
			}
			if err != nil {
				return err
			}
			e, _ := entryOf(id, v.Text)
			f, err := e.Change(change)
			if err != nil {
				return err
			}
			b, err := json.Marshal(f)
			if err != nil {
				return err
			}
			v, err = c.do(ctx, "EVAL", "if redis.call('HGET', KEYS[1], ARGV[1]) == ARGV[2] then redis.call('HSET', KEYS[1], "+
				"ARGV[1], ARGV[3]) return 1 end return 0", "1", factsKey, id, v.Text, string(b))
			done = v.Int == 1
			return err
		})
		if err != nil || done {
			return err
		}
	}
}

// claiming takes an empty database that nobody has, and notes the facts of who has it.
const claiming = `
for n = 0, tonumber(ARGV[1]) - 1 do
  if n > 0 and n ~= tonumber(ARGV[2]) and redis.call('HSETNX', KEYS[1], n, ARGV[3]) == 1 then
    redis.call('SELECT', n)
    local empty = redis.call('DBSIZE') == 0
    redis.call('SELECT', ARGV[2])
    if empty then
      redis.call('HSET', KEYS[2], ARGV[3], ARGV[4])
      return n
    end
    redis.call('HDEL', KEYS[1], n)
  end
end
return -1`

// claim takes a database for a copy, with an account of its own.
func (s *numbered) claim(ctx context.Context, id string, facts engine.Facts) (a address, err error) {
	facts.Private = nil
	b, err := json.Marshal(facts)
	if err != nil {
		return a, err
	}
	err = s.ask(ctx, func(ctx context.Context, c *conn) error {
		v, err := c.do(ctx, "EVAL", claiming, "2", placesKey, factsKey, strconv.Itoa(s.count), strconv.Itoa(s.at.First), id,
			string(b))
		if err != nil {
			return fmt.Errorf("taking a database: %w", err)
		}
		if v.Int < 0 {
			return fault.New(fault.Lacking, "drop copies, or raise  databases  in the server's settings",
				"all %d databases of the server at %s are in use", s.count, s.about.Address)
		}
		a.First = int(v.Int)
		a.Account, a.Password = id, rand.Text()
		return doing("making an account", ctx, c, append([]string{"ACL", "SETUSER", id}, s.rightsIn(a)...)...)
	})
	if err != nil {
		return a, err
	}
	err = s.relocate(ctx, id, func(known *address) { *known = a })
	return s.locateFacts(id, engine.Facts{Private: addressJSON(a)}), err
}

func addressJSON(a address) json.RawMessage {
	b, _ := json.Marshal(a) // of texts and numbers
	return b
}

// rightsIn are the rights of tests in one database: they do not leave it, and change nothing
// that is everybody's.
func (s *numbered) rightsIn(a address) []string {
	rights := []string{"reset", "on", fmt.Sprintf("#%x", sha256.Sum256([]byte(a.Password))), "~*"}
	if s.at.atLeast(6, 2) {
		rights = append(rights, "&*")
	}
	rights = append(rights, "+@all", "-@admin", "-debug", "-migrate", "-restore-asking", "-pfdebug", "-flushall",
		"-swapdb", "-move", "-select", "+select|"+strconv.Itoa(a.First), "-script", "+script|load", "+script|exists",
		"+client|id", "+client|getname", "+client|setname", "+client|reply")
	if s.at.atLeast(6, 2) {
		rights = append(rights, "-copy")
	}
	if s.at.atLeast(7, 0) {
		rights = append(rights, "-function")
	}
	if s.at.atLeast(7, 2) {
		rights = append(rights, "+client|setinfo")
	}
	return rights
}

// Create makes an empty database.
func (s *numbered) Create(ctx context.Context, id string, _ engine.Spec, facts engine.Facts) error {
	_, err := s.claim(ctx, id, facts)
	return s.orDrop(ctx, id, err)
}

// orDrop removes what could not be made whole.
func (s *numbered) orDrop(ctx context.Context, id string, err error) error {
	if err != nil {
		return errors.Join(err, s.Drop(context.WithoutCancel(ctx), id))
	}
	return nil
}

// Copy makes a copy, a template or a snapshot.
func (s *numbered) Copy(ctx context.Context, from, to string, facts engine.Facts) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	e, err := s.Find(ctx, from)
	if err != nil {
		return err
	}
	kind, _ := engine.KindOf(to)
	fromCopy := e.Kind == engine.Copy || e.Kind == engine.Work
	if kind == engine.Template || kind == engine.Kept {
		return s.keep(ctx, e, to, facts)
	}
	var st *state
	if fromCopy {
		st, _, err = s.save(ctx, e)
	} else {
		st, err = s.state(ctx, from)
	}
	if err != nil {
		return err
	}
	a, err := s.claim(ctx, to, facts)
	if err == nil {
		err = s.fill(ctx, to, a, st, from)
	}
	return s.orDrop(ctx, to, err)
}

// fill puts the keys of a state into a copy's database.
func (s *numbered) fill(ctx context.Context, id string, a address, st *state, from string) error {
	c, err := a.dial(ctx)
	if err != nil {
		return unreachable(a, err)
	}
	defer c.Close()
	epoch, err := serverTime(ctx, c)
	if err != nil {
		return err
	}
	f := a.filler()
	f.whole(st, epoch)
	if err := f.run(ctx, c); err != nil {
		return err
	}
	now, err := a.count(ctx, c, harmless{})
	if err != nil {
		return err
	}
	return s.relocate(ctx, id, func(known *address) {
		known.Began, known.Counts = from, counts{Life: now.Life, Epoch: epoch}
	})
}

// save reads what a copy holds.
func (s *numbered) save(ctx context.Context, e engine.Entry) (st *state, data []byte, err error) {
	dir, err := os.MkdirTemp("", "hemzo-")
	if err != nil {
		return nil, nil, err
	}
	defer os.RemoveAll(dir)
	if err := s.locate(e).save(ctx, dir); err != nil {
		return nil, nil, err
	}
	if data, err = os.ReadFile(filepath.Join(dir, dataFile)); err != nil {
		return nil, nil, err
	}
	a, err := readAbout(dir)
	if err != nil {
		return nil, nil, err
	}
	st, err = newState(a, bytes.NewReader(data))
	return st, data, err
}

// keep makes a template or snapshot, in one step.
func (s *numbered) keep(ctx context.Context, e engine.Entry, to string, facts engine.Facts) error {
	st, data, err := s.save(ctx, e)
	if err != nil {
		return err
	}
	facts.Private, facts.Size = nil, int64(len(data))
	b, err := json.Marshal(facts)
	if err != nil {
		return err
	}
	known, err := json.Marshal(st.about)
	if err != nil {
		return err
	}
	return s.ask(ctx, func(ctx context.Context, c *conn) error {
		return atOnce(ctx, c, []string{"SET", dataKey + to, string(data)}, []string{"SET", aboutKey + to, string(known)},
			[]string{"HSET", factsKey, to, string(b)})
	})
}

// atOnce has a server do all of some commands, or none.
func atOnce(ctx context.Context, c *conn, commands ...[]string) error {
	all, err := c.all(ctx, slices.Concat([][]string{{"MULTI"}}, commands, [][]string{{"EXEC"}}))
	for _, v := range all {
		err = errors.Join(err, firstError(v))
	}
	return err
}

// Rename makes finished work a template.
func (s *numbered) Rename(ctx context.Context, from, to string, facts engine.Facts) error {
	if err := s.Copy(ctx, from, to, facts); err != nil {
		return err
	}
	return s.Drop(ctx, from)
}

// Drop removes one, and ends who is connected to it. Its facts go last.
func (s *numbered) Drop(ctx context.Context, id string) error {
	kind, ok := engine.KindOf(id)
	if !ok {
		return fault.New(fault.Refused, "", "%s does not bear Hemzo's mark", id)
	}
	if kind == engine.Template || kind == engine.Kept {
		return s.ask(ctx, func(ctx context.Context, c *conn) error {
			return atOnce(ctx, c, []string{"DEL", dataKey + id, aboutKey + id}, []string{"HDEL", factsKey, id})
		})
	}
	if err := s.removeAccount(ctx, id); err != nil {
		return err
	}
	// While nobody else gets the database.
	return s.ask(ctx, func(ctx context.Context, c *conn) error {
		_, err := c.do(ctx, "EVAL", `
local all = redis.call('HGETALL', KEYS[1])
for i = 1, #all, 2 do
  if all[i + 1] == ARGV[1] then
    redis.call('SELECT', all[i])
    redis.call('FLUSHDB')
    redis.call('SELECT', ARGV[2])
    redis.call('HDEL', KEYS[1], all[i])
  end
end
return redis.call('HDEL', KEYS[2], ARGV[1])`, "2", placesKey, factsKey, id, strconv.Itoa(s.at.First))
		return err
	})
}

func (s *numbered) removeAccount(ctx context.Context, id string) error {
	return s.ask(ctx, func(ctx context.Context, c *conn) error {
		if err := doing("removing an account", ctx, c, "ACL", "DELUSER", id); err != nil {
			return err
		}
		all, err := clientsOf(ctx, c) // before Redis 7.0 its sessions stay
		if err != nil {
			return err
		}
		return killAll(ctx, c, slices.DeleteFunc(all, func(x engine.Client) bool { return x.User != id }))
	})
}

// Clients lists who is connected to a copy, or to any.
func (s *numbered) Clients(ctx context.Context, id string) (all []engine.Client, err error) {
	err = s.ask(ctx, func(ctx context.Context, c *conn) error {
		some, err := clientsOf(ctx, c)
		all = slices.DeleteFunc(some, func(x engine.Client) bool {
			kind, ours := engine.KindOf(x.User)
			return !ours || kind != engine.Copy || id != "" && x.User != id
		})
		return err
	})
	return all, err
}

// Shared reports that the server is somebody else's.
func (s *numbered) Shared(ctx context.Context) (now time.Time, shared bool, err error) {
	err = s.ask(ctx, func(ctx context.Context, c *conn) error {
		ms, err := serverTime(ctx, c)
		now = time.UnixMilli(ms).UTC()
		return err
	})
	return now, true, err
}

// Clear removes work whose maker is gone.
func (s *numbered) Clear(ctx context.Context) error {
	all, err := s.List(ctx, engine.Work)
	for _, e := range all {
		if !e.Newer && !s.Owned(ctx, e.Facts.Owner.Lock) {
			err = errors.Join(err, s.Drop(ctx, e.ID))
		}
	}
	return errors.Join(err, s.ask(ctx, s.freeLocks))
}

// freeLocks removes the locks of sessions that have ended.
func (s *numbered) freeLocks(ctx context.Context, c *conn) error {
	v, err := c.do(ctx, "HGETALL", locksKey)
	if err != nil || len(v.Items) == 0 {
		return err
	}
	living, err := sessionsOf(ctx, c)
	for i := 0; err == nil && i+1 < len(v.Items); i += 2 {
		if holder := v.Items[i+1].Text; !living[holder] {
			_, err = c.do(ctx, "EVAL", freeing, "1", locksKey, v.Items[i].Text, holder)
		}
	}
	return err
}

// freeing removes a lock that a session holds.
const freeing = "if redis.call('HGET', KEYS[1], ARGV[1]) == ARGV[2] then return redis.call('HDEL', KEYS[1], " +
	"ARGV[1]) end"

// IsIntact reports whether a template is there.
func (s *numbered) IsIntact(ctx context.Context, e engine.Entry) (whole bool, err error) {
	err = s.ask(ctx, func(ctx context.Context, c *conn) error {
		v, err := c.do(ctx, "STRLEN", dataKey+e.ID)
		whole = v.Int > 0 && v.Int == e.Facts.Size && !e.Bad
		return err
	})
	return whole, err
}

// Tables tells nothing: there are none.
func (s *numbered) Tables(context.Context, engine.Entry) (map[string][]string, error) {
	return nil, nil
}

// Watch tells that somebody came: more is not known.
func (s *numbered) Watch(context.Context, string) (func(time.Duration) (engine.Visitor, error), error) {
	return func(time.Duration) (engine.Visitor, error) { return engine.Somebody, nil }, nil
}

// Open opens one for work.
func (s *numbered) Open(ctx context.Context, id string, session engine.Session) (engine.Database, error) {
	e, err := s.Find(ctx, id)
	if err != nil {
		return nil, err
	}
	return openDatabase(s, e, session), nil
}

func (s *numbered) aboutState(ctx context.Context, id string) (a about, err error) {
	err = s.ask(ctx, func(ctx context.Context, c *conn) error {
		v, err := c.do(ctx, "GET", aboutKey+id)
		if err == nil {
			err = json.Unmarshal([]byte(v.Text), &a)
		}
		return err
	})
	return a, err
}

func (s *numbered) state(ctx context.Context, id string) (*state, error) {
	a, err := s.aboutState(ctx, id)
	if err != nil {
		return nil, err
	}
	var data string
	err = s.ask(ctx, func(ctx context.Context, c *conn) error {
		v, err := c.do(ctx, "GET", dataKey+id)
		data = v.Text
		return err
	})
	if err != nil {
		return nil, err
	}
	return newState(a, strings.NewReader(data))
}

func (s *numbered) layFile(context.Context, *database, string) (bool, func(), error) {
	return false, nil, nil
}

// renew fails: the server is not Hemzo's.
func (s *numbered) renew(context.Context, string, string) (address, error) {
	return address{}, fault.New(fault.Lacking, "is it running?", "the server at %s does not answer", s.about.Address)
}

// Close ends the server's own session.
func (s *numbered) Close() error {
	ctx, end := context.WithTimeout(context.Background(), 5*time.Second)
	defer end()
	s.locks.Close(ctx)
	if err := s.turn.Take(ctx); err != nil {
		return err
	}
	defer s.turn.Give()
	if s.conn == nil {
		return nil
	}
	err := s.conn.Close()
	s.conn = nil
	return err
}
