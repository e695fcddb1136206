package place

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"sync"
	"syscall"
	"time"

	"github.com/gofrs/flock"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
	"hemzo/internal/turn"
)

// GuardCommand is the command, of this program, that a guard runs as.
const GuardCommand = "guard"

// Sweeper removes from a server what has lost its owner, and reports whether
// something is left that needs the server.
type Sweeper func(ctx context.Context, s engine.Server) (needed bool)

// Guard is the parent of servers: it starts them, ends them when nobody needs
// them any more, and removes what they leave. It returns when they are gone.
func Guard(path string, engines []engine.Engine, sweep Sweeper) error {
	// A process is told of the death of the thread that started it: this one does
	// nothing else and lives as long as the guard.
	runtime.LockOSThread()
	starts := make(chan func())
	result := make(chan error, 1)
	go func() {
		result <- guardWith(path, engines, sweep, func(cmd *exec.Cmd) error {
			done := make(chan error, 1)
			starts <- func() { done <- cmd.Start() }
			return <-done
		})
	}()
	for {
		select {
		case start := <-starts:
			start()
		case err := <-result: // who still wants to start something is too late
			return err
		}
	}
}

func guardWith(path string, engines []engine.Engine, sweep Sweeper, begin starter) error {
	signals := make(chan os.Signal, 4)
	signal.Notify(signals, syscall.SIGTERM, syscall.SIGINT, syscall.SIGHUP)
	r, err := readRecord(path)
	if err != nil {
		return fmt.Errorf("reading the guard's record: %w", err)
	}
	g := &guard{
		record: r, path: path, sweep: sweep, asked: make(chan struct{}, 1), over: make(chan struct{}),
		running: map[string]*supervised{}, turns: map[string]turn.Turn{},
		ended: make(chan *supervised, 1),
	}
	if g.engine, g.host = r.hosted(engines, filepath.Dir(filepath.Dir(path)), begin); g.host == nil {
		return fmt.Errorf("no engine %q can be guarded", r.Engine)
	}
	if err := g.open(signals); err != nil {
		return g.fail(err)
	}
	return g.keep(signals)
}

// guard keeps the servers of one record.
type guard struct {
	path     string
	engine   engine.Engine
	host     host
	sweep    Sweeper
	lock     *flock.Flock // of the folder with the data
	listener *listener
	asked    chan struct{}    // to end
	over     chan struct{}    // closed when all is ended
	ended    chan *supervised // the one server that holds all copies, when it has ended

	mu      sync.Mutex // for what follows
	record  record
	running map[string]*supervised
	turns   map[string]turn.Turn // who starts or ends the server of a copy has it
}

// replace starts the server of a copy, in the place of one that runs.
func (g *guard) replace(ctx context.Context, name, from string) (m member, err error) {
	err = g.alone(ctx, name, func() error {
		if err := g.drop(name); err != nil {
			return err
		}
		m, err = g.start(ctx, name, from)
		return err
	})
	return m, err
}

// remove ends the server of a copy.
func (g *guard) remove(ctx context.Context, name string) error {
	return g.alone(ctx, name, func() error { return g.drop(name) })
}

// alone works on the server of a copy while nobody else does.
func (g *guard) alone(ctx context.Context, name string, work func() error) error {
	g.mu.Lock()
	t, there := g.turns[name]
	if !there {
		t = turn.New()
		g.turns[name] = t
	}
	g.mu.Unlock()
	if err := t.Take(ctx); err != nil {
		return err
	}
	defer t.Give()
	return work()
}

// change changes the record, for everybody to see.
func (g *guard) change(change func(*record)) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	select {
	case <-g.over:
		return errors.New("the guard has ended its servers")
	default:
	}
	change(&g.record)
	return g.record.write(g.path)
}

// fail says in the record why there is no server: who waits for it shows that.
func (g *guard) fail(err error) error {
	g.listener.close()
	if g.record.Folder != "" && g.lock != nil {
		_ = g.host.clean(g.record.Folder)
		os.RemoveAll(g.record.Folder)
	}
	f := new(fault.Error)
	if !errors.As(err, &f) {
		f = fault.New(fault.Lacking, "", "the server did not start: %v", err)
	}
	f.Reason = nil
	return g.change(func(r *record) { r.Failed = f })
}

// open takes the folder, and starts the one server that holds all copies where
// there is one. A signal meanwhile ends it.
func (g *guard) open(signals <-chan os.Signal) error {
	ctx, stop := context.WithTimeout(context.Background(), g.record.Within)
	defer stop()
	opened := make(chan error, 1)
	go func() { opened <- g.openUntil(ctx) }()
	for {
		select {
		case err := <-opened:
			return err
		case <-signals:
			stop()
		}
	}
}

func (g *guard) openUntil(ctx context.Context) error {
	self, _ := Running(os.Getpid())
	if err := g.change(func(r *record) { r.Guard = self }); err != nil {
		return err
	}
	if g.record.Folder != "" {
		if err := g.takeFolder(ctx); err != nil {
			return fmt.Errorf("making the data folder: %w", err)
		}
	}
	if !g.engine.Hosting().Separate(g.record.Where) {
		if _, err := g.start(ctx, "", ""); err != nil {
			return err
		}
	}
	var err error
	if g.listener, err = g.listen(); err != nil {
		return err
	}
	return g.change(func(r *record) { r.Ready, r.Socket = true, g.listener.path })
}

// forgetCopies drops copies, and their snapshots, where each has a server of its own. What
// is noted of those of a guard that was killed stays: a reset brings them back.
func (g *guard) forgetCopies(ctx context.Context) error {
	s, err := g.connect(ctx)
	if err != nil {
		return err
	}
	defer s.Close()
	all, err := s.List(ctx, engine.Copy, engine.Kept, engine.Work, engine.Reference)
	for _, e := range all {
		if !e.Newer {
			err = errors.Join(err, s.Drop(ctx, e.ID))
		}
	}
	return err
}

// takeFolder makes the data folder anew, and locks it for this guard's life.
func (g *guard) takeFolder(ctx context.Context) error {
	folder := g.record.Folder
	old, err := lockFolder(ctx, folder)
	if err != nil {
		return err
	}
	defer old.Close()
	if err := errors.Join(g.host.clean(folder), os.RemoveAll(folder), os.Mkdir(folder, 0o700)); err != nil {
		return err
	}
	g.lock, err = lockFolder(ctx, folder)
	return err
}

// start starts a server: that of a copy from the files of a folder, where one
// is named.
func (g *guard) start(ctx context.Context, name, from string) (member, error) {
	state := filepath.Dir(filepath.Dir(g.path))
	home := engine.Home{Folder: g.record.Folder, From: from, Kept: g.record.Kept, Log: io.Writer(os.Stderr)}
	secret := "servers"
	if name != "" {
		secret, home.Folder = "server "+name, filepath.Join(g.record.Folder, name)
		if err := os.Mkdir(home.Folder, 0o700); err != nil {
			return member{}, fmt.Errorf("making the data folder: %w", err)
		}
	}
	var err error
	if home.Password, err = Secret(state, secret); err != nil {
		return member{}, err
	}
	s, err := g.host.start(ctx, home, g.record.Spec)
	if err != nil {
		if name != "" {
			err = errors.Join(err, g.host.clean(home.Folder), os.RemoveAll(home.Folder))
		}
		return member{}, err
	}
	m := member{Server: s.process, Address: s.address, Folder: home.Folder}
	g.mu.Lock()
	g.running[name] = s
	g.mu.Unlock()
	go g.await(name, s, m)
	return m, g.change(func(r *record) {
		if r.Servers == nil {
			r.Servers = map[string]member{}
		}
		r.Servers[name] = m
	})
}

// await waits for a server's end. What one of a copy that ended by itself leaves
// is removed, unless another has taken its place.
func (g *guard) await(name string, s *supervised, m member) {
	<-s.ended
	if name == "" {
		select {
		case g.ended <- s:
		case <-g.over:
		}
		return
	}
	_ = g.alone(context.Background(), name, func() error {
		g.mu.Lock()
		same := g.running[name] == s
		g.mu.Unlock()
		if !same {
			return nil
		}
		return g.forget(name, m)
	})
}

// drop ends the server of a copy and removes its data.
func (g *guard) drop(name string) error {
	g.mu.Lock()
	s, m := g.running[name], g.record.Servers[name]
	g.mu.Unlock()
	if s != nil {
		_ = s.kill() // its data goes too
		<-s.ended
	}
	return g.forget(name, m)
}

func (g *guard) forget(name string, m member) error {
	var err error
	if m.Folder != "" {
		err = errors.Join(g.host.clean(m.Folder), os.RemoveAll(m.Folder))
	}
	return errors.Join(err, g.change(func(r *record) {
		delete(r.Servers, name)
		delete(g.running, name)
	}))
}

// lookEvery is how often a guard looks who needs its server: copies whose
// owners are gone go then.
const lookEvery = 5 * time.Second

// idleTime is how long a server that nobody needs stays where the project file
// does not say.
const idleTime = 30 * time.Minute

// keep stays with the servers until they end, somebody says so, or nobody needs
// them any more.
func (g *guard) keep(signals <-chan os.Signal) error {
	idle := g.record.Idle
	if idle == 0 {
		idle = idleTime
	}
	look := time.NewTicker(min(max(idle/10, 100*time.Millisecond), lookEvery))
	defer look.Stop()
	// From here on it mostly sleeps: what starting took is given back.
	debug.SetGCPercent(20)
	debug.FreeOSMemory()
	used := time.Now()
	for {
		select {
		case s := <-g.ended:
			return g.finish(s.outcome)
		case <-signals:
			return g.finish(g.end())
		case <-g.asked:
			return g.finish(g.end())
		case <-look.C:
			rotate(g.record.Log)
			if g.look() {
				used = time.Now()
			} else if time.Since(used) > idle {
				// Who is about to work on it has said so: it stays.
				use := useOf(g.path)
				if ok, err := use.TryLock(); ok && err == nil {
					defer use.Close() // the server is gone by then
					return g.finish(g.end())
				}
				use.Close()
			}
		}
	}
}

// finish removes what is left when all servers have ended.
func (g *guard) finish(err error) error {
	g.mu.Lock()
	close(g.over) // nobody writes the record from here on
	g.mu.Unlock()
	if folder := g.record.Folder; folder != "" {
		err = errors.Join(err, g.host.clean(folder), os.RemoveAll(folder))
	}
	err = errors.Join(err, os.Remove(g.path))
	g.listener.close()
	return err
}

// connect opens the guard's own servers, as everybody else does.
func (g *guard) connect(ctx context.Context) (engine.Server, error) {
	h := g.engine.Hosting()
	if h.Separate(g.record.Where) {
		return h.PerCopy(ctx, ownFleet{g}, g.record.Spec)
	}
	g.mu.Lock()
	address := g.record.address()
	g.mu.Unlock()
	return h.Connect(ctx, address, engine.Patience{})
}

// look reports whether a server has a copy or a client, or cannot be asked.
// Copies that have lost their owners are dropped.
func (g *guard) look() bool {
	ctx, stop := context.WithTimeout(context.Background(), 10*time.Second)
	defer stop()
	s, err := g.connect(ctx)
	if err != nil {
		return true
	}
	defer s.Close()
	return g.sweep(ctx, s)
}

// end ends all servers: cleanly, and where one takes too long by force. Who
// waits for their end is told that it is under way.
func (g *guard) end() error {
	_ = g.change(func(r *record) { r.Ending = true })
	ctx, stop := context.WithTimeout(context.Background(), 30*time.Second)
	defer stop()
	prune := g.engine.Hosting().Prune
	if g.engine.Hosting().Separate(g.record.Where) {
		_ = g.forgetCopies(ctx) // what it cannot drop ends below
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	for name, s := range g.running {
		if name != "" {
			_ = s.kill() // of copies nothing is kept
			<-s.ended
			continue
		}
		pruned := prune != nil && prune(ctx, g.record.address()) == nil
		templates := g.listTemplates(ctx, g.record.address())
		if s.end() && pruned && s.save != nil {
			saved, err := s.save()
			if err == nil {
				g.record.writeKeptList(saved, templates)
			}
			return err
		}
	}
	return nil
}

// logLimit and logTail bound a server's log, in bytes.
const (
	logLimit = 8 << 20
	logTail  = 1 << 20
)

// rotate keeps the end of a log that has grown too large beside it, and
// begins it anew. The server goes on writing to the same file.
func rotate(path string) {
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || info.Size() < logLimit {
		return
	}
	tail := make([]byte, logTail)
	n, _ := f.ReadAt(tail, info.Size()-logTail)
	if os.WriteFile(path+".1", tail[:n], 0o600) == nil {
		_ = f.Truncate(0)
	}
}

// ownFleet is what a guard itself does with the servers of copies.
type ownFleet struct{ g *guard }

func (f ownFleet) Folder() string {
	return fleetFolder(filepath.Dir(filepath.Dir(f.g.path)), f.g.record.Identity)
}
func (f ownFleet) About() engine.About { return aboutFleet(f.g.record) }
func (f ownFleet) Close() error        { return nil }

func (f ownFleet) Start(ctx context.Context, id, from string) (engine.Endpoint, error) {
	m, err := f.g.replace(ctx, id, from)
	return m.endpoint(), err
}

func (f ownFleet) Stop(ctx context.Context, id string) error { return f.g.remove(ctx, id) }

func (m member) endpoint() engine.Endpoint {
	return engine.Endpoint{Address: m.Address, Folder: m.Folder}
}
