package project

import (
	"slices"

	"hemzo/internal/engine/all"
)

// kind is the type of a key's value.
type kind string

const (
	aText     kind = "text"
	aFlag     kind = "true or false"
	aNumber   kind = "whole number"
	aSize     kind = "size (64MB, 1GB)"
	aSpan     kind = "duration (90s, 30m, 2h, 7d)"
	aWord     kind = "word"
	aWords    kind = "word or list of words"
	aTexts    kind = "text or list of texts"
	aTextMap  kind = "map of texts"
	aPath     kind = "path"
	aPaths    kind = "path or list of paths"
	aObject   kind = "map"
	aNamed    kind = "map of names"
	aList     kind = "list"
	aListener kind = "port or address:port"
)

// key is one key of the project file. The reader, the JSON Schema and the
// page docs/project-file.md are all made from this table.
type key struct {
	name     string
	kind     kind
	values   []string // of a word
	preset   string
	doc      string
	required bool
	keys     []key // of an object, of each value of named, of each item of list
}

var sourceKeys = []key{
	{name: "migrations", kind: aPaths, doc: "folder of migrations, or folders merged into one order"},
	{name: "data", kind: aPaths, doc: "SQL and CSV files, or folders of them; a CSV file is named after its table"},
	{name: "dump", kind: aPath, doc: "a plain SQL dump"},
	{name: "run", kind: aTexts, doc: "the project's own command and its arguments"},
	{name: "undo", kind: aTexts, doc: "patterns of files that undo: never applied by a build"},
	{name: "only", kind: aTexts, doc: "patterns of the only files to take"},
	{name: "skip", kind: aTexts, doc: "patterns of files to leave out"},
	{name: "order", kind: aWord, values: []string{"number", "name"}, preset: "number",
		doc: "order by the leading numbers, or by name alone"},
	{name: "markers", kind: aObject, doc: "the two lines that part the directions in files that hold both", keys: []key{
		{name: "apply", kind: aText, required: true, doc: "the line before the part that is applied"},
		{name: "undo", kind: aText, required: true, doc: "the line before the part that undoes it"},
	}},
	{name: "inputs", kind: aTexts,
		doc: "patterns of the files that a command's result depends on; always: it runs at every build"},
	{name: "within", kind: aSpan, preset: "30m", doc: "how long the command may take"},
	{name: "continues", kind: aFlag, preset: "false",
		doc: "run on an older result of its own, the command does only what is missing"},
}

var databaseKeys = []key{
	{name: "engine", kind: aWord, values: all.Names(), required: true, doc: "the database system"},
	{name: "version", kind: aText, doc: "the major version wanted in memory, the image's tag in a container"},
	{name: "where", kind: aWords, values: []string{"memory", "container", "existing"}, preset: "[memory, container]",
		doc: "where it runs, in order of wish; existing only when named"},
	{name: "from", kind: aList, doc: "what it is made from, in order", keys: sourceKeys},
	{name: "keep", kind: aTexts, doc: "tables that a reset leaves as they are"},
	{name: "reset", kind: aWord, values: []string{"truncation", "rollback", "snapshot"},
		doc: "the way a reset takes when none is named"},
	{name: "commits", kind: aWord, values: []string{"refuse", "replace"}, preset: "refuse",
		doc: "where resets are rollbacks on MariaDB or MySQL: whether a statement that commits by itself is refused, or " +
			"let through and everything put back at the next reset"},
	{name: "role", kind: aText, preset: "owner",
		doc: "who tests connect as: owner, own (a login for each copy), superuser, or a role's name"},
	{name: "roles", kind: aTexts, doc: "roles that the sources mention, made without login"},
	{name: "grants", kind: aTexts, doc: "GRANT statements put on every copy"},
	{name: "names", kind: aTexts, doc: "names by which the sources call their own database"},
	{name: "extensions", kind: aTexts, doc: "extensions made before the first step"},
	{name: "settings", kind: aTextMap, doc: "settings of the engine; part of the server's identity"},
	{name: "encoding", kind: aText, preset: "UTF-8", doc: "the database's encoding"},
	{name: "locale", kind: aText, preset: "C", doc: "the database's locale"},
	{name: "env", kind: aTextMap, preset: "DATABASE_URL, or NAME_URL where there are several",
		doc: "variables that a command gets, with {url} {jdbc} {jdbc_full} {conninfo} {host} {port} {user} " +
			"{password} {database} {socket} {file} {params} {copy} in them"},
	{name: "image", kind: aText, doc: "the container image"},
	{name: "url", kind: aTexts, doc: "the existing server; of several, the one of this runner's number (HEMZO_RUNNER, " +
		"else what this machine's name gives)"},
	{name: "memory", kind: aWord, values: []string{"wanted", "required"}, preset: "wanted",
		doc: "whether disk will do where memory has no room"},
	{name: "service", kind: aObject, doc: "how a system of engine: service is run", keys: []key{
		{name: "ports", kind: aTexts, required: true,
			doc: "the ports that it listens on, the main one first: {port}, {port_9300}"},
		{name: "variables", kind: aTextMap, doc: "variables of the container"},
		{name: "command", kind: aTexts, doc: "arguments for the image's entry"},
		{name: "ready", kind: aText, preset: "when it accepts connections",
			doc: "when it counts as ready: GET /path answers 200, or says TEXT once that is printed"},
		{name: "forget", kind: aText, preset: "a fresh container",
			doc: "the request by which a reset has it forget everything: DELETE /path"},
	}},
	{name: "tmpfs", kind: aSize, doc: "room for the data of a container"},
	{name: "ready_within", kind: aSpan, preset: "60s", doc: "how long a server may take until it answers"},
	{name: "idle", kind: aSpan, preset: "30m", doc: "how long a server stays without a copy or an owner"},
	{name: "limits", kind: aObject, doc: "limits of what is kept and used", keys: []key{
		{name: "layers", kind: aNumber, preset: "the engine's own: 8 or 64",
			doc: "layers of one build that are kept as templates"},
		{name: "memory", kind: aSize, doc: "memory of a container"},
		{name: "cpus", kind: aNumber, doc: "processors of a container"},
	}},
	{name: "spare", kind: aNumber, preset: "2", doc: "copies made beforehand"},
	{name: "lazy", kind: aFlag, preset: "false", doc: "made at the first connection"},
	{name: "wait", kind: aSpan, preset: "5s", doc: "how long a lock is waited for"},
}

var fileKeys = []key{
	{name: "from", kind: aPath, required: true, doc: "a file with {database.key} in it"},
	{name: "to", kind: aText, required: true, doc: "where it is written while a command runs"},
}

// sharedKeys stand in the base and in a profile alike.
var sharedKeys = []key{
	{name: "databases", kind: aNamed, doc: "the databases, by name", keys: databaseKeys},
	{name: "env", kind: aTextMap, doc: "variables that name several databases: {NAME.url}"},
	{name: "files", kind: aList, doc: "files rendered before a command and removed after it", keys: fileKeys},
	{name: "allow_hosts", kind: aTexts, doc: "other machines whose servers may be used"},
	{name: "listen", kind: aListener, doc: "a fixed address of the control endpoint"},
}

var topKeys = append(slices.Clone(sharedKeys),
	key{name: "profiles", kind: aNamed, doc: "changes to all of this, chosen by --profile or HEMZO_PROFILE",
		keys: sharedKeys})
