package pgwire

import (
	"bytes"
	"io"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5/pgproto3"

	"hemzo/internal/relay"
)

// answers takes what the server answers: for a client, or for the relay itself.
type answers struct {
	c      *client // nil for the relay itself
	copies func() error
	rows   []string // first columns, where the relay itself asks
	params map[string]string
	failed *pgproto3.ErrorResponse // the first error
	tag    string                  // of the last statement that was done
	// hold has the last statement's tag kept back until deferred constraints are checked
	hold bool
	held []byte
}

// read reads until all that is expected has come. What is the client's goes to it.
func (s *session) read(a *answers, queue []expect) error {
	for len(queue) > 0 {
		kind, length, err := readHead(s.in)
		if err != nil {
			return lost(err)
		}
		e := queue[0]
		if kind == row && a.c != nil && !e.swallow {
			if err := a.c.passOn(kind, length, s.in); err != nil {
				return lost(err)
			}
			continue
		}
		if kind == copyData {
			if err := a.pass(kind, length, s.in); err != nil {
				return lost(err)
			}
			continue
		}
		body := make([]byte, length)
		if _, err := io.ReadFull(s.in, body); err != nil {
			return lost(err)
		}
		done, err := s.answer(a, e, kind, body)
		if err != nil {
			return err
		}
		if kind == failure && e.fails != nil {
			e.fails()
		}
		if kind == failure && e.kind != query {
			queue = afterError(queue)
			continue
		}
		if done {
			if e.done != nil {
				e.done()
			}
			queue = queue[1:]
		}
	}
	return nil
}

// pass is passOn, for nobody where there is no client.
func (a *answers) pass(kind byte, length int, in io.Reader) error {
	if a.c == nil {
		_, err := io.CopyN(io.Discard, in, int64(length))
		return err
	}
	return a.c.passOn(kind, length, in)
}

// afterError is what still comes after an error in the extended protocol: the answer
// to the next Sync.
func afterError(queue []expect) []expect {
	i := slices.IndexFunc(queue, func(e expect) bool { return e.kind == ready || e.kind == query })
	if i < 0 {
		return nil
	}
	return queue[i:]
}

// answer takes one message; done says that what was expected has come.
func (s *session) answer(a *answers, e expect, kind byte, body []byte) (done bool, err error) {
	forward := func() {
		if a.c != nil && !e.swallow {
			a.c.forward(kind, body)
		}
	}
	switch kind {
	case notice:
		if a.c != nil {
			a.c.forward(kind, body)
		}
	case notification:
	case parameter:
		a.parameter(body)
		forward()
	case failure:
		a.fail(body)
	case ready:
		if s.status = body[0]; s.status == 'I' && s.guard != none {
			s.escaped = true
		}
		return e.kind == ready || e.kind == query, nil
	case complete:
		a.tag = string(bytes.TrimRight(body, "\x00"))
		if e.tag == "" && !e.swallow && definition(a.tag) {
			s.ddl, s.known = true, false
		}
		if a.hold && e.kind == query {
			a.release()
			a.held = body
			return false, nil
		}
		forward()
		return e.kind == executed, nil
	case emptyQuery:
		if e.tag != "" && a.c != nil {
			_ = a.c.send(&pgproto3.CommandComplete{CommandTag: []byte(e.tag)})
		} else {
			forward()
		}
		return e.kind == executed, nil
	case copyIn:
		forward()
		if a.copies == nil {
			return false, nil
		}
		return false, a.copies()
	case row:
		if a.c == nil {
			a.keep(body)
		}
	case parameters:
		forward()
	default: // parseComplete, bindComplete, closeComplete, rowDescription, noData, suspended, copyOut, copyDone
		forward()
		return e.kind == kind || kind == suspended && e.kind == executed ||
			(kind == rowDescription || kind == noData) && (e.kind == describedStatement || e.kind == describedPortal), nil
	}
	return false, nil
}

// release passes on a tag that was kept back.
func (a *answers) release() {
	if a.held != nil {
		a.c.forward(complete, a.held)
		a.held = nil
	}
}

// parameter notes what the server reports.
func (a *answers) parameter(body []byte) {
	var m pgproto3.ParameterStatus
	if m.Decode(body) != nil {
		return
	}
	if a.params == nil {
		a.params = map[string]string{}
	}
	a.params[m.Name] = m.Value
}

// fail notes an error, and tells it to the client, with what may be done about it.
func (a *answers) fail(body []byte) {
	var e pgproto3.ErrorResponse
	_ = e.Decode(body)
	if a.failed == nil {
		a.failed = &e
	}
	if a.c == nil {
		return
	}
	if e.Code == activeSQL && e.Hint == "" {
		e.Hint = needsCommit
		a.c.relay.Remark(relay.NeedsCommit, a.c.relay.Last(&a.c.Client))
		_ = a.c.send(&e)
		return
	}
	a.c.forward(failure, body)
}

// needsCommit is the hint where something cannot work inside a transaction.
const needsCommit = "This copy is reset by rollback: all is inside one transaction. " +
	"Resets by truncation or snapshot allow this."

// keep keeps the first column of a row in text form.
func (a *answers) keep(body []byte) {
	var m pgproto3.DataRow
	if m.Decode(body) == nil && len(m.Values) > 0 {
		a.rows = append(a.rows, string(m.Values[0]))
	}
}

// definition reports whether a tag is that of a statement which may have changed a
// definition: what is prepared, and constraints that can be deferred, may be others.
func definition(tag string) bool {
	first, _, _ := strings.Cut(tag, " ")
	return slices.Contains([]string{"CREATE", "ALTER", "DROP", "DO", "CALL", "IMPORT", "REASSIGN"}, first) ||
		tag == "SELECT INTO"
}
