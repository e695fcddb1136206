package mywire

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// maxPayload is how much one packet holds; what is longer goes on in the next (MySQL's
// documentation of the protocol, "MySQL Packets").
const maxPayload = 1<<24 - 1

// maxCommand bounds what one command of a client takes, in bytes.
const maxCommand = 256 << 20

var errPacket = errors.New("a packet that is not understood")

// readHead reads the head of a packet: its length and its number.
func readHead(in *bufio.Reader) (length int, seq byte, err error) {
	var head [4]byte
	if _, err = io.ReadFull(in, head[:]); err != nil {
		return 0, 0, err
	}
	return int(head[0]) | int(head[1])<<8 | int(head[2])<<16, head[3], nil
}

// readWhole reads a payload of any number of packets, up to a limit.
func readWhole(in *bufio.Reader, limit int) (payload []byte, seq byte, err error) {
	for {
		n, s, err := readHead(in)
		if err != nil {
			return nil, 0, err
		}
		if len(payload)+n > limit {
			return nil, s, fmt.Errorf("%w: one of more than %d bytes", errPacket, limit)
		}
		from := len(payload)
		payload = append(payload, make([]byte, n)...)
		if _, err := io.ReadFull(in, payload[from:]); err != nil {
			return nil, 0, err
		}
		if n < maxPayload {
			return payload, s, nil
		}
	}
}

// appendHead writes the head of a packet behind some bytes.
func appendHead(out []byte, length int, seq byte) []byte {
	return append(out, byte(length), byte(length>>8), byte(length>>16), seq)
}

// writeWhole writes a payload in as many packets as it takes, and returns the number of
// the next one.
func writeWhole(out *bufio.Writer, payload []byte, seq byte) (next byte, err error) {
	for {
		n := min(len(payload), maxPayload)
		if _, err := out.Write(appendHead(out.AvailableBuffer(), n, seq)); err != nil {
			return seq, err
		}
		if _, err := out.Write(payload[:n]); err != nil {
			return seq, err
		}
		seq++
		if payload = payload[n:]; n < maxPayload {
			return seq, nil
		}
	}
}

// reader reads the parts of a payload; after the first that is not there it is bad.
type reader struct {
	b   []byte
	bad bool
}

func (r *reader) take(n int) []byte {
	if n < 0 || n > len(r.b) {
		r.bad, r.b = true, nil
		return nil
	}
	out := r.b[:n]
	r.b = r.b[n:]
	return out
}

func (r *reader) byte() byte {
	if b := r.take(1); b != nil {
		return b[0]
	}
	return 0
}

func (r *reader) uint16() uint16 {
	if b := r.take(2); b != nil {
		return binary.LittleEndian.Uint16(b)
	}
	return 0
}

func (r *reader) uint32() uint32 {
	if b := r.take(4); b != nil {
		return binary.LittleEndian.Uint32(b)
	}
	return 0
}

// number reads a length-encoded integer (ibid., "Protocol::LengthEncodedInteger").
func (r *reader) number() uint64 {
	switch first := r.byte(); first {
	case 0xfc:
		return uint64(r.uint16())
	case 0xfd:
		b := r.take(3)
		if b == nil {
			return 0
		}
		return uint64(b[0]) | uint64(b[1])<<8 | uint64(b[2])<<16
	case 0xfe:
		if b := r.take(8); b != nil {
			return binary.LittleEndian.Uint64(b)
		}
		return 0
	default:
		return uint64(first)
	}
}

// text reads a string with its length before it; null reports the mark of NULL in rows.
func (r *reader) text() (s []byte, null bool) {
	if len(r.b) > 0 && r.b[0] == 0xfb {
		r.b = r.b[1:]
		return nil, true
	}
	n := r.number()
	if n > uint64(len(r.b)) {
		r.bad, r.b = true, nil
		return nil, false
	}
	return r.take(int(n)), false
}

// zero reads up to a zero, or to the end.
func (r *reader) zero() string {
	for i, b := range r.b {
		if b == 0 {
			s := string(r.b[:i])
			r.b = r.b[i+1:]
			return s
		}
	}
	s := string(r.b)
	r.b = nil
	return s
}

func appendNumber(out []byte, n uint64) []byte {
	switch {
	case n < 251:
		return append(out, byte(n))
	case n < 1<<16:
		return append(out, 0xfc, byte(n), byte(n>>8))
	case n < 1<<24:
		return append(out, 0xfd, byte(n), byte(n>>8), byte(n>>16))
	}
	return binary.LittleEndian.AppendUint64(append(out, 0xfe), n)
}

// Bits of a session's status (ibid., "SERVER_STATUS_flags_enum").
const (
	inTransaction  = 1 << 0
	autocommits    = 1 << 1
	moreResults    = 1 << 3
	cursorExists   = 1 << 6
	noBackslashes  = 1 << 9
	inReadOnly     = 1 << 13
	ofTransactions = inTransaction | autocommits | inReadOnly
)

// What the first byte of an answer says.
const (
	answerOK    = 0x00
	answerMore  = 0x01
	answerFile  = 0xfb
	answerEOF   = 0xfe
	answerError = 0xff
)

// okay is what an OK packet tells.
type okay struct {
	affected, inserted uint64
	status, warnings   uint16
	info               []byte
}

func readOK(payload []byte) (k okay, err error) {
	r := reader{b: payload[1:]}
	k.affected, k.inserted = r.number(), r.number()
	k.status, k.warnings = r.uint16(), r.uint16()
	k.info = r.b
	if r.bad {
		return k, fmt.Errorf("%w: an OK that is cut", errPacket)
	}
	return k, nil
}

func (k okay) append(out []byte) []byte {
	out = appendNumber(appendNumber(append(out, answerOK), k.affected), k.inserted)
	out = binary.LittleEndian.AppendUint16(out, k.status)
	return append(binary.LittleEndian.AppendUint16(out, k.warnings), k.info...)
}

// serverError is an error as a packet tells it.
type serverError struct {
	code    uint16
	state   string // SQLSTATE
	message string
}

func (e *serverError) Error() string {
	return fmt.Sprintf("error %d (%s): %s", e.code, e.state, e.message)
}

func readError(payload []byte) *serverError {
	r := reader{b: payload[1:]}
	e := &serverError{code: r.uint16()}
	if len(r.b) >= 6 && r.b[0] == '#' {
		e.state = string(r.take(6)[1:])
	}
	e.message = string(r.b)
	return e
}

func (e *serverError) append(out []byte) []byte {
	out = binary.LittleEndian.AppendUint16(append(out, answerError), e.code)
	return append(append(append(out, '#'), e.state...), e.message...)
}

// Errors by their numbers ("Server Error Message Reference" of MySQL's manual; MariaDB has
// the same).
const (
	errAccess        = 1045
	errSyntax        = 1064
	errUnknownCmd    = 1047
	errUnknown       = 1105
	errTooLong       = 1153
	errNoThread      = 1094
	errMalformed     = 1835
	errNoLocal       = 1148
	errNoSavepoints  = 1178
	errLockWait      = 1205
	errNotSupported  = 1235
	errNoStatement   = 1243
	errNoSavepoint   = 1305
	errInTransaction = 1568
	errReadOnly      = 1792
)

// Commands of clients (ibid., "Command Phase").
const (
	comQuit        = 0x01
	comInitDB      = 0x02
	comQuery       = 0x03
	comFieldList   = 0x04
	comStatistics  = 0x09
	comKill        = 0x0c
	comPing        = 0x0e
	comChangeUser  = 0x11
	comPrepare     = 0x16
	comExecute     = 0x17
	comLongData    = 0x18
	comClose       = 0x19
	comStmtReset   = 0x1a
	comSetOption   = 0x1b
	comFetch       = 0x1c
	comReset       = 0x1f
	multiStatement = 0 // options of comSetOption
	oneStatement   = 1
)
