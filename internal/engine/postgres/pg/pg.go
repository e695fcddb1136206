// Package pg is how statements are written for PostgreSQL, and what its errors
// say.
package pg

import (
	"context"
	"errors"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// The codes of errors that Hemzo answers (appendix A of PostgreSQL's manual).
const (
	ForeignKeyViolation   = "23503"
	UniqueViolation       = "23505"
	InvalidAuthorization  = "28000"
	InvalidPassword       = "28P01"
	DependentObjects      = "2BP01"
	InvalidCatalog        = "3D000" // no such database
	InvalidSchema         = "3F000"
	InsufficientPrivilege = "42501"
	DeadlockDetected      = "40P01"
	UndefinedColumn       = "42703"
	UndefinedObject       = "42704"
	DuplicateObject       = "42710"
	WrongObjectType       = "42809"
	UndefinedTable        = "42P01"
	DuplicateDatabase     = "42P04"
	DiskFull              = "53100"
	TooManyConnections    = "53300"
	NotInPrerequisite     = "55000" // a database that lets nobody in
	ObjectInUse           = "55006"
	LockNotAvailable      = "55P03"
	CannotConnectNow      = "57P03" // the server is starting or ending
	InternalError         = "XX000"
)

// State returns the code of the server's error in err's chain, "" where there
// is none.
func State(err error) string {
	if e, ok := errors.AsType[*pgconn.PgError](err); ok {
		return e.Code
	}
	return ""
}

// Message returns what the server's error in err's chain says, or else what err
// says.
func Message(err error) string {
	if e, ok := errors.AsType[*pgconn.PgError](err); ok {
		return e.Message
	}
	return err.Error()
}

// OfClient is a condition for rows of pg_stat_activity: sessions of clients. An account
// that may not look at a session is told its role and database alone; the server's own
// have no role.
const OfClient = "coalesce(backend_type, 'client backend') = 'client backend' AND usesysid IS NOT NULL"

// Ident quotes a name.
func Ident(name string) string { return pgx.Identifier{name}.Sanitize() }

// Literal quotes a text so that it means the same whatever the server's
// settings are.
func Literal(text string) string {
	quoted := "'" + strings.ReplaceAll(text, "'", "''") + "'"
	if strings.Contains(text, `\`) {
		return " E" + strings.ReplaceAll(quoted, `\`, `\\`)
	}
	return quoted
}

// Array is an expression for an array of texts.
func Array(texts []string) string {
	quoted := make([]string, len(texts))
	for i, t := range texts {
		quoted[i] = Literal(t)
	}
	return "ARRAY[" + strings.Join(quoted, ", ") + "]"
}

// ShortName is the name of an object as users know it: without the schema
// public.
func ShortName(name string) string { return strings.TrimPrefix(name, "public.") }

// Run runs statements, and undoes what an error left open.
func Run(ctx context.Context, conn *pgx.Conn, sql string, args ...any) error {
	_, err := conn.Exec(ctx, sql, args...)
	if err != nil && !conn.IsClosed() && conn.PgConn().TxStatus() != 'I' {
		_, _ = conn.Exec(context.WithoutCancel(ctx), "ROLLBACK")
	}
	return err
}
