package witness

// expected is what of a kind of work has to be seen.
type expected byte

const (
	change expected = iota // it has to be seen
	quiet                  // nothing of it may be seen
	either                 // seen or not, nobody reads anything else afterwards
)

// kindOfWork is work on a table of its own, or on a counter, which %[1]s stands
// for. Each statement is sent by itself.
type kindOfWork struct {
	name  string // of the table, too
	want  expected
	made  string // makes the table, in place of the usual one
	work  []string
	other bool // a second session does it
}

// makeUsual makes the table of most kinds.
const makeUsual = "CREATE TABLE %[1]s (id int PRIMARY KEY, n int, body text); " +
	"INSERT INTO %[1]s VALUES (1, 1, 'a'), (2, 2, 'b'), (3, 3, 'c')"

// kindsOfWork are those that a self-test does, in their order.
var kindsOfWork = []kindOfWork{
	{name: "inserted", work: []string{"INSERT INTO %[1]s VALUES (4)"}},
	{name: "updated_alike", work: []string{"UPDATE %[1]s SET n = n WHERE id = 1"}},
	{name: "deleted", work: []string{"DELETE FROM %[1]s WHERE id = 3"}},
	{name: "many_inserted", work: []string{"INSERT INTO %[1]s SELECT g FROM generate_series(4, 400) g"}},
	{name: "large_value", work: []string{
		"UPDATE %[1]s SET body = (SELECT string_agg(md5(g::text), '') FROM generate_series(1, 400) g) WHERE id = 2"}},
	{name: "upserted", work: []string{
		"INSERT INTO %[1]s VALUES (2, 9) ON CONFLICT (id) DO UPDATE SET n = excluded.n"}},
	{name: "nothing_upserted", want: either, work: []string{"INSERT INTO %[1]s VALUES (2) ON CONFLICT DO NOTHING"}},
	{name: "savepoint", work: []string{
		"BEGIN; INSERT INTO %[1]s VALUES (4); SAVEPOINT a; INSERT INTO %[1]s VALUES (5); ROLLBACK TO a; COMMIT"}},
	{name: "inner_savepoint", work: []string{"BEGIN; SAVEPOINT a; INSERT INTO %[1]s VALUES (4); RELEASE a; COMMIT"}},
	{name: "rolled_back", want: either, work: []string{"BEGIN; DELETE FROM %[1]s; ROLLBACK"}},
	{name: "exception", work: []string{`DO $$ BEGIN
		INSERT INTO %[1]s VALUES (4);
		BEGIN INSERT INTO %[1]s VALUES (1); EXCEPTION WHEN unique_violation THEN NULL; END;
	END $$`}},
	{name: "unlogged", made: "CREATE UNLOGGED TABLE %[1]s (id int); INSERT INTO %[1]s VALUES (1)", work: []string{
		"INSERT INTO %[1]s VALUES (2)"}},
	{name: "by_trigger", work: []string{"INSERT INTO aside VALUES (1)"}},
	{name: "log_file_switched", work: []string{"SELECT pg_switch_wal()", "INSERT INTO %[1]s VALUES (4)",
		"SELECT pg_switch_wal()"}},

	{name: "emptied", work: []string{"TRUNCATE %[1]s"}},
	{name: "emptied_and_filled", work: []string{
		"BEGIN; TRUNCATE %[1]s; INSERT INTO %[1]s VALUES (1, 1, 'a'), (2, 2, 'b'), (3, 3, 'd'); COMMIT"}},
	{name: "emptying_rolled_back", want: either, work: []string{"BEGIN; TRUNCATE %[1]s; ROLLBACK"}},
	{name: "refreshed", made: "CREATE MATERIALIZED VIEW %[1]s AS SELECT 1 AS id", work: []string{
		"REFRESH MATERIALIZED VIEW %[1]s"}},

	{name: "inserted_vacuumed", work: []string{"INSERT INTO %[1]s VALUES (4)", "VACUUM %[1]s"}},
	{name: "updated_vacuumed", work: []string{"UPDATE %[1]s SET n = n WHERE id = 1", "VACUUM %[1]s"}},
	{name: "deleted_vacuumed", work: []string{"DELETE FROM %[1]s WHERE id = 1", "VACUUM (INDEX_CLEANUP on) %[1]s"}},
	{name: "all_deleted_vacuumed", work: []string{"DELETE FROM %[1]s", "VACUUM %[1]s"}},
	{name: "inserted_frozen", work: []string{"INSERT INTO %[1]s VALUES (4)", "VACUUM (FREEZE) %[1]s"}},
	{name: "inserted_rewritten", work: []string{"INSERT INTO %[1]s VALUES (4)", "VACUUM FULL %[1]s"}},
	{name: "deleted_clustered", work: []string{"DELETE FROM %[1]s WHERE id = 1", "CLUSTER %[1]s USING %[1]s_pkey"}},
	{name: "inserted_analyzed", work: []string{"INSERT INTO %[1]s VALUES (4)", "ANALYZE %[1]s"}},
	{name: "pruned", work: []string{
		"DO $$ BEGIN FOR i IN 1..200 LOOP UPDATE %[1]s SET n = i WHERE id = 1; END LOOP; END $$",
		"SELECT count(n) FROM %[1]s"}},
	{name: "inserted_read", work: []string{"INSERT INTO %[1]s VALUES (4)", "CHECKPOINT", "SELECT count(n) FROM %[1]s",
		"SET enable_seqscan = off; SELECT n FROM %[1]s WHERE id = 4; RESET enable_seqscan"}},

	{name: "read", want: quiet, work: []string{"SELECT count(n) FROM %[1]s",
		"SET enable_seqscan = off; SELECT n FROM %[1]s WHERE id = 2; RESET enable_seqscan"}},
	{name: "locked", want: quiet, work: []string{"BEGIN; SELECT * FROM %[1]s FOR UPDATE; COMMIT"}},
	{name: "referenced", want: quiet, work: []string{"INSERT INTO child VALUES (2)"}},
	{name: "analyzed", want: quiet, work: []string{"ANALYZE %[1]s"}},
	{name: "beside_temporary", want: quiet, work: []string{
		"CREATE TEMPORARY TABLE passing AS SELECT * FROM %[1]s; DROP TABLE passing"}},

	{name: "being_written", other: true, work: []string{"BEGIN; INSERT INTO %[1]s VALUES (4)"}},
	{name: "being_written_vacuumed", other: true, work: []string{"INSERT INTO %[1]s VALUES (4)"}},
}

// extras are what some kinds work on beside a table of their own.
const extras = `CREATE TABLE aside (id int);
	CREATE FUNCTION noted() RETURNS trigger LANGUAGE plpgsql AS
		$$ BEGIN INSERT INTO by_trigger VALUES (4); RETURN new; END $$;
	CREATE TRIGGER noted AFTER INSERT ON aside FOR EACH ROW EXECUTE FUNCTION noted();
	CREATE TABLE child (id int REFERENCES referenced);
	CREATE SEQUENCE counted CACHE 5; CREATE SEQUENCE counter_set; CREATE SEQUENCE counted_rolled_back;
	CREATE SEQUENCE counter_read;
	CREATE VIEW seen AS SELECT id FROM read;
	CREATE DOMAIN small AS int CHECK (value < 9); CREATE TYPE state AS ENUM ('thriving', 'lost');
	CREATE TABLE parts (id int) PARTITION BY RANGE (id);
	CREATE TABLE parts_1 PARTITION OF parts FOR VALUES FROM (1) TO (9);
	CREATE POLICY own ON aside; CREATE STATISTICS pairs ON id, n FROM read; CREATE PUBLICATION told FOR TABLE read;
	CREATE FOREIGN DATA WRAPPER far; CREATE SERVER there FOREIGN DATA WRAPPER far;
	CREATE USER MAPPING FOR CURRENT_USER SERVER there; CREATE FOREIGN TABLE farther (id int) SERVER there;
	ALTER DEFAULT PRIVILEGES GRANT SELECT ON TABLES TO PUBLIC; SELECT lo_create(0);
	CREATE FUNCTION on_ddl() RETURNS event_trigger LANGUAGE plpgsql AS $$ BEGIN END $$;
	CREATE EVENT TRIGGER late ON sql_drop WHEN TAG IN ('DROP ROUTINE') EXECUTE FUNCTION on_ddl();
	CREATE TRANSFORM FOR int LANGUAGE sql (FROM SQL WITH FUNCTION prsd_lextype(internal))`

// kindsOfCounting are those of counters.
var kindsOfCounting = []kindOfWork{
	{name: "counted", work: []string{"SELECT nextval('%[1]s')"}},
	{name: "counter_set", work: []string{"SELECT setval('%[1]s', 70)"}},
	{name: "counted_rolled_back", work: []string{"BEGIN; SELECT nextval('%[1]s'); ROLLBACK"}},
	{name: "counter_read", want: quiet, work: []string{"SELECT last_value FROM %[1]s"}},
}

// touchEveryCatalog writes one row of each catalog that has rows, alike.
const touchEveryCatalog = `SET allow_system_table_mods = on; DO $do$ DECLARE c record; BEGIN
	FOR c IN SELECT u.name, quote_ident(a.attname) AS first FROM unnest($1::text[]) AS u (name)
		JOIN pg_attribute a ON a.attrelid = ('pg_catalog.' || u.name)::regclass AND a.attnum = 1
	LOOP
		EXECUTE format('UPDATE pg_catalog.%1$I SET %2$s = %2$s WHERE ctid = (SELECT min(ctid) FROM pg_catalog.%1$I)',
			c.name, c.first);
	END LOOP;
END $do$; RESET allow_system_table_mods`
