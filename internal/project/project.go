// Package project reads the project file: finds it, checks every key with its
// place, puts the chosen profile over the base, and gives its content typed.
package project

import (
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"hemzo/internal/engine/all"
	"hemzo/internal/fault"
	"hemzo/internal/pattern"
	"hemzo/internal/sqltext"
)

// FileName is the name a project file is found by.
const FileName = "hemzo.yaml"

// Project is a project file, checked and with its profile applied.
type Project struct {
	File       string // absolute
	Root       string // its folder, absolute and free of links
	Profile    string // "" for none
	Databases  []Database
	Env        []Variable
	Files      []Rendered
	AllowHosts []string
	Listen     string
}

// Database is one entry of databases.
type Database struct {
	Name       string
	At         fault.Position
	Engine     string
	Version    string
	Where      []string
	From       []Source
	Keep       []string
	Reset      string // "" where the file leaves the choice open
	Commits    bool   // with resets by rollback: statements that commit are let through
	Role       string
	Roles      []string
	Grants     []string
	Ports      []int // of a service, and how that is run
	Variables  []Variable
	Command    []string
	ReadyWhen  string
	Forget     string
	Names      []string
	Extensions []string
	Settings   []Variable
	Encoding   string
	Locale     string
	Env        []Variable
	Image      string
	URL        string   // the one that this runner uses
	urls       []string // of all servers
	Required   bool     // memory: required
	Tmpfs      int64
	Ready      time.Duration
	Idle       time.Duration
	Layers     int // most layers of one build to keep; below zero for the engine's own measure
	Memory     int64
	CPUs       int
	Spare      int
	Lazy       bool
	Wait       time.Duration
}

// Source is one item of from.
type Source struct {
	At         fault.Position
	Migrations []string
	Data       []string
	Dump       string
	Run        []string
	Undo       []string
	Only       []string
	Skip       []string
	ByName     bool
	Apply      string // marker lines
	Back       string
	Inputs     []string
	Always     bool
	Continues  bool
	Within     time.Duration
}

// Variable is a name with a value, in the order of the file.
type Variable struct {
	Name  string
	Value string
	At    fault.Position
}

// Rendered is one entry of files.
type Rendered struct {
	From, To string // relative to the root
	At       fault.Position
}

// Find returns the project file: path itself where it is given, else the
// nearest hemzo.yaml in dir or above it.
func Find(dir, path string) (string, error) {
	if path != "" {
		abs, err := filepath.Abs(path)
		if err != nil {
			return "", err
		}
		if info, err := os.Stat(abs); err == nil && info.IsDir() {
			abs = filepath.Join(abs, FileName)
		}
		if _, err := os.Stat(abs); err != nil {
			return "", fault.New(fault.Usage, "hemzo init writes one", "there is no project file %s", abs)
		}
		return abs, nil
	}
	abs, err := filepath.Abs(dir)
	if err != nil {
		return "", err
	}
	for at := abs; ; at = filepath.Dir(at) {
		file := filepath.Join(at, FileName)
		if _, err := os.Stat(file); err == nil {
			return file, trusted(file)
		}
		if at == filepath.Dir(at) {
			return "", none(abs)
		}
	}
}

// ErrNone is the cause where there is no project file.
var ErrNone = errors.New("no project file")

// none is the error where there is no project file in a folder or above it: one
// under another usual ending is pointed at.
func none(dir string) error {
	e := fault.New(fault.Usage, "hemzo init writes one from what this folder holds", "no %s in %s or above it", FileName,
		dir)
	e.Reason = ErrNone
	other := strings.TrimSuffix(FileName, ".yaml") + ".yml"
	for at := dir; ; at = filepath.Dir(at) {
		if _, err := os.Stat(filepath.Join(at, other)); err == nil {
			e.Reason = nil // somebody meant it
			e.Next = fmt.Sprintf("rename %s: the project file is called %s", filepath.Join(at, other), FileName)
			return e
		}
		if at == filepath.Dir(at) {
			return e
		}
	}
}

// trusted refuses a file that another user has written, or may put there: its
// commands would run with this user's rights.
func trusted(file string) error {
	for _, path := range []string{file, filepath.Dir(file)} {
		for _, look := range []func(string) (os.FileInfo, error){os.Lstat, os.Stat} {
			info, err := look(path)
			if err != nil {
				return fmt.Errorf("looking at %s: %w", path, err)
			}
			if st, ok := info.Sys().(*syscall.Stat_t); ok && int(st.Uid) != os.Getuid() && st.Uid != 0 {
				return fault.New(fault.Refused, "if you trust it:  --project "+file,
					"the project file %s is another user's (%s belongs to uid %d)", file, path, st.Uid)
			}
		}
	}
	return nil
}

// largest bounds a project file, in bytes.
const largest = 1 << 20

// readRegular reads a file, and nothing that would wait for a writer.
func readRegular(path string) ([]byte, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	switch {
	case err != nil:
		return nil, err
	case !info.Mode().IsRegular():
		return nil, &fs.PathError{Op: "read", Path: path, Err: errors.New("it is not a regular file")}
	case info.Size() > largest:
		return nil, &fs.PathError{Op: "read", Path: path,
			Err: fmt.Errorf("it has %d bytes, more than %d", info.Size(), largest)}
	}
	return io.ReadAll(io.LimitReader(f, largest))
}

// Read reads a project file. profile may be "". lookup is the environment,
// as os.LookupEnv is.
func Read(file, profile string, lookup func(string) (string, bool)) (*Project, error) {
	abs, err := filepath.Abs(file)
	if err != nil {
		return nil, err
	}
	src, err := readRegular(abs)
	if err != nil {
		e := fault.New(fault.Usage, "", "cannot read the project file")
		e.Where, e.Reason, e.Said = fault.Position{File: file}, err, err.Error()
		if p, ok := errors.AsType[*fs.PathError](err); ok {
			e.Said = p.Err.Error()
		}
		return nil, e
	}
	root, err := filepath.EvalSymlinks(filepath.Dir(abs))
	if err != nil {
		return nil, fmt.Errorf("finding the folder of %s: %w", file, err)
	}
	top, err := parse(filepath.Base(file), withoutMark(src))
	if err != nil {
		return nil, err
	}
	if top, err = checked(top, root, profile, lookup); err != nil {
		return nil, err
	}
	p := &Project{File: abs, Root: root, Profile: profile}
	if err := p.fill(top); err != nil {
		return p, err
	}
	for i := range p.Databases {
		p.Databases[i].URL = ofRunner(p.Databases[i].urls, lookup)
	}
	return p, nil
}

// Profiles lists the names of the profiles of a project file, as far as it can be
// read.
func Profiles(file string) (names []string) {
	src, err := readRegular(file)
	if err != nil {
		return nil
	}
	top, err := parse(filepath.Base(file), withoutMark(src))
	if err != nil || top.get("profiles") == nil {
		return nil
	}
	for _, f := range top.get("profiles").fields {
		names = append(names, f.name)
	}
	return names
}

// checked holds a file against the table of keys and returns it with its
// profile applied.
func checked(top *node, root, profile string, lookup func(string) (string, bool)) (*node, error) {
	// Values of profiles that are not chosen are held against the table too,
	// but their variables and their paths may be missing.
	other := checker{root: root}
	base := &node{at: top.at, isMap: top.isMap, null: top.null, scalar: top.scalar, text: top.text, items: top.items}
	var profiles *node
	for _, f := range top.fields {
		if f.name == "profiles" {
			profiles = f.value
			continue
		}
		base.fields = append(base.fields, f)
	}
	if err := (checker{root, lookup}).object(base, topKeys, "the project file"); err != nil {
		return nil, err
	}
	var chosen *node
	if profiles != nil {
		chosen = profiles.get(profile)
		for _, f := range profiles.fields {
			c := other
			if f.value == chosen {
				c = checker{root, lookup}
			}
			one := &node{at: f.at, isMap: true, fields: []field{f}}
			if err := c.value(one, key{name: "profiles", kind: aNamed, keys: sharedKeys}); err != nil {
				return nil, err
			}
		}
		if !profiles.isMap && !profiles.null {
			return nil, problem(profiles.at, "", "profiles has to be a map of names, got %s", profiles.is())
		}
	}
	if profile != "" {
		if chosen == nil {
			var known []key
			if profiles != nil {
				for _, f := range profiles.fields {
					known = append(known, key{name: f.name})
				}
			}
			return nil, problem(top.at, nearest(profile, known), "there is no profile %q", profile)
		}
		base = over(base, chosen)
	}
	return base, required(base, topKeys, "the project file")
}

func (p *Project) fill(top *node) error {
	p.Env = variables(top.get("env"))
	p.AllowHosts = textList(top.get("allow_hosts"))
	p.Listen = value(top.get("listen"))
	if files := top.get("files"); files != nil {
		for _, item := range files.items {
			p.Files = append(p.Files, Rendered{From: value(item.get("from")), To: value(item.get("to")), At: item.at})
		}
	}
	databases := top.get("databases")
	if databases == nil || len(databases.fields) == 0 {
		at := top.at
		if databases != nil {
			at = databases.at
		}
		return problem(at, "hemzo init shows how one looks", "the project file declares no database")
	}
	for _, f := range databases.fields {
		d, err := database(f)
		if err != nil {
			return err
		}
		p.Databases = append(p.Databases, d)
	}
	if err := p.noLikes(); err != nil {
		return err
	}
	p.defaultEnv()
	return p.checkUses()
}

// noLikes refuses two names that are one name to the engines and in variables.
func (p *Project) noLikes() error {
	seen := map[string]string{}
	for _, d := range p.Databases {
		like := strings.ReplaceAll(d.Name, "-", "_")
		if other := seen[like]; other != "" {
			return problem(d.At, "rename one of them", "the databases %q and %q are alike but for - and _", other, d.Name)
		}
		seen[like] = d.Name
	}
	return nil
}

func database(f field) (Database, error) {
	n := f.value
	d := Database{
		Name: f.name, At: f.at,
		Engine: value(n.get("engine")), Version: value(n.get("version")), Where: textList(n.get("where")),
		Keep: textList(n.get("keep")), Reset: value(n.get("reset")), Commits: value(n.get("commits")) == "replace",
		Role: valueOr(n.get("role"), "owner"), Roles: textList(n.get("roles")),
		Grants: textList(n.get("grants")), Names: textList(n.get("names")), Extensions: textList(n.get("extensions")),
		Settings: variables(n.get("settings")), Encoding: valueOr(n.get("encoding"), "UTF-8"),
		Locale: valueOr(n.get("locale"), "C"),
		Env:    variables(n.get("env")), Image: value(n.get("image")), urls: textList(n.get("url")),
		Required: value(n.get("memory")) == "required",
		Tmpfs:    sizeOf(n.get("tmpfs")), Ready: duration(n.get("ready_within"), time.Minute),
		Idle:   duration(n.get("idle"), 30*time.Minute),
		Layers: whole(n.get("limits").get("layers"), -1), Memory: sizeOf(n.get("limits").get("memory")),
		CPUs:  whole(n.get("limits").get("cpus"), 0),
		Spare: whole(n.get("spare"), 2), Lazy: value(n.get("lazy")) == "true",
		Wait: duration(n.get("wait"), 5*time.Second),
	}
	e, err := all.Named(d.Engine)
	if len(d.Where) == 0 {
		d.Where = []string{"memory", "container"}
		if err == nil && e.Hosting().Process == nil && e.Hosting().Embedded == nil {
			d.Where = []string{"container"}
		}
	}
	service := n.get("service")
	d.Variables, d.Command, d.ReadyWhen, d.Forget = variables(service.get("variables")),
		textList(service.get("command")), value(service.get("ready")), value(service.get("forget"))
	for _, text := range textList(service.get("ports")) {
		port, err := strconv.ParseUint(text, 10, 16)
		if err != nil || port == 0 {
			return d, problem(service.get("ports").at, "", "%q is not a port", text)
		}
		d.Ports = append(d.Ports, int(port))
	}
	sources := err != nil || e.Language().Name != ""
	if !sources && n.get("from") != nil {
		return d, problem(n.get("from").at, "leave it out", "database %q: a service has no sources", d.Name)
	}
	if sources && service != nil {
		return d, problem(service.at, "", "database %q: service: has no meaning beside engine: %s", d.Name, d.Engine)
	}
	if slices.Contains(d.Where, "existing") && strings.Join(d.urls, "") == "" {
		return d, problem(n.get("where").at, "add url: with the server's address",
			"database %q: where: existing needs a url", d.Name)
	}
	from := n.get("from")
	if from == nil {
		return d, nil
	}
	for _, item := range from.items {
		s, err := sourceOf(item)
		if err != nil {
			return d, err
		}
		d.From = append(d.From, s)
	}
	return d, nil
}

func sourceOf(n *node) (Source, error) {
	s := Source{
		At:         n.at,
		Migrations: textList(n.get("migrations")), Data: textList(n.get("data")), Dump: value(n.get("dump")),
		Run:  textList(n.get("run")),
		Undo: textList(n.get("undo")), Only: textList(n.get("only")), Skip: textList(n.get("skip")),
		ByName: value(n.get("order")) == "name", Apply: value(n.get("markers").get("apply")),
		Back:   value(n.get("markers").get("undo")),
		Inputs: textList(n.get("inputs")), Continues: value(n.get("continues")) == "true",
		Within: duration(n.get("within"), 30*time.Minute),
	}
	var what []string
	for _, k := range []string{"migrations", "data", "dump", "run"} {
		if n.get(k) != nil {
			what = append(what, k)
		}
	}
	if len(what) != 1 {
		return s, problem(n.at, "", "an item of from holds one of migrations, data, dump and run, got %s",
			orNone(what))
	}
	fits := map[string][]string{
		"migrations": {"undo", "only", "skip", "order", "markers"}, "data": {"only", "skip", "order"},
		"run": {"inputs", "within", "continues"},
	}[what[0]]
	for _, f := range n.fields {
		if f.name != what[0] && !slices.Contains(fits, f.name) {
			return s, problem(f.at, "", "%s has no meaning beside %s", f.name, what[0])
		}
	}
	for _, k := range []string{"undo", "only", "skip"} {
		if bad := badPattern(n.get(k)); bad != nil {
			return s, problem(bad.at, "", "%s: %q is not a pattern", k, bad.text)
		}
	}
	if len(s.Run) > 0 {
		if words := strings.Fields(s.Run[0]); n.get("run").scalar && len(words) > 1 {
			return s, problem(n.get("run").at, "as a list:  run: ["+strings.Join(words, ", ")+"]",
				"run: %q is one program's name; its arguments are items of a list", s.Run[0])
		}
		if len(s.Inputs) == 0 {
			return s, problem(n.at, "add inputs: with patterns of those files, or inputs: always",
				"Hemzo has to know which files the result of this command depends on")
		}
		s.Always = slices.Equal(s.Inputs, []string{"always"})
		if s.Always {
			s.Inputs = nil
		}
	}
	return s, nil
}

func orNone(words []string) string {
	if len(words) == 0 {
		return "none"
	}
	return strings.Join(words, " and ")
}

// ofRunner is the one of several servers that a runner uses: by its number, counted through
// them, or where it has none by the name of its machine. It is always the same.
func ofRunner(urls []string, lookup func(string) (string, bool)) string {
	if len(urls) < 2 {
		return strings.Join(urls, "")
	}
	name, _ := lookup("HEMZO_RUNNER")
	number, err := strconv.ParseUint(name, 10, 32)
	if err != nil {
		if name == "" {
			name, _ = os.Hostname()
		}
		sum := fnv.New32a()
		sum.Write([]byte(name))
		number = uint64(sum.Sum32())
	}
	return urls[number%uint64(len(urls))]
}

func value(n *node) string {
	if n == nil {
		return ""
	}
	return n.text
}

func valueOr(n *node, preset string) string {
	if v := value(n); v != "" {
		return v
	}
	return preset
}

func textList(n *node) []string {
	if n == nil || n.null {
		return nil
	}
	if n.scalar {
		return []string{n.text}
	}
	var all []string
	for _, item := range n.items {
		all = append(all, item.text)
	}
	return all
}

func variables(n *node) (all []Variable) {
	if n == nil {
		return nil
	}
	for _, f := range n.fields {
		all = append(all, Variable{Name: f.name, Value: f.value.text, At: f.at})
	}
	return all
}

// The texts below have been held against their types by the checker.

func whole(n *node, preset int) int {
	if v, err := strconv.Atoi(value(n)); err == nil {
		return v
	}
	return preset
}

func sizeOf(n *node) int64 {
	v, _ := parseSize(value(n))
	return v
}

// ParseDuration reads a duration, zero or more: a number with its unit, as in
// 500ms, 90s, 30m, 2h or 7d, or several of them, as in 1d12h.
func ParseDuration(text string) (d time.Duration, err error) {
	rest := text
	if days, after, ok := strings.Cut(text, "d"); ok {
		n, err := strconv.ParseUint(days, 10, 16)
		if err != nil {
			return 0, fmt.Errorf("%q is not a duration, as 90s, 30m, 2h or 7d are", text)
		}
		d, rest = time.Duration(n)*24*time.Hour, after
	}
	if rest != "" {
		more, failed := time.ParseDuration(rest)
		d, err = d+more, failed
	}
	if err != nil || d < 0 || text == "" {
		return 0, fmt.Errorf("%q is not a duration, as 90s, 30m, 2h or 7d are", text)
	}
	return d, nil
}

func duration(n *node, preset time.Duration) time.Duration {
	if d, err := ParseDuration(value(n)); err == nil {
		return d
	}
	return preset
}

var environmentName = pattern.Lazy(`^[A-Za-z_][A-Za-z0-9_]*$`)

// defaultEnv gives databases without env: the variable that most
// applications read.
func (p *Project) defaultEnv() {
	for i := range p.Databases {
		d := &p.Databases[i]
		if d.Env != nil {
			continue
		}
		name := "DATABASE_URL"
		if len(p.Databases) > 1 {
			name = strings.ToUpper(strings.ReplaceAll(d.Name, "-", "_")) + "_URL"
		}
		d.Env = []Variable{{Name: name, Value: "{url}", At: d.At}}
	}
}

// checkUses checks the places that name a database's keys.
func (p *Project) checkUses() error {
	for _, d := range p.Databases {
		for _, v := range d.Env {
			if err := p.checkVariable(v, true); err != nil {
				return err
			}
		}
	}
	for _, v := range p.Env {
		if err := p.checkVariable(v, false); err != nil {
			return err
		}
	}
	return nil
}

func (p *Project) checkVariable(v Variable, own bool) error {
	if !environmentName().MatchString(v.Name) {
		return problem(v.At, "", "%q is not a name for a variable", v.Name)
	}
	for _, m := range Placeholder().FindAllStringSubmatch(v.Value, -1) {
		name, key, dotted := strings.Cut(m[1], ".")
		switch {
		case !dotted && !own:
			return problem(v.At, "write {NAME.url}, with the database's name", "{%s} does not say which database's",
				m[1])
		case !dotted:
			key = name
		case p.Database(name) == nil:
			var known []string
			for _, d := range p.Databases {
				known = append(known, d.Name)
			}
			return problem(v.At, nearestOf(name, known), "{%s}: there is no database %q", m[1], name)
		}
		if !isConnectionKey(key) {
			return problem(v.At, nearestOf(key, ConnectionKeys), "{%s}: a connection has no %q", m[1], key)
		}
	}
	return nil
}

func isConnectionKey(key string) bool {
	return slices.Contains(ConnectionKeys, key) || portKey().MatchString(key)
}

// CheckFile checks the text of a file that is rendered: in {NAME.key} of a
// declared database the key has to be known. All other braces are the file's own.
func (p *Project) CheckFile(name, text string) error {
	for _, at := range Placeholder().FindAllStringSubmatchIndex(text, -1) {
		use := text[at[2]:at[3]]
		database, key, dotted := strings.Cut(use, ".")
		if !dotted || p.Database(database) == nil || isConnectionKey(key) {
			continue
		}
		line, column := sqltext.Position(text, at[0])
		return problem(fault.Position{File: name, Line: line, Column: column}, nearestOf(key, ConnectionKeys),
			"{%s}: a connection has no %q", use, key)
	}
	return nil
}

// Placeholder matches {key} and {name.key}.
var Placeholder = pattern.Lazy(`\{([a-z][a-z0-9_-]*(?:\.[a-z_0-9]+)?)\}`)

// portKey is a further port of a service: port_9300.
var portKey = pattern.Lazy(`^port_[0-9]+$`)

// ConnectionKeys are the keys that stand for a part of a connection.
var ConnectionKeys = []string{"url", "jdbc", "jdbc_full", "conninfo", "host", "port", "user", "password", "database",
	"socket", "file", "params", "copy"}

// Database returns the database of a name, nil where there is none.
func (p *Project) Database(name string) *Database {
	for i := range p.Databases {
		if p.Databases[i].Name == name {
			return &p.Databases[i]
		}
	}
	return nil
}

// Choose returns the databases named, all where none is named.
func (p *Project) Choose(names ...string) ([]*Database, error) {
	var all []*Database
	var known []string
	for i := range p.Databases {
		known = append(known, p.Databases[i].Name)
		if len(names) == 0 {
			all = append(all, &p.Databases[i])
		}
	}
	for _, name := range names {
		d := p.Database(name)
		if d == nil {
			return nil, fault.New(fault.Usage, nearestOf(name, known), "%s declares no database %q",
				filepath.Base(p.File), name)
		}
		if !slices.Contains(all, d) {
			all = append(all, d)
		}
	}
	return all, nil
}

// OneWriter checks that no two of the databases, nor one and the project's
// own env, set the same variable.
func (p *Project) OneWriter(databases []*Database) error {
	by := map[string]string{}
	for _, d := range databases {
		for _, v := range d.Env {
			if other, ok := by[v.Name]; ok {
				return problem(v.At, "give one of them another name, or name one database on the command line",
					"%s is set by %s and by %s", v.Name, other, d.Name)
			}
			by[v.Name] = d.Name
		}
	}
	for _, v := range p.Env {
		if other, ok := by[v.Name]; ok {
			return problem(v.At, "give one of them another name", "%s is set by %s and by env", v.Name, other)
		}
	}
	return nil
}
