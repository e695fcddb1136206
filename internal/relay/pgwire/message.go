package pgwire

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"io"

	"github.com/jackc/pgx/v5/pgproto3"
)

// message is one message of the protocol, version 3.0: its kind and what follows
// its length (PostgreSQL's documentation, "Message Formats").
type message struct {
	kind byte
	body []byte
}

// maxMessage bounds one message of a client, in bytes.
const maxMessage = 256 << 20

// readMessage reads one whole message; one that is longer than limit is an error.
func readMessage(in *bufio.Reader, limit int) (m message, err error) {
	kind, length, err := readHead(in)
	if err != nil {
		return m, err
	}
	if length > limit {
		return m, fmt.Errorf("%w: one of %d bytes", errMessage, length)
	}
	m = message{kind: kind, body: make([]byte, length)}
	_, err = io.ReadFull(in, m.body)
	return m, err
}

// readHead reads the kind of a message and the length of its body.
func readHead(in *bufio.Reader) (kind byte, length int, err error) {
	var head [5]byte
	if _, err = io.ReadFull(in, head[:]); err != nil {
		return 0, 0, err
	}
	length = int(int32(binary.BigEndian.Uint32(head[1:]))) - 4
	if length < 0 {
		return 0, 0, fmt.Errorf("%w: one of %d bytes", errMessage, length)
	}
	return head[0], length, nil
}

// appendMessage writes a message behind some bytes.
func appendMessage(out []byte, kind byte, body []byte) []byte {
	out = binary.BigEndian.AppendUint32(append(out, kind), uint32(len(body)+4))
	return append(out, body...)
}

// appendFront writes a message for a server.
func appendFront(out []byte, m pgproto3.FrontendMessage) []byte { return encoded(m.Encode(out)) }

// appendBack writes a message for a client.
func appendBack(out []byte, m pgproto3.BackendMessage) []byte { return encoded(m.Encode(out)) }

// encoded drops an error that only a message of more than a gigabyte has: none is
// that is made here, or was taken from a client.
func encoded(out []byte, _ error) []byte { return out }

// Kinds of messages that a client sends.
const (
	bind      = 'B'
	closing   = 'C'
	copyData  = 'd'
	copyDone  = 'c'
	copyFail  = 'f'
	describe  = 'D'
	execute   = 'E'
	flush     = 'H'
	function  = 'F'
	parse     = 'P'
	query     = 'Q'
	syncing   = 'S'
	terminate = 'X'
)

// Kinds of messages that a server sends, where they are not one of those.
const (
	bindComplete   = '2'
	closeComplete  = '3'
	complete       = 'C'
	copyIn         = 'G'
	copyOut        = 'H'
	copyBoth       = 'W'
	emptyQuery     = 'I'
	failure        = 'E'
	functionResult = 'V'
	noData         = 'n'
	notice         = 'N'
	notification   = 'A'
	parameters     = 't'
	parameter      = 'S'
	parseComplete  = '1'
	ready          = 'Z'
	row            = 'D'
	rowDescription = 'T'
	suspended      = 's'
)

// problem is an error for a client.
func problem(code, text, hint string) *pgproto3.ErrorResponse {
	return &pgproto3.ErrorResponse{Severity: "ERROR", SeverityUnlocalized: "ERROR", Code: code, Message: text, Hint: hint}
}

// warning is a notice for a client.
func warning(code, text string) *pgproto3.NoticeResponse {
	return &pgproto3.NoticeResponse{Severity: "WARNING", SeverityUnlocalized: "WARNING", Code: code, Message: text}
}

// What errors are, by their SQLSTATE (PostgreSQL's documentation, appendix A).
const (
	rolledBack       = "40000"
	activeSQL        = "25001"
	noTransaction    = "25P01"
	failedSQL        = "25P02"
	notSupported     = "0A000"
	lockNotAvailable = "55P03"
	cancelled        = "57014"
	badPassword      = "28P01"
	badDatabase      = "3D000"
	protocolError    = "08P01"
	connectionFailed = "08006"
)
