// Package gating is what the gates of engines have in common: how a relay's clients and
// remarks are told to others.
package gating

import (
	"context"
	"time"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
	"hemzo/internal/relay"
)

// IdleLimit is how long a client waits for another whose transaction is open and idle.
const IdleLimit = 2 * time.Second

// NotBehind says that a copy which is to be reset by rollback has no gate before it.
func NotBehind() error {
	return fault.New(fault.Lacking, "leave out --by, or run the suite with  hemzo run --by rollback",
		"this copy is not behind a relay, which resets by rollback take")
}

// Client is a client of a relay, which connects as a user, as others see it.
func Client(o relay.Open, user string) engine.Client {
	c := engine.Client{PID: int(o.ID), User: user, Application: o.Application, Address: o.From, Since: o.Began,
		Query: o.Last, State: "idle"}
	switch {
	case o.Active:
		c.State, c.Began = "active", o.Since
	case o.WaitsFor != 0:
		c.State, c.WaitsFor = "waits for its turn", []int{int(o.WaitsFor)}
	case o.Holds:
		c.State, c.Began = "idle in transaction", o.Since
	}
	return c
}

// Clients lists who is connected.
func Clients(r *relay.Shared, user string) []engine.Client {
	all := []engine.Client{}
	for _, o := range r.Clients() {
		all = append(all, Client(o, user))
	}
	return all
}

// Busy says whose statement is in the way of a reset.
func Busy(o relay.Open, user string, wait time.Duration) error {
	return engine.InTheWay([]engine.Client{Client(o, user)}, wait,
		"end its statement first, or have it ended with  --force", "a statement of a client is under way")
}

// Commit has a relay commit: open transactions are in the way, unless they are forced.
func Commit(ctx context.Context, session engine.Session, force bool, user string,
	commit func(ctx context.Context, wait time.Duration, force bool) ([]relay.Open, error)) error {
	open, err := commit(ctx, session.Wait, force)
	if err != nil || open == nil || force {
		return err
	}
	all := make([]engine.Client, len(open))
	for i, o := range open {
		o.Holds = !o.Active
		all[i] = Client(o, user)
	}
	return engine.InTheWay(all, session.Wait, "end these transactions first", "transactions of clients are open")
}

// Remarks says in what the transaction was not what clients may expect.
func Remarks(r *relay.Shared) (all []engine.Remark) {
	for _, m := range r.Remarks() {
		all = append(all, remarkOn(m))
	}
	return all
}

func remarkOn(m relay.Remark) engine.Remark {
	switch m.Kind {
	case relay.Stands:
		return engine.Remark{Kind: "clock", Text: "the time of a transaction stands still from one reset to the next, " +
			"as all is one; clock_timestamp() does not: " + m.Statement}
	case relay.Weaker:
		return engine.Remark{Kind: "isolation", Text: "an isolation level was asked for and not given, " +
			"it is read committed: " + m.Statement}
	case relay.Waited:
		return engine.Remark{Kind: "turns", Unfit: true, Text: "two clients had transactions open at once, " +
			"which one transaction cannot hold: " + m.Statement}
	default:
		return engine.Remark{Kind: "commit", Unfit: true,
			Text: "a statement cannot be inside a transaction: " + m.Statement}
	}
}
