package mywire

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha1" //nolint:gosec // the protocol has it
	"crypto/sha256"
	"crypto/subtle"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"
)

// Ways to prove a password (MySQL's documentation of the protocol, "Native Authentication",
// "Caching_sha2_password Authentication").
const (
	Native = "mysql_native_password"
	SHA2   = "caching_sha2_password"
)

// can is what a client is told that the relay can. Where TLS is not among it, who asks for it
// and may do without goes on without. What would change the form of answers is left out.
const can = capMySQL | capFoundRows | capLongFlag | capConnectWithDB | capLocalFiles | capProtocol41 |
	capInteractive | capTransactions | capSecure | capMultiStatements | capMultiResults | capPSMultiResults |
	capPluginAuth | capAttributes | capLongAuth

// errRefused says that a client was told why it is not served.
var errRefused = errors.New("the client was refused")

// refuse ends a connection with an error.
func (c *client) refuse(code uint16, state, text string) error {
	c.fail(code, state, text)
	return errRefused
}

// login is what a client says of itself.
type login struct {
	capabilities         uint32
	collation            byte
	user, schema, plugin string
	response             []byte
	application          string
}

// greet takes a client in: its password is checked, and its database is told to it.
func (c *client) greet(ctx context.Context) error {
	if err := c.relay.IO.Take(ctx); err != nil {
		return err
	}
	s, err := c.relay.session(ctx, false)
	c.relay.IO.Give()
	if err != nil {
		return errors.Join(err, c.refuse(errUnknown, "HY000", "the copy cannot be reached: "+err.Error()))
	}
	scramble := newScramble()
	c.relay.Number(&c.Client)
	c.packet(c.greeting(s.version, scramble))
	if !c.flush() {
		return nil
	}
	return c.admit(ctx, scramble)
}

// admit checks who a client is, and lets it in.
func (c *client) admit(ctx context.Context, scramble []byte) error {
	payload, seq, err := readWhole(c.in, 1<<16)
	if err == nil && len(payload) == tlsRequest && c.relay.config.TLS != nil {
		if err := c.encrypt(ctx); err != nil {
			return nil //nolint:nilerr // it does not trust the certificate, say
		}
		payload, seq, err = readWhole(c.in, 1<<16)
	}
	if err != nil {
		return nil //nolint:nilerr // it went, or is none
	}
	c.seq = seq + 1
	l, good := readLogin(payload)
	if !good {
		return c.refuse(errMalformed, "HY000", "this is no greeting of a client that is understood here")
	}
	c.capabilities = l.capabilities
	if err := c.authenticate(l, scramble); err != nil {
		return err
	}
	return c.begin(ctx, l)
}

// tlsRequest is how long a request for TLS is, in bytes (ibid., "Protocol::SSLRequest").
const tlsRequest = 32

// encrypt has the connection go on by TLS.
func (c *client) encrypt(ctx context.Context) error {
	ctx, stop := context.WithTimeout(ctx, 10*time.Second)
	defer stop()
	conn := tls.Server(buffered{c.Conn, c.in}, c.relay.config.TLS)
	if err := conn.HandshakeContext(ctx); err != nil {
		return err
	}
	c.Conn, c.in = conn, bufio.NewReaderSize(conn, 16<<10)
	return nil
}

// buffered is a connection of which some was read already.
type buffered struct {
	net.Conn
	in *bufio.Reader
}

func (b buffered) Read(p []byte) (int, error) { return b.in.Read(p) }

// newScramble is what passwords are proved with: no byte of it is zero.
func newScramble() []byte { return []byte(rand.Text()[:20]) }

// greeting is the first packet (ibid., "Protocol::HandshakeV10").
func (c *client) greeting(version string, scramble []byte) []byte {
	out := append(append([]byte{10}, version...), 0)
	out = binary.LittleEndian.AppendUint32(out, c.ID)
	out = append(append(out, scramble[:8]...), 0)
	can := uint32(can)
	if c.relay.config.TLS != nil {
		can |= capTLS
	}
	out = binary.LittleEndian.AppendUint16(out, uint16(can))
	out = append(out, 45) // utf8mb4_general_ci
	out = binary.LittleEndian.AppendUint16(out, autocommits)
	out = binary.LittleEndian.AppendUint16(out, uint16(can>>16))
	out = append(append(out, 21), make([]byte, 10)...)
	out = append(append(out, scramble[8:]...), 0)
	return append(append(out, c.relay.config.Plugin...), 0)
}

// readLogin reads the answer to a greeting (ibid., "Protocol::HandshakeResponse41").
func readLogin(payload []byte) (l login, ok bool) {
	r := reader{b: payload}
	l.capabilities = r.uint32() & can
	r.take(4)
	l.collation = r.byte()
	r.take(23)
	if r.bad || l.capabilities&capProtocol41 == 0 || len(r.b) == 0 {
		return l, false
	}
	l.user = r.zero()
	switch {
	case l.capabilities&capLongAuth != 0:
		l.response, _ = r.text()
	case l.capabilities&capSecure != 0:
		l.response = r.take(int(r.byte()))
	default:
		l.response = []byte(r.zero())
	}
	if l.capabilities&capConnectWithDB != 0 {
		l.schema = r.zero()
	}
	if l.capabilities&capPluginAuth != 0 {
		l.plugin = r.zero()
	}
	if l.capabilities&capAttributes != 0 && len(r.b) > 0 {
		l.application = programOf(&r)
	}
	return l, !r.bad
}

// programOf is the program among what clients tell of themselves.
func programOf(r *reader) (program string) {
	all, _ := r.text()
	for in := (reader{b: all}); len(in.b) > 0 && !in.bad; {
		key, _ := in.text()
		value, _ := in.text()
		if string(key) == "program_name" || string(key) == "_client_name" && program == "" {
			program = string(value)
		}
	}
	return program
}

// authenticate has a client prove its password.
func (c *client) authenticate(l login, scramble []byte) error {
	plugin, response := l.plugin, l.response
	if plugin == "" { // it knows no other
		plugin = Native
	}
	if plugin != Native && plugin != SHA2 {
		var err error
		plugin = c.relay.config.Plugin
		if response, err = c.switchTo(plugin, scramble); err != nil {
			return err
		}
	}
	if l.user == c.relay.config.User && proves(plugin, c.relay.config.Password, scramble, response) {
		if plugin == SHA2 {
			c.packet([]byte{answerMore, 3}) // what was sent is enough
		}
		return nil
	}
	with := "NO"
	if len(response) > 0 {
		with = "YES"
	}
	host, _, _ := net.SplitHostPort(c.Conn.RemoteAddr().String())
	return c.refuse(errAccess, "28000", fmt.Sprintf("Access denied for user '%s'@'%s' (using password: %s)", l.user,
		host, with))
}

// switchTo asks a client for another proof (ibid., "Protocol::AuthSwitchRequest").
func (c *client) switchTo(plugin string, scramble []byte) ([]byte, error) {
	c.packet(append(append(append(append([]byte{answerEOF}, plugin...), 0), scramble...), 0))
	if !c.flush() {
		return nil, errRefused
	}
	response, seq, err := readWhole(c.in, 1<<16)
	if err != nil {
		return nil, errRefused
	}
	c.seq = seq + 1
	return response, nil
}

// proves reports whether a response to a scramble proves a password.
func proves(plugin, password string, scramble, response []byte) bool {
	if password == "" {
		return len(response) == 0
	}
	var want []byte
	if plugin == Native {
		once := sha1.Sum([]byte(password)) //nolint:gosec // the protocol has it
		twice := sha1.Sum(once[:])         //nolint:gosec // likewise
		sum := sha1.Sum(append(bytes.Clone(scramble), twice[:]...))
		want = xor(once[:], sum[:])
	} else {
		once := sha256.Sum256([]byte(password))
		twice := sha256.Sum256(once[:])
		sum := sha256.Sum256(append(twice[:], scramble...))
		want = xor(once[:], sum[:])
	}
	return subtle.ConstantTimeCompare(want, response) == 1
}

func xor(a, b []byte) []byte {
	out := make([]byte, len(a))
	for i := range a {
		out[i] = a[i] ^ b[i]
	}
	return out
}

// begin has a client's session begin, and tells it so.
func (c *client) begin(ctx context.Context, l login) error {
	r := c.relay
	if err := r.IO.Take(ctx); err != nil {
		return err
	}
	defer r.IO.Give()
	s, err := r.session(ctx, c.capabilities&capFoundRows != 0)
	if err != nil {
		return errors.Join(err, c.refuse(errUnknown, "HY000", "the copy cannot be reached: "+err.Error()))
	}
	if l.schema != "" && l.schema != r.config.Schema {
		if err := s.use(l.schema); err != nil {
			return c.passError(err)
		}
		c.schema = l.schema
	}
	if c.naming, err = r.naming(s, l.collation); err != nil {
		r.lose()
		return err
	}
	c.served, c.slot = true, r.slot()
	r.all[c] = true
	r.Enter(&c.Client)
	r.Call(&c.Client, l.application)
	c.okay()
	c.flush()
	return nil
}

// passError tells a client what the server said; what else went wrong loses the session.
func (c *client) passError(err error) error {
	e, ok := errors.AsType[*serverError](err)
	if !ok {
		c.relay.lose()
		return errors.Join(err, c.refuse(errUnknown, "HY000", "the copy cannot be reached: "+err.Error()))
	}
	return c.refuse(e.code, e.state, e.message)
}

// naming is the SET NAMES that the number in a greeting asks for; "" where the server knows
// none of that number, or clients cannot use it.
func (r *Relay) naming(s *session, collation byte) (string, error) {
	if known, ok := r.collations[collation]; ok {
		return known, nil
	}
	row, err := s.one(fmt.Sprintf("SELECT CHARACTER_SET_NAME, COLLATION_NAME FROM information_schema.COLLATIONS "+
		"WHERE ID = %d", collation))
	if err != nil && !errors.Is(err, errNoRow) {
		return "", err
	}
	sql := ""
	if len(row) > 0 && !strings.HasPrefix(row[0].text, "utf16") && !strings.HasPrefix(row[0].text, "utf32") &&
		row[0].text != "ucs2" {
		sql = "SET NAMES " + row[0].text
		// MariaDB puts another in the place of what was a default once.
		name := row[1].text
		if !s.isMariaDB() || !strings.HasSuffix(name, "_general_ci") && name != "latin1_swedish_ci" {
			sql += " COLLATE " + name
		}
	}
	r.collations[collation] = sql
	return sql, nil
}
