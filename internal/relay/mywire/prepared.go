package mywire

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
)

// prepared is a statement that a client has prepared.
type prepared struct {
	statement
	id     uint32   // as the client knows it
	on     *session // that has it
	server uint32   // as that knows it
	params int
	types  []byte // of its parameters, as they were last bound
	fresh  bool   // that session knows no types yet
	long   []part // values that were sent ahead of an execution
	size   int
}

// part is a part of a value of a parameter.
type part struct {
	param uint16
	data  []byte
}

func (c *client) prepare(ctx context.Context, text string) error {
	return c.statementWork(ctx, text, false, func() error {
		c.last++
		p := &prepared{id: c.last, on: c.server, statement: read(c.dialect(), text), fresh: true}
		if p.order != temporary && c.refuses(p.statement) { // servers say so at once
			return c.errReadsOnly()
		}
		r, err := c.run(comPrepare, []byte(text), &answer{prepare: p})
		if err == nil && r.failed == nil {
			c.statements[p.id] = p
		}
		return err
	})
}

// find is the statement that a command names.
func (c *client) find(body []byte) (*prepared, *serverError) {
	if len(body) < 4 {
		return nil, &serverError{errMalformed, "HY000", "Malformed communication packet"}
	}
	id := binary.LittleEndian.Uint32(body)
	if p := c.statements[id]; p != nil {
		return p, nil
	}
	return nil, &serverError{errNoStatement, "HY000", fmt.Sprintf("Unknown prepared statement handler (%d)", id)}
}

// execute executes a prepared statement.
func (c *client) execute(ctx context.Context, body []byte) error {
	p, missing := c.find(body)
	if missing != nil {
		c.packet(missing.append(nil))
		return nil
	}
	if p.params == 0 && c.alone(ctx, p.statement) {
		return nil
	}
	return c.statementWork(ctx, p.text, p.needsFloor(), func() error {
		if err := c.again(p); err != nil {
			return err
		}
		body, ok := p.bound(body)
		if !ok {
			return &serverError{errMalformed, "HY000", "Malformed communication packet"}
		}
		for _, x := range p.long {
			data := binary.LittleEndian.AppendUint16(binary.LittleEndian.AppendUint32(nil, p.server), x.param)
			if err := c.server.send(comLongData, append(data, x.data...)); err != nil {
				return err
			}
		}
		p.long, p.size = nil, 0
		j := job{comExecute, body}
		var err error
		if p.controls() {
			_, err = c.control(p.statement, j, false)
		} else {
			_, err = c.plain([]statement{p.statement}, j, false)
		}
		return err
	})
}

// again prepares a statement on a session that does not have it.
func (c *client) again(p *prepared) error {
	s := c.server
	if p.on == s {
		return nil
	}
	if err := s.send(comPrepare, []byte(p.text)); err != nil {
		return err
	}
	if err := s.out.Flush(); err != nil {
		return err
	}
	r, err := s.answer(nil, &answer{prepare: p})
	if err != nil {
		return err
	}
	if r.failed != nil {
		return r.failed
	}
	p.on, p.fresh = s, true
	return nil
}

// bound is the body of an execution as the session knows the statement, with the types of
// parameters that it was not told yet (MySQL's documentation of the protocol,
// "COM_STMT_EXECUTE").
func (p *prepared) bound(body []byte) (out []byte, ok bool) {
	out = bytes.Clone(body)
	binary.LittleEndian.PutUint32(out, p.server)
	if p.params == 0 {
		return out, len(out) >= 9
	}
	at := 9 + (p.params+7)/8
	if len(out) <= at {
		return nil, false
	}
	switch {
	case out[at] == 1:
		if len(out) < at+1+2*p.params {
			return nil, false
		}
		p.types = bytes.Clone(out[at+1 : at+1+2*p.params])
	case p.fresh && p.types != nil:
		rest := bytes.Clone(out[at+1:])
		out = append(append(append(out[:at], 1), p.types...), rest...)
	}
	p.fresh = false
	return out, true
}

// onStatement passes on a command about a prepared statement: the next rows, or that it be
// reset.
func (c *client) onStatement(ctx context.Context, kind byte, body []byte) error {
	p, missing := c.find(body)
	if missing != nil {
		c.packet(missing.append(nil))
		return nil
	}
	p.long, p.size = nil, 0
	return c.workOn(ctx, p.text, false, func() error {
		if p.on != c.server {
			if kind == comStmtReset {
				c.okay()
				return nil
			}
			return &serverError{errNoStatement, "HY000", "The cursor was closed: the copy was put aside meanwhile"}
		}
		binary.LittleEndian.PutUint32(body, p.server)
		_, err := c.run(kind, body, &answer{rowsNow: kind == comFetch})
		return err
	})
}

// longData keeps a part of a value until the statement is executed. It has no answer.
func (c *client) longData(body []byte) {
	p, missing := c.find(body)
	if missing != nil || len(body) < 6 || p.size+len(body) > maxCommand {
		return
	}
	p.size += len(body)
	p.long = append(p.long, part{binary.LittleEndian.Uint16(body[4:]), body[6:]})
}

// closeStatement forgets a statement. It has no answer.
func (c *client) closeStatement(body []byte) {
	if p, missing := c.find(body); missing == nil {
		delete(c.statements, p.id)
		c.closings = append(c.closings, p)
	}
}

// closeAll closes all statements of a client.
func (s *session) closeAll(c *client) error {
	for _, p := range c.statements {
		if p.on == s {
			s.closings = append(s.closings, p.server)
		}
	}
	clear(c.statements)
	err := s.closePrepared(s.closings)
	s.closings = nil
	return err
}
