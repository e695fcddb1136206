package mywire

import (
	"bufio"
	"bytes"
	"context"
	"database/sql/driver"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
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
// an UPDATE counts.
func Connect(ctx context.Context, config *mysql.Config, foundRows bool) (*Server, error) {
	if config.TLS != nil || config.TLSConfig != "" && config.TLSConfig != "false" {
		return nil, errors.New("a relay does not reach a server by TLS")
	}
	config = config.Clone()
	wants := uint32(capMultiStatements | capMultiResults | capPSMultiResults)
	if foundRows {
		wants |= capFoundRows
	}
	var hand *handshake
	config.MultiStatements, config.ClientFoundRows, config.MaxAllowedPacket = true, foundRows, maxCommand
	config.DialFunc = func(ctx context.Context, network, address string) (net.Conn, error) {
		conn, err := (&net.Dialer{}).DialContext(ctx, network, address)
		if err != nil {
			return nil, err
		}
		hand = &handshake{Conn: conn, in: bufio.NewReaderSize(conn, 64<<10), wants: wants}
		return hand, nil
	}
	connector, err := mysql.NewConnector(config)
	if err != nil {
		return nil, err
	}
	driven, err := connector.Connect(ctx)
	if err != nil {
		return nil, err
	}
	return &Server{driven: driven, in: hand.in, out: bufio.NewWriterSize(hand.Conn, 64<<10), version: hand.version,
		id: hand.id, foundRows: foundRows}, nil
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
	greeting *bytes.Reader
	wants    uint32
	answered bool
	version  string
	id       uint32
}

// Read passes the greeting on, changed, and then what comes.
func (h *handshake) Read(b []byte) (int, error) {
	if h.greeting == nil {
		if err := h.greet(); err != nil {
			return 0, err
		}
	}
	if h.greeting.Len() > 0 {
		return h.greeting.Read(b)
	}
	return h.in.Read(b)
}

func (h *handshake) greet() error {
	n, seq, err := readHead(h.in)
	if err != nil {
		return err
	}
	payload := make([]byte, n)
	if _, err := io.ReadFull(h.in, payload); err != nil {
		return err
	}
	h.greeting = bytes.NewReader(append(appendHead(nil, n, seq), payload...))
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
	can = can&^(capTLS|capSessionTrack|capNoEOF|capQueryAttributes) | capMySQL
	h.wants &= can
	binary.LittleEndian.PutUint16(low, uint16(can))
	binary.LittleEndian.PutUint16(high, uint16(can>>16))
	h.greeting = bytes.NewReader(append(appendHead(nil, n, seq), payload...))
	return nil
}

// Write adds to what the driver says that it can.
func (h *handshake) Write(b []byte) (int, error) {
	if !h.answered && len(b) >= 8 {
		h.answered = true
		b = bytes.Clone(b)
		binary.LittleEndian.PutUint32(b[4:], binary.LittleEndian.Uint32(b[4:])|h.wants)
	}
	return h.Conn.Write(b)
}
