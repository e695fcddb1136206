package place

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"strings"
	"syscall"
	"time"

	"github.com/gofrs/flock"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
	"hemzo/internal/filelock"
)

// GuardCommand is the command, of this program, that a guard runs as.
const GuardCommand = "guard"

// record is what is known of a server that a guard keeps. It lies in the
// state folder, readable by its user alone.
type record struct {
	Engine    string          `json:"engine"`
	Identity  string          `json:"identity"`
	Spec      engine.Spec     `json:"spec"`
	Idle      time.Duration   `json:"idle"`
	Within    time.Duration   `json:"within"` // for the server to answer
	Where     string          `json:"where"`
	Folder    string          `json:"folder,omitempty"`    // of its data, where it is in memory
	Container string          `json:"container,omitempty"` // its name, where it runs in one
	Kept      string          `json:"kept"`
	Log       string          `json:"log"`
	Guard     engine.Process  `json:"guard,omitzero"`
	Looks     bool            `json:"looks,omitempty"` // the guard looks when it is asked to
	Server    engine.Process  `json:"server,omitzero"`
	Ending    bool            `json:"ending,omitempty"`  // it is being ended, and what is kept of it saved
	Address   json.RawMessage `json:"address,omitempty"` // once it answers
	Failed    *fault.Error    `json:"failed,omitempty"`  // why it does not

	lock *flock.Flock // of Folder, the guard's
}

// recordFile is where the record of a server lies.
func recordFile(state, identity string) string {
	return filepath.Join(state, "servers", identity+".json")
}

func readRecord(path string) (r record, err error) {
	b, err := os.ReadFile(path)
	if err == nil {
		err = json.Unmarshal(b, &r)
	}
	return r, err
}

// write writes a record in one step.
func (r record) write(path string) error {
	b, err := json.Marshal(r)
	if err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(path), ".record")
	if err != nil {
		return fmt.Errorf("recording a server: %w", err)
	}
	_, err = f.Write(b)
	if err = errors.Join(err, f.Close()); err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		os.Remove(f.Name())
		return fmt.Errorf("recording a server: %w", err)
	}
	return nil
}

// startTime bounds how long a server may take to answer where nothing else
// is said.
const startTime = time.Minute

// ensure connects to the private server that a Spec wants, and has a guard
// start it where it does not run. Of several processes one starts it.
func ensure(ctx context.Context, e engine.Starter, w Wanted, state string) (engine.Server, error) {
	identity, err := e.Identity(w.Spec)
	if err != nil {
		return nil, err
	}
	path := recordFile(state, identity)
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, fmt.Errorf("making the folder for servers: %w", err)
	}
	// From here on the server is not ended because nobody needs it. One that is
	// just being ended is waited for.
	use := useOf(path)
	if err := filelock.WaitShared(ctx, use); err != nil {
		return nil, fmt.Errorf("waiting for the end of %s: %w", identity, err)
	}
	s, err := ensured(ctx, e, w, state, identity)
	if err != nil {
		use.Close()
		return nil, err
	}
	s.use = use
	return s, nil
}

// useOf is the lock that whoever works on a server shares. Who has it alone may
// end the server.
func useOf(path string) *flock.Flock { return flock.New(strings.TrimSuffix(path, ".json") + ".use") }

func ensured(ctx context.Context, e engine.Starter, w Wanted, state, identity string) (*guarded, error) {
	path := recordFile(state, identity)
	if s, err := running(ctx, e, path, w.patience()); err == nil {
		return s, nil
	}
	if r, err := readRecord(path); err == nil && r.Container != "" {
		if err := paused(ctx, r.Container); err != nil {
			return nil, err
		}
	}
	lock := flock.New(filepath.Join(filepath.Dir(path), identity+".lock"))
	for {
		if err := filelock.Wait(ctx, lock); err != nil {
			return nil, fmt.Errorf("waiting for another process that starts %s: %w", identity, err)
		}
		if r, err := readRecord(path); err != nil || !Alive(r.Guard) {
			break
		}
		// It was started meanwhile: others wait for the lock, connecting needs none.
		lock.Close()
		s, err := living(ctx, e, path, w)
		if s != nil || err != nil {
			return s, err
		}
	}
	defer lock.Close()
	if err := clearAway(ctx, path, e); err != nil {
		return nil, err
	}
	r := record{
		Engine: e.Name(), Identity: identity, Spec: w.Spec, Idle: w.Idle, Within: w.Ready, Where: "memory",
		Log: filepath.Join(filepath.Dir(path), identity+".log"),
	}
	var err error
	if c, ok := e.(inContainer); ok {
		r.Where, r.Container, err = "container", containerName(state, identity), prepare(ctx, w, imageOf(c.Image(w.Spec), w.Spec))
	} else {
		err = r.lodge(e, w, state)
	}
	if err != nil {
		return nil, err
	}
	if r.Within == 0 {
		r.Within = startTime
	}
	if err := r.start(ctx, path); err != nil {
		// Its guard has ended, or was killed.
		return nil, errors.Join(err, clearAway(context.WithoutCancel(ctx), path, e))
	}
	return running(ctx, e, path, w.patience())
}

// lodge finds the folders of a server that is a process of this machine.
func (r *record) lodge(e engine.Starter, w Wanted, state string) error {
	kept, err := keptFolder()
	if err != nil {
		return err
	}
	r.Kept = filepath.Join(kept, e.Name())
	folder, err := w.folder(state, e.Room(w.Spec, r.Kept))
	// Another state folder of this user has servers of its own. The name is short:
	// the path of a socket in it may not be long.
	sum := sha256.Sum256([]byte(state + "\x00" + r.Identity))
	r.Folder = folder.Path + "-" + e.Name() + "-" + hex.EncodeToString(sum[:6])
	return err
}

// starter is what starts the server of a record; nil where nothing does.
func (r record) starter(engines []engine.Engine) engine.Starter {
	for _, e := range engines {
		if e.Name() != r.Engine {
			continue
		}
		if contained, ok := e.(engine.Contained); ok && r.Where == "container" {
			return inContainer{contained}
		}
		if s, ok := e.(engine.Starter); ok {
			return s
		}
	}
	return nil
}

// running connects to a server that its record says is there.
func running(ctx context.Context, e engine.Starter, path string, p engine.Patience) (*guarded, error) {
	r, err := readRecord(path)
	if err != nil {
		return nil, err
	}
	if r.Address == nil || !Alive(r.Guard) {
		return nil, errors.New("its guard is gone")
	}
	p.Log = r.Log
	s, err := e.Connect(ctx, r.Address, p)
	if err != nil {
		return nil, err
	}
	return &guarded{Server: s, guard: r.Guard, looks: r.Looks}, nil
}

// guarded is a server with a guard.
type guarded struct {
	engine.Server
	guard engine.Process
	looks bool
	use   *flock.Flock // held until it is closed; nil where it was only looked at
}

func (g *guarded) Close() error {
	err := g.Server.Close()
	if g.use != nil {
		err = errors.Join(err, g.use.Close())
	}
	return err
}

// Guarded reports whether a guard keeps a server: it drops what loses its
// owner there.
func Guarded(s engine.Server) bool {
	g, ok := s.(*guarded)
	return ok && g.looks && Alive(g.guard)
}

// LookNow has the guard of a server look at once for what has lost its owner.
func LookNow(s engine.Server) {
	if g, ok := s.(*guarded); ok && g.looks && Alive(g.guard) {
		_ = syscall.Kill(g.guard.PID, syscall.SIGUSR1)
	}
}

// patience is how long a server that lives may refuse connections, because
// it has too many or is ending, before that is an error.
const patience = 15 * time.Second

// living connects to a server whose guard is alive, waiting for one that is
// starting or ending: what is kept of one that ends may take long to save. It
// returns nothing where there is no such guard: a server that others use is
// never taken for dead because it is busy.
func living(ctx context.Context, e engine.Starter, path string, w Wanted) (*guarded, error) {
	for end := time.Now().Add(patience); ; {
		s, err := running(ctx, e, path, w.patience())
		if err == nil {
			return s, nil
		}
		r, failed := readRecord(path)
		if failed != nil || !Alive(r.Guard) {
			return nil, nil
		}
		if time.Now().After(end) && !r.Ending {
			return nil, fault.New(fault.Lacking, "wait, or end it with  hemzo stop --force", "the private server runs and lets nobody in: %v", err)
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// clearAway ends a server and removes what it left. Its guard is given the time
// that saving takes; e may be nil, where nothing is known of such servers.
func clearAway(ctx context.Context, path string, e engine.Starter) error {
	r, err := readRecord(path)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err == nil && Alive(r.Guard) {
		if err := r.endGuard(ctx, path); err != nil {
			return err
		}
		if now, err := readRecord(path); err == nil && now.Guard != r.Guard {
			return nil // by now it is another server's
		}
	}
	if err == nil && Alive(r.Server) {
		_ = syscall.Kill(r.Server.PID, syscall.SIGQUIT)
		for end := time.Now().Add(10 * time.Second); Alive(r.Server); time.Sleep(5 * time.Millisecond) {
			if time.Now().After(end) {
				_ = syscall.Kill(r.Server.PID, syscall.SIGKILL)
			}
		}
	}
	if err == nil && r.Container != "" {
		if err := clearContainer(ctx, r.Container); err != nil {
			return err
		}
	}
	if err == nil && r.Folder != "" {
		if err := r.clearFolder(e); err != nil {
			return err
		}
	}
	if err := os.Remove(path); !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return nil
}

// endGuard has a guard end its server, and waits. One that neither ends it nor
// says that it does is killed.
func (r record) endGuard(ctx context.Context, path string) error {
	_ = syscall.Kill(r.Guard.PID, syscall.SIGTERM)
	for end := time.Now().Add(time.Minute); Alive(r.Guard); {
		if now, err := readRecord(path); time.Now().After(end) && (err != nil || !now.Ending) {
			_ = syscall.Kill(r.Guard.PID, syscall.SIGKILL)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(5 * time.Millisecond):
		}
	}
	return nil
}

// clearFolder removes the data folder of a server whose guard is gone, with
// what that left beside it. One that another guard has is left alone.
func (r record) clearFolder(e engine.Starter) error {
	lock, err := lockFolder(r.Folder)
	if err != nil {
		return err
	}
	defer lock.Close()
	if e != nil {
		if err := e.Clean(r.Folder); err != nil {
			return fmt.Errorf("ending what a server left: %w", err)
		}
	}
	if err := os.RemoveAll(r.Folder); err != nil {
		return fmt.Errorf("removing what a server left: %w", err)
	}
	return nil
}

// lockFolder takes the lock of a data folder: it is a guard's as long as that lives.
// A folder that is not there has none to take.
func lockFolder(folder string) (*flock.Flock, error) {
	lock := flock.New(filepath.Join(folder, "guard.lock"))
	if _, err := os.Stat(folder); errors.Is(err, os.ErrNotExist) {
		return lock, nil
	}
	ok, err := lock.TryLock()
	if err == nil && !ok {
		err = fault.New(fault.Refused, "is there another state folder by this name, on another file system?", "another guard has its server in %s", folder)
	}
	if err != nil {
		lock.Close()
		return nil, err
	}
	return lock, nil
}

func keptFolder() (string, error) {
	cache, err := os.UserCacheDir()
	if err != nil {
		return "", fault.New(fault.Lacking, "set HOME, or XDG_CACHE_HOME", "there is no folder for what makes starts faster: %v", err)
	}
	return filepath.Join(cache, "hemzo"), nil
}

// start starts a guard and waits until its server answers.
func (r record) start(ctx context.Context, path string) error {
	if err := r.write(path); err != nil {
		return err
	}
	program := os.Getenv("HEMZO_PROGRAM")
	if program == "" {
		var err error
		if program, err = os.Executable(); err != nil {
			return err
		}
	}
	log, err := os.OpenFile(r.Log, os.O_CREATE|os.O_WRONLY|os.O_TRUNC|os.O_APPEND, 0o600)
	if err != nil {
		return fmt.Errorf("opening the server's log: %w", err)
	}
	defer log.Close()
	// A session of its own and no descriptor of the caller's: whoever waits
	// for the end of the caller's output must not wait for the server's.
	cmd := exec.Command(program, GuardCommand, path)
	cmd.Dir = "/"
	cmd.Stdout, cmd.Stderr = log, log
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("starting the guard: %w", err)
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	give := time.After(r.Within)
	for {
		if now, err := readRecord(path); err == nil {
			if now.Failed != nil {
				<-ended
				return r.failure(now.Failed)
			}
			if now.Address != nil {
				return nil
			}
		}
		select {
		case <-ctx.Done():
			_ = cmd.Process.Signal(syscall.SIGTERM)
			<-ended
			return ctx.Err()
		case err := <-ended:
			if now, _ := readRecord(path); now.Failed != nil { // written since
				return r.failure(now.Failed)
			}
			return r.failure(fault.New(fault.Failed, "", "the guard ended while it started the server: %v", err))
		case <-give:
			_ = cmd.Process.Signal(syscall.SIGTERM)
			<-ended
			return r.failure(fault.New(fault.Lacking, "see its log, or give more time with  ready_within:", "the server did not answer within %s", r.Within))
		case <-time.After(2 * time.Millisecond):
		}
	}
}

// failure is why a server did not start, with the last lines of its log.
func (r record) failure(f *fault.Error) error {
	if b, err := os.ReadFile(r.Log); err == nil && f.Lines == nil && len(bytes.TrimSpace(b)) > 0 {
		lines := strings.Split(strings.TrimSpace(string(b)), "\n")
		f.Lines = append(f.Lines, lines[max(len(lines)-15, 0):]...)
	}
	if f.Next == "" {
		f.Next = "its log is " + r.Log
	}
	return f
}

// Guard is the parent of a server: it starts it, ends it when nobody needs it
// any more, and removes what it leaves. It returns when the server is gone.
func Guard(path string, engines []engine.Engine) error {
	// The kernel tells a child of the death of the thread that started it:
	// this one lives as long as the guard.
	runtime.LockOSThread()
	asked := make(chan os.Signal, 1) // to look, see LookNow
	signal.Notify(asked, syscall.SIGUSR1)
	r, err := readRecord(path)
	if err != nil {
		return fmt.Errorf("reading the guard's record: %w", err)
	}
	e := r.starter(engines)
	if e == nil {
		return fmt.Errorf("no engine %q can be guarded", r.Engine)
	}
	signals := make(chan os.Signal, 4)
	signal.Notify(signals, syscall.SIGTERM, syscall.SIGINT, syscall.SIGHUP)
	r.Guard, _ = Running(os.Getpid())
	r.Looks = true
	ctx, stop := context.WithTimeout(context.Background(), r.Within)
	defer stop()
	go func() {
		if _, ok := <-signals; ok {
			stop()
		}
	}()
	started, err := r.begin(ctx, path, e)
	signal.Stop(signals)
	close(signals)
	if err != nil {
		if r.Folder != "" && r.lock != nil {
			_ = e.Clean(r.Folder)
			os.RemoveAll(r.Folder)
		}
		if f := new(fault.Error); errors.As(err, &f) {
			r.Failed = f
		} else {
			r.Failed = fault.New(fault.Lacking, "", "the server did not start: %v", err)
		}
		r.Failed.Reason = nil
		return r.write(path) // who waits for the server shows it
	}
	return r.keep(path, e, started, asked)
}

func (r *record) begin(ctx context.Context, path string, e engine.Starter) (*engine.Started, error) {
	if err := r.write(path); err != nil {
		return nil, err
	}
	if r.Folder != "" {
		if err := r.settleIn(e); err != nil {
			return nil, fmt.Errorf("making the data folder: %w", err)
		}
	}
	home := engine.Home{Folder: r.Folder, Kept: r.Kept, Log: io.Writer(os.Stderr), State: filepath.Dir(filepath.Dir(path))}
	var err error
	if home.Password, err = Secret(home.State, "servers"); err != nil {
		return nil, err
	}
	started, err := e.Start(ctx, home, r.Spec)
	if err != nil {
		return nil, err
	}
	if started.PID != 0 {
		r.Server, _ = Running(started.PID)
	}
	r.Address = started.Address
	return started, r.write(path)
}

// settleIn makes the data folder anew, and locks it for this guard's life.
func (r *record) settleIn(e engine.Starter) error {
	old, err := lockFolder(r.Folder)
	if err != nil {
		return err
	}
	defer old.Close()
	if err := errors.Join(e.Clean(r.Folder), os.RemoveAll(r.Folder), os.Mkdir(r.Folder, 0o700)); err != nil {
		return err
	}
	r.lock, err = lockFolder(r.Folder)
	return err
}

// keep stays with a server until it ends, a signal says so, or nobody needs
// it any more.
func (r *record) keep(path string, e engine.Starter, started *engine.Started, asked <-chan os.Signal) error {
	signals := make(chan os.Signal, 4)
	signal.Notify(signals, syscall.SIGTERM, syscall.SIGINT, syscall.SIGHUP)
	ended := make(chan error, 1)
	go func() { ended <- started.Wait() }()
	idle := r.Idle
	if idle == 0 {
		idle = 30 * time.Minute
	}
	look := time.NewTicker(min(max(idle/10, 100*time.Millisecond), lookEvery))
	defer look.Stop()
	// From here on it mostly sleeps: what starting took is given back.
	debug.SetGCPercent(20)
	debug.FreeOSMemory()
	used := time.Now()
	var err error
	for done := false; !done; {
		select {
		case err = <-ended:
			done = true
		case <-signals:
			err, done = r.end(path, started, ended), true
		case <-asked:
			busy(e, r.Address)
		case <-look.C:
			rotate(r.Log)
			if busy(e, r.Address) {
				used = time.Now()
			} else if time.Since(used) > idle {
				// Who is about to work on it has said so: it stays.
				use := useOf(path)
				if ok, failed := use.TryLock(); !ok || failed != nil {
					use.Close()
					break
				}
				defer use.Close() // the server is gone by then
				err, done = r.end(path, started, ended), true
			}
		}
	}
	if r.Folder != "" {
		err = errors.Join(err, e.Clean(r.Folder), os.RemoveAll(r.Folder))
	}
	return errors.Join(err, os.Remove(path))
}

// lookEvery is how often a guard looks who needs its server: copies whose
// owners are gone go then.
const lookEvery = 5 * time.Second

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

// busy reports whether a server has a copy or a client, or cannot be asked.
// Copies that have lost their owners are dropped.
func busy(e engine.Starter, address json.RawMessage) bool {
	ctx, stop := context.WithTimeout(context.Background(), 10*time.Second)
	defer stop()
	s, err := e.Connect(ctx, address, engine.Patience{})
	if err != nil {
		return true
	}
	defer s.Close()
	_ = s.Clear(ctx)
	all, err := s.List(ctx)
	if err != nil {
		return true
	}
	needed := false
	for _, x := range all {
		switch {
		case x.Newer || x.Kind != engine.Copy && x.Kind != engine.Work:
		case x.Kind == engine.Copy && !x.Bad && Lost(ctx, s, x.Facts.Owner) && drop(ctx, s, all, x.ID) == nil:
		default:
			needed = true
		}
	}
	clients, err := s.Clients(ctx, "")
	return needed || err != nil || len(clients) > 0
}

// drop drops a copy with its snapshots.
func drop(ctx context.Context, s engine.Server, all []engine.Entry, id string) error {
	for _, x := range all {
		if x.Kind == engine.Kept && x.Facts.Of == id {
			if err := s.Drop(ctx, x.ID); err != nil {
				return err
			}
		}
	}
	return s.Drop(ctx, id)
}

// endTime is what a server has to end cleanly, and in a container to keep its
// templates.
const endTime = 20 * time.Second

// end ends a server: cleanly, and where it takes too long by force. Who waits
// for its end is told that it is under way.
func (r *record) end(path string, started *engine.Started, ended chan error) error {
	r.Ending = true
	_ = r.write(path)
	ctx, stop := context.WithTimeout(context.Background(), 30*time.Second)
	defer stop()
	keep := started.Tidy != nil && started.Tidy(ctx) == nil
	_ = started.Stop()
	select {
	case err := <-ended:
		keep = keep && err == nil
	case <-time.After(endTime):
		_ = started.Kill()
		<-ended
		keep = false
	}
	if keep && started.Save != nil {
		return started.Save()
	}
	return nil
}

// owned returns the name of a copy with a living owner, "" where there is
// none or the server does not answer.
func owned(ctx context.Context, starter engine.Starter, path string) string {
	if starter == nil {
		return ""
	}
	s, err := running(ctx, starter, path, engine.Patience{})
	if err != nil {
		return ""
	}
	defer s.Close()
	all, _ := s.List(ctx)
	for _, x := range all {
		if x.Kind == engine.Copy && Keeps(ctx, s, x.Facts.Owner) {
			return x.Facts.Name
		}
	}
	return ""
}

// stillBusy is busy, asked again: it may have been the guard that was there.
func stillBusy(e engine.Starter, address json.RawMessage) bool {
	for range 3 {
		if !busy(e, address) {
			return false
		}
		time.Sleep(50 * time.Millisecond)
	}
	return true
}

// StopIdle ends the private servers of this user that have neither copies nor
// clients, and that no Hemzo works on, and returns when what is kept of them is
// whole. The caller has closed its own.
func StopIdle(ctx context.Context, engines []engine.Engine) error {
	state, err := StateFolder()
	if err != nil {
		return err
	}
	records, _ := filepath.Glob(filepath.Join(state, "servers", "*.json"))
	for _, path := range records {
		r, err := readRecord(path)
		if err != nil || r.Address == nil || !Alive(r.Guard) {
			continue
		}
		if err := r.stopIdle(ctx, path, r.starter(engines)); err != nil {
			return err
		}
	}
	return nil
}

func (r record) stopIdle(ctx context.Context, path string, e engine.Starter) error {
	use := useOf(path)
	ok, err := use.TryLock()
	defer use.Close()
	if err != nil || !ok || e == nil || stillBusy(e, r.Address) {
		return err
	}
	return clearAway(ctx, path, e)
}

// Stop ends the private servers of this user and returns what ended. One
// with a copy whose owner is alive, or that a Hemzo works on or starts just now,
// is not ended unless force says so.
func Stop(ctx context.Context, engines []engine.Engine, force bool) ([]string, error) {
	state, err := StateFolder()
	if err != nil {
		return nil, err
	}
	records, _ := filepath.Glob(filepath.Join(state, "servers", "*.json"))
	var gone []string
	for _, path := range records {
		if ctx.Err() != nil {
			return gone, ctx.Err()
		}
		ended, err := stop(ctx, path, engines, force)
		if err != nil {
			return gone, err
		}
		if ended {
			gone = append(gone, strings.TrimSuffix(filepath.Base(path), ".json"))
		}
	}
	alone, err := stopAlone(ctx, state, force)
	return append(gone, alone...), err
}

// stop ends one server; false where somebody else has ended it.
func stop(ctx context.Context, path string, engines []engine.Engine, force bool) (bool, error) {
	r, err := readRecord(path)
	if errors.Is(err, os.ErrNotExist) {
		return false, nil
	}
	var starter engine.Starter
	if err == nil {
		starter = r.starter(engines)
	}
	name := strings.TrimSuffix(filepath.Base(path), ".json")
	if !force {
		if copied := owned(ctx, starter, path); copied != "" {
			return false, fault.New(fault.Refused, "--force ends it all the same", "the copy %q on %s has an owner that is still running", copied, name)
		}
		use := useOf(path)
		ok, err := use.TryLock()
		if err == nil && !ok {
			err = fault.New(fault.Refused, "wait for it, or end it all the same with --force", "another hemzo works on %s, or starts it", name)
		}
		defer use.Close()
		if err != nil {
			return false, err
		}
		if _, err := os.Stat(path); errors.Is(err, os.ErrNotExist) {
			return false, nil
		}
	}
	return true, clearAway(ctx, path, starter)
}
