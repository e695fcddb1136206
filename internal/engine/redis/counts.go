package redis

import (
	"context"
	"encoding/json"
	"maps"
	"slices"
	"strconv"
	"strings"
)

// counts are what a server counts of commands and keys, where it is about something that a
// reset puts back: as long as they are the same, nothing was touched. A server counts each
// call, in scripts and transactions too, and nobody but an administrator sets them back.
type counts struct {
	Life  string           `json:"life"`            // another one at each start of the server
	Calls map[string]int64 `json:"calls"`           // of commands, and keys that have gone by themselves
	Epoch int64            `json:"epoch,omitempty"` // when expiry times began to run, in milliseconds since 1970

	blocked int // clients that wait for a key
}

// equal reports whether nothing happened between two counts.
func (c counts) equal(o counts) bool { return c.Life == o.Life && maps.Equal(c.Calls, o.Calls) }

// after reports whether c was counted no earlier than o.
func (c counts) after(o counts) bool {
	if c.Life != o.Life {
		return false
	}
	for name, n := range o.Calls {
		if c.Calls[name] < n {
			return false
		}
	}
	return true
}

// more lists the commands that were called since o.
func (c counts) more(o counts) (names []string) {
	for name, n := range c.Calls {
		if n != o.Calls[name] {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

func (c counts) json() json.RawMessage {
	b, _ := json.Marshal(c) // of texts and numbers
	return b
}

func readCounts(b json.RawMessage) (c counts, ok bool) {
	return c, len(b) > 0 && json.Unmarshal(b, &c) == nil && c.Life != ""
}

// gone are counters of keys and fields that went without a command.
var gone = []string{"expired_keys", "evicted_keys", "expired_subkeys", "expired_fields"}

// askCounts are the commands that ask for counts.
func (a address) askCounts() [][]string {
	if a.atLeast(7, 0) {
		return [][]string{{"INFO", "server", "clients", "stats", "commandstats"}}
	}
	return [][]string{{"INFO", "server"}, {"INFO", "clients"}, {"INFO", "stats"}, {"INFO", "commandstats"}}
}

// harmless are the commands that change nothing of what a reset puts back.
type harmless map[string]bool

// categories of which no command changes anything, and categories of which some does.
var (
	innocent = []string{"read", "connection", "pubsub", "transaction"}
	guilty   = []string{"write", "scripting", "dangerous"}
)

// quiet are harmless too: of Hemzo's own, and what only asks.
var quiet = []string{"info", "command", "time", "wait", "waitaof", "lastsave", "role", "dump", "scan", "keys",
	"sort_ro", "acl", "acl|cat", "acl|whoami", "select", "config|get", "client", "client|list", "client|kill",
	"client|info", "client|tracking", "hello", "auth", "ping", "memory|usage", "memory|stats", "save", "function|dump",
	"function|list", "function|stats", "script|exists"}

// askHarmless asks a server which of its commands are.
func (a address) askHarmless(ctx context.Context, c *conn) (harmless, error) {
	if a.One { // what others do is counted too: it is not looked at
		return harmless{}, nil
	}
	var ask [][]string
	for _, category := range append(slices.Clone(innocent), guilty...) {
		ask = append(ask, []string{"ACL", "CAT", category})
	}
	all, err := c.all(ctx, ask)
	if err != nil {
		return nil, err
	}
	h := harmless{}
	for i, names := range all {
		if err := names.Failed(); err != nil {
			return nil, err
		}
		for _, name := range names.Items {
			if i < len(innocent) {
				h[name.Text] = true
			} else {
				delete(h, name.Text)
			}
		}
	}
	for _, name := range quiet {
		h[name] = true
	}
	delete(h, "pfcount") // it writes what it has counted into the key
	return h, nil
}

// countsOf reads what INFO said.
func (h harmless) countsOf(info string) counts {
	c := counts{Calls: map[string]int64{}}
	for line := range strings.Lines(info) {
		name, value, ok := strings.Cut(strings.TrimRight(line, "\r\n"), ":")
		if !ok {
			continue
		}
		switch command, isCommand := strings.CutPrefix(name, "cmdstat_"); {
		case isCommand && !h[command]:
			calls, _, _ := strings.Cut(strings.TrimPrefix(value, "calls="), ",")
			if n, err := strconv.ParseInt(calls, 10, 64); err == nil && n > 0 {
				c.Calls[command] = n
			}
		case name == "run_id":
			c.Life = value
		case name == "blocked_clients":
			c.blocked, _ = strconv.Atoi(value)
		case slices.Contains(gone, name):
			if n, err := strconv.ParseInt(value, 10, 64); err == nil && n > 0 {
				c.Calls["-"+name] = n
			}
		}
	}
	return c
}
