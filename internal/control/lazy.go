package control

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"sync"
	"time"

	"hemzo/internal/copies"
	"hemzo/internal/engine"
	"hemzo/internal/fault"
)

// Lazy says how a copy is handed out that is made when somebody first comes
// to it.
type Lazy struct {
	Ports []int // that it is reached at, the main one first
	// Foretell tells its connection, with an address for each port.
	Foretell func(at map[int]string, id string) engine.Connection
	// Move tells the connection of a copy that is there with those addresses.
	Move func(c engine.Connection, at map[int]string) engine.Connection
	// Gate opens what stands before a copy and takes its connections, of those who were
	// told so; nil where they are passed on as they are.
	Gate func(ctx context.Context, s engine.Server, id string, told engine.Connection) (engine.Gate, error)
	// Now says that the copy is made at once all the same: it is its gate that is
	// listened for.
	Now bool
	// Made is told of each copy when it is there.
	Made func(s copies.ScopedServer, t *copies.Taken)
	// Remarked takes what a gate remarks; nil where nobody wants to know.
	Remarked func(engine.Remark)
	// Failed takes why a copy could not be made for somebody who came.
	Failed func(error)
}

// doors listens in the place of a copy and passes connections on: what is
// said on them it does not look at.
type doors struct {
	listeners []net.Listener
	ctx       context.Context // ends with the doors
	stop      context.CancelFunc
	open      sync.WaitGroup

	mu    sync.Mutex // for what follows
	conns map[net.Conn]bool
}

// listen listens for a copy on free ports of this machine.
func (x *Copy) listen() error {
	d := &doors{}
	d.ctx, d.stop = context.WithCancel(context.Background())
	at := map[int]string{}
	for _, port := range x.source.Lazy.Ports {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			d.stopAccepting()
			d.open.Wait()
			return fault.New(fault.Lacking, "", "there is no free port: %v", err)
		}
		d.listeners = append(d.listeners, l)
		at[port] = l.Addr().String()
		d.open.Go(func() { d.accept(l, x, port) })
	}
	x.doors = d
	if x.made {
		x.foretold = x.source.Lazy.Move(x.source.Scoped.Server.Connection(x.entry.ID, x.entry.Facts), at)
	} else {
		x.foretold = x.source.Lazy.Foretell(at, x.entry.ID)
	}
	return nil
}

func (d *doors) accept(l net.Listener, x *Copy, port int) {
	var pause time.Duration
	for {
		conn, err := l.Accept()
		if d.ctx.Err() != nil {
			return
		}
		if err != nil { // out of descriptors, say: it goes on when there are some
			pause = min(max(2*pause, 5*time.Millisecond), time.Second)
			select {
			case <-d.ctx.Done():
				return
			case <-time.After(pause):
			}
			continue
		}
		pause = 0
		d.open.Go(func() {
			d.note(conn, true)
			defer d.note(conn, false)
			defer conn.Close()
			x.came.Store(true)
			if err := d.pass(conn, x, port); err != nil && d.ctx.Err() == nil {
				x.source.Lazy.Failed(fmt.Errorf("%s: %w", x.source.Name, err))
			}
		})
	}
}

// pass passes a connection on to the copy, which is made where it is not
// there yet. It returns when both sides have ended theirs, or the doors close.
func (d *doors) pass(conn net.Conn, x *Copy, port int) error {
	gate, at, err := x.destination(d.ctx, port)
	if err != nil {
		return err
	}
	if gate != nil {
		over := context.AfterFunc(d.ctx, func() { conn.Close() })
		defer over()
		return gate.ServeConn(d.ctx, conn)
	}
	server, err := net.Dial("tcp", at)
	if err != nil {
		return err
	}
	defer server.Close()
	over := context.AfterFunc(d.ctx, func() { conn.Close(); server.Close() })
	defer over()
	var both sync.WaitGroup
	for _, way := range [][2]net.Conn{{server, conn}, {conn, server}} {
		both.Go(func() {
			// How it broke is for the two sides to say.
			_, _ = io.Copy(way[0], way[1])
			if half, ok := way[0].(*net.TCPConn); ok {
				_ = half.CloseWrite()
			}
		})
	}
	both.Wait()
	return nil
}

// note keeps count of the connections that are open.
func (d *doors) note(conn net.Conn, open bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.conns == nil {
		d.conns = map[net.Conn]bool{}
	}
	if open {
		d.conns[conn] = true
	} else {
		delete(d.conns, conn)
	}
}

// endConnections ends those that are open; those that come get where they are to lead
// now. It reports whether there were any.
func (d *doors) endConnections() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	for conn := range d.conns {
		conn.Close()
	}
	return len(d.conns) > 0
}

// stopAccepting ends the connections, too.
func (d *doors) stopAccepting() {
	d.stop()
	for _, l := range d.listeners {
		l.Close()
	}
}

// destination is where a connection to a port of the copy goes, once it is made:
// to its gate, or to an address.
func (x *Copy) destination(ctx context.Context, port int) (gate engine.Gate, address string, err error) {
	if err := x.busy.Take(ctx); err != nil {
		return nil, "", err
	}
	defer x.busy.Give()
	if err := x.make(ctx); err != nil {
		return nil, "", err
	}
	if x.next == "" {
		if gate, err = x.gateway(ctx); gate != nil || err != nil {
			return gate, "", err
		}
	}
	address, err = x.address(port)
	return nil, address, err
}

// gateway opens the copy's gate, once; nil where it has none.
func (x *Copy) gateway(ctx context.Context) (_ engine.Gate, err error) {
	if x.gate == nil && x.source.Lazy != nil && x.source.Lazy.Gate != nil {
		x.gate, err = x.source.Lazy.Gate(ctx, x.source.Scoped.Server, x.entry.ID, x.foretold)
		if err == nil { // for other commands
			at := net.JoinHostPort(x.foretold.Host, x.foretold.Port)
			err = x.source.Scoped.Server.UpdateFacts(ctx, x.entry.ID, func(f *engine.Facts) {
				f.Through, f.Asks = at, os.Getpid()
			})
			x.notePassing()
		}
	}
	return x.gate, err
}

// remark passes on what its gate has to say.
func (x *Copy) remark() {
	for _, m := range x.gate.Remarks() {
		x.control.remarked(x.source, m)
	}
}

// address is where a port of the copy is reached.
func (x *Copy) address(port int) (string, error) {
	c := x.source.Scoped.Server.Connection(x.entry.ID, x.entry.Facts)
	if c.Password != x.foretold.Password {
		return "", errors.New("its server was started with another password: end it with  hemzo stop")
	}
	return c.Address(port), nil
}

// Visited tells who came to a copy, waiting for news of that; known is false where
// nobody watched.
func (x *Copy) Visited(wait time.Duration) (who engine.Visitor, known bool) {
	if x.doors != nil {
		if x.came.Load() {
			return engine.Somebody, true
		}
		return engine.Nobody, true
	}
	if x.visited == nil {
		return engine.Nobody, false
	}
	x.Release()
	who, err := x.visited(wait)
	if err != nil {
		return engine.Somebody, true // nobody is blamed for what cannot be told
	}
	return who, true
}
