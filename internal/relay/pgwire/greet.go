package pgwire

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5/pgproto3"

	"hemzo/internal/pattern"
)

// What the first four bytes of a connection's first message say.
const (
	protocol3  = 3 << 16
	cancelCode = 80877102
	tlsCode    = 80877103
	gssCode    = 80877104
)

// greet takes a client in: TLS and GSS are declined, the password is checked, and the
// settings that it begins with are tried. A request to cancel is returned.
func (c *client) greet(ctx context.Context) (*cancelRequest, error) {
	for range 4 {
		var head [8]byte
		if _, err := io.ReadFull(c.in, head[:]); err != nil {
			return nil, nil //nolint:nilerr // it went before it said anything
		}
		length, code := int(binary.BigEndian.Uint32(head[:]))-8, binary.BigEndian.Uint32(head[4:])
		if length < 0 || length > 10000 {
			return nil, c.refuse(protocolError, "no startup message has that length")
		}
		body := make([]byte, length)
		if _, err := io.ReadFull(c.in, body); err != nil {
			return nil, fmt.Errorf("reading a startup message: %w", err)
		}
		switch {
		case code == tlsCode || code == gssCode:
			if _, err := c.Conn.Write([]byte{'N'}); err != nil {
				return nil, err
			}
			continue
		case code == cancelCode && length >= 8:
			return &cancelRequest{binary.BigEndian.Uint32(body), body[4:]}, nil
		case code>>16 == protocol3>>16:
			return nil, c.admit(ctx, code, body)
		}
		return nil, c.refuse(protocolError, fmt.Sprintf("the protocol %d.%d is not spoken here", code>>16, code&0xffff))
	}
	return nil, c.refuse(protocolError, "a startup message was to follow")
}

// errRefused says that a client was told why it is not served.
var errRefused = errors.New("the client was refused")

// refuse ends a connection with an error.
func (c *client) refuse(code, text string) error {
	e := problem(code, text, "")
	e.Severity, e.SeverityUnlocalized = "FATAL", "FATAL"
	return errors.Join(c.send(e), c.out.Flush(), errRefused)
}

// admit checks who a client says it is, and tells it what it has to know.
func (c *client) admit(ctx context.Context, code uint32, body []byte) error {
	wanted := map[string]string{}
	words := strings.Split(string(body), "\x00")
	var unknown []string
	for i := 0; i+1 < len(words) && words[i] != ""; i += 2 {
		if strings.HasPrefix(words[i], "_pq_.") {
			unknown = append(unknown, words[i])
			continue
		}
		wanted[words[i]] = words[i+1]
	}
	if code > protocol3 || unknown != nil {
		if err := c.send(&pgproto3.NegotiateProtocolVersion{UnrecognizedOptions: unknown}); err != nil {
			return err
		}
	}
	k := c.relay.config
	user, database := wanted["user"], wanted["database"]
	if database == "" {
		database = user
	}
	if err := c.checkPassword(); err != nil || user != k.User {
		return c.refuse(badPassword, fmt.Sprintf("password authentication failed for user %q", user))
	}
	if database != k.Database {
		return c.refuse(badDatabase, fmt.Sprintf("database %q does not exist here: this is %q", database, k.Database))
	}
	if wanted["replication"] != "" && wanted["replication"] != "false" {
		return c.refuse(notSupported, "a copy that is reset by rollback has no replication")
	}
	if err := c.send(&pgproto3.AuthenticationOk{}); err != nil {
		return err
	}
	return c.begin(ctx, wanted)
}

// option is one of those in the startup parameter of that name.
var option = pattern.Lazy(`(?:-c\s*|--)([A-Za-z_][\w.-]*)=((?:[^\s\\]|\\.)*)`)

var settingName = pattern.Lazy(`^[A-Za-z_][A-Za-z0-9_.]*$`)

// begin applies the settings that a client begins with, and greets it.
func (c *client) begin(ctx context.Context, wanted map[string]string) error {
	for _, m := range option().FindAllStringSubmatch(wanted["options"], -1) {
		wanted[strings.ReplaceAll(m[1], "-", "_")] = strings.ReplaceAll(m[2], `\`, "")
	}
	application := wanted["application_name"]
	for _, name := range []string{"user", "database", "options", "replication"} {
		delete(wanted, name)
	}
	r := c.relay
	if err := r.IO.Take(ctx); err != nil {
		return err
	}
	defer r.IO.Give()
	s, err := r.session(ctx)
	if err != nil {
		return errors.Join(err, c.refuse(connectionFailed, "the copy cannot be reached: "+err.Error()))
	}
	c.server = s
	params := maps.Clone(s.params)
	var sql []string
	for _, name := range slices.Sorted(maps.Keys(wanted)) {
		if !settingName().MatchString(name) {
			return c.refuse(protocolError, fmt.Sprintf("%q is not a setting's name", name))
		}
		if slices.Contains(fatalSettings, strings.ToLower(name)) {
			continue
		}
		set := fmt.Sprintf("SET %s = '%s'", name, strings.ReplaceAll(wanted[name], "'", "''"))
		c.settings[strings.ToLower(name)] = set
		sql = append(sql, set)
	}
	c.initial = maps.Clone(c.settings)
	if sql != nil {
		// Tried where it harms nobody, and taken back: they are applied in front of
		// this client's work.
		told, err := s.try(strings.Join(sql, ";"))
		if err != nil {
			return errors.Join(err, c.refuse(protocolError, err.Error()))
		}
		maps.Copy(params, told)
	}
	for _, name := range slices.Sorted(maps.Keys(params)) {
		if err := c.send(&pgproto3.ParameterStatus{Name: name, Value: params[name]}); err != nil {
			return err
		}
	}
	rand.Read(c.secret[:])
	r.enter(c)
	r.Call(&c.Client, application)
	key := pgproto3.BackendKeyData{ProcessID: c.ID, SecretKey: c.secret[:]}
	return errors.Join(c.send(&key), c.send(&pgproto3.ReadyForQuery{TxStatus: 'I'}), c.out.Flush())
}
