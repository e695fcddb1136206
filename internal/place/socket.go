package place

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"

	"hemzo/internal/engine"
	"hemzo/internal/engine/launch"
	"hemzo/internal/fault"
)

// What a guard is asked on its socket: one request, in JSON, for a connection,
// and one reply once it is done.
const (
	askStart  = "start"  // the server of a copy
	askStop   = "stop"   // the server of a copy
	askSweep  = "sweep"  // what has lost its owner
	askOwners = "owners" // of the copies: those that live
	askEnd    = "end"    // the servers, and the guard
	askReply  = "reply"  // nothing
)

type request struct {
	Do   string `json:"do"`
	ID   string `json:"id,omitempty"`
	From string `json:"from,omitempty"`
}

type reply struct {
	Member member       `json:"member,omitzero"`
	Owned  []string     `json:"owned,omitempty"` // names of copies
	Failed *fault.Error `json:"failed,omitempty"`
}

// listener takes the requests to a guard.
type listener struct {
	path string // "" where there can be no socket
	net.Listener
}

// listen listens on a socket in the user's private folder for data. Where its
// path would be too long there is none: the guard then looks by itself alone,
// and is ended by a signal.
func (g *guard) listen() (*listener, error) {
	folder, err := DataFolder(0)
	if err != nil {
		return nil, err
	}
	id := strings.TrimSuffix(filepath.Base(g.path), ".json")
	l := &listener{path: filepath.Join(folder.Path,
		fmt.Sprintf("guard-%s-%d.sock", id[strings.LastIndexByte(id, '-')+1:], os.Getpid()))}
	if len(l.path) > launch.LongestSocket {
		l.path = ""
		return l, nil
	}
	os.Remove(l.path) // an earlier process's, which had this one's number
	if l.Listener, err = net.Listen("unix", l.path); err != nil {
		return nil, fmt.Errorf("listening for requests: %w", err)
	}
	go g.accept(l)
	return l, nil
}

func (l *listener) close() {
	if l != nil && l.Listener != nil {
		l.Close()
	}
}

func (g *guard) accept(l *listener) {
	for {
		conn, err := l.Accept()
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil { // out of descriptors, say
			time.Sleep(10 * time.Millisecond)
			continue
		}
		go g.answer(conn)
	}
}

// answer does what one request says. Where who asked goes meanwhile, a start is
// given up.
func (g *guard) answer(conn net.Conn) {
	defer conn.Close()
	var r request
	if json.NewDecoder(conn).Decode(&r) != nil {
		return
	}
	ctx, stop := context.WithTimeout(context.Background(), g.record.Within)
	defer stop()
	if r.Do == askStart {
		go func() {
			_, _ = conn.Read(make([]byte, 1)) // nothing comes but the end
			stop()
		}()
	}
	var out reply
	err := g.do(ctx, r, &out)
	if err != nil && !errors.As(err, &out.Failed) {
		out.Failed = fault.New(fault.Failed, "", "%v", err)
	}
	if out.Failed != nil {
		out.Failed.Reason = nil
	}
	if json.NewEncoder(conn).Encode(out) != nil && r.Do == askStart && err == nil {
		_ = g.remove(context.Background(), r.ID) // nobody knows of it
	}
}

func (g *guard) do(ctx context.Context, r request, out *reply) (err error) {
	switch r.Do {
	case askStart, askStop:
		if kind, ok := engine.KindOf(r.ID); !ok || kind == engine.Template {
			return fmt.Errorf("%q is no copy", r.ID)
		}
		if r.Do == askStop {
			return g.remove(ctx, r.ID)
		}
		out.Member, err = g.replace(ctx, r.ID, r.From)
	case askReply:
	case askSweep:
		g.look()
	case askOwners:
		var s engine.Server
		if s, err = g.connect(ctx); err == nil {
			defer s.Close()
			out.Owned, err = ownedOn(ctx, s)
		}
	case askEnd:
		select {
		case g.asked <- struct{}{}:
		default: // somebody else did
		}
		<-g.over
	default:
		err = fmt.Errorf("a guard cannot %q", r.Do)
	}
	return err
}

// ownedOn lists the copies on a server whose owners live.
func ownedOn(ctx context.Context, s engine.Server) (names []string, err error) {
	all, err := s.List(ctx, engine.Copy)
	for _, x := range all {
		if OwnerAlive(ctx, s, x.Facts.Owner) {
			names = append(names, x.Facts.Name)
		}
	}
	return names, err
}

// answers fails where a guard gives no reply: one that was killed just now can look alive,
// its socket can still take a request, and there is no one server whose silence would show
// it.
func (r record) answers(ctx context.Context) error {
	if r.Socket == "" { // it could not make one, and is told so when it is asked
		return nil
	}
	ctx, stop := context.WithTimeout(ctx, 10*time.Second)
	defer stop()
	_, err := r.ask(ctx, request{Do: askReply})
	if _, replied := errors.AsType[*fault.Error](err); replied { // one of an older version
		return nil
	}
	return err
}

// tell sends a guard a request and does not wait for its reply.
func (r record) tell(ask request) (net.Conn, error) {
	if r.Socket == "" {
		return nil, launch.TooLong(filepath.Dir(r.Folder))
	}
	conn, err := net.DialTimeout("unix", r.Socket, time.Second)
	if err != nil {
		return nil, fmt.Errorf("asking the guard: %w", err)
	}
	if err := json.NewEncoder(conn).Encode(ask); err != nil {
		conn.Close()
		return nil, fmt.Errorf("asking the guard: %w", err)
	}
	return conn, nil
}

// ask sends a guard a request and waits for its reply, as long as ctx lasts.
func (r record) ask(ctx context.Context, ask request) (out reply, err error) {
	conn, err := r.tell(ask)
	if err != nil {
		return out, err
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	if err := json.NewDecoder(conn).Decode(&out); err != nil {
		if ctx.Err() != nil {
			return out, ctx.Err()
		}
		return out, fmt.Errorf("asking the guard: %w", err)
	}
	if out.Failed != nil {
		return out, out.Failed
	}
	return out, nil
}
