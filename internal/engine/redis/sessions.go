package redis

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"hemzo/internal/engine"
)

// clients lists who is connected to a server, but for Hemzo.
func clients(ctx context.Context, at engine.Endpoint) ([]engine.Client, error) {
	a := addressOf(at)
	c, err := a.dial(ctx)
	if err != nil {
		return nil, nil // a server that does not run has no clients
	}
	defer c.Close()
	return clientsOf(ctx, c)
}

func clientsOf(ctx context.Context, c *conn) (all []engine.Client, err error) {
	v, err := c.do(ctx, "CLIENT", "LIST")
	if err != nil {
		return nil, fmt.Errorf("asking who is connected: %w", err)
	}
	for line := range strings.Lines(v.Text) {
		if x, ok := clientOf(line); ok && x.User != admin {
			all = append(all, x)
		}
	}
	return all, nil
}

// clientOf reads a line of CLIENT LIST.
func clientOf(line string) (x engine.Client, ok bool) {
	fields := map[string]string{}
	for _, word := range strings.Fields(line) {
		name, value, _ := strings.Cut(word, "=")
		fields[name] = value
	}
	if fields["id"] == "" {
		return x, false
	}
	age, _ := strconv.Atoi(fields["age"])
	x = engine.Client{User: fields["user"], Application: fields["name"], Address: fields["addr"], State: "idle",
		Since: time.Now().Add(-time.Duration(age) * time.Second).UTC().Truncate(time.Second),
		Query: strings.ToUpper(strings.ReplaceAll(fields["cmd"], "|", " "))}
	x.PID, _ = strconv.Atoi(fields["id"])
	flags := fields["flags"]
	switch {
	case strings.Contains(flags, "b"):
		x.State = "waits for a key"
	case strings.Contains(flags, "P"):
		x.State = "subscribed"
	case strings.Contains(flags, "x"):
		x.State = "in MULTI"
	}
	if x.Query == "NULL" {
		x.Query = ""
	}
	return x, true
}

// watch tells whether anybody connects to a server from now on.
func watch(ctx context.Context, at engine.Endpoint) (func(time.Duration) (engine.Visitor, error), error) {
	a := addressOf(at)
	c, err := a.dial(ctx)
	if err != nil {
		return nil, unreachable(a, err)
	}
	before, err := received(ctx, c)
	if err != nil {
		c.Close()
		return nil, err
	}
	return func(time.Duration) (engine.Visitor, error) {
		defer c.Close()
		ctx, stop := context.WithTimeout(context.Background(), dialTime)
		defer stop()
		now, err := received(ctx, c)
		if err != nil || now != before { // it has been started anew, or somebody came
			return engine.Somebody, nil
		}
		return engine.Nobody, nil
	}, nil
}

// received is how many connections a server has taken.
func received(ctx context.Context, c *conn) (string, error) {
	v, err := c.do(ctx, "INFO", "stats")
	if err != nil {
		return "", fmt.Errorf("asking who has come: %w", err)
	}
	_, rest, _ := strings.Cut(v.Text, "total_connections_received:")
	n, _, _ := strings.Cut(rest, "\r\n")
	return n, nil
}
