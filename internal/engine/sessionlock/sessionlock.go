// Package sessionlock keeps the locks that belong to one session of a server: advisory ones,
// which the server lets go of when the session ends.
package sessionlock

import (
	"context"
	"fmt"
	"strings"
	"time"

	"hemzo/internal/engine"
	"hemzo/internal/turn"
)

// Session is how locks are taken in a session of type C, by their names. Within one session
// such locks do not exclude one another.
type Session[C any] struct {
	// With runs work on the session while nobody else uses it. A session that is broken is
	// opened again first, which calls Lost and Reacquire.
	With func(ctx context.Context, work func(context.Context, C) error) error
	// Last runs work on the session as it is; it is never opened for that.
	Last func(ctx context.Context, work func(context.Context, C))
	// Take tries to take a lock and does not wait for it.
	Take func(ctx context.Context, c C, name string) (bool, error)
	// Free lets go of one, which may have been lost.
	Free func(ctx context.Context, c C, name string)
	// Ping asks whether the session lives.
	Ping func(ctx context.Context, c C) error
	// Elsewhere reports whether another session of this process, which lives, holds the locks,
	// so that this one may be closed; nil for never.
	Elsewhere func(ctx context.Context) bool
}

// Locks are the locks of a session, counted in this process too. Use New. Its methods may be
// called from several goroutines, but for Lost and Reacquire.
type Locks[C any] struct {
	session Session[C]
	held    map[string]bool // by name; false for one that a break has cost, and that is to be taken again
	owning  turn.Turn       // for what follows
	own     string          // the owner lock, once asked for
	stop    func()          // ends what keeps the session
}

// New returns the locks of a session, none at first.
func New[C any](s Session[C]) *Locks[C] {
	return &Locks[C]{session: s, held: map[string]bool{}, owning: turn.New()}
}

// Lost notes that the session is another one: all its locks are to be taken again. With is
// under way.
func (l *Locks[C]) Lost() {
	for name := range l.held {
		l.held[name] = false
	}
}

// Reacquire takes the locks again that a break has cost. The server may not have noticed yet
// that the session which held one is gone: then it is tried again later. With is under way.
func (l *Locks[C]) Reacquire(ctx context.Context, c C) {
	for name, held := range l.held {
		if held {
			continue
		}
		ok, err := l.session.Take(ctx, c, name)
		if err != nil {
			return
		}
		l.held[name] = ok
	}
}

// Lock takes a lock that no other process, and nobody else in this one, has; waiting is
// called once if it is not free, and may be nil.
func (l *Locks[C]) Lock(ctx context.Context, name string, waiting func()) (unlock func(), err error) {
	// Many may wait for one that builds: they must not keep it from its work.
	for again := time.Millisecond; ; again = min(again*3/2, 50*time.Millisecond) {
		ok, err := l.Try(ctx, name)
		if err != nil {
			return nil, fmt.Errorf("taking the lock %q: %w", name, err)
		}
		if ok {
			return func() { l.Unlock(name) }, nil
		}
		if waiting != nil {
			waiting()
			waiting = nil
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(again):
		}
	}
}

// Try takes a lock where it is free.
func (l *Locks[C]) Try(ctx context.Context, name string) (ok bool, err error) {
	err = l.session.With(ctx, func(ctx context.Context, c C) (err error) {
		if _, there := l.held[name]; there {
			return nil
		}
		if ok, err = l.session.Take(ctx, c, name); ok {
			l.held[name] = true
		}
		return err
	})
	return ok, err
}

// Unlock lets go of a lock.
func (l *Locks[C]) Unlock(name string) {
	ctx, stop := context.WithTimeout(context.Background(), time.Minute)
	defer stop()
	l.session.Last(ctx, func(ctx context.Context, c C) {
		delete(l.held, name)
		l.session.Free(ctx, c, name)
	})
}

// Own takes a lock that lives as long as this process, once, for all that asks; release lets
// go of it. The session is kept open meanwhile.
func (l *Locks[C]) Own(ctx context.Context) (name string, release func(), err error) {
	if err := l.owning.Take(ctx); err != nil {
		return "", nil, err
	}
	defer l.owning.Give()
	if l.own == "" {
		name := "owner-" + strings.TrimPrefix(engine.NewID(engine.Work), "hemzo_w_")
		if ok, err := l.Try(ctx, name); err != nil || !ok {
			return "", nil, fmt.Errorf("taking a lock: %w", err)
		}
		l.own = name
		l.keep()
	}
	mine := l.own
	return mine, func() {
		if l.owning.Take(context.Background()) != nil {
			return
		}
		defer l.owning.Give()
		l.Unlock(mine)
		if l.own == mine {
			l.own = ""
		}
	}, nil
}

// Any reports whether a lock is held, or is to be taken again. It is called where the
// session is nobody else's, as Lost is.
func (l *Locks[C]) Any() bool { return len(l.held) > 0 }

// Held lists the locks by name; whole is false where one of them is to be taken again. It is
// called where the session is nobody else's, as Lost is.
func (l *Locks[C]) Held() (names []string, whole bool) {
	whole = true
	for name, held := range l.held {
		names, whole = append(names, name), whole && held
	}
	return names, whole
}

// IsOwn reports whether a lock is this process's own.
func (l *Locks[C]) IsOwn(name string) bool { return name == l.own }

// lookAfter is how often an owner looks whether its session holds: well below the time after
// which others sweep what has lost its owner.
const lookAfter = 5 * time.Second

// keep opens the session again, and takes its locks again, when it breaks while this process
// waits for something else.
func (l *Locks[C]) keep() {
	if l.stop != nil {
		return
	}
	ctx, stop := context.WithCancel(context.Background())
	l.stop = stop
	go func() {
		for {
			select {
			case <-ctx.Done():
				return
			case <-time.After(lookAfter):
			}
			look, done := context.WithTimeout(ctx, 3*lookAfter)
			if l.session.Elsewhere != nil && l.session.Elsewhere(look) {
				done()
				continue
			}
			_ = l.session.With(look, func(ctx context.Context, c C) error {
				l.Reacquire(ctx, c)
				return l.session.Ping(ctx, c)
			})
			done()
		}
	}()
}

// Close ends what keeps the session, as long as ctx lasts.
func (l *Locks[C]) Close(ctx context.Context) {
	if l.owning.Take(ctx) != nil {
		return
	}
	defer l.owning.Give()
	if l.stop != nil {
		l.stop()
	}
}
