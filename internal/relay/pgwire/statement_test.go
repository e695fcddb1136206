package pgwire

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"hemzo/internal/relay"
	"hemzo/internal/sqltext"
)

var dialect = sqltext.Dialect{NestedComments: true, DollarQuotes: true, EscapeStrings: true, Routines: true}

// TestRead: what a statement does to transactions, settings and names.
func TestRead(t *testing.T) {
	r := New(Config{Dialect: dialect})
	for want, texts := range map[order][]string{
		begin:      {"BEGIN", "begin work", "START TRANSACTION READ ONLY", "/* a */ BEGIN"},
		commit:     {"COMMIT", "END", "COMMIT AND CHAIN"},
		rollback:   {"ROLLBACK", "ABORT"},
		savepoint:  {"SAVEPOINT a", "RELEASE a", "ROLLBACK TO a", "ROLLBACK TRANSACTION TO SAVEPOINT a"},
		inside:     {"LOCK TABLE hive", "DECLARE c CURSOR FOR SELECT 1"},
		set:        {"SET a = 1", "SET SESSION a = 1", "RESET ALL"},
		local:      {"SET LOCAL a = 1", "SET CONSTRAINTS ALL DEFERRED", "SET TRANSACTION READ ONLY"},
		level:      {"SET TRANSACTION ISOLATION LEVEL SERIALIZABLE"},
		twoPhase:   {"PREPARE TRANSACTION 'x'"},
		named:      {"PREPARE x AS SELECT 1", "EXECUTE x", "DEALLOCATE x"},
		deallocate: {"DEALLOCATE ALL", "DEALLOCATE PREPARE ALL"},
		discard:    {"DISCARD ALL"},
		listen:     {"LISTEN x", "UNLISTEN *"},
		notify:     {"NOTIFY x, 'y'"},
		plain: {"SELECT 'COMMIT'", "CREATE TABLE begin (x int)", "", "'", "COMMIT PREPARED 'x'", "ROLLBACK PREPARED 'x'",
			"DECLARE c CURSOR WITH HOLD FOR SELECT 1", "DISCARD TEMP"},
	} {
		for _, text := range texts {
			assert.Equal(t, want, r.read(text).order, text)
		}
	}
	assert.True(t, r.read("ROLLBACK WORK AND CHAIN").chain)
	assert.False(t, r.read("COMMIT AND NO CHAIN").chain)
	assert.True(t, r.read("BEGIN READ ONLY").reads)
	assert.Contains(t, r.read("BEGIN ISOLATION LEVEL SERIALIZABLE").warns, "serializable")
	for text, want := range map[string]string{
		"SET TIME ZONE 'UTC'": "timezone", "SET SESSION work_mem TO '5MB'": "work_mem", "SET NAMES 'UTF8'": "client_encoding",
		"SET a.B = 1": "a.b", "RESET Search_Path": "search_path", "SET SCHEMA 'x'": "search_path",
		"SET SESSION CHARACTERISTICS AS TRANSACTION READ ONLY":                    "default_transaction_read_only",
		"SET SESSION CHARACTERISTICS AS TRANSACTION ISOLATION LEVEL SERIALIZABLE": "default_transaction_isolation",
	} {
		assert.Equal(t, want, r.read(text).setting(), text)
	}
	all := r.statements("INSERT INTO a VALUES ('; COMMIT'); COMMIT; " +
		"CREATE FUNCTION f() RETURNS int BEGIN ATOMIC SELECT 1; END; END")
	orders := make([]order, len(all))
	for i, s := range all {
		orders[i] = s.order
	}
	assert.Equal(t, []order{plain, commit, plain, commit}, orders, "an END inside a body is none")
}

// TestRenamed: names of prepared statements are a client's own on the server.
func TestRenamed(t *testing.T) {
	c := &client{Client: relay.Client{ID: 7}, statements: map[string]*prepared{}}
	assert.Equal(t, "EXECUTE hives(1)", c.renamed("EXECUTE hives(1)"), "one that it does not know stays")
	assert.Equal(t, "PREPARE hemzo_7_1 (int) AS SELECT $1", c.renamed("PREPARE Hives (int) AS SELECT $1"))
	assert.Equal(t, "execute hemzo_7_1(1)", c.renamed(`execute "hives"(1)`))
	assert.Equal(t, `PREPARE hemzo_7_2 AS SELECT 1`, c.renamed(`PREPARE "a ""b" AS SELECT 1`))
	assert.Equal(t, "DEALLOCATE PREPARE hemzo_7_1", c.renamed("DEALLOCATE PREPARE hives"))
	assert.Equal(t, "DEALLOCATE hives", c.renamed("DEALLOCATE hives"), "it is gone")
}
