package redis

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"hemzo/internal/engine"
	"hemzo/internal/engine/redis/resp"
)

// address is where a copy's server is.
type address struct {
	Socket   string `json:"socket,omitempty"`
	Host     string `json:"host"`
	Port     int    `json:"port"`
	Admin    string `json:"admin"`    // the password of Hemzo's account
	Password string `json:"password"` // of the tests'
	Product  string `json:"product"`  // "redis" or "valkey"
	Version  string `json:"version"`
	Folder   string `json:"folder,omitempty"` // of its RDB file, where that is on this machine
	Saved    bool   `json:"saved,omitempty"`  // its RDB file holds the state that it began with
	Began    string `json:"began,omitempty"`  // the state that it began with
	// Unlimited says that tests may do anything to their server.
	Unlimited bool `json:"unlimited,omitempty"`
	// One says that the copy is one database of a server with others, First is its number.
	One     bool     `json:"one,omitempty"`
	First   int      `json:"first,omitempty"`
	Login   string   `json:"login,omitempty"`   // Hemzo's account; "" for the usual one
	Account string   `json:"account,omitempty"` // the tests'; likewise
	Counts  counts   `json:"counts"`            // what was counted when it began
	Scripts []string `json:"scripts,omitempty"` // in its cache when it began
}

func addressOf(at engine.Endpoint) (a address) {
	_ = json.Unmarshal(at.Address, &a) // as Probe wrote it
	return a
}

// atLeast reports whether a server has what Redis has from a version on. Valkey began
// with Redis 7.2.
func (a address) atLeast(major, minor int) bool {
	if a.Product == "valkey" {
		return major < 7 || major == 7 && minor <= 2
	}
	has, rest, _ := strings.Cut(a.Version, ".")
	less, _, _ := strings.Cut(rest, ".")
	m, _ := strconv.Atoi(has)
	n, _ := strconv.Atoi(less)
	return m > major || m == major && n >= minor
}

// Names of the accounts: Hemzo's own, and that of tests, which clients have who name none.
const (
	admin = "hemzo"
	tests = "default"
)

func (a address) connection() engine.Connection {
	port, user, db := strconv.Itoa(a.Port), cmp.Or(a.Account, tests), strconv.Itoa(a.First)
	where := url.URL{Scheme: "redis", User: url.UserPassword(user, a.Password), Host: net.JoinHostPort(a.Host, port),
		Path: "/" + db}
	if a.Password == "" {
		where.User = nil
	}
	return engine.Connection{
		URL: where.String(), Host: a.Host, Port: port, User: user, Password: a.Password, Database: db,
		Env: []engine.Setting{{Name: "REDISCLI_AUTH", Value: a.Password}, {Name: "VALKEYCLI_AUTH", Value: a.Password}},
	}
}

// connection tells how tests reach a server.
func connection(at engine.Endpoint, _ string) engine.Connection {
	a := addressOf(at)
	if published, ok := at.At[serverPort]; ok {
		a.moveTo(published)
	}
	return a.connection()
}

func (a *address) moveTo(at string) {
	host, port, err := net.SplitHostPort(at)
	if n, failed := strconv.Atoi(port); err == nil && failed == nil {
		a.Host, a.Port = host, n
	}
}

// move tells a copy's connection at another address.
func move(c engine.Connection, at map[int]string) engine.Connection {
	a := address{Password: c.Password}
	a.moveTo(at[serverPort])
	return a.connection()
}

// conn is a session. It is for one goroutine at a time.
type conn struct {
	net.Conn
	in  *resp.Reader
	out []byte
	// replies are what a goroutine has read, once the session is told of keys.
	replies chan resp.Value
	asked   chan struct{} // has an element where replies are to come, or the session has ended
	pending atomic.Int64  // replies that are to come
	ended   chan struct{} // closed when it reads no more
	why     error         // then
	told    *told
}

// dialTime bounds what it takes to reach a server that is there.
const dialTime = 5 * time.Second

// dial opens a session of Hemzo's account; dialAsTests one of the tests'.
func (a address) dial(ctx context.Context) (*conn, error) {
	if a.Socket != "" {
		return a.open(ctx, "unix", a.Socket, cmp.Or(a.Login, admin), a.Admin)
	}
	return a.open(ctx, "tcp", net.JoinHostPort(a.Host, strconv.Itoa(a.Port)), cmp.Or(a.Login, admin), a.Admin)
}

func (a address) dialAsTests(ctx context.Context) (*conn, error) {
	c, err := a.open(ctx, "tcp", net.JoinHostPort(a.Host, strconv.Itoa(a.Port)), cmp.Or(a.Account, tests), a.Password)
	if err == nil && a.One {
		if err = a.choose(ctx, c, 0); err != nil {
			return nil, errors.Join(err, c.Close())
		}
	}
	return c, err
}

func (a address) open(ctx context.Context, network, at, user, password string) (*conn, error) {
	limited, stop := context.WithTimeout(ctx, dialTime)
	defer stop()
	wire, err := new(net.Dialer).DialContext(limited, network, at)
	if err != nil {
		return nil, err
	}
	c := &conn{Conn: wire, in: resp.NewReader(wire)}
	// Redis 6.0 takes HELLO only from who has come in.
	all, err := c.all(limited, append(comeIn(user, password), []string{"HELLO", "3"}))
	for _, v := range all {
		if err == nil {
			err = v.Failed()
		}
	}
	if err != nil {
		return nil, errors.Join(err, c.Close())
	}
	return c, nil
}

// comeIn are the commands that name an account; none for a server without passwords.
func comeIn(user, password string) [][]string {
	if password == "" && user == tests {
		return nil
	}
	return [][]string{{"AUTH", user, password}}
}

// do sends a command and returns its reply; an error reply is a resp.ReplyError.
func (c *conn) do(ctx context.Context, words ...string) (resp.Value, error) {
	all, err := c.all(ctx, [][]string{words})
	if err != nil {
		return resp.Value{}, err
	}
	return all[0], all[0].Failed()
}

// pipelined bounds how many bytes of commands are sent before their replies are read.
const pipelined = 256 << 10

// all sends commands one behind the other and returns their replies, errors among them.
// Where ctx ends meanwhile the session is of no more use.
func (c *conn) all(ctx context.Context, commands [][]string) ([]resp.Value, error) {
	defer context.AfterFunc(ctx, func() { _ = c.SetDeadline(time.Unix(1, 0)) })()
	replies := make([]resp.Value, 0, len(commands))
	for i := range commands {
		c.out = resp.AppendCommand(c.out, commands[i]...)
		if len(c.out) < pipelined && i < len(commands)-1 {
			continue
		}
		if err := c.flush(i + 1 - len(replies)); err != nil {
			return nil, c.broken(ctx, err)
		}
		for len(replies) <= i {
			v, err := c.read()
			if err != nil {
				return nil, c.broken(ctx, err)
			}
			replies = append(replies, v)
		}
	}
	return replies, nil
}

// flush sends commands, so many.
func (c *conn) flush(n int) error {
	if c.asked != nil {
		c.pending.Add(int64(n))
		c.wake()
	}
	_, err := c.Write(c.out)
	if c.out = c.out[:0]; cap(c.out) > 4*pipelined {
		c.out = nil
	}
	return err
}

// errBroken is in the chain of what ends a session.
var errBroken = errors.New("the connection to the server broke")

func (c *conn) broken(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return fmt.Errorf("%w: %w", errBroken, err)
}

// read returns the next reply; what the server says unasked is no reply.
func (c *conn) read() (resp.Value, error) {
	if c.replies != nil {
		select {
		case v := <-c.replies:
			return v, nil
		case <-c.ended:
			return resp.Value{}, c.why
		}
	}
	for {
		v, err := c.in.Read()
		if err != nil || v.Kind != resp.Push {
			return v, err
		}
	}
}

// Close ends the session.
func (c *conn) Close() error {
	err := c.Conn.Close()
	if c.ended != nil {
		c.wake()
		<-c.ended
	}
	return err
}

// told is what the server has told of keys that were changed.
type told struct {
	mu    sync.Mutex
	names map[string]bool
	all   bool // all keys were removed, or more were changed than are remembered
	since counts
}

// tracked bounds how many changed keys are remembered.
const tracked = 200_000

// track has the server tell, from now on, of all keys that others change ("Client-side
// caching in Redis", broadcasting mode).
func (c *conn) track(ctx context.Context) error {
	if _, err := c.do(ctx, "CLIENT", "TRACKING", "ON", "BCAST", "NOLOOP"); err != nil {
		return err
	}
	c.told = &told{names: map[string]bool{}}
	c.replies, c.ended, c.asked = make(chan resp.Value, 64), make(chan struct{}), make(chan struct{}, 1)
	go c.listen()
	return nil
}

// listenEvery is how often what was told is read: each time is a wake-up, which would slow
// down what tests do. It waits in the system's buffers, and the server's.
const listenEvery = 10 * time.Millisecond

func (c *conn) listen() {
	defer close(c.ended)
	for {
		if c.in.Buffered() == 0 && c.pending.Load() == 0 {
			select {
			case <-c.asked:
			case <-time.After(listenEvery):
			}
		}
		v, err := c.in.Read()
		if err != nil {
			c.why = err
			return
		}
		if v.Kind == resp.Push {
			c.told.note(v)
			continue
		}
		c.pending.Add(-1)
		c.replies <- v
	}
}

// wake has what the server says read at once.
func (c *conn) wake() {
	select {
	case c.asked <- struct{}{}:
	default:
	}
}

func (t *told) note(v resp.Value) {
	if len(v.Items) < 2 || v.Items[0].Text != "invalidate" {
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if v.Items[1].Kind == resp.Null || len(t.names) > tracked {
		t.all = true
		clear(t.names)
		return
	}
	for _, name := range v.Items[1].Items {
		t.names[name.Text] = true
	}
}

// take returns what was told since it was last asked for.
func (t *told) take() (names map[string]bool, all bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	names, all = t.names, t.all
	t.names, t.all = map[string]bool{}, false
	return names, all
}

// lose makes what was told unknown, until all is put back.
func (t *told) lose() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.all = true
}
