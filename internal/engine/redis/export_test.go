package redis

import (
	"context"
	"errors"

	"hemzo/internal/engine"
	"hemzo/internal/engine/redis/resp"
)

// Client is a session of a test's own.
type Client struct{ c *conn }

// DialClient connects to a copy as its clients do.
func DialClient(ctx context.Context, at engine.Connection) (*Client, error) {
	a := address{Password: at.Password, Account: at.User}
	a.moveTo(at.Host + ":" + at.Port)
	c, err := a.dialAsTests(ctx)
	return &Client{c}, err
}

// Do sends commands and returns the errors among the replies, and that which ended the
// session.
func (c *Client) Do(ctx context.Context, commands ...[]string) (refused []error, err error) {
	all, err := c.c.all(ctx, commands)
	for _, v := range all {
		if failed := v.Failed(); failed != nil {
			refused = append(refused, failed)
		}
	}
	return refused, err
}

// Ask sends one command and returns its reply.
func (c *Client) Ask(ctx context.Context, words ...string) (resp.Value, error) {
	return c.c.do(ctx, words...)
}

// Close ends the session.
func (c *Client) Close() error { return c.c.Close() }

// IsBroken reports whether an error ended a session.
func IsBroken(err error) bool { return errors.Is(err, errBroken) }
