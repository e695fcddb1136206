package postgres

import (
	"context"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"hemzo/internal/pattern"
	"hemzo/internal/sqltext"
)

// How much is sent before a result is read: what the server has answered by then waits in
// the sockets between.
const (
	sendBytes      = 32 << 10
	sendStatements = 200
	sendGroups     = 2
)

// sender runs the statements of one script. Inside a transaction it sends them ahead of
// their results, each as a message of its own: PostgreSQL passes over what follows one
// that fails ("Pipelining" in the protocol's description), and the transaction is undone.
// Plain inserts, for which it makes no difference, go many in a message.
type sender struct {
	conn  *pgconn.PgConn
	ahead bool

	pipe   *pgconn.Pipeline // nil while nothing is under way
	groups [][]sqltext.Piece
	next   []sqltext.Piece // sent with no request for results yet
	size   int
	rows   batch
}

// refused is a statement's error.
type refused struct {
	piece sqltext.Piece
	err   error
}

func (r *refused) Error() string { return r.err.Error() }
func (r *refused) Unwrap() error { return r.err }

// ordinal is what may be a parameter, which no script has: in a message with parameters
// its error would be another.
var ordinal = pattern.Lazy(`\$[0-9]`)

// run runs a statement now or soon. An error is that of an earlier one as well.
func (s *sender) run(ctx context.Context, p sqltext.Piece, text string, words []string) error {
	// COPY has the connection to itself.
	if !s.ahead || len(words) > 0 && words[0] == "COPY" || ordinal().MatchString(text) {
		return s.alone(ctx, p, func() error {
			_, err := s.conn.Exec(ctx, text).ReadAll()
			return err
		})
	}
	s.rows.quiet, s.rows.loud = nil, false // what was found of tables may be otherwise after this
	return s.send(ctx, p, text)
}

// send sends a statement ahead.
func (s *sender) send(ctx context.Context, p sqltext.Piece, text string) error {
	if err := s.endBatch(ctx); err != nil {
		return err
	}
	if s.pipe == nil {
		s.pipe = s.conn.StartPipeline(ctx)
	}
	s.pipe.SendQueryParams(text, nil, nil, nil, nil)
	s.next, s.size = append(s.next, p), s.size+len(text)
	if len(s.next) < sendStatements && s.size < sendBytes {
		return nil
	}
	s.pipe.SendFlushRequest()
	if err := s.request(s.pipe.Flush); err != nil {
		return err
	}
	if len(s.groups) > sendGroups {
		return s.results()
	}
	return nil
}

// alone does what needs the connection for itself, once all before is done.
func (s *sender) alone(ctx context.Context, p sqltext.Piece, do func() error) error {
	s.rows.quiet, s.rows.loud = nil, false
	if err := s.finish(ctx); err != nil {
		return err
	}
	if err := do(); err != nil {
		return &refused{p, err}
	}
	return nil
}

// request asks for the results of what was sent.
func (s *sender) request(by func() error) error {
	if len(s.next) > 0 {
		s.groups, s.next, s.size = append(s.groups, s.next), nil, 0
	}
	if err := by(); err != nil && len(s.groups) > 0 {
		return s.fail(s.groups[0][0], err)
	}
	return nil
}

// results reads those of the first group.
func (s *sender) results() error {
	for _, p := range s.groups[0] {
		result, err := s.pipe.GetResults()
		if reader, ok := result.(*pgconn.ResultReader); ok && err == nil {
			_, err = reader.Close()
		}
		if err != nil {
			return s.fail(p, err)
		}
	}
	s.groups = slices.Delete(s.groups, 0, 1)
	return nil
}

// fail ends the pipeline at the statement that failed. Of a connection that was lost the
// driver takes leave in a goroutine of its own, which must be the only one that writes.
func (s *sender) fail(p sqltext.Piece, err error) error {
	if !s.conn.IsClosed() {
		_ = s.pipe.Sync()
	}
	_ = s.pipe.Close() // both tell the same error
	s.pipe, s.groups, s.next, s.size = nil, nil, nil, 0
	return &refused{p, err}
}

// finish waits for all that was sent.
func (s *sender) finish(ctx context.Context) error {
	if err := s.endBatch(ctx); err != nil {
		return err
	}
	return s.endPipe()
}

func (s *sender) endPipe() error {
	if s.pipe == nil {
		return nil
	}
	if err := s.request(s.pipe.Sync); err != nil {
		return err
	}
	for len(s.groups) > 0 {
		if err := s.results(); err != nil {
			return err
		}
	}
	err := s.pipe.Close()
	s.pipe = nil
	return err
}

// copyIn runs a COPY with the data lines behind it.
func (s *sender) copyIn(ctx context.Context, p sqltext.Piece, text, data string) error {
	return s.alone(ctx, p, func() error {
		_, err := s.conn.CopyFrom(ctx, strings.NewReader(data), text)
		return err
	})
}
