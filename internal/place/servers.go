package place

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"time"

	"github.com/gofrs/flock"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
	"hemzo/internal/filelock"
)

// startTime bounds how long a server may take to answer where nothing else
// is said.
const startTime = time.Minute

// hosted is what starts the servers of a record; nil where nothing does.
func (r record) hosted(engines []engine.Engine, state string, begin starter) (engine.Engine, host) {
	for _, e := range engines {
		if e.Name() == r.Engine {
			return e, hostOf(e, r.Where, state, begin)
		}
	}
	return nil, nil
}

// hostOf is what starts the servers of an engine in one kind of place; nil where
// they cannot be there.
func hostOf(e engine.Engine, where, state string, begin starter) host {
	h := e.Hosting()
	switch {
	case where == "memory" && h.Process != nil:
		return processes{h.Process, begin}
	case where == "container" && h.Container != nil:
		return inContainer{e, h.Container, state}
	}
	return nil
}

// opener connects to the servers of an engine that guards keep.
type opener struct {
	engine engine.Engine
	host   host
	wanted Wanted
	state  string
	path   string // of the record
}

// ensure connects to the private server that a Spec wants, and has a guard
// start it where it does not run. Of several processes one starts it.
func ensure(ctx context.Context, e engine.Engine, h host, w Wanted, state string) (engine.Server, error) {
	identity, err := h.identity(w.Spec)
	if err != nil {
		return nil, err
	}
	o := opener{engine: e, host: h, wanted: w, state: state, path: recordFile(state, identity)}
	if err := os.MkdirAll(filepath.Dir(o.path), 0o700); err != nil {
		return nil, fmt.Errorf("making the folder for servers: %w", err)
	}
	// From here on the server is not ended because nobody needs it. One that is
	// just being ended is waited for.
	use := useOf(o.path)
	if err := filelock.WaitShared(ctx, use); err != nil {
		return nil, fmt.Errorf("waiting for the end of %s: %w", identity, err)
	}
	s, err := o.ensured(ctx, identity)
	if err != nil {
		use.Close()
		return nil, err
	}
	s.use = use
	return s, nil
}

func (o opener) ensured(ctx context.Context, identity string) (*guarded, error) {
	if s, err := o.connect(ctx); err == nil {
		return s, nil
	}
	if r, err := readRecord(o.path); err == nil && r.Container != "" {
		if err := checkPaused(ctx, r.Container); err != nil {
			return nil, err
		}
	}
	lock := flock.New(filepath.Join(filepath.Dir(o.path), identity+".lock"))
	for {
		if err := filelock.Wait(ctx, lock); err != nil {
			return nil, fmt.Errorf("waiting for another process that starts %s: %w", identity, err)
		}
		if r, err := readRecord(o.path); err != nil || !Alive(r.Guard) {
			break
		}
		// It was started meanwhile: others wait for the lock, connecting needs none.
		lock.Close()
		s, err := o.connectLiving(ctx)
		if s != nil || err != nil {
			return s, err
		}
	}
	defer lock.Close()
	if err := clearAway(ctx, o.path, o.host); err != nil {
		return nil, err
	}
	r, err := o.newRecord(ctx, identity)
	if err != nil {
		return nil, err
	}
	if err := r.start(ctx, o.path); err != nil {
		// Its guard has ended, or was killed.
		return nil, errors.Join(err, clearAway(context.WithoutCancel(ctx), o.path, o.host))
	}
	return o.connect(ctx)
}

// lookAt connects to the private server that a Spec wants; nil where it does not
// run.
func lookAt(ctx context.Context, e engine.Engine, h host, w Wanted, state string) (engine.Server, error) {
	identity, err := h.identity(w.Spec)
	if err != nil {
		return nil, nil // this machine cannot have one
	}
	o := opener{engine: e, host: h, wanted: w, state: state, path: recordFile(state, identity)}
	return o.look(ctx)
}

// look connects to a server that runs, or starts just now; nil where none does.
func (o opener) look(ctx context.Context) (engine.Server, error) {
	r, err := readRecord(o.path)
	if err != nil || !Alive(r.Guard) {
		return nil, nil
	}
	if r.Container != "" {
		if err := checkPaused(ctx, r.Container); err != nil {
			return nil, err
		}
	}
	use := useOf(o.path)
	if err := filelock.WaitShared(ctx, use); err != nil {
		return nil, fmt.Errorf("waiting for the end of %s: %w", r.Identity, err)
	}
	s, err := o.connectLiving(ctx)
	if s == nil || err != nil {
		use.Close()
		return nil, err
	}
	s.use = use
	return s, nil
}

// newRecord is the record of a server to be started.
func (o opener) newRecord(ctx context.Context, identity string) (r record, err error) {
	w := o.wanted
	r = record{
		Engine: o.engine.Name(), Identity: identity, Spec: w.Spec, Idle: w.Idle, Within: w.Ready, Where: o.host.where(),
		Log: filepath.Join(filepath.Dir(o.path), identity+".log"),
	}
	if r.Within == 0 {
		r.Within = startTime
	}
	if c, ok := o.host.(inContainer); ok {
		r.Container = containerName(o.state, identity)
		if kept, err := keptFolder(); err == nil { // without one each start tests the server anew
			r.Kept = filepath.Join(kept, r.Engine)
		}
		return r, prepare(ctx, w, imageOf(c.how.Image(w.Spec), w.Spec))
	}
	err = o.assignFolders(&r)
	return r, err
}

// assignFolders finds the folders of servers that are processes of this machine.
func (o opener) assignFolders(r *record) error {
	kept, err := keptFolder()
	if err != nil {
		return err
	}
	r.Kept = filepath.Join(kept, r.Engine)
	folder, err := o.wanted.folder(o.state, o.engine.Hosting().Process.Room(r.Spec, r.Kept))
	// Another state folder of this user has servers of its own. The name is short:
	// the path of a socket in it may not be long.
	r.Folder = folder.Path + "-" + r.Engine + "-" + digest12([]byte(o.state+"\x00"+r.Identity))
	return err
}

// connect connects to a server that its record says is there.
func (o opener) connect(ctx context.Context) (*guarded, error) {
	r, err := readRecord(o.path)
	if err != nil {
		return nil, err
	}
	if !r.Ready || !Alive(r.Guard) {
		return nil, errors.New("its guard is gone")
	}
	var s engine.Server
	if h := o.engine.Hosting(); h.Separate(o.host.where()) {
		if err := r.answers(ctx); err != nil {
			return nil, err
		}
		s, err = h.PerCopy(ctx, &guardedFleet{state: o.state, path: o.path}, r.Spec)
	} else {
		p := o.wanted.patience()
		p.Log = r.Log
		s, err = h.Connect(ctx, r.address(), p)
	}
	if err != nil {
		return nil, err
	}
	return &guarded{Server: s, record: r}, nil
}

// guarded is a server with a guard.
type guarded struct {
	engine.Server
	record record
	use    *flock.Flock // held until it is closed; nil where it was only looked at
}

// Inner is the engine's own server behind one that Open has opened.
func Inner(s engine.Server) engine.Server {
	if g, ok := s.(*guarded); ok {
		return g.Server
	}
	return s
}

// Close closes the server, and lets others end it.
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
	return ok && g.record.Socket != "" && Alive(g.record.Guard)
}

// SweepSoon has the guard of a server look at once for what has lost its owner.
// It does not wait for that.
func SweepSoon(s engine.Server) {
	if g, ok := s.(*guarded); ok {
		if conn, err := g.record.tell(request{Do: askSweep}); err == nil {
			conn.Close()
		}
	}
}

// enterTime is how long a server that lives may refuse connections, because
// it has too many or is ending, before that is an error.
const enterTime = 15 * time.Second

// connectLiving connects to a server whose guard is alive, waiting for one that
// is starting or ending: what is kept of one that ends may take long to save. It
// returns nothing where there is no such guard: a server that others use is
// never taken for dead because it is busy.
func (o opener) connectLiving(ctx context.Context) (*guarded, error) {
	for end := time.Now().Add(enterTime); ; {
		s, err := o.connect(ctx)
		if err == nil {
			return s, nil
		}
		r, failed := readRecord(o.path)
		if failed != nil || !Alive(r.Guard) {
			return nil, nil
		}
		if time.Now().After(end) && !r.Ending {
			return nil, fault.New(fault.Lacking, "wait, or end it with  hemzo stop --force",
				"the private server runs and lets nobody in: %v", err)
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// start starts a guard and waits until its server answers.
func (r record) start(ctx context.Context, path string) error {
	if err := r.write(path); err != nil {
		return err
	}
	cmd, err := r.guardProgram(path)
	if err != nil {
		return err
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	end := func() {
		_ = cmd.Process.Signal(syscall.SIGTERM)
		<-ended
	}
	give := time.After(r.Within)
	for {
		if now, err := readRecord(path); err == nil {
			if now.Failed != nil {
				<-ended
				return r.startFailed(now.Failed)
			}
			if now.Ready {
				return nil
			}
		}
		select {
		case <-ctx.Done():
			end()
			return ctx.Err()
		case err := <-ended:
			if now, _ := readRecord(path); now.Failed != nil { // written since
				return r.startFailed(now.Failed)
			}
			return r.startFailed(fault.New(fault.Failed, "", "the guard ended while it started the server: %v", err))
		case <-give:
			end()
			return r.startFailed(fault.New(fault.Lacking, "see its log, or give more time with  ready_within:",
				"the server did not answer within %s", r.Within))
		case <-time.After(2 * time.Millisecond):
		}
	}
}

// guardProgram starts this program as a guard.
func (r record) guardProgram(path string) (*exec.Cmd, error) {
	program := os.Getenv("HEMZO_PROGRAM")
	if program == "" {
		var err error
		if program, err = os.Executable(); err != nil {
			return nil, err
		}
	}
	log, err := os.OpenFile(r.Log, os.O_CREATE|os.O_WRONLY|os.O_TRUNC|os.O_APPEND, 0o600)
	if err != nil {
		return nil, fmt.Errorf("opening the server's log: %w", err)
	}
	defer log.Close()
	// A session of its own and no descriptor of the caller's: whoever waits
	// for the end of the caller's output must not wait for the server's.
	cmd := exec.Command(program, GuardCommand, path)
	cmd.Dir = "/"
	cmd.Stdout, cmd.Stderr = log, log
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("starting the guard: %w", err)
	}
	return cmd, nil
}
