package mywire

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"database/sql/driver"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"strings"

	"github.com/go-sql-driver/mysql"
)

// Capabilities (MySQL's documentation of the protocol, "Capabilities Flags").
const (
	capMySQL           = 1 << 0
	capFoundRows       = 1 << 1
	capLongFlag        = 1 << 2
	capConnectWithDB   = 1 << 3
	capLocalFiles      = 1 << 7
	capProtocol41      = 1 << 9
	capInteractive     = 1 << 10
	capTLS             = 1 << 11
	capTransactions    = 1 << 13
	capSecure          = 1 << 15
	capMultiStatements = 1 << 16
	capMultiResults    = 1 << 17
	capPSMultiResults  = 1 << 18
	capPluginAuth      = 1 << 19
	capAttributes      = 1 << 20
	capLongAuth        = 1 << 21
	capSessionTrack    = 1 << 23
	capNoEOF           = 1 << 24
	capQueryAttributes = 1 << 27
)

// Connect opens a session by the driver, and takes its connection over. Answers have the
// form that all clients understand: without what newer ones add to it. foundRows says what
// an UPDATE counts. TLS is spoken as the configuration says, beneath the driver; with it the
// password has to be one that the server has seen a short while ago.
func Connect(ctx context.Context, config *mysql.Config, foundRows bool) (*Server, error) {
	config = config.Clone()
	wants := uint32(capMultiStatements | capMultiResults | capPSMultiResults)
	if foundRows {
		wants |= capFoundRows
	}
	h := &handshake{wants: wants, mode: config.TLSConfig}
	config.TLSConfig, config.TLS = "", nil
	config.MultiStatements, config.ClientFoundRows, config.MaxAllowedPacket = true, foundRows, maxCommand
	config.DialFunc = func(ctx context.Context, network, address string) (net.Conn, error) {
		conn, err := (&net.Dialer{}).DialContext(ctx, network, address)
		if err != nil {
			return nil, err
		}
		h.Conn, h.in = conn, bufio.NewReaderSize(conn, 64<<10)
		h.host, _, _ = net.SplitHostPort(address)
		return h, nil
	}
	connector, err := mysql.NewConnector(config)
	if err != nil {
		return nil, err
	}
	driven, err := connector.Connect(ctx)
	if err != nil {
		return nil, err
	}
	return &Server{driven: driven, in: h.in, out: bufio.NewWriterSize(h.Conn, 64<<10), version: h.version,
		id: h.id, foundRows: foundRows}, nil
}

// Server is a connection to a server, as a session that has begun and asked nothing.
type Server struct {
	driven    driver.Conn // is used no more, but to end it
	in        *bufio.Reader
	out       *bufio.Writer
	version   string
	id        uint32
	foundRows bool
}

func (s *Server) isMariaDB() bool { return strings.Contains(s.version, "MariaDB") }

// handshake is the connection while the driver speaks: of what the server can it is told
// without what is not wanted, and what it says of itself is added to.
type handshake struct {
	net.Conn
	in       *bufio.Reader
	wants    uint32
	mode     string // of TLS: true, skip-verify, preferred; "" or false for none
	host     string
	shift    byte // how many packets have passed of which the driver knows nothing
	greeted  bool
	answered bool
	pending  []byte // of the packet that the driver reads
	version  string
	id       uint32
}

// Read passes packets on, the first one changed.
func (h *handshake) Read(b []byte) (int, error) {
	if len(h.pending) == 0 {
		payload, seq, err := readWhole(h.in, 1<<20)
		if err == nil && !h.greeted {
			h.greeted = true
			err = h.greet(payload)
		}
		if err != nil {
			return 0, err
		}
		if h.answered {
			seq -= h.shift
		}
		h.pending = append(appendHead(nil, len(payload), seq), payload...)
	}
	n := copy(b, h.pending)
	h.pending = h.pending[n:]
	return n, nil
}

// greet reads the greeting and changes what it says that the server can.
func (h *handshake) greet(payload []byte) error {
	r := reader{b: payload}
	if r.byte() != 10 { // an error, say
		return nil
	}
	h.version, h.id = r.zero(), r.uint32()
	r.take(9)
	low := r.take(2)
	r.take(3)
	high := r.take(2)
	if r.bad {
		return fmt.Errorf("%w: a greeting that is cut", errPacket)
	}
	can := uint32(binary.LittleEndian.Uint16(low)) | uint32(binary.LittleEndian.Uint16(high))<<16
	if err := h.encrypt(can); err != nil {
		return err
	}
	can = can&^(capTLS|capSessionTrack|capNoEOF|capQueryAttributes) | capMySQL
	h.wants &= can
	binary.LittleEndian.PutUint16(low, uint16(can))
	binary.LittleEndian.PutUint16(high, uint16(can>>16))
	return nil
}

// byDriver is what the driver says that it can: some servers believe what comes first.
const byDriver = capLongFlag | capConnectWithDB | capLocalFiles | capProtocol41 | capTransactions | capSecure |
	capMultiStatements | capMultiResults | capPluginAuth | capAttributes | capLongAuth

// encrypt has the connection go on by TLS, where that is wanted (MySQL's documentation of the
// protocol, "Protocol::SSLRequest").
func (h *handshake) encrypt(can uint32) error {
	config := &tls.Config{ServerName: h.host}
	switch h.mode {
	case "", "false":
		return nil
	case "preferred", "skip-verify":
		config.InsecureSkipVerify = true //nolint:gosec // it was asked for
	}
	if can&capTLS == 0 {
		if h.mode == "preferred" {
			return nil
		}
		return errors.New("the server has no TLS")
	}
	request := binary.LittleEndian.AppendUint32(nil, (byDriver|h.wants)&can|capMySQL|capTLS)
	request = append(binary.LittleEndian.AppendUint32(request, maxCommand), 45)
	request = append(request, make([]byte, 23)...)
	if _, err := h.Conn.Write(append(appendHead(nil, len(request), 1), request...)); err != nil {
		return err
	}
	h.wants |= capTLS
	h.Conn, h.shift = tls.Client(h.Conn, config), 1
	h.in = bufio.NewReaderSize(h.Conn, 64<<10)
	return nil
}

// Write adds to what the driver says that it can.
func (h *handshake) Write(b []byte) (int, error) {
	b = bytes.Clone(b)
	if !h.answered && len(b) >= 8 {
		binary.LittleEndian.PutUint32(b[4:], binary.LittleEndian.Uint32(b[4:])|h.wants)
	}
	h.answered = true
	if len(b) >= 4 {
		b[3] += h.shift
	}
	return h.Conn.Write(b)
}
