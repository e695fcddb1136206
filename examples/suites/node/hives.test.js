// Run with:  hemzo run -- node --test examples/suites/node
//
// Set up once for the process, reset before each test, held when one fails.
const { after, before, beforeEach, test } = require("node:test");
const assert = require("node:assert");
const { Client } = require("pg");

// Files that run side by side ask by a name of their own.
const control = `${process.env.HEMZO_CONTROL}/w/node-hives`;
const ask = async (method, path) => {
  const answer = await fetch(control + path, { method });
  assert.ok(answer.ok, `${method} ${path}: ${answer.status}`);
  return (await answer.text()).trim();
};

let db;
before(async () => {
  db = new Client({ connectionString: await ask("GET", "/connection?form=url") });
  await db.connect();
});
after(() => db.end());
beforeEach(() => ask("POST", "/reset"));

const labels = async () => (await db.query("SELECT id, label FROM hive ORDER BY id")).rows.map((r) => `${r.id} ${r.label}`);

// held runs a test's body and sets its data aside where it fails.
const held = (name, body) =>
  test(name, async () => {
    try {
      await body();
    } catch (error) {
      await ask("POST", `/hold?as=${encodeURIComponent(`hives.test.js > ${name}`)}`);
      throw error;
    }
  });

held("a hive is added", async () => {
  await db.query("INSERT INTO hive (label) VALUES ('B1')");
  assert.deepEqual(await labels(), ["1 A1", "2 A2", "3 B1"]);
});
held("another hive is added", async () => {
  await db.query("INSERT INTO hive (label) VALUES ('C1')");
  assert.deepEqual(await labels(), ["1 A1", "2 A2", "3 C1"]);
});
held("the hives are there", async () => assert.deepEqual(await labels(), ["1 A1", "2 A2"]));
